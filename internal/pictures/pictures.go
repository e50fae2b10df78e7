// Package pictures cuts the pictures of a game's page from masters, to the sizes, formats and weights that each portal wants, and
// says what is wrong with them. Which pictures there are is the project's matter, what is wanted the rulebook's; taking pictures
// of the running game is left to trial.
package pictures

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/color"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"havvel/internal/place"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// A Kind says what is wrong with a picture.
type Kind string

// The kinds of problems; each has a check.
const (
	Missing     Kind = "picture-missing"
	Broken      Kind = "picture-broken"
	Small       Kind = "picture-small"
	Heavy       Kind = "picture-heavy"
	Transparent Kind = "picture-transparent"
	Dim         Kind = "picture-dim"
	Seam        Kind = "picture-seam"
	Left        Kind = "picture-left-out"
)

// A Problem is something wrong with a picture.
type Problem struct {
	Kind    Kind   `json:"kind"`
	Master  string `json:"master"` // as havvel.toml names it; "" when there is none
	Message string `json:"message"`
	Fix     string `json:"fix"`
}

// A Cut is one picture for one portal.
type Cut struct {
	Destination string    `json:"destination"`
	Name        string    `json:"name"` // the portal's
	Role        string    `json:"role"`
	Number      int       `json:"number"` // from 1
	Master      string    `json:"master"`
	Path        string    `json:"path"`
	Type        string    `json:"type"` // media type
	Width       int       `json:"width"`
	Height      int       `json:"height"`
	Bytes       int64     `json:"bytes"`
	SHA256      string    `json:"sha256"`
	About       string    `json:"about"`
	Problems    []Problem `json:"problems"`

	Key string `json:"key"` // of what it was made from
}

// An Order is the pictures of one destination.
type Order struct {
	Destination *project.Destination
	Cuts        []*Cut
	Problems    []Problem // of all its pictures
}

// A job is one cut that is to be made.
type job struct {
	cut    *Cut
	want   rulebook.Picture
	master project.Picture
	order  *Order
}

// Make cuts the pictures for destinations into the project's .havvel/pictures, and returns them in the order of rulebooks.
// What was cut before from the same master in the same way is taken as it is.
func Make(ctx context.Context, p *project.Project, destinations []*project.Destination, report progress.Reporter) ([]*Order, error) {
	var orders []*Order
	var jobs []*job
	for _, d := range destinations {
		o := &Order{Destination: d}
		orders = append(orders, o)
		for _, want := range d.Rules.Pictures {
			jobs = append(jobs, o.jobs(p, want)...)
		}
	}
	byMaster := map[string][]*job{}
	var masters []string
	for _, j := range jobs {
		if !slices.Contains(masters, j.master.File) {
			masters = append(masters, j.master.File)
		}
		byMaster[j.master.File] = append(byMaster[j.master.File], j)
	}
	report.Begin("cutting pictures", 0)
	defer report.End()
	work, within := errgroup.WithContext(ctx)
	work.SetLimit(beside)
	room := semaphore.NewWeighted(budget)
	for _, file := range masters {
		work.Go(func() error { return cutAll(within, room, p, file, byMaster[file]) })
	}
	if err := work.Wait(); err != nil {
		return nil, err
	}
	for _, j := range jobs {
		if j.cut.SHA256 != "" {
			j.order.Cuts = append(j.order.Cuts, j.cut)
		}
		j.order.Problems = append(j.order.Problems, j.cut.Problems...)
	}
	for _, o := range orders {
		o.tidy(p)
	}
	return orders, nil
}

// tidy takes away cuts of earlier that are not made any more. One that can't be taken away does no harm.
func (o *Order) tidy(p *project.Project) {
	entries, err := os.ReadDir(folder(p, o.Destination.Name))
	if err != nil {
		return
	}
	keep := map[string]bool{}
	for _, c := range o.Cuts {
		keep[filepath.Base(c.Path)], keep[filepath.Base(c.note(p))] = true, true
	}
	for _, e := range entries {
		if !keep[e.Name()] {
			os.Remove(filepath.Join(folder(p, o.Destination.Name), e.Name()))
		}
	}
}

// jobs finds the masters of one kind of picture.
func (o *Order) jobs(p *project.Project, want rulebook.Picture) []*job {
	d := o.Destination
	var fit []project.Picture
	for _, m := range p.Pictures {
		if slices.Contains(m.Roles, want.Role) && (len(m.Only) == 0 || slices.Contains(m.Only, d.Name)) && (want.Role != "clip" || slices.Contains(want.Takes(), formatOf(p, m))) {
			fit = append(fit, m)
		}
	}
	if want.Most() == 1 && len(fit) > 1 {
		fit = []project.Picture{nearest(p, fit, want)}
	}
	if n := want.Fewest(); len(fit) < n {
		words := fmt.Sprintf("there is no %s", describe(want))
		switch {
		case len(fit) > 0:
			words = fmt.Sprintf("there is %d of %d: %s", len(fit), n, describe(want))
		case n > 1:
			words += fmt.Sprintf("; %s wants %d", d.Rules.Name, n)
		}
		fix := fmt.Sprintf("add a [[picture]] to havvel.toml, with a file and roles = [%q]", want.Role)
		if want.Role == "screenshot" || want.Role == "clip" {
			fix = "havvel pictures --from-trial takes some of the running game"
		}
		o.Problems = append(o.Problems, Problem{Missing, "", words, fix})
	}
	if len(fit) > want.Most() {
		o.Problems = append(o.Problems, Problem{Left, "", fmt.Sprintf("%s takes %d %ss; the last %d of %d are left out", d.Rules.Name, want.Most(), want.Role, len(fit)-want.Most(), len(fit)), "put the best first, or name destinations under only"})
		fit = fit[:want.Most()]
	}
	var list []*job
	for i, m := range fit {
		list = append(list, &job{&Cut{Destination: d.Name, Name: want.Name, Role: want.Role, Number: i + 1, Master: m.File, About: m.About}, want, m, o})
	}
	return list
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

// formatOf is a master's format; that of its name when it can't be read, which is said later.
func formatOf(p *project.Project, m project.Picture) string {
	if h, err := headerOf(p, m); err == nil {
		return h.format
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

// making is raised whenever cuts come out otherwise.
const making = 1

// beside is how many masters are cut at the same time, as far as there is room for them.
const beside = 2

// cutAll cuts everything that one master is wanted for.
func cutAll(ctx context.Context, room *semaphore.Weighted, p *project.Project, file string, jobs []*job) error {
	path := filepath.Join(p.Folder, filepath.FromSlash(file))
	sum, err := hashOf(path)
	if errors.Is(err, fs.ErrNotExist) {
		return broken(jobs, &BadMaster{file, "there is no such file", "correct its name in havvel.toml; letters count as they are written"})
	}
	if err != nil {
		return fmt.Errorf("reading a master: %w", err)
	}
	var left []*job
	for _, j := range jobs {
		words, err := json.Marshal([]any{making, sum, j.want, j.master, j.cut.Number})
		if err != nil {
			return err
		}
		key := sha256.Sum256(words)
		j.cut.Key = hex.EncodeToString(key[:12])
		if !j.cut.known(p) {
			left = append(left, j)
		}
	}
	if len(left) == 0 {
		return nil
	}
	need := int64(budget)
	if h, err := headerOf(p, left[0].master); err == nil {
		need = min(budget, h.cost)
	}
	if err := room.Acquire(ctx, need); err != nil {
		return err
	}
	defer room.Release(need)
	if need > large {
		defer debug.FreeOSMemory() // before the next one is opened
	}
	return cutFrom(p, path, file, left)
}

// large is a master whose memory is given back at once, in bytes.
const large = 16 << 20

// cutFrom opens a master, and makes the cuts.
func cutFrom(p *project.Project, path, file string, left []*job) error {
	m, h, err := open(path, file)
	var bad *BadMaster
	if errors.As(err, &bad) {
		return broken(left, bad)
	}
	if err != nil {
		return fmt.Errorf("reading a master: %w", err)
	}
	if m != nil && h.turn > 1 {
		m = turned{m, h.turn}
	}
	for _, j := range left {
		if j.want.Role == "clip" {
			err = j.clip(p, path, h)
		} else if m == nil {
			err = broken([]*job{j}, &BadMaster{file, "it is a film, and a picture is wanted", "give it the role clip alone"})
		} else {
			err = j.make(p, m, h)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func broken(jobs []*job, why *BadMaster) error {
	for _, j := range jobs {
		j.cut.say(Broken, why.Error(), why.Fix)
	}
	return nil
}

func (c *Cut) say(k Kind, message, fix string) {
	c.Problems = append(c.Problems, Problem{k, c.Master, message, fix})
}

func hashOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(hash.Sum(nil)), nil
}

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
			j.cut.say(Transparent, fmt.Sprintf("%s is transparent in places, which %s shows as black", j.master.File, j.order.Destination.Rules.Name), "name the colour behind it with surround, as in \"#10131c\"")
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
	if !j.master.Whole || math.Abs(w/h/shape-1) < .005 {
		j.small(part.w, part.h, width, height)
		return scaled(m, part, width, height), ground, surround
	}
	inner := min(float64(width)/w, float64(height)/h)
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
		j.cut.say(Heavy, fmt.Sprintf("%s weighs %s as a %s; %s takes %s", j.master.File, settings.Size(len(e.data)), describe(j.want), name, j.want.Limit), fix)
	}
	if j.want.Role == "cover" || j.want.Role == "icon" {
		if why := dim(m); why != "" {
			j.cut.say(Dim, fmt.Sprintf("%s: %s (%s)", j.master.File, why, describe(j.want)), "give it one bright thing that stands out; havvel pictures draws a sheet that shows it among others")
		}
	}
	if j.want.Tiles && seam(m) {
		j.cut.say(Seam, fmt.Sprintf("%s is repeated on %s, and its edges don't fit together", j.master.File, name), "make its right edge go on at its left, and its lower edge at its upper")
	}
	if h.animated {
		j.cut.say(Small, fmt.Sprintf("%s is animated; its first picture was taken", j.master.File), "save the picture that is meant as PNG")
	}
}

// file is where a cut is kept.
func (c *Cut) file(format string) string {
	name := c.Name
	if c.Number > 1 {
		name += "-" + strconv.Itoa(c.Number)
	}
	ending := map[string]string{"jpeg": "jpg"}[format]
	if ending == "" {
		ending = format
	}
	return name + "." + ending
}

func folder(p *project.Project, destination string) string {
	return filepath.Join(p.Folder, ".havvel", "pictures", destination)
}

// keep writes a cut, and beside it what is known of it.
func (c *Cut) keep(p *project.Project, data []byte, format string) error {
	c.Path, c.Bytes = filepath.Join(folder(p, c.Destination), c.file(format)), int64(len(data))
	sum := sha256.Sum256(data)
	c.SHA256 = hex.EncodeToString(sum[:])
	if err := place.Bytes(c.Path, data); err != nil {
		return err
	}
	about, err := json.Marshal(c)
	if err != nil {
		return err
	}
	return place.Bytes(c.note(p), about)
}

// note is the file that says what is known of a cut.
func (c *Cut) note(p *project.Project) string {
	return filepath.Join(folder(p, c.Destination), "."+c.Name+"-"+strconv.Itoa(c.Number)+".json")
}

// known takes over what was cut before, when it was made from the same in the same way and still lies there.
func (c *Cut) known(p *project.Project) bool {
	data, err := os.ReadFile(c.note(p))
	before := *c
	if err != nil || json.Unmarshal(data, &before) != nil || before.Key != c.Key {
		return false
	}
	before.Path = filepath.Join(folder(p, c.Destination), filepath.Base(before.Path))
	if sum, err := hashOf(before.Path); err != nil || sum != before.SHA256 {
		return false
	}
	*c = before
	return true
}

var errNoFormat = errors.New("the rulebook takes no format for it that havvel writes (png, jpeg)")
