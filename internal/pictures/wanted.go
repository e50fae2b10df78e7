package pictures

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// jobs finds the masters of one kind of picture.
func (o *Order) jobs(p *project.Project, want rulebook.Picture) []*job {
	d := o.Destination
	var fit []project.Picture
	for _, m := range p.Pictures {
		if slices.Contains(m.Roles, want.Role) && (len(m.Only) == 0 || slices.Contains(m.Only, d.Name)) &&
			(want.Role != "clip" || slices.Contains(want.Takes(), formatOf(p, m))) {
			fit = append(fit, m)
		}
	}
	if want.Most() == 1 && len(fit) > 1 {
		fit = []project.Picture{nearest(p, fit, want)}
	}
	if n := want.Fewest(); len(fit) < n {
		o.Problems = append(o.Problems, tooFew(d, want, len(fit), n))
	}
	if len(fit) > want.Most() {
		o.Problems = append(
			o.Problems,
			Problem{
				Left,
				"",
				fmt.Sprintf("%s takes %d %ss; the last %d of %d are left out", d.Rules.Name, want.Most(), want.Role, len(fit)-want.Most(), len(fit)),
				"put the best first, or name destinations under only",
			},
		)
		fit = fit[:want.Most()]
	}
	var list []*job
	for i, m := range fit {
		list = append(
			list,
			&job{
				cut:  &Cut{Destination: d.Name, Name: want.Name, Role: want.Role, Number: i + 1, Master: m.File, About: m.About},
				want: want, master: m, order: o,
			},
		)
	}
	return list
}

// tooFew is the problem of having fewer pictures than a destination wants.
func tooFew(d *project.Destination, want rulebook.Picture, has, wants int) Problem {
	words := fmt.Sprintf("there is no %s", describe(want))
	switch {
	case has > 0:
		words = fmt.Sprintf("there is %d of %d: %s", has, wants, describe(want))
	case wants > 1:
		words += fmt.Sprintf("; %s wants %d", d.Rules.Name, wants)
	}
	fix := fmt.Sprintf("add a [[picture]] to havvel.toml, with a file and roles = [%q]", want.Role)
	if want.Role == "screenshot" || want.Role == "clip" {
		fix = "havvel pictures --from-trial takes some of the running game"
	}
	return Problem{Missing, "", words, fix}
}

// nearest is the master whose shape is the nearest to the one wanted; the first one where none is wanted.
func nearest(p *project.Project, list []project.Picture, want rulebook.Picture) project.Picture {
	shape := want.Shape()
	best, distance := list[0], math.Inf(1)
	for _, m := range list {
		h, err := headerOf(p, m)
		if err != nil || h.width == 0 || shape == 0 {
			continue
		}
		d := math.Abs(math.Log(float64(h.width) / float64(h.height) / shape))
		if want.Role == "clip" && want.Size[0] > 0 { // it isn't scaled
			d += math.Abs(math.Log(float64(h.width) / float64(want.Size[0])))
		}
		if d < distance {
			best, distance = m, d
		}
	}
	return best
}

func headerOf(p *project.Project, m project.Picture) (*header, error) {
	f, err := os.Open(filepath.Join(p.Folder, filepath.FromSlash(m.File)))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return readHeader(m.File, f)
}

// formatOf is the format of a master that moves; that of its name when it can't be read, which is said later.
func formatOf(p *project.Project, m project.Picture) string {
	if h, err := headerOf(p, m); err == nil {
		return h.clip()
	}
	return strings.TrimPrefix(filepath.Ext(m.File), ".")
}

// describe says what is wanted, as "cover of 640x360".
func describe(w rulebook.Picture) string {
	switch {
	case w.Size[0] > 0:
		return fmt.Sprintf("%s of %dx%d", w.Role, w.Size[0], w.Size[1])
	case w.Least[0] > 0:
		return fmt.Sprintf("%s of at least %dx%d", w.Role, w.Least[0], w.Least[1])
	}
	return fmt.Sprintf("%s of %s", w.Role, w.Ratio)
}

// Describe says all that a portal wants of a kind of picture, in words.
func Describe(w rulebook.Picture) string {
	words := fmt.Sprintf("%s, %s", describe(w), strings.Join(w.Takes(), " or "))
	if w.Limit > 0 {
		words += ", up to " + w.Limit.String()
	}
	switch {
	case w.Most() > 1:
		words += fmt.Sprintf(", %d to %d of them", w.Fewest(), w.Most())
	case w.Fewest() > 0:
		words += ", required"
	}
	return words
}
