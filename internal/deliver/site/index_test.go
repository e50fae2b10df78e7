package site_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/folder"
	"havvel/internal/deliver/site/sitetest"
	"havvel/internal/progress"
)

// lying is a host that says of some names that they aren't there, though it lists them.
type lying struct {
	site.Store
	about string
}

func (l lying) Fetch(ctx context.Context, name string, to io.Writer) error {
	if name == l.about {
		return fs.ErrNotExist
	}
	return l.Store.Fetch(ctx, name, to)
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
		bad.Patience = time.Millisecond
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

// late is a host that lists what was written before it shows it.
type late struct {
	site.Store
	left *int
}

func (l late) Fetch(ctx context.Context, name string, to io.Writer) error {
	if name == "havvel-versions.json" && *l.left > 0 {
		*l.left--
		return fs.ErrNotExist
	}
	return l.Store.Fetch(ctx, name, to)
}

// TestLate: what a host shows a moment later is waited for.
func TestLate(t *testing.T) {
	ctx := context.Background()
	base, _ := folder.Open(t.TempDir())
	if _, err := site.New(base, 2, "moth").Send(ctx, sitetest.Edition(0), progress.None); err != nil {
		t.Fatal(err)
	}
	left := 2
	s := site.New(late{base, &left}, 2, "moth")
	s.Patience = time.Millisecond
	if x, err := s.Index(ctx); err != nil || len(x.Versions) != 1 || left != 0 {
		t.Errorf("it holds %+v (%v)", x, err)
	}
}

// TestRebuilt: the loss of any one file at the root loses no version, nor what was public before; nothing is public without the page.
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
		if turns := len(after.Was); turns != 3 || after.Was[1].Folder != sitetest.Edition(1).Folder {
			t.Errorf("without %s, what was public is %+v", name, after.Was)
		}
		if shown := after.Current != ""; shown != (name == "havvel-versions.json") || !shown && after.Unopened != sitetest.Edition(2).Folder {
			t.Errorf("without %s, %q is public, and %q would be", name, after.Current, after.Unopened)
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

// uncopying is a host that can't copy, and counts how often it is asked to.
type uncopying struct {
	site.Store
	asked *int
}

func (u uncopying) Copy(context.Context, string, string) error {
	*u.asked++
	return errors.ErrUnsupported
}

// TestAbilities: what a host can't do is asked of it once, also by later commands.
func TestAbilities(t *testing.T) {
	base, _ := folder.Open(t.TempDir())
	asked, first := 0, 0
	known := map[string]int{}
	for n := range 4 {
		s := site.New(uncopying{base, &asked}, 0, "moth")
		s.Abilities = site.NewAbilities(known) // a command of its own
		if _, err := s.Send(t.Context(), sitetest.Edition(n), progress.None); err != nil {
			t.Fatal(err)
		}
		if all, changed := s.Abilities.Changed(); changed {
			known, first = all, asked
		}
	}
	if asked == 0 || asked > first {
		t.Errorf("it was asked %d times; known is %v", asked, known)
	}
	if n, ok := site.NewAbilities(known).Known(site.Copies); !ok || n != 0 {
		t.Errorf("known is %v", known)
	}
}
