package trial

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"havvel/internal/atomicfile"
	"havvel/internal/export"
)

// uses says what the browser's words for kinds of requests mean for links.
var uses = map[string]string{
	"Script": "script", "Stylesheet": "style", "Image": "picture", "Font": "picture", "Media": "media", "Document": "page", "Worker": "script",
}

// Sights are the requests of a trial, as a reading of the same build takes them.
func (r *Result) Sights() []export.Sight {
	var list []export.Sight
	seen := map[string]bool{}
	for _, v := range r.Views {
		for _, q := range v.Requests {
			if q.Foreign || seen[q.Path] || strings.HasPrefix(q.Path, "~havvel") || q.Status == 0 {
				continue
			}
			seen[q.Path] = true
			list = append(list, export.Sight{
				File: q.By, Line: q.Line, Column: q.Column, Path: q.Path,
				Use: cmp.Or(uses[q.Kind], "data"), Failed: q.Status == http.StatusNotFound,
				Sent: q.Encoding, Worked: v.Started && q.Status < 300,
			})
		}
	}
	return list
}

// Calls names the calls that were heard, each once.
func (r *Result) Calls() (names []string) {
	for _, v := range r.Views {
		for _, e := range v.Heard {
			if e.Kind == "call" && !slices.Contains(names, e.Name) {
				names = append(names, e.Name)
			}
		}
	}
	return names
}

// file is where the last result for a destination is kept, in a project's folder.
func file(folder, destination string) string {
	if destination == "" {
		destination = "any"
	}
	return filepath.Join(folder, ".havvel", "trials", destination+".json.gz")
}

// Keep keeps a result as the last one for its destination.
func (r *Result) Keep(folder string) error {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if err := json.NewEncoder(z).Encode(r); err != nil {
		return fmt.Errorf("keeping the trial: %w", err)
	}
	if err := z.Close(); err != nil {
		return fmt.Errorf("keeping the trial: %w", err)
	}
	if err := atomicfile.Bytes(file(folder, r.Destination), b.Bytes()); err != nil {
		return err
	}
	return r.keepFirsts(folder)
}

// Last returns the last result for a destination, or nil when there is none that can be read.
func Last(folder, destination string) *Result {
	data, err := os.ReadFile(file(folder, destination))
	if err != nil {
		return nil
	}
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil
	}
	var r Result
	if json.NewDecoder(z).Decode(&r) != nil || r.Format != Format {
		return nil
	}
	return &r
}
