package sitetest

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"slices"
	"strings"
	"testing"

	"havvel/internal/deliver/site"
	"havvel/internal/pieces"
)

// File is a file of a site that holds a text.
func File(name, text string) site.File {
	return site.File{
		Name: name, Bytes: int64(len(text)), SHA256: sum([]byte(text)),
		Open: func() (io.ReadSeekCloser, error) { return content{bytes.NewReader([]byte(text))}, nil },
	}
}

// Conforms checks that a store, which is empty, does what site.Store promises.
func Conforms(t *testing.T, s site.Store) {
	t.Helper()
	ctx := context.Background()
	must := func(what string, err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
	list, err := s.List(ctx, "versions")
	must("listing a folder that is not there", err)
	if len(list) != 0 {
		t.Errorf("an empty store lists %v", list)
	}
	if _, err := site.Read(ctx, s, "index.json"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("reading what is not there: %v", err)
	}
	must("removing what is not there", s.Remove(ctx, "versions/1"))
	large := strings.Repeat("every lantern on the lane ", 40_000)
	var sent int64
	must("putting a large file", s.Put(ctx, File("versions/1/data/lane 1.pack", large), func(n int64) { sent += n }))
	if sent != int64(len(large)) {
		t.Errorf("%d of %d bytes were reported as sent", sent, len(large))
	}
	must("putting an empty file", s.Put(ctx, File("versions/1/empty.txt", ""), func(int64) {}))
	shows(t, s, large)
	able(t, s, large)
	for _, text := range []string{"first", "second, and longer", "3"} {
		must("swapping", s.Swap(ctx, File("index.json", text)))
		if data, err := site.Read(ctx, s, "index.json"); err != nil || string(data) != text {
			t.Errorf("after swapping it holds %q (%v), want %q", data, err, text)
		}
	}
	must("claiming", s.Claim(ctx, "lock"))
	if err := s.Claim(ctx, "lock"); !errors.Is(err, fs.ErrExist) {
		t.Errorf("claiming what is claimed: %v", err)
	}
	must("removing a claim", s.Remove(ctx, "lock"))
	must("claiming again", s.Claim(ctx, "lock"))
	must("removing a folder", s.Remove(ctx, "versions/1"))
	if list, err = s.List(ctx, "versions/1"); err != nil || len(list) != 0 {
		t.Errorf("a removed folder lists %v (%v)", list, err)
	}
}

// shows checks what a store tells of the two files that were put into it.
func shows(t *testing.T, s site.Store, large string) {
	ctx := context.Background()
	list, err := s.List(ctx, "versions/1", "data", "data/gone")
	if err != nil || len(list) != 2 || list["data/lane 1.pack"] != int64(len(large)) || list["empty.txt"] != 0 {
		t.Errorf("listed: %v (%v)", list, err)
	}
	names, err := s.Names(ctx, "versions/1")
	slices.Sort(names)
	if err != nil || !slices.Equal(names, []string{"data", "empty.txt"}) {
		t.Errorf("names right in a folder: %q (%v)", names, err)
	}
	if names, err := s.Names(ctx, ""); err != nil || !slices.Contains(names, "versions") {
		t.Errorf("names at the root: %q (%v)", names, err)
	}
	if data, err := site.Read(ctx, s, "versions/1/data/lane 1.pack"); err != nil || string(data) != large {
		t.Errorf("read back %d bytes (%v)", len(data), err)
	}
}

// able checks what a store can do besides.
func able(t *testing.T, s site.Store, large string) {
	if x, ok := s.(site.Copier); ok {
		copies(t, s, x, large)
	}
	if x, ok := s.(site.Splicer); ok {
		splices(t, s, x)
	}
	if x, ok := s.(site.Grafter); ok {
		grafts(t, s, x)
	}
	if x, ok := s.(site.Summer); ok {
		if got, err := x.Sum(context.Background(), "versions/1/data/lane 1.pack"); err == nil && got != sum([]byte(large)) {
			t.Errorf("the sum is %s", got)
		}
	}
}

// copies checks that a copy of a file holds the same text, if the host can copy.
func copies(t *testing.T, s site.Store, x site.Copier, text string) {
	ctx := context.Background()
	err := x.Copy(ctx, "versions/1/data/lane 1.pack", "versions/2/lane.pack")
	if errors.Is(err, errors.ErrUnsupported) {
		t.Log("the host can't copy")
		return
	}
	if err != nil {
		t.Fatalf("copying: %v", err)
	}
	if data, err := site.Read(ctx, s, "versions/2/lane.pack"); err != nil || string(data) != text {
		t.Errorf("the copy has %d bytes (%v)", len(data), err)
	}
	if err := x.Copy(ctx, "versions/1/gone.pack", "versions/2/gone.pack"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("copying what is not there: %v", err)
	}
}

// splices checks that a file that is made from parts of another one is right, if the host can do that.
func splices(t *testing.T, s site.Store, x site.Splicer) {
	ctx := context.Background()
	was := strings.Repeat("every lantern on the lane ", 900_000) // several parts of what an object store takes
	if err := s.Put(ctx, File("versions/3/lane.pack", was), func(int64) {}); err != nil {
		t.Fatal(err)
	}
	const head, gap = 10 << 20, 1000
	is := was[gap:head] + "a light goes out" + was[head:]
	var sent int64
	err := x.Splice(ctx, File("versions/4/data/lane.pack", is), []pieces.Range{
		{At: 0, Bytes: head - gap, From: "versions/3/lane.pack", Offset: gap},
		{At: head - gap, Bytes: 16},
		{At: head - gap + 16, Bytes: int64(len(was) - head), From: "versions/3/lane.pack", Offset: head},
	}, func(n int64) { sent += n })
	if errors.Is(err, errors.ErrUnsupported) {
		t.Log("the host can't make files from parts")
		return
	}
	if err != nil {
		t.Fatalf("making a file from parts: %v", err)
	}
	if data, err := site.Read(ctx, s, "versions/4/data/lane.pack"); err != nil || string(data) != is {
		t.Errorf("made from parts, it has %d bytes instead of %d, or others (%v)", len(data), len(is), err)
	}
	t.Logf("%d bytes were sent", sent)
	if sent < 16 || sent > 6<<20 {
		t.Errorf("%d bytes were sent for 16 new ones", sent)
	}
	if list, err := s.List(ctx, "versions/4"); err != nil || len(list) != 1 {
		t.Errorf("it left %v (%v)", list, err)
	}
	behind := []pieces.Range{{Bytes: int64(len(is)), From: "versions/3/lane.pack", Offset: 64 << 20}}
	err = x.Splice(ctx, File("versions/5/lane.pack", is), behind, func(int64) {})
	if list, _ := s.List(ctx, "versions/5"); err == nil || len(list) != 0 {
		t.Errorf("made from what is behind a file's end: %v, %v", err, list)
	}
}

// grafts checks that a folder made from another one has what it should, and nothing else, if the host can do that.
func grafts(t *testing.T, s site.Store, x site.Grafter) {
	ctx := context.Background()
	for _, name := range []string{"index.html", "data/a b.bin", "data/old.bin", "havvel-files.json"} {
		if err := s.Put(ctx, File("versions/6/"+name, "of six "+name), func(int64) {}); err != nil {
			t.Fatal(err)
		}
	}
	for _, to := range []string{"versions/7", "versions/8"} { // what the first leaves is in nobody's way
		err := x.Graft(ctx, "versions/6", to, []string{"data/old.bin", "havvel-files.json"}, []string{"data"})
		if errors.Is(err, errors.ErrUnsupported) {
			t.Log("the host can't copy folders")
			return
		}
		if err != nil {
			t.Fatalf("making a folder from another one: %v", err)
		}
		list, err := s.List(ctx, to)
		if err != nil || len(list) != 2 || list["data/a b.bin"] != 19 || list["index.html"] != 17 {
			t.Errorf("it has %v (%v)", list, err)
		}
	}
	if list, err := s.List(ctx, "versions/6"); err != nil || len(list) != 4 {
		t.Errorf("the one that it was made from has %v (%v)", list, err)
	}
}

// Refuses checks that opening a store is refused for a reason, and that nothing secret was sent.
func Refuses(t *testing.T, s site.Store, err error, why string) {
	t.Helper()
	var no *site.Refused
	if err == nil {
		_, err = s.List(context.Background(), "versions")
	}
	if !errors.As(err, &no) || !strings.Contains(err.Error(), why) {
		t.Errorf("it was not refused because of %q: %v", why, err)
	}
}
