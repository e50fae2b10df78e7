package trial

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/image/draw"

	"havvel/internal/atomicfile"
	"havvel/internal/finding"
)

// A First is the first screen of a view, seen from afar: places of a grid, with what each looks like.
type First struct {
	Wide, High int
	Light      []uint8 // of each place, the mean
	Blue, Red  []uint8 // its colour, as in YCbCr
	Rough      []uint8 // how much it has inside
	Moves      []bool  // it changes by itself, so it tells nothing
	Lives      float64 // share of the window that changes again and again
}

// Firsts are the first screens of one export, by view.
type Firsts struct {
	Fingerprint string
	Version     string `json:"-"` // as a destination knows it
	At          time.Time
	Views       map[string]First
}

// Bounds of what looks the same. A game fades, flickers and is drawn by another machine.
const (
	firstWide  = 40   // places
	lightApart = 22.0 // of 255
	huesApart  = 16.0
	roughApart = 26.0
	mostApart  = 0.12 // share of the places that stand still
	leastStill = 0.25 // share of places that must stand still, so that they can be compared
)

// screenOf is what a picture looks like from afar; places that changed in the window meanwhile are left out.
func screenOf(picture []byte, s *sight) (f First, ok bool) {
	m, _, err := image.Decode(bytes.NewReader(picture))
	if err != nil {
		return f, false
	}
	const inside = 4 // pixels of a place, along a side
	f.Wide = firstWide
	f.High = max(1, int(math.Round(float64(m.Bounds().Dy())*firstWide/float64(m.Bounds().Dx()))))
	small := image.NewRGBA(image.Rect(0, 0, f.Wide*inside, f.High*inside))
	draw.BiLinear.Scale(small, small.Bounds(), m, m.Bounds(), draw.Src, nil)
	for y := range f.High {
		for x := range f.Wide {
			f.add(small, x*inside, y*inside, inside)
		}
	}
	f.Moves, f.Lives = s.moved(f.Wide, f.High), s.living()
	return f, true
}

// add measures one place.
func (f *First) add(m *image.RGBA, x0, y0, side int) {
	var sum, squares, blue, red float64
	for y := y0; y < y0+side; y++ {
		for x := x0; x < x0+side; x++ {
			i := m.PixOffset(x, y)
			r, g, b := float64(m.Pix[i]), float64(m.Pix[i+1]), float64(m.Pix[i+2])
			light := .299*r + .587*g + .114*b
			sum, squares, blue, red = sum+light, squares+light*light, blue+(b-light)*.564, red+(r-light)*.713
		}
	}
	n := float64(side * side)
	mean := sum / n
	f.Light = append(f.Light, uint8(mean))
	f.Blue = append(f.Blue, uint8(128+blue/n))
	f.Red = append(f.Red, uint8(128+red/n))
	f.Rough = append(f.Rough, uint8(min(255, math.Sqrt(max(0, squares/n-mean*mean)))))
}

// differs is the share of places that stand still in both and look different; ok is false where too few stand still.
func (f *First) differs(o *First) (share float64, ok bool) {
	if f.Wide != o.Wide || f.High != o.High {
		return 1, true
	}
	still, other := 0, 0
	for i := range f.Light {
		if f.Moves[i] || o.Moves[i] {
			continue
		}
		still++
		if !f.like(i, o) {
			other++
		}
	}
	return float64(other) / float64(max(1, still)), float64(still) >= leastStill*float64(len(f.Light))
}

// like reports whether a place looks as it, or one beside it, does in another first screen: pictures are drawn a little apart.
func (f *First) like(i int, o *First) bool {
	apart := func(a, b []uint8, j int) float64 { return math.Abs(float64(a[i]) - float64(b[j])) }
	for _, step := range []int{0, -1, 1, -f.Wide, f.Wide} {
		j := i + step
		if j >= 0 && j < len(o.Light) && apart(f.Light, o.Light, j) <= lightApart && apart(f.Blue, o.Blue, j) <= huesApart &&
			apart(f.Red, o.Red, j) <= huesApart && apart(f.Rough, o.Rough, j) <= roughApart {
			return true
		}
	}
	return false
}

// changed notes a first screen that differs from the one that was accepted, or from that of the version that is public.
func (t *Trial) changed(v *View) []finding.Finding {
	if v.first == nil || !v.Started {
		return nil
	}
	var list []finding.Finding
	against := func(o *Firsts, which string) {
		if o == nil || o.Fingerprint == t.Fingerprint && which != "accepted" {
			return
		}
		before, has := o.Views[v.Name]
		if !has {
			return
		}
		if share, ok := v.first.differs(&before); ok && share > mostApart {
			words := "the first screen is another than the one that was accepted"
			if which != "accepted" {
				words = "the first screen is another than in the version that is public, " + which
			}
			list = append(list, finding.Finding{
				ID: "trial-changed", Message: fmt.Sprintf("%s: %.0f %% of what stands still look different", words, 100*share),
				Fix: "look at the report: is it the right build? havvel trial --accept keeps this first screen as the right one",
			})
		}
	}
	against(t.Accepted, "accepted")
	if len(list) == 0 && t.Public != nil {
		against(t.Public, t.Public.Version)
	}
	return list
}

// mostFirsts are kept of each destination.
const mostFirsts = 30

// firsts are the first screens of this trial.
func (r *Result) firsts() *Firsts {
	f := &Firsts{Fingerprint: r.Fingerprint, At: r.At, Views: map[string]First{}}
	for _, v := range r.Views {
		if v.first != nil && v.Started {
			f.Views[v.Name] = *v.first
			for name, s := range v.screens {
				f.Views[v.Name+"/"+name] = s
			}
		}
	}
	return f
}

// A place for first screens, in a project's folder. Those that were accepted are the project's own, and belong to what is kept with it.
func firstsFile(folder, destination string, accepted bool) string {
	if destination == "" {
		destination = "any"
	}
	if accepted {
		return filepath.Join(folder, "first-screens", destination+".json.gz")
	}
	return filepath.Join(folder, ".havvel", "trials", destination+"-firsts.json.gz")
}

func readFirsts(file string) ([]*Firsts, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var list []*Firsts
	if err == nil {
		var z *gzip.Reader
		if z, err = gzip.NewReader(bytes.NewReader(data)); err == nil {
			err = json.NewDecoder(z).Decode(&list)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("reading first screens of earlier trials from %s: %w", file, err)
	}
	return list, nil
}

func writeFirsts(file string, list []*Firsts) error {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	err := json.NewEncoder(z).Encode(list)
	if err = errors.Join(err, z.Close()); err != nil {
		return fmt.Errorf("keeping first screens: %w", err)
	}
	return atomicfile.Bytes(file, b.Bytes())
}

// keepFirsts keeps the first screens beside those of earlier exports.
func (r *Result) keepFirsts(folder string) error {
	file := firstsFile(folder, r.Destination, false)
	list, err := readFirsts(file)
	if err != nil {
		list = nil // what can't be read is worked out anew
	}
	now := r.firsts()
	for _, o := range list { // a trial of some views leaves the others
		for name, f := range o.Views {
			if _, has := now.Views[name]; !has && o.Fingerprint == r.Fingerprint {
				now.Views[name] = f
			}
		}
	}
	list = slices.DeleteFunc(list, func(o *Firsts) bool { return o.Fingerprint == r.Fingerprint })
	list = append(list, now)
	return writeFirsts(file, list[max(0, len(list)-mostFirsts):])
}

// Accept keeps the first screens of the trial as the right ones.
func (r *Result) Accept(folder string) error {
	file := firstsFile(folder, r.Destination, true)
	list, err := readFirsts(file)
	if err != nil {
		return err
	}
	now := r.firsts()
	for _, o := range list {
		for name, f := range o.Views {
			if _, has := now.Views[name]; !has {
				now.Views[name] = f
			}
		}
	}
	return writeFirsts(file, []*Firsts{now})
}

// Accepted are the first screens that were accepted for a destination; nil for none.
func Accepted(folder, destination string) (*Firsts, error) {
	list, err := readFirsts(firstsFile(folder, destination, true))
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return list[0], nil
}

// FirstsOf are the first screens that a trial of an export saw at a destination; nil for none.
func FirstsOf(folder, destination, fingerprint string) *Firsts {
	list, err := readFirsts(firstsFile(folder, destination, false))
	if err != nil {
		return nil // as if there had been none
	}
	for _, o := range list {
		if o.Fingerprint == fingerprint {
			return o
		}
	}
	return nil
}
