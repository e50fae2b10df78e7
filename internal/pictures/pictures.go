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
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/rulebook"
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
	Colours     Kind = "picture-colours"
	Cropped     Kind = "picture-cropped"
	Moving      Kind = "picture-moving"
	Long        Kind = "picture-long"
	Undrawn     Kind = "picture-undrawn"
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
	title  region       // where the title is, in parts of the cut; nothing where that isn't known
	drawn  *image.NRGBA // the pixel art that the master shows; nil for none
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
	work.SetLimit(parallel)
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
			if j.cut.film() && j.cut.undrawnBy() != "" {
				j.cut.say(Undrawn, "the browser shows nothing of "+j.master.File,
					"play it yourself: if it plays, only a codec is missing here; if it doesn't, export it again")
			}
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
		keep[filepath.Base(c.Path)], keep[filepath.Base(c.note(p))], keep[filepath.Base(c.still())] = true, true, true
	}
	for _, e := range entries {
		if !keep[e.Name()] {
			os.Remove(filepath.Join(folder(p, o.Destination.Name), e.Name()))
		}
	}
}

// making is raised whenever cuts come out otherwise.
const making = 5

// parallel is how many masters are cut at the same time, as far as there is room for them.
const parallel = 2

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
	var drawn *image.NRGBA
	if m != nil && slices.ContainsFunc(left, func(j *job) bool { return j.master.Scale != "smooth" }) {
		drawn = artOf(m)
	}
	for _, j := range left {
		if j.master.Scale != "smooth" {
			j.drawn = drawn
		}
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
