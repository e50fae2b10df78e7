package logbook

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// TestMany: lines written at once by many are all there, each whole.
func TestMany(t *testing.T) {
	folder := t.TempDir()
	var work sync.WaitGroup
	for i := range 40 {
		work.Go(func() {
			l := Line{
				At:          time.Now(),
				ID:          NewID(),
				Destination: "brackwater",
				Version:     fmt.Sprint(i),
				State:       "sent",
				Reasons:     []string{strings.Repeat("x", 5000)},
			}
			if err := Open(folder).Add(l); err != nil {
				t.Error(err)
			}
		})
	}
	work.Wait()
	list, unread, err := Open(folder).Deliveries()
	if err != nil || unread != 0 || len(list) != 40 {
		t.Errorf("%d deliveries, %d lines unread, %v", len(list), unread, err)
	}
}

func TestStory(t *testing.T) {
	folder := t.TempDir()
	b := Open(folder)
	if list, _, err := b.Deliveries(); err != nil || len(list) != 0 {
		t.Fatalf("%v %v", list, err)
	}
	id, began := NewID(), time.Date(2026, 3, 2, 19, 4, 0, 0, time.UTC)
	for _, l := range []Line{
		{At: began, ID: id, Destination: "d", Version: "1", Fingerprint: "f", SHA256: "s", Bytes: 9, State: "verifying",
			Values: Values{"id": "7"}},
		{At: began.Add(time.Minute), ID: id, Destination: "d", State: "public", Link: "https://l"},
		{At: began.Add(time.Hour), ID: id, Destination: "d", State: "replaced"},
	} {
		if err := b.Add(l); err != nil {
			t.Fatal(err)
		}
	}
	list, _, err := b.Deliveries()
	if err != nil || len(list) != 1 {
		t.Fatalf("%v %v", list, err)
	}
	d := list[0]
	if d.State != "replaced" || d.Version != "1" || d.Fingerprint != "f" || d.Bytes != 9 || d.Link != "https://l" || d.Values["id"] != "7" ||
		!d.Sent.Equal(began) {
		t.Errorf("%+v", d)
	}
}

// TestMangled: what editors and merges leave in a logbook costs no delivery that can be read.
func TestMangled(t *testing.T) {
	const sent = `{"logbook":1,"at":"2026-03-02T19:04:00Z","delivery":"a","destination":"d","version":"1","state":"draft"}` + "\n"
	const public = `{"logbook":1,"at":"2026-03-02T19:05:00Z","delivery":"a","destination":"d","state":"public"}` + "\n"
	for name, c := range map[string]struct {
		text, state string
		unread      int
	}{
		"mark at the beginning": {"\xef\xbb\xbf" + sent + public, "public", 0},
		"other ends of lines":   {strings.ReplaceAll(sent+public, "\n", "\r\n"), "public", 0},
		"empty lines":           {"\n" + sent + "\n\n" + public + "\n", "public", 0},
		"a conflict":            {"<<<<<<< ours\n" + sent + "=======\n" + sent + public + ">>>>>>> theirs\n", "public", 3},
		"another order":         {public + sent, "public", 0},
		"cut":                   {sent + public[:40], "draft", 1},
		"only a later line":     {public, "", 1},
		"zeros":                 {sent + public + strings.Repeat("\x00", 512), "public", 1},
	} {
		folder := t.TempDir()
		path := filepath.Join(folder, ".havvel", "logbook.jsonl")
		os.MkdirAll(filepath.Dir(path), 0o755)
		os.WriteFile(path, []byte(c.text), 0o644)
		list, unread, err := Open(folder).Deliveries()
		state := ""
		if len(list) == 1 {
			state = list[0].State
		}
		if err != nil || unread != c.unread || state != c.state || len(list) > 1 {
			t.Errorf("%s: %q, %d lines unread, %v", name, state, unread, err)
		}
	}
}

// TestNewer: a logbook of a newer format is not half understood.
func TestNewer(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, ".havvel", "logbook.jsonl")
	os.MkdirAll(filepath.Dir(path), 0o755)
	os.WriteFile(path, []byte(`{"logbook":2,"delivery":"x","state":"sent"}`+"\n"), 0o644)
	if _, _, err := Open(folder).Deliveries(); err == nil || !strings.Contains(err.Error(), "newer havvel") {
		t.Errorf("%v", err)
	}
}
