package pack

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"havvel/internal/atomicfile"
	"havvel/internal/check"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/hooks"
	"havvel/internal/progress"
)

// An Archive is what a plan became.
type Archive struct {
	Path     string
	Bytes    int64
	SHA256   string // hex; of a folder, over its files' names and contents
	Entries  int
	Parts    []Part            // where more than one file is handed over
	Files    []Content         // of a folder: what is in it
	Findings []finding.Finding // what the destination's checks say of it
}

// Errors lists the ids of the checks that found errors in it, which it has only when the plan accepts them.
func (a *Archive) Errors() []string {
	var ids []string
	for _, f := range a.Findings {
		if f.Level == finding.Error && f.Accepted == "" && !slices.Contains(ids, f.ID) {
			ids = append(ids, f.ID)
		}
	}
	return ids
}

// Content is one file of a folder that is handed over.
type Content struct {
	Name     string // in the folder, with slashes
	Path     string
	Bytes    int64
	SHA256   string // hex
	Encoding string // that the file was compressed with before, and its server must name; "" for none
}

// A Part is one of several files that are handed over.
type Part struct {
	Part   string `json:"part"` // "entry" or "rest"
	Path   string `json:"path"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"` // hex
}

// HandOver is the form in which the destination wants the build: "zip", "entry-apart", "one-page" or "folder".
func (p *Plan) HandOver() string {
	if p.to.Rules == nil {
		return "zip"
	}
	return p.to.Rules.Archive.HandOver
}

// Path is where Write puts what is handed over: stem with the ending of its form.
func (p *Plan) Path(stem string) string {
	return stem + map[string]string{"zip": ".zip", "one-page": ".html"}[p.HandOver()]
}

// Write writes what is handed over to a file or folder at Path. It is read back and judged by the destination's checks, and by Until,
// before it gets its name; when anything fails, what was there is as it was before. The error is *Faulty when
// the checks found errors, unless the plan accepts them.
func (p *Plan) Write(ctx context.Context, stem string, report progress.Reporter) (*Archive, error) {
	var findings []finding.Finding
	judge := func(file string) (err error) {
		if findings, err = p.judge(file); err == nil && p.to.Until != nil {
			err = p.to.Until()
		}
		return err
	}
	var a *Archive
	var err error
	switch p.HandOver() {
	case "entry-apart":
		a, err = p.apart(ctx, stem, report, judge)
	case "one-page":
		a, err = p.onePage(ctx, p.Path(stem), judge)
	case "folder":
		a, err = p.folder(ctx, stem, report, judge)
	default:
		a, err = p.zipped(ctx, p.Path(stem), p.Items, report, judge)
	}
	if err != nil {
		return nil, err
	}
	a.Findings = findings
	return a, nil
}

// heard are the calls that a trial heard, and those that the export makes or sends the events of: in the packed page, the adapter names
// them all.
func (p *Plan) heard() []string {
	list := slices.Clone(p.to.Heard)
	if p.to.Rules == nil {
		return list
	}
	for _, h := range p.to.Rules.Hooks {
		for _, c := range h.Calls {
			if _, _, makes := hooks.Makes(p.build, c.Call); makes || h.Plant && p.to.Plants && hooks.Sends(p.build, c.Event) {
				list = append(list, c.Call)
			}
		}
	}
	return list
}

// judge runs the destination's checks on what was written.
func (p *Plan) judge(file string) ([]finding.Finding, error) {
	p.result.Path = file
	of := func(b *export.Build) []finding.Finding {
		return check.Run(check.Subject{
			Build: b, Destination: p.to.Destination, Rules: p.to.Rules, Accepts: p.to.Accepts,
			Inferred: p.to.Inferred, Heard: p.heard(),
		})
	}
	findings := of(p.result)
	if p.inside != nil { // the page shows what it weighs; the rest is to be seen in what it holds
		weighs := func(f finding.Finding) bool { return strings.HasPrefix(f.ID, "weight-") }
		findings = slices.DeleteFunc(findings, func(f finding.Finding) bool { return !weighs(f) })
		findings = append(findings, slices.DeleteFunc(of(p.inside), weighs)...)
		finding.Policy{Rules: p.to.Rules, Accepts: p.to.Accepts}.Settle(findings)
	}
	if finding.Errors(findings) > 0 && !p.to.AcceptErrors {
		return findings, &Faulty{findings, p.savings(findings)}
	}
	return findings, nil
}

// A Faulty error says that the destination would not take the archive. No archive was left behind.
type Faulty struct {
	Findings []finding.Finding
	Savings  []Saving // where it is too large: what would make it smaller, the most first
}

func (e *Faulty) Error() string {
	text := "the archive would not be taken"
	for _, f := range e.Findings {
		if f.Level == finding.Error && f.Accepted == "" {
			text += ": " + strings.TrimSpace(f.File+" "+f.Message)
			break
		}
	}
	return text
}

// Fault tells it.
func (e *Faulty) Fault() *fault.Error {
	next := "havvel check shows all findings"
	for i := len(e.Savings) - 1; i >= 0; i-- {
		next = fmt.Sprintf("%s: %s\n  %s", e.Savings[i].Words(), e.Savings[i].How, next)
	}
	return fault.Tell(e, fault.No, next)
}

// Judge runs the destination's checks on what would be handed over, before it is written.
func (p *Plan) Judge() []finding.Finding {
	findings, _ := p.judge(p.build.Path)
	return findings
}

// apart writes the entry page, and a zip of the rest, into a folder.
func (p *Plan) apart(ctx context.Context, stem string, report progress.Reporter, judge func(string) error) (*Archive, error) {
	a := &Archive{Path: stem, Entries: len(p.Items)}
	err := atomicfile.Folder(stem, func(folder string) error {
		var rest []*Item
		for _, it := range p.Items {
			if it != p.entry {
				rest = append(rest, it)
			}
		}
		page, err := p.entry.write(ctx, filepath.Join(folder, export.EntryName))
		if err != nil {
			return err
		}
		others, err := p.zipped(ctx, filepath.Join(folder, "rest.zip"), rest, report, judge)
		if err != nil {
			return err
		}
		a.Parts = []Part{
			{"entry", filepath.Join(stem, export.EntryName), page.bytes, page.sha256},
			{"rest", filepath.Join(stem, "rest.zip"), others.Bytes, others.SHA256},
		}
		a.Bytes, a.SHA256 = page.bytes+others.Bytes, others.SHA256
		return nil
	})
	return a, err
}

// encoding is what a server must name for a file: only names that say so are sent compressed.
func (p *Plan) encoding(name string) string {
	if f := p.result.File(name); f != nil && f.PlainPath() != f.Path {
		return f.Encoding
	}
	return ""
}

// written says what a file got.
type wrote struct {
	bytes  int64
	sha256 string
}

// write writes an item as it is, and makes sure that it is what was planned.
func (it *Item) write(ctx context.Context, path string) (w wrote, err error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return w, err
	}
	r, err := it.Open()
	if err != nil {
		return w, err
	}
	defer r.Close()
	hash := sha256.New()
	f, err := os.Create(path) // in a folder that takes its place when all is there
	if err != nil {
		return w, err
	}
	w.bytes, err = io.Copy(io.MultiWriter(f, hash), progress.Reader(ctx, r, progress.None))
	err = errors.Join(err, f.Close())
	if err == nil && it.From != nil && !it.changed() && [sha256.Size]byte(hash.Sum(nil)) != it.From.SHA256 {
		err = fmt.Errorf("packing %s: it changed while it was packed; wait until the engine has finished writing, and try again", it.From.Path)
	}
	w.sha256 = hex.EncodeToString(hash.Sum(nil))
	return w, err
}
