package proof

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"havvel/internal/atomicfile"
	"havvel/internal/browser"
	"havvel/internal/export"
	"havvel/internal/pack"
	"havvel/internal/rulebook"
	"havvel/internal/trial"

	"golang.org/x/sync/singleflight"
)

// format is the version of a proof as it is kept.
const format = 5

// A Store keeps proofs, and what exports did, in a folder that can be deleted at any time. Its methods may be called at the same time.
type Store struct {
	folder  string
	exports singleflight.Group // an export is run once for all who ask
	places  chan struct{}      // a run takes one, so that runs leave each other the machine
}

// In is the store in a folder, which need not exist yet.
func In(folder string) *Store { return &Store{folder: folder, places: make(chan struct{}, 2)} }

// mostKept is how many files are kept; the oldest go first.
const mostKept = 60

// how is what decides on how a side runs, besides the browser.
type how struct {
	What                       string // fingerprint
	At                         string
	Size                       [2]int
	Touch                      bool
	Conditions, Steps, Answers []string
	Serves                     rulebook.Serves
	Frame                      rulebook.Frame
	Front                      string // SHA-256 of the page above
}

func (s side) how() how {
	t := s.trial
	h := how{What: contents(t.Build), At: t.At, Size: s.view.Size, Touch: s.view.Touch, Conditions: s.view.Conditions}
	for _, step := range t.Steps {
		h.Steps = append(h.Steps, step.Line)
	}
	for _, hook := range t.Rules.Hooks {
		text, err := json.Marshal(hook)
		if err != nil {
			panic(err) // it came out of a file
		}
		h.Answers = append(h.Answers, string(text))
	}
	if t.Front != nil {
		h.Front = fmt.Sprintf("%x", sha256.Sum256(t.Front.Page))
	}
	h.Serves, h.Frame = t.Rules.Serves, t.Rules.Frame
	return h
}

// contents tells one tree of files from another; the stamp, which names version and destination, is none of the game's.
func contents(b *export.Build) string {
	hash := sha256.New()
	for _, f := range b.Parts() {
		if name := b.Inside(f); name != pack.StampName {
			fmt.Fprintf(hash, "%x %s\n", f.SHA256, name)
		}
	}
	return hex.EncodeToString(hash.Sum(nil))
}

// key names a run, or what is compared with the export.
func (s *Store) key(ctx context.Context, c *Case, sides ...side) string {
	list := []any{format, trial.Format, c.Release, browser.Version(ctx, c.Program)}
	for _, one := range sides {
		list = append(list, one.how())
	}
	text, err := json.Marshal(list)
	if err != nil {
		panic(err) // texts and numbers
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:16])
}

// export is what the export does.
func (s *Store) export(ctx context.Context, c *Case, anew bool) (*Run, error) {
	one := c.untouched()
	name := s.key(ctx, c, one) + "-export"
	r := &Run{}
	if !anew && s.read(name, r) == nil {
		return r, nil
	}
	run, err, _ := s.exports.Do(name, func() (any, error) {
		r, err := s.run(ctx, one, c.Program)
		if err == nil {
			err = errors.Join(s.write(name, r), s.write(sightsOf(c.Export.Fingerprint), r.Sights))
		}
		return r, err
	})
	return run.(*Run), err
}

// Sights are the requests that the last run of an export saw, as a reading of it takes them.
func (s *Store) Sights(fingerprint string) (list []export.Sight) {
	if s.read(sightsOf(fingerprint), &list) != nil {
		return nil // nothing was seen
	}
	return list
}

func sightsOf(fingerprint string) string { return fingerprint[:min(32, len(fingerprint))] + "-seen" }

// run runs one side, when there is room for it.
func (s *Store) run(ctx context.Context, one side, program string) (*Run, error) {
	select {
	case s.places <- struct{}{}:
		defer func() { <-s.places }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	return one.run(ctx, program)
}

// Known is the proof of a case, where there is one; nil where it was never compared.
func (s *Store) Known(ctx context.Context, c Case) *Proof {
	if kept, err := filepath.Glob(s.path("*")); err != nil || len(kept) == 0 {
		return nil // a browser takes its time to say its version
	}
	p := s.proof(s.key(ctx, &c, c.untouched(), c.handed(c.Handed)))
	if c.Front == nil || p == nil || p.Answer == Proven {
		return p
	}
	c.Front = nil
	low := s.proof(s.key(ctx, &c, c.untouched(), c.handed(c.Handed)))
	if low != nil {
		low.Lower = p.because()
	}
	return low
}

// proof is one that was kept. What could not be told is tried again.
func (s *Store) proof(key string) *Proof {
	p := &Proof{}
	if s.read(key, p) != nil || p.Format != format || p.Answer == Untold {
		return nil
	}
	return p
}

func (s *Store) keep(key string, p *Proof) error { return s.write(key, p) }

func (s *Store) path(name string) string { return filepath.Join(s.folder, name+".json.gz") }

func (s *Store) read(name string, into any) error {
	data, err := os.ReadFile(s.path(name))
	if err != nil {
		return err
	}
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return err
	}
	return json.NewDecoder(z).Decode(into)
}

// write keeps something. A folder that can't be written to is no error: then it is worked out again.
func (s *Store) write(name string, what any) error {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if err := errors.Join(json.NewEncoder(z).Encode(what), z.Close()); err != nil {
		return fmt.Errorf("keeping a proof: %w", err)
	}
	err := atomicfile.Bytes(s.path(name), b.Bytes())
	if err != nil && !atomicfile.Unwritable(err) {
		return err
	}
	s.prune()
	return nil
}

// prune takes the oldest away where there are too many.
func (s *Store) prune() {
	files, err := filepath.Glob(s.path("*"))
	if err != nil || len(files) <= mostKept {
		return
	}
	age := map[string]int64{}
	for _, f := range files {
		if info, err := os.Stat(f); err == nil {
			age[f] = info.ModTime().UnixNano()
		}
	}
	slices.SortFunc(files, func(a, b string) int { return cmp.Compare(age[a], age[b]) })
	for _, f := range files[:len(files)-mostKept] {
		os.Remove(f) // one that stays does no harm
	}
}
