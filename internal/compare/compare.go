// Package compare says what changed between two builds: files, sizes, WebAssembly, addresses and findings. Reading the builds
// is left to export, judging one of them to check.
package compare

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/hooks"
	"havvel/internal/pack"
	"havvel/internal/settings"
)

// A Result is what changed from one build to another.
type Result struct {
	From     Side      `json:"from"`
	To       Side      `json:"to"`
	Added    []File    `json:"added"`
	Removed  []File    `json:"removed"`
	Changed  []File    `json:"changed"`
	Moved    []Move    `json:"moved"` // the same content under another name
	Kinds    []Kind    `json:"kinds"`
	Wasm     Wasm      `json:"wasm"`
	Hosts    Change    `json:"hosts"` // other hosts that the build names
	Calls    Change    `json:"calls"` // calls that portals want and the build makes
	Links    Links     `json:"links"`
	Findings []Finding `json:"findings"` // that are new or gone
}

// A Side is one of the two builds.
type Side struct {
	Name        string `json:"name"`
	Bytes       int64  `json:"bytes"`
	Files       int    `json:"files"`
	Shape       string `json:"shape"`
	Entry       string `json:"entry"`
	Fingerprint string `json:"fingerprint"`
}

// A File is one that was added, removed or changed.
type File struct {
	Path   string `json:"path"`
	Before int64  `json:"before"` // bytes; 0 for one that was added
	After  int64  `json:"after"`  // bytes; 0 for one that was removed
}

// A Move is a content that has another name now, decoded where it is compressed.
type Move struct {
	From    string `json:"from"`
	To      string `json:"to"`
	Bytes   int64  `json:"bytes"`   // that it has now
	Recoded bool   `json:"recoded"` // it is compressed in another way than before, or no longer
}

// A Kind is how much the files of one kind have.
type Kind struct {
	Kind   string `json:"kind"`
	Before int64  `json:"before"`
	After  int64  `json:"after"`
}

// Wasm is what changed in what WebAssembly asks for.
type Wasm struct {
	MemoryBefore int64  `json:"memory_before"` // bytes at the start
	MemoryAfter  int64  `json:"memory_after"`
	Features     Change `json:"features"`
}

// Links are how many links lead to files, and to none.
type Links struct {
	Before        int `json:"before"`
	After         int `json:"after"`
	MissingBefore int `json:"missing_before"`
	MissingAfter  int `json:"missing_after"`
}

// A Change is what is new and what is gone, in alphabetical order.
type Change struct {
	New  []string `json:"new"`
	Gone []string `json:"gone"`
}

// A Finding is one that is new or gone.
type Finding struct {
	finding.Finding
	New bool `json:"new"` // else it is gone
}

// Builds compares two builds. Judge runs the checks on one; calls are the dotted names that portals want to be called.
func Builds(from, to *export.Build, calls []string, judge func(*export.Build) []finding.Finding) *Result {
	r := &Result{From: side(from), To: side(to), Added: []File{}, Removed: []File{}, Changed: []File{}, Moved: []Move{}, Findings: []Finding{}}
	r.files(from, to)
	r.kinds(from, to)
	r.Wasm = Wasm{from.Memory().WasmInitial, to.Memory().WasmInitial, changed(features(from), features(to))}
	r.Hosts = changed(hosts(from), hosts(to))
	r.Calls = changed(made(from, calls), made(to, calls))
	r.Links = Links{len(from.Links), len(to.Links), missing(from), missing(to)}
	r.findings(from, to, judge)
	return r
}

func side(b *export.Build) Side {
	s := Side{Name: b.Path, Bytes: b.Bytes, Files: len(b.Parts()), Shape: string(b.Shape), Fingerprint: b.Fingerprint}
	if b.Entry != nil {
		s.Entry = b.Inside(b.Entry)
	}
	return s
}

// files finds what was added, removed, changed and moved, by path inside the build and by content.
func (r *Result) files(from, to *export.Build) {
	before, after := byPath(from), byPath(to)
	gone := map[[sha256.Size]byte][]*export.File{}
	for _, f := range from.Parts() {
		switch now := after[from.Inside(f)]; {
		case now == nil:
			gone[f.Content()] = append(gone[f.Content()], f)
		case now.SHA256 != f.SHA256 && from.Inside(f) != pack.StampName: // which changes always
			r.Changed = append(r.Changed, File{to.Inside(now), f.Bytes, now.Bytes})
		}
	}
	for _, f := range to.Parts() {
		if before[to.Inside(f)] != nil {
			continue
		}
		if was := gone[f.Content()]; len(was) > 0 && f.Bytes > 0 {
			r.Moved = append(r.Moved, Move{from.Inside(was[0]), to.Inside(f), f.Bytes, was[0].SHA256 != f.SHA256})
			gone[f.Content()] = was[1:]
			continue
		}
		r.Added = append(r.Added, File{to.Inside(f), 0, f.Bytes})
	}
	for _, f := range from.Parts() {
		if slices.Contains(gone[f.Content()], f) {
			r.Removed = append(r.Removed, File{from.Inside(f), f.Bytes, 0})
		}
	}
	bySize := func(a, b File) int {
		return cmp.Or(cmp.Compare(size(b), size(a)), cmp.Compare(a.Path, b.Path))
	}
	slices.SortFunc(r.Added, bySize)
	slices.SortFunc(r.Removed, bySize)
	slices.SortFunc(r.Changed, bySize)
}

// size is how much a file weighs in the order of a list: the change, or where there is none the file.
func size(f File) int64 {
	d := f.After - f.Before
	return max(d, -d)
}

func byPath(b *export.Build) map[string]*export.File {
	m := map[string]*export.File{}
	for _, f := range b.Parts() {
		m[b.Inside(f)] = f
	}
	return m
}

func (r *Result) kinds(from, to *export.Build) {
	sums := map[string]*Kind{}
	add := func(b *export.Build, of func(*Kind) *int64) {
		for _, f := range b.Parts() {
			k := sums[string(f.Kind)]
			if k == nil {
				k = &Kind{Kind: string(f.Kind)}
				sums[k.Kind] = k
			}
			*of(k) += f.Bytes
		}
	}
	add(from, func(k *Kind) *int64 { return &k.Before })
	add(to, func(k *Kind) *int64 { return &k.After })
	for _, k := range sums {
		r.Kinds = append(r.Kinds, *k)
	}
	slices.SortFunc(r.Kinds, func(a, b Kind) int {
		return cmp.Or(cmp.Compare(max(b.Before, b.After), max(a.Before, a.After)), cmp.Compare(a.Kind, b.Kind))
	})
}

func features(b *export.Build) map[string]bool {
	set := map[string]bool{}
	for _, f := range b.Features() {
		set[string(f)] = true
	}
	return set
}

// hosts lists the other hosts that a build names.
func hosts(b *export.Build) map[string]bool {
	set := map[string]bool{}
	for _, l := range b.Links {
		if l.Result != export.OtherOrigin && l.Result != export.Insecure || l.Use == "page" {
			continue
		}
		if u, err := url.Parse(l.Target); err == nil && u.Host != "" {
			set[u.Hostname()] = true
		}
	}
	return set
}

// made lists which of these calls the scripts of a build make.
func made(b *export.Build, calls []string) map[string]bool {
	set := map[string]bool{}
	for _, name := range calls {
		if _, _, sure := hooks.Makes(b, name); sure {
			set[name] = true
		}
	}
	return set
}

func missing(b *export.Build) int {
	n := 0
	for _, l := range b.Links {
		if l.Result == export.Missing {
			n++
		}
	}
	return n
}

func changed(before, after map[string]bool) Change {
	c := Change{New: []string{}, Gone: []string{}}
	for _, name := range slices.Sorted(maps.Keys(after)) {
		if !before[name] {
			c.New = append(c.New, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(before)) {
		if !after[name] {
			c.Gone = append(c.Gone, name)
		}
	}
	return c
}

// findings tells apart findings by check, file inside the build and words; the line may move.
func (r *Result) findings(from, to *export.Build, judge func(*export.Build) []finding.Finding) {
	key := func(b *export.Build, f finding.Finding) string {
		return f.ID + "\x00" + strings.TrimPrefix(f.File, b.Base) + "\x00" + f.Message + "\x00" + f.Destination
	}
	before, after := judge(from), judge(to)
	add := func(b *export.Build, list []finding.Finding, than *export.Build, other []finding.Finding, isNew bool) {
		left := map[string]int{}
		for _, f := range other {
			left[key(than, f)]++
		}
		for _, f := range list {
			if left[key(b, f)]--; left[key(b, f)] < 0 {
				r.Findings = append(r.Findings, Finding{f, isNew})
			}
		}
	}
	add(to, after, from, before, true)
	add(from, before, to, after, false)
}

// Growth is by how much the build grew, as a share of what it was; negative when it became smaller.
func (r *Result) Growth() float64 {
	if r.From.Bytes == 0 {
		return 0
	}
	return float64(r.To.Bytes-r.From.Bytes) / float64(r.From.Bytes)
}

// Line is what changed in one line, for release notes.
func (r *Result) Line() string {
	var parts []string
	for _, p := range []struct {
		n    int
		what string
	}{{len(r.Changed), "changed"}, {len(r.Added), "added"}, {len(r.Removed), "removed"}, {len(r.Moved), "moved"}} {
		if p.n > 0 {
			noun := ""
			if len(parts) == 0 {
				noun = " files"
				if p.n == 1 {
					noun = " file"
				}
			}
			parts = append(parts, fmt.Sprintf("%d%s %s", p.n, noun, p.what))
		}
	}
	if len(parts) == 0 {
		return "the same files, " + settings.Size(r.To.Bytes).String()
	}
	grown := ""
	switch d := r.To.Bytes - r.From.Bytes; {
	case d > 0:
		grown = fmt.Sprintf(", %s larger (+%.1f %%)", settings.Size(d), 100*r.Growth())
	case d < 0:
		grown = fmt.Sprintf(", %s smaller (−%.1f %%)", settings.Size(-d), -100*r.Growth())
	}
	return strings.Join(parts, ", ") + "; " + settings.Size(r.To.Bytes).String() + grown
}
