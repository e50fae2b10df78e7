package site_test

import (
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/folder"
	"havvel/internal/deliver/site/sitetest"
	"havvel/internal/progress"
)

var errCut = errors.New("the line was cut")

// cutting is a store whose line is cut after some calls, at times in the middle of a file.
type cutting struct {
	site.Store
	left   atomic.Int64
	folder string
}

func (c *cutting) next() error {
	if c.left.Add(-1) < 0 {
		return &site.Unreachable{Host: "shed.example", Cause: errCut}
	}
	return nil
}

func (c *cutting) Put(ctx context.Context, f site.File, sent func(int64)) error {
	if err := c.next(); err != nil {
		if rand.N(2) == 0 { // a protocol that leaves half of a file
			to := filepath.Join(c.folder, filepath.FromSlash(f.Name))
			os.MkdirAll(filepath.Dir(to), 0o755)
			os.WriteFile(to, make([]byte, f.Bytes/2), 0o644)
		}
		return err
	}
	return c.Store.Put(ctx, f, sent)
}

func (c *cutting) Swap(ctx context.Context, f site.File) error {
	if err := c.next(); err != nil {
		return err
	}
	return c.Store.Swap(ctx, f)
}

func (c *cutting) Copy(ctx context.Context, from, to string) error {
	if err := c.next(); err != nil {
		return err
	}
	return c.Store.(site.Copier).Copy(ctx, from, to)
}

func (c *cutting) Remove(ctx context.Context, name string) error {
	if err := c.next(); err != nil {
		return err
	}
	return c.Store.Remove(ctx, name)
}

func (c *cutting) Fetch(ctx context.Context, name string, to io.Writer) error {
	if c.left.Load() < -3 { // the line is gone
		return c.next()
	}
	return c.Store.Fetch(ctx, name, to)
}

func (c *cutting) List(ctx context.Context, name string, _ ...string) (map[string]int64, error) {
	if err := c.next(); err != nil {
		return nil, err
	}
	return c.Store.List(ctx, name)
}

// TestRandomCuts sends and publishes versions while the line is cut at any place: players always get one whole version, the
// one before or the new one; what was said to be done is there; and in the end the versions that are kept are whole.
func TestRandomCuts(t *testing.T) {
	root := t.TempDir()
	base, err := folder.Open(root)
	if err != nil {
		t.Fatal(err)
	}
	parcels := map[string]site.Parcel{}
	current, published := "", 0
	for n := range 150 {
		p := sitetest.Edition(n)
		parcels[p.Folder] = p
		for try := range 8 {
			c := &cutting{Store: base, folder: root}
			c.left.Store(int64(rand.N(30)))
			if try == 7 {
				c.left.Store(1000)
			}
			s := site.New(c, 3, "moth")
			s.Patience, s.Grace = 2*time.Millisecond, 0
			_, err := s.Send(context.Background(), p, progress.None)
			if now := sitetest.Current(t, root, parcels); now != current {
				t.Fatalf("sending %s alone changed what players get from %q to %q", p.Folder, current, now)
			}
			if err != nil {
				continue
			}
			_, err = s.Switch(context.Background(), p.Folder, false)
			now := sitetest.Current(t, root, parcels)
			if now != current && now != p.Folder || err == nil && now != p.Folder {
				t.Fatalf("players get %q after switching from %q to %q (%v)", now, current, p.Folder, err)
			}
			if now == p.Folder && current != now {
				published++
			}
			current = now
			if err == nil {
				break
			}
			var gone *site.Unreachable
			if !errors.As(err, &gone) {
				t.Fatal(err)
			}
		}
	}
	if published < 135 {
		t.Errorf("only %d of 150 versions became public", published)
	}
	left, err := filepath.Glob(filepath.Join(root, "versions", "*", "havvel-files.json"))
	if err != nil || len(left) > 4 {
		t.Errorf("%d versions are left, though 3 are kept (%v)", len(left), err)
	}
	led, err := filepath.Glob(filepath.Join(root, "versions", "*", "index.html"))
	if err != nil || len(led) < 135 {
		t.Errorf("only %d versions, there or gone, have a page (%v)", len(led), err)
	}
}

// TestTwoSenders: one of two who send at the same time is told who the other is; a sender who died does not hinder for long.
func TestTwoSenders(t *testing.T) { synctest.Test(t, twoSenders) }

func twoSenders(t *testing.T) {
	root := t.TempDir()
	base, err := folder.Open(root)
	if err != nil {
		t.Fatal(err)
	}
	slow := site.New(&waiting{base, 300 * time.Millisecond}, 0, "Moor")
	quick := site.New(base, 0, "Thimble")
	slow.Patience = 20 * time.Millisecond
	quick.Patience = 20 * time.Millisecond
	slow.Now = func() time.Time { return time.Now().Add(-time.Hour) } // a clock that is an hour off
	done := make(chan error)
	go func() {
		_, err := slow.Send(context.Background(), sitetest.Edition(1), progress.None)
		done <- err
	}()
	time.Sleep(100 * time.Millisecond)
	var busy *site.Busy
	if _, err := quick.Send(context.Background(), sitetest.Edition(2), progress.None); !errors.As(err, &busy) || busy.Who != "Moor" {
		t.Errorf("the second sender got %v", err)
	}
	if err := <-done; err != nil {
		t.Errorf("the first sender got %v", err)
	}
	if err := base.Claim(context.Background(), "havvel.lock"); err != nil { // one who died
		t.Fatal(err)
	}
	if _, err := quick.Send(context.Background(), sitetest.Edition(2), progress.None); err != nil {
		t.Errorf("a dead sender hinders: %v", err)
	}
}

// TestTakenOver: a sender of whom nothing is heard for long is taken for dead; when it comes back, it stops, and names who sends now.
func TestTakenOver(t *testing.T) { synctest.Test(t, takenOver) }

func takenOver(t *testing.T) {
	root := t.TempDir()
	base, err := folder.Open(root)
	if err != nil {
		t.Fatal(err)
	}
	asleep := site.New(&mute{&waiting{base, 2 * time.Second}}, 0, "Moor")
	next := site.New(&waiting{base, 2 * time.Second}, 0, "Thimble")
	asleep.Patience, next.Patience = 200*time.Millisecond, 200*time.Millisecond
	done := make(chan error)
	go func() {
		_, err := asleep.Send(context.Background(), sitetest.Edition(1), progress.None)
		done <- err
	}()
	time.Sleep(100 * time.Millisecond)
	go func() {
		_, err := next.Send(context.Background(), sitetest.Edition(2), progress.None)
		done <- err
	}()
	var busy *site.Busy
	if err := <-done; !errors.As(err, &busy) || busy.Who != "Thimble" {
		t.Errorf("who was taken for dead goes on beside the next: %v", err)
	}
	if err := <-done; err != nil {
		t.Errorf("the next sender got %v", err)
	}
}

// mute is a store on which no sign of life arrives.
type mute struct{ site.Store }

func (m *mute) Swap(ctx context.Context, f site.File) error {
	if f.Name == "havvel.beat" {
		return &site.Unreachable{Host: "shed.example", Cause: errCut}
	}
	return m.Store.Swap(ctx, f)
}

// TestLostBeat: a sign of life that doesn't get through makes nobody think that somebody else sends.
func TestLostBeat(t *testing.T) { synctest.Test(t, lostBeat) }

func lostBeat(t *testing.T) {
	base, err := folder.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	s := site.New(&skipping{Store: &waiting{base, 100 * time.Millisecond}}, 0, "moth")
	s.Patience = 10 * time.Millisecond
	if _, err := s.Send(context.Background(), sitetest.Edition(1), progress.None); err != nil {
		t.Errorf("a lost beat ends the upload: %v", err)
	}
}

// skipping is a store on which every other sign of life is lost.
type skipping struct {
	site.Store
	beats atomic.Int64
}

func (s *skipping) Swap(ctx context.Context, f site.File) error {
	if f.Name == "havvel.beat" && s.beats.Add(1)%2 == 0 {
		return &site.Unreachable{Host: "shed.example", Cause: errCut}
	}
	return s.Store.Swap(ctx, f)
}

type waiting struct {
	site.Store
	time time.Duration
}

func (w *waiting) Put(ctx context.Context, f site.File, sent func(int64)) error {
	time.Sleep(w.time)
	return w.Store.Put(ctx, f, sent)
}

// TestForeign: what Havvel did not write stays, and is named.
func TestForeign(t *testing.T) {
	for _, name := range []string{"index.html", "havvel.json"} {
		root := t.TempDir()
		if err := os.WriteFile(filepath.Join(root, name), []byte("<p>our own"), 0o644); err != nil {
			t.Fatal(err)
		}
		base, _ := folder.Open(root)
		var foreign *site.Foreign
		if _, err := site.New(base, 0, "moth").Send(context.Background(), sitetest.Edition(1), progress.None); !errors.As(err, &foreign) ||
			foreign.Name != name {
			t.Errorf("%s: %v", name, err)
		}
		if data, _ := os.ReadFile(filepath.Join(root, name)); string(data) != "<p>our own" {
			t.Errorf("%s was changed", name)
		}
	}
}

// TestForeignPage: a page of somebody else's that took the place of the site's own stays, also when a version is made public.
func TestForeignPage(t *testing.T) {
	root := t.TempDir()
	base, err := folder.Open(root)
	if err != nil {
		t.Fatal(err)
	}
	s, page := site.New(base, 0, "moth"), filepath.Join(root, "index.html")
	if _, err := s.Send(t.Context(), sitetest.Edition(1), progress.None); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(page, []byte("<p>our own"), 0o644); err != nil {
		t.Fatal(err)
	}
	var foreign *site.Foreign
	if _, err := s.Switch(t.Context(), sitetest.Edition(1).Folder, false); !errors.As(err, &foreign) || foreign.Name != "index.html" {
		t.Errorf("%v", err)
	}
	if data, _ := os.ReadFile(page); string(data) != "<p>our own" {
		t.Errorf("the page was overwritten: %s", data)
	}
}

// TestBroken: a version that was changed on the host is not made current.
func TestBroken(t *testing.T) {
	root := t.TempDir()
	base, _ := folder.Open(root)
	s := site.New(base, 0, "moth")
	p := sitetest.Edition(1)
	if _, err := s.Send(context.Background(), p, progress.None); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(root, "versions", p.Folder, "rules.wasm")
	if err := os.WriteFile(file, []byte("ALWAYS the same"), 0o644); err != nil {
		t.Fatal(err)
	}
	var broken *site.Broken
	if _, err := s.Switch(context.Background(), p.Folder, false); !errors.As(err, &broken) || broken.File != "rules.wasm" {
		t.Errorf("%v", err)
	}
}
