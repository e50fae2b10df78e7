package site_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
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
	return c.Store.Copy(ctx, from, to)
}

func (c *cutting) Remove(ctx context.Context, name string) error {
	if err := c.next(); err != nil {
		return err
	}
	return c.Store.Remove(ctx, name)
}

func (c *cutting) Read(ctx context.Context, name string) ([]byte, error) {
	if c.left.Load() < -3 { // the line is gone
		return nil, c.next()
	}
	return c.Store.Read(ctx, name)
}

func (c *cutting) List(ctx context.Context, name string) (map[string]int64, error) {
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

// lying is a host that says of some names that they aren't there, though it lists them.
type lying struct {
	site.Store
	about string
}

func (l lying) Read(ctx context.Context, name string) ([]byte, error) {
	if name == l.about {
		return nil, fs.ErrNotExist
	}
	return l.Store.Read(ctx, name)
}

func (l lying) Names(ctx context.Context, folder string) ([]string, error) {
	if folder == l.about {
		return nil, fs.ErrNotExist
	}
	return l.Store.Names(ctx, folder)
}

// TestHidden: what a host refuses to show is never taken for missing, and nothing is changed.
func TestHidden(t *testing.T) {
	ctx := context.Background()
	for _, name := range []string{"havvel.json", "havvel-versions.json", "versions", ""} {
		root := t.TempDir()
		base, _ := folder.Open(root)
		good := site.New(base, 2, "moth")
		for n := range 2 {
			if _, err := good.Send(ctx, sitetest.Edition(n), progress.None); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := good.Switch(ctx, sitetest.Edition(1).Folder, false); err != nil {
			t.Fatal(err)
		}
		bad := site.New(lying{base, name}, 2, "moth")
		var hidden *site.Hidden
		if _, err := bad.Send(ctx, sitetest.Edition(3), progress.None); !errors.As(err, &hidden) {
			t.Errorf("%q: sending: %v", name, err)
		}
		if _, err := bad.Switch(ctx, sitetest.Edition(0).Folder, true); !errors.As(err, &hidden) {
			t.Errorf("%q: switching: %v", name, err)
		}
		if x, err := good.Index(ctx); err != nil || len(x.Versions) != 2 || x.Current != sitetest.Edition(1).Folder {
			t.Errorf("%q: afterwards it holds %+v (%v)", name, x, err)
		}
	}
}

// TestRebuilt: the loss of any one file at the root loses no version; what is public has to be said again where that file is gone.
func TestRebuilt(t *testing.T) {
	ctx := context.Background()
	for _, name := range []string{"havvel.json", "havvel-versions.json", "index.html"} {
		root := t.TempDir()
		base, _ := folder.Open(root)
		s := site.New(base, 0, "moth")
		for n := range 3 {
			if _, err := s.Send(ctx, sitetest.Edition(n), progress.None); err != nil {
				t.Fatal(err)
			}
			if _, err := s.Switch(ctx, sitetest.Edition(n).Folder, false); err != nil {
				t.Fatal(err)
			}
		}
		before, err := s.Index(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.Remove(filepath.Join(root, name)); err != nil {
			t.Fatal(err)
		}
		after, err := s.Index(ctx)
		if err != nil || !slices.EqualFunc(before.Versions, after.Versions, func(a, b site.Version) bool {
			return a.Folder == b.Folder && a.Version == b.Version && a.Fingerprint == b.Fingerprint && a.Sent.Equal(b.Sent) && a.Bytes == b.Bytes
		}) {
			t.Errorf("without %s: %+v (%v)\nbefore: %+v", name, after, err, before)
		}
		if _, err := s.Switch(ctx, sitetest.Edition(0).Folder, true); err != nil {
			t.Errorf("without %s: %v", name, err)
		}
		if x, err := s.Index(ctx); err != nil || x.Current != sitetest.Edition(0).Folder || len(x.Versions) != 3 {
			t.Errorf("without %s, afterwards: %+v (%v)", name, x, err)
		}
	}
}

// TestNewer: an older version, and one that was sent before somebody else published, replace what is public only when that is wanted.
func TestNewer(t *testing.T) {
	ctx := context.Background()
	base, _ := folder.Open(t.TempDir())
	clock := time.Date(2026, 3, 2, 19, 0, 0, 0, time.UTC)
	now := func() time.Time { clock = clock.Add(time.Minute); return clock }
	moor, thimble := site.New(base, 0, "Moor"), site.New(base, 0, "Thimble")
	moor.Now, thimble.Now = now, now
	send := func(s *site.Site, n int) {
		t.Helper()
		if _, err := s.Send(ctx, sitetest.Edition(n), progress.None); err != nil {
			t.Fatal(err)
		}
	}
	goes := func(s *site.Site, n int, over, want bool) {
		t.Helper()
		_, err := s.Switch(ctx, sitetest.Edition(n).Folder, over)
		var newer *site.Newer
		if want != (err == nil) || err != nil && !errors.As(err, &newer) {
			t.Errorf("edition %d: %v", n, err)
		}
	}
	send(moor, 1)
	send(moor, 2)
	goes(moor, 2, false, true)
	goes(moor, 1, false, false) // older
	goes(moor, 1, true, true)
	goes(moor, 2, false, true) // newer again
	send(moor, 4)
	send(thimble, 3)
	goes(thimble, 3, false, true)
	send(moor, 5)
	goes(moor, 4, false, false) // older
	goes(moor, 5, false, true)
	send(thimble, 6)
	goes(moor, 2, true, true)
	goes(thimble, 6, false, false) // sent before Moor published
	goes(thimble, 6, true, true)
}

// TestGrace: a version stays a day after it was public; then a page in its place leads on. A draft has no such day.
func TestGrace(t *testing.T) {
	ctx, root := context.Background(), t.TempDir()
	base, _ := folder.Open(root)
	clock := time.Date(2026, 3, 2, 19, 0, 0, 0, time.UTC)
	s := site.New(base, 2, "moth")
	s.Now = func() time.Time { return clock }
	whole := func(n int) bool {
		_, err := os.Stat(filepath.Join(root, "versions", sitetest.Edition(n).Folder, "rules.wasm"))
		return err == nil
	}
	for n := range 4 {
		clock = clock.Add(time.Hour)
		if _, err := s.Send(ctx, sitetest.Edition(n), progress.None); err != nil {
			t.Fatal(err)
		}
		if n == 1 {
			continue // a draft
		}
		if _, err := s.Switch(ctx, sitetest.Edition(n).Folder, false); err != nil {
			t.Fatal(err)
		}
	}
	if !whole(0) || whole(1) || !whole(2) || !whole(3) {
		t.Errorf("after four hours: %v %v %v %v", whole(0), whole(1), whole(2), whole(3))
	}
	clock = clock.Add(25 * time.Hour)
	if _, err := s.Send(ctx, sitetest.Edition(4), progress.None); err != nil {
		t.Fatal(err)
	}
	if !whole(0) {
		t.Error("sending alone took a version away")
	}
	if _, err := s.Switch(ctx, sitetest.Edition(4).Folder, false); err != nil {
		t.Fatal(err)
	}
	page, err := os.ReadFile(filepath.Join(root, "versions", sitetest.Edition(0).Folder, "index.html"))
	if err != nil || !strings.Contains(string(page), "../../") || whole(0) || whole(2) || !whole(3) || !whole(4) {
		t.Errorf("a day later: %v %v %v %v, %s (%v)", whole(0), whole(2), whole(3), whole(4), page, err)
	}
}

// TestFormat1: a site of the former layout keeps its versions, and is taken over by the next switch; sending alone leaves it as it is.
func TestFormat1(t *testing.T) {
	ctx, root := context.Background(), t.TempDir()
	base, _ := folder.Open(root)
	s := site.New(base, 0, "moth")
	for n := range 2 {
		if _, err := s.Send(ctx, sitetest.Edition(n), progress.None); err != nil {
			t.Fatal(err)
		}
	}
	a, b := sitetest.Edition(0), sitetest.Edition(1)
	old := fmt.Sprintf(`{"havvel_site":1,"current":%q,"versions":[{"folder":%q,"version":"0.0.0","sent":"2026-03-01T10:00:00Z","public":true},
{"folder":%q,"version":"0.1.0","sent":"2026-03-02T10:00:00Z","public":true}]}`, b.Folder, a.Folder, b.Folder)
	for name, text := range map[string]string{"havvel.json": old, "index.html": `<meta name="generator" content="havvel site 1">`,
		"versions/" + a.Folder + "/havvel-files.json": `[{"name":"rules.wasm","bytes":15,"sha256":"` + sumOf(a, "rules.wasm") + `"}]`} {
		if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	os.Remove(filepath.Join(root, "havvel-versions.json"))
	if _, err := s.Send(ctx, sitetest.Edition(2), progress.None); err != nil {
		t.Fatal(err)
	}
	if data, _ := os.ReadFile(filepath.Join(root, "havvel.json")); string(data) != old {
		t.Errorf("sending wrote what players read: %s", data)
	}
	x, err := s.Index(ctx)
	if err != nil || len(x.Versions) != 3 || x.Current != b.Folder || !x.Find(a.Folder).Public || x.Find(sitetest.Edition(2).Folder).Public {
		t.Fatalf("%+v (%v)", x, err)
	}
	if _, err := s.Switch(ctx, a.Folder, true); err != nil {
		t.Fatal(err)
	}
	if x, err = s.Index(ctx); err != nil || x.Current != a.Folder || len(x.Versions) != 3 || len(x.Was) != 3 {
		t.Errorf("%+v (%v)", x, err)
	}
}

func sumOf(p site.Parcel, name string) string {
	for _, f := range p.Files {
		if f.Name == name {
			return f.SHA256
		}
	}
	return ""
}
