package pictures

import (
	"fmt"
	"image"
	"image/color"
	"math"
	"strconv"

	"havvel/internal/project"
	"havvel/internal/settings"
)

// make cuts, encodes and judges one picture.
func (j *job) make(p *project.Project, m image.Image, h *header) error {
	c, ground, surround := j.compose(m)
	clear := c.seeThrough()
	e, err := encode(c.image(), j.want.Takes(), int64(j.want.Limit), j.master.FewColours)
	if err != nil {
		return fmt.Errorf("%s: %w", j.master.File, err)
	}
	if clear && (j.want.Opaque || e.format == "jpeg") {
		c2 := filled(c.w, c.h, ground)
		c2.over(c, 0, 0)
		c = c2
		if e, err = encode(c.image(), j.want.Takes(), int64(j.want.Limit), j.master.FewColours); err != nil {
			return err
		}
		if surround == "" {
			j.cut.say(
				Transparent,
				fmt.Sprintf("%s is transparent in places, which %s shows as black", j.master.File, j.order.Destination.Rules.Name),
				"name the colour behind it with surround, as in \"#10131c\"",
			)
		}
	}
	out := c.image()
	j.cut.Width, j.cut.Height, j.cut.Type = c.w, c.h, "image/"+e.format
	j.judge(out, e, h)
	return j.cut.keep(p, e.data, e.format)
}

// compose scales a master to what is wanted.
func (j *job) compose(m image.Image) (c *canvas, ground color.NRGBA, surround string) {
	b := m.Bounds()
	w, h := float64(b.Dx()), float64(b.Dy())
	width, height := j.target(w, h)
	ground = color.NRGBA{0, 0, 0, 255}
	if surround = j.master.Surround; len(surround) == 7 {
		v, _ := strconv.ParseUint(surround[1:], 16, 32) // its form was verified
		ground = color.NRGBA{uint8(v >> 16), uint8(v >> 8), uint8(v), 255}
	}
	focus := [2]int{50, 50}
	if len(j.master.Focus) == 2 {
		focus = [2]int(j.master.Focus)
	}
	shape := float64(width) / float64(height)
	part := crop(w, h, shape, focus)
	if j.drawn != nil && float64(width) >= part.w*float64(j.drawn.Rect.Dx())/w {
		n := float64(j.drawn.Rect.Dx()) / w // of the art's own pixels
		part, m, w, h = region{part.x * n, part.y * n, part.w * n, part.h * n}, j.drawn, w*n, h*n
	} else {
		j.drawn = nil
	}
	if j.drawn == nil {
		j.framed(part, w, h)
	}
	if !j.master.Whole || math.Abs(w/h/shape-1) < .005 {
		if j.drawn != nil {
			return enlarged(j.drawn, part, width, height), ground, surround
		}
		j.small(part.w, part.h, width, height)
		return scaled(m, part, width, height), ground, surround
	}
	inner := min(float64(width)/w, float64(height)/h)
	if j.drawn != nil {
		if inner >= 1 {
			inner = math.Floor(inner)
		}
		m, w, h, inner = repeated(j.drawn, max(1, int(inner))), w*max(1, inner), h*max(1, inner), min(1, inner)
	}
	iw, ih := max(1, int(math.Round(w*inner))), max(1, int(math.Round(h*inner)))
	j.small(w, h, iw, ih)
	switch surround {
	case "":
		c = newCanvas(width, height)
	case "blur":
		c = blurred(m, part, width, height)
	default:
		c = filled(width, height, ground)
	}
	c.over(scaled(m, region{0, 0, w, h}, iw, ih), (width-iw)/2, (height-ih)/2)
	return c, ground, surround
}

// framed says so where a crop takes away what must be seen.
func (j *job) framed(part region, w, h float64) {
	if j.master.Whole {
		return
	}
	if kept := part.w * part.h / (w * h); kept < .5 {
		j.cut.say(Cropped, fmt.Sprintf("a %s shows %.0f %% of %s; the rest is cut away", describe(j.want), 100*kept, j.master.File),
			"add a master of about that shape, or show it whole = true")
	}
	t := j.master.Title
	if len(t) != 4 {
		return
	}
	x0, y0 := float64(t[0])*w/100, float64(t[1])*h/100
	x1, y1 := x0+float64(t[2])*w/100, y0+float64(t[3])*h/100
	if x0 < part.x-.5 || y0 < part.y-.5 || x1 > part.x+part.w+.5 || y1 > part.y+part.h+.5 {
		j.cut.say(Cropped, fmt.Sprintf("a %s cuts the title of %s off", describe(j.want), j.master.File),
			"move focus towards the title, or add a master of about that shape")
		return
	}
	if !part.safe(x0, y0) || !part.safe(x1, y1) {
		j.cut.say(Cropped,
			fmt.Sprintf("the title of %s reaches to the edge of a %s, where portals put badges and round corners", j.master.File, describe(j.want)),
			"move focus towards the title, or add a master of about that shape, with more room around its title")
	}
	j.title = region{(x0 - part.x) / part.w, (y0 - part.y) / part.h, (x1 - x0) / part.w, (y1 - y0) / part.h}
	if high := (y1 - y0) / part.w * thumbnail; j.want.Role == "cover" && high < leastTitle {
		j.cut.say(Dim, fmt.Sprintf("the title of %s is %.0f pixels high where players browse; %d can be read", j.master.File, high, leastTitle),
			"make the title larger on this picture")
	}
}

// margin is the part of a picture at each of its sides that may be covered (EBU R 95, graphics-safe area).
const margin = .05

// safe reports whether a point is inside, and not in the margin.
func (r region) safe(x, y float64) bool {
	x, y = (x-r.x)/r.w, (y-r.y)/r.h
	return min(x, y) >= margin-1e-9 && max(x, y) <= 1-margin+1e-9
}

// leastTitle is how high a title must be at thumbnail size, in pixels.
const leastTitle = 9

// target is the size of a cut of a master of w by h.
func (j *job) target(w, h float64) (width, height int) {
	want := j.want
	if want.Size[0] > 0 {
		return want.Size[0], want.Size[1]
	}
	if shape := want.Shape(); shape > 0 && !j.master.Whole {
		r := crop(w, h, shape, [2]int{50, 50})
		w, h = r.w, r.h
	} else if shape > 0 {
		w, h = max(w, h*shape), max(h, w/shape)
	}
	least := want.Least
	if least[0] == 0 {
		least = [2]int{960, int(960 * h / w)}
	}
	scale := min(1, max(2*float64(least[0])/w, 2*float64(least[1])/h)) // twice as much as is wanted is enough for any screen
	scale = max(scale, float64(least[0])/w, float64(least[1])/h)
	return min(8192, max(1, int(math.Round(w*scale)))), min(8192, max(1, int(math.Round(h*scale))))
}

// small says that a picture had to be scaled up.
func (j *job) small(w, h float64, width, height int) {
	if scale := float64(width) / w; scale > 1.02 {
		j.cut.say(Small, fmt.Sprintf("%s is %.1f times too small for a %s, and was scaled up", j.master.File, scale, describe(j.want)),
			fmt.Sprintf("make it at least %d pixels wide and %d high where it is cut", width, height))
	}
}

func (j *job) judge(m *image.NRGBA, e *encoded, h *header) {
	name := j.order.Destination.Rules.Name
	if e.heavy {
		fix := "take a calmer picture"
		if e.format == "png" && !j.master.FewColours {
			fix = "few_colours = true reduces it to 256 colours; or take a calmer picture"
		}
		j.cut.say(
			Heavy,
			fmt.Sprintf("%s weighs %s as a %s; %s takes %s", j.master.File, settings.Size(len(e.data)), describe(j.want), name, j.want.Limit),
			fix,
		)
	}
	if j.want.Role == "cover" || j.want.Role == "icon" {
		if why := dim(m); why != "" {
			j.cut.say(
				Dim,
				fmt.Sprintf("%s: %s (%s)", j.master.File, why, describe(j.want)),
				"give it one bright thing that stands out; havvel pictures draws a sheet that shows it among others",
			)
		}
	}
	if ratio := contrast(m, j.title); ratio > 0 && ratio < leastContrast {
		j.cut.say(
			Dim,
			fmt.Sprintf("the title of %s hardly stands out from what is behind it (a contrast of %.1f to 1; %.0f to 1 can be read)",
				j.master.File, ratio, leastContrast),
			"make the title brighter or darker than what is around it, or give it an outline",
		)
	}
	if j.want.Tiles && seam(m) {
		j.cut.say(
			Seam,
			fmt.Sprintf("%s is repeated on %s, and its edges don't fit together", j.master.File, name),
			"make its right edge go on at its left, and its lower edge at its upper",
		)
	}
	if h.strange != "" {
		j.cut.say(Colours, fmt.Sprintf("%s: %s", j.master.File, h.strange), "save it in sRGB")
	}
	if h.animated {
		j.cut.say(Moving, fmt.Sprintf("%s is animated; its first picture was taken", j.master.File), "save the picture that is meant as PNG")
	}
}
