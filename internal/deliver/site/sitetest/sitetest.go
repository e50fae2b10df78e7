// Package sitetest makes small versions for tests of sites, and looks at what players get of them.
package sitetest

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/root"
)

type content struct{ *bytes.Reader }

func (content) Close() error { return nil }

// Edition is a version of a few files, which say which it is of, but for one that is always the same. Every second one's page can stand at
// the root.
func Edition(n int) site.Parcel {
	p := site.Parcel{Folder: fmt.Sprintf("0.%d.0-abcdef%04d", n, n), Version: fmt.Sprintf("0.%d.0", n), Fingerprint: fmt.Sprint(n),
		Stand: site.Stand{Root: n%2 == 1, Why: []string{"it is even", ""}[n%2]}}
	for name, text := range map[string]string{"index.html": fmt.Sprintf("<!doctype html><title>edition %d</title>", n),
		"data/lane.pack": strings.Repeat(fmt.Sprint("lane", n), 2000), "rules.wasm": "always the same"} {
		data := []byte(text)
		p.Files = append(
			p.Files,
			site.File{
				Name:   name,
				Bytes:  int64(len(data)),
				SHA256: sum(data),
				Open:   func() (io.ReadSeekCloser, error) { return content{bytes.NewReader(data)}, nil },
			},
		)
	}
	return p
}

func sum(data []byte) string {
	s := sha256.Sum256(data)
	return hex.EncodeToString(s[:])
}

// Current is the folder that players get from a site on this machine's disk, "" for none. It fails unless that is whole.
func Current(t testing.TB, at string, editions map[string]site.Parcel) string {
	t.Helper()
	current := opened(t, at)
	for _, f := range editions[current].Files {
		data, err := os.ReadFile(filepath.Join(at, "versions", current, filepath.FromSlash(f.Name)))
		if err != nil || sum(data) != f.SHA256 {
			t.Fatalf("%s of the current edition %s is not whole (%v)", f.Name, current, err)
		}
	}
	return current
}

// opened is the folder whose files the page at the root has players load.
func opened(t testing.TB, at string) string {
	page, err := os.ReadFile(filepath.Join(at, "index.html"))
	if err != nil {
		return ""
	}
	if folder := root.Version(page); folder != "" {
		if !bytes.Contains(page, []byte("<title>edition")) || !bytes.Contains(page, []byte(`<base href="versions/`+folder+`/">`)) {
			t.Fatalf("the page at the root is half: %s", page)
		}
		return folder
	}
	data, err := os.ReadFile(filepath.Join(at, "havvel.json"))
	if err != nil {
		return ""
	}
	var x site.Index
	if err := json.Unmarshal(data, &x); err != nil {
		t.Fatalf("havvel.json is half: %v\n%s", err, data)
	}
	return x.Current
}
