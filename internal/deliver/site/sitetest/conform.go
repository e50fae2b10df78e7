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
	if _, err := s.Read(ctx, "index.json"); !errors.Is(err, fs.ErrNotExist) {
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
	list, err = s.List(ctx, "versions/1")
	must("listing", err)
	if len(list) != 2 || list["data/lane 1.pack"] != int64(len(large)) || list["empty.txt"] != 0 {
		t.Errorf("listed: %v", list)
	}
	names, err := s.Names(ctx, "versions/1")
	slices.Sort(names)
	if err != nil || !slices.Equal(names, []string{"data", "empty.txt"}) {
		t.Errorf("names right in a folder: %q (%v)", names, err)
	}
	if names, err := s.Names(ctx, ""); err != nil || !slices.Contains(names, "versions") {
		t.Errorf("names at the root: %q (%v)", names, err)
	}
	if data, err := s.Read(ctx, "versions/1/data/lane 1.pack"); err != nil || string(data) != large {
		t.Errorf("read back %d bytes (%v)", len(data), err)
	}
	if err := s.Copy(ctx, "versions/1/data/lane 1.pack", "versions/2/lane.pack"); err == nil {
		if data, err := s.Read(ctx, "versions/2/lane.pack"); err != nil || string(data) != large {
			t.Errorf("the copy has %d bytes (%v)", len(data), err)
		}
	} else if !errors.Is(err, errors.ErrUnsupported) {
		t.Errorf("copying: %v", err)
	}
	if x, ok := s.(site.Summer); ok {
		if got, err := x.Sum(ctx, "versions/1/data/lane 1.pack"); err == nil && got != sum([]byte(large)) {
			t.Errorf("the sum is %s", got)
		}
	}
	for _, text := range []string{"first", "second, and longer", "3"} {
		must("swapping", s.Swap(ctx, File("index.json", text)))
		if data, err := s.Read(ctx, "index.json"); err != nil || string(data) != text {
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
