package page

import (
	"bytes"
	"html/template"
	"image/color"
	"math"
	"slices"
	"strconv"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"

	"havvel/internal/round"
)

// The colours of plots; the page's own are the same.
var (
	ink   = color.RGBA{0x3a, 0x3b, 0x40, 0xff}
	quiet = color.RGBA{0xb9, 0xb4, 0xa8, 0xff}
	good  = color.RGBA{0x3f, 0x7d, 0x6b, 0xff}
	pale  = color.RGBA{0xa9, 0xcb, 0xbf, 0xff}
	bad   = color.RGBA{0xc2, 0x5b, 0x3f, 0xff}
	lines = map[string]color.Color{"desktop": good, "tablet": color.RGBA{0x8a, 0x6f, 0xb0, 0xff}, "phone": bad}
)

// blank is a plot with its axes named.
func blank(x, y string) *plot.Plot {
	p := plot.New()
	p.BackgroundColor = color.Transparent
	p.X.Label.Text, p.Y.Label.Text = x, y
	for _, axis := range []*plot.Axis{&p.X, &p.Y} {
		for _, style := range []*text.Style{&axis.Label.TextStyle, &axis.Tick.Label} {
			style.Font = font.Font{Typeface: "Liberation", Variant: "Sans", Size: 10}
			style.Color = ink
		}
		axis.LineStyle.Color, axis.Tick.LineStyle.Color = quiet, quiet
		axis.Padding = 4
	}
	p.Legend.TextStyle.Font = font.Font{Typeface: "Liberation", Variant: "Sans", Size: 10}
	p.Legend.TextStyle.Color = ink
	p.Legend.Top, p.Legend.Left = true, true // on this side its words may be wider in the reader's font
	p.Legend.Padding = 3
	return p
}

// drawn is a plot as an SVG element of that many points.
func drawn(p *plot.Plot, width, height vg.Length) (template.HTML, error) {
	c := vgsvg.New(width, height)
	p.Draw(draw.New(c))
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return "", err
	}
	svg := b.Bytes()
	if at := bytes.Index(svg, []byte("<svg")); at > 0 { // what stands before belongs to a file of its own
		svg = svg[at:]
	}
	return template.HTML(svg), nil
}

// wholeTicks marks whole numbers only: testers come in ones.
type wholeTicks struct{}

func (wholeTicks) Ticks(from, to float64) (list []plot.Tick) {
	step := 1
	for i := 0; (to-from)/float64(step) > 7; i++ {
		step = []int{2, 5, 10}[i%3] * int(math.Pow10(i/3))
	}
	for v := 0; float64(v) <= to; v += step {
		list = append(list, plot.Tick{Value: float64(v), Label: strconv.Itoa(v)})
	}
	return list
}

// funnel draws by level how many reached and won it, and how many stopped there.
func funnel(levels []round.Level) (template.HTML, error) {
	if len(levels) == 0 {
		return "", nil
	}
	p := blank("level", "testers")
	names, reached, won, stopped := []string{}, plotter.Values{}, plotter.Values{}, plotter.Values{}
	for _, l := range levels {
		names = append(names, l.Name)
		reached, won, stopped = append(reached, float64(l.Reached)), append(won, float64(l.Won)), append(stopped, float64(l.Stopped))
	}
	wide := vg.Length(min(24, 560/float64(4*len(levels))))
	for i, of := range []struct {
		name   string
		values plotter.Values
		color  color.Color
	}{{"reached it", reached, pale}, {"won it", won, good}, {"stopped here", stopped, bad}} {
		bars, err := plotter.NewBarChart(of.values, wide)
		if err != nil {
			return "", err
		}
		bars.Color, bars.LineStyle.Width, bars.Offset = of.color, 0, wide*vg.Length(i-1)
		p.Add(bars)
		p.Legend.Add(of.name, bars)
	}
	p.NominalX(names...)
	p.Y.Min, p.Y.Tick.Marker = 0, wholeTicks{}
	p.Y.Max *= 1.3 // room for the legend
	p.Legend.XOffs = 480
	return drawn(p, 640, 230)
}

// difficulty draws levels by tries and by time: what is far from the others in either is hard.
func difficulty(levels []round.Level) (template.HTML, error) {
	var points plotter.XYs
	most := plotter.XY{}
	for _, l := range levels {
		if l.Won > 0 {
			points = append(points, plotter.XY{X: l.Cost, Y: l.PerWin})
			most = plotter.XY{X: max(most.X, l.Cost), Y: max(most.Y, l.PerWin)}
		}
	}
	named, names := namable(levels, most)
	if len(points) < 2 {
		return "", nil
	}
	p := blank("seconds for each win", "tries for each win")
	dots, err := plotter.NewScatter(points)
	if err != nil {
		return "", err
	}
	dots.GlyphStyle = draw.GlyphStyle{Color: good, Radius: 4, Shape: draw.CircleGlyph{}}
	labels, err := plotter.NewLabels(plotter.XYLabels{XYs: named, Labels: names})
	if err != nil {
		return "", err
	}
	for i := range labels.TextStyle {
		labels.TextStyle[i].Font, labels.TextStyle[i].Color = p.X.Tick.Label.Font, ink
	}
	labels.Offset = vg.Point{X: 3, Y: 3}
	p.Add(dots, labels)
	p.X.Min, p.Y.Min = 0, 0
	p.X.Tick.Marker = wholeTicks{}
	p.X.Max *= 1.1
	p.Y.Max = max(2, p.Y.Max*1.15)
	return drawn(p, 310, 230)
}

// namable are those levels whose names have room beside their points: the hard ones first, and no two that touch.
func namable(levels []round.Level, most plotter.XY) (points plotter.XYs, names []string) {
	sorted := slices.Clone(levels)
	slices.SortStableFunc(sorted, func(a, b round.Level) int { return len(b.Hard) - len(a.Hard) })
	for _, l := range sorted {
		near := func(p plotter.XY) bool { return math.Abs(p.X-l.Cost) < most.X/9 && math.Abs(p.Y-l.PerWin) < most.Y/12 }
		if l.Won > 0 && !slices.ContainsFunc(points, near) {
			points, names = append(points, plotter.XY{X: l.Cost, Y: l.PerWin}), append(names, " "+l.Name)
		}
	}
	return points, names
}

// staying draws how many still played after how long.
func staying(list []round.Stay, began int) (template.HTML, error) {
	if len(list) < 2 || began == 0 {
		return "", nil
	}
	p := blank("seconds of play", "testers who still play")
	line := plotter.XYs{{X: 0, Y: float64(began)}}
	for _, s := range list {
		line = append(line, plotter.XY{X: s.Seconds, Y: float64(s.Testers)})
	}
	drawnLine, dots, err := plotter.NewLinePoints(line)
	if err != nil {
		return "", err
	}
	drawnLine.LineStyle = draw.LineStyle{Color: good, Width: 1.5}
	dots.GlyphStyle = draw.GlyphStyle{Color: good, Radius: 2, Shape: draw.CircleGlyph{}}
	p.Add(drawnLine, dots)
	p.X.Min, p.Y.Min, p.Y.Max = 0, 0, float64(began)*1.1
	p.X.Tick.Marker, p.Y.Tick.Marker = wholeTicks{}, wholeTicks{}
	return drawn(p, 310, 230)
}

// rates draws how smoothly it ran as a session went on: the median over testers of a class of devices.
func rates(plays []*round.Play) (template.HTML, error) {
	const bin = 10_000 // milliseconds
	p := blank("seconds into the session", "frames a second")
	any := false
	for _, class := range round.Classes {
		bins := map[int64][]float64{}
		for _, play := range plays {
			if play.Device.Class() == class {
				for _, f := range play.Frames {
					bins[f.At/bin] = append(bins[f.At/bin], f.FPS)
				}
			}
		}
		var line plotter.XYs
		for b, list := range bins {
			slices.Sort(list)
			line = append(line, plotter.XY{X: float64(b) * bin / 1000, Y: (list[(len(list)-1)/2] + list[len(list)/2]) / 2})
		}
		if len(line) == 0 {
			continue
		}
		slices.SortFunc(line, func(a, b plotter.XY) int { return int(a.X - b.X) })
		drawnLine, dots, err := plotter.NewLinePoints(line)
		if err != nil {
			return "", err
		}
		drawnLine.LineStyle = draw.LineStyle{Color: lines[class], Width: 1.5}
		dots.GlyphStyle = draw.GlyphStyle{Color: lines[class], Radius: 1.5, Shape: draw.CircleGlyph{}}
		p.Add(drawnLine, dots)
		p.Legend.Add(class, drawnLine)
		any = true
	}
	if !any {
		return "", nil
	}
	p.X.Min, p.Y.Min, p.Y.Max = 0, 0, max(72, p.Y.Max*1.2)
	p.X.Tick.Marker = wholeTicks{}
	p.Legend.Top = false
	return drawn(p, 310, 230)
}
