package pack

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"mime"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"havvel/internal/export"
	"havvel/internal/export/web"
	"havvel/internal/place"
)

// fold puts everything into the entry page. Each link becomes the content that it leads to; where one can't be followed
// with certainty, that is an error.
func (p *Plan) fold(ctx context.Context) error {
	if p.entry.From.Page == nil || p.result.Entry == nil {
		return fmt.Errorf("can't fold %s into one page: its entry page can't be read", p.build.Path)
	}
	f := &folding{plan: p, done: map[*export.File][]byte{}}
	if err := f.reachable(); err != nil {
		return err
	}
	page, err := f.file(ctx, p.result.Entry)
	if err != nil {
		return err
	}
	if stamp := p.named(StampName); stamp != nil {
		at := web.ReadPage(page).HeadEnd
		text := fmt.Sprintf("<script type=\"application/json\" id=\"havvel-build\">%s</script>\n", bytes.TrimSpace(stamp.text))
		if page, err = apply(page, []edit{{at: at, text: text}}); err != nil {
			return err
		}
	}
	inside := len(p.Items) - 1
	p.entry.text = page
	p.Items = []*Item{p.entry}
	p.Steps = append(p.Steps, Step{Name: "one-page", What: fmt.Sprintf("%s %s into %s", count(inside, "file"), verb(inside, "goes", "go"), export.EntryName), Why: p.to.Rules.Name + " takes one page", Bytes: int64(len(page)) - p.result.Bytes})
	p.result, err = export.Assemble(ctx, p.build.Path, "page", []export.Part{{Path: export.EntryName, Bytes: int64(len(page)), Open: p.entry.Open}})
	return err
}

// A folding is the work of putting files into one.
type folding struct {
	plan   *Plan
	within []*export.File // that are being folded, the outermost first
	done   map[*export.File][]byte
}

// reachable returns an error when something would stay outside: a file that nothing names, or one whose name is not known.
func (f *folding) reachable() error {
	b := f.plan.result
	for _, o := range b.Unlinked() {
		if o.Path != StampName {
			return &Unfollowed{File: o.Path, Reason: "nothing that can be read names it, so it can't be put into the page; name it under leave_out in havvel.toml if the game doesn't need it"}
		}
	}
	for _, o := range b.Parts() {
		if v, ok := b.Vague(o); ok {
			return &Unfollowed{File: v.From.Path, Line: v.Line, Column: v.Column, Reason: fmt.Sprintf("%q may name %s, and not all of it is known, so it can't be put into the page", v.Target, o.Path)}
		}
	}
	return nil
}

// file returns a file's bytes with everything in them that it links to.
func (f *folding) file(ctx context.Context, o *export.File) ([]byte, error) {
	if data, ok := f.done[o]; ok {
		return data, nil
	}
	if slices.Contains(f.within, o) {
		return nil, &Unfollowed{File: o.Path, Reason: "it links to itself by way of " + f.within[len(f.within)-1].Path + ", so it can't be put into the page"}
	}
	f.within = append(f.within, o)
	defer func() { f.within = f.within[:len(f.within)-1] }()
	data, err := f.plan.named(o.Path).decoded(ctx, o.Encoding)
	if err != nil {
		return nil, err
	}
	var edits []edit
	for _, l := range f.plan.result.Links {
		if l.From != o || l.To == nil && l.Result != export.Missing {
			continue
		}
		more, err := f.link(ctx, l, data)
		if err != nil {
			return nil, err
		}
		edits = append(edits, more...)
	}
	if data, err = apply(data, edits); err == nil {
		f.done[o] = data
	}
	return data, err
}

// link puts what a link leads to in its place.
func (f *folding) link(ctx context.Context, l export.Link, data []byte) ([]edit, error) {
	cannot := func(why string) error {
		return &Unfollowed{File: l.From.Path, Line: l.Line, Column: l.Column, Reason: fmt.Sprintf("it names %s as %q, %s, so it can't be put into the page", l.Path, l.Target, why)}
	}
	switch {
	case l.To == nil && l.Certainty == web.Possible:
		return nil, nil
	case l.To == nil:
		return nil, cannot("and there is no such file")
	case l.To.Page != nil:
		return nil, cannot("which is a page of its own")
	case !l.Whole:
		return nil, cannot("which is put together from parts")
	}
	content, err := f.file(ctx, l.To)
	if err != nil {
		return nil, err
	}
	if l.From.Page != nil && l.Use == "script" {
		if edits := inline(data, l, content); edits != nil {
			return edits, nil
		}
	}
	address := "data:" + typeOf(l.To) + ";base64," + base64.StdEncoding.EncodeToString(content)
	var edits []edit
	for _, at := range append([]int{l.Offset}, l.Again...) {
		edits = append(edits, edit{at, l.Len, address})
	}
	return edits, nil
}

var (
	source = regexp.MustCompile(`(?is)\s+src\s*=\s*("[^"]*"|'[^']*'|[^\s>"']+)`)
	later  = regexp.MustCompile(`(?is)\s(defer|async)(\s|=|>|/)`)
	ending = regexp.MustCompile(`(?i)</(script)`)
)

// inline puts a script's text into its element; nil for one that must run later than where it stands, or does not stand in
// an element.
func inline(data []byte, l export.Link, content []byte) []edit {
	from := bytes.LastIndexByte(data[:l.Offset], '<')
	to := bytes.IndexByte(data[l.Offset:], '>')
	if from < 0 || to < 0 || !bytes.HasPrefix(bytes.ToLower(data[from:]), []byte("<script")) {
		return nil
	}
	tag := data[from : l.Offset+to+1]
	src := source.FindIndex(tag)
	if src == nil || later.Match(tag) {
		return nil
	}
	text := ending.ReplaceAllString(strings.ReplaceAll(string(content), "<!--", `<\!--`), `<\/$1`)
	return []edit{{from + src[0], src[1] - src[0], ""}, {at: from + len(tag), text: "\n" + text + "\n"}}
}

// typeOf is the type under which a browser takes a file.
func typeOf(f *export.File) string {
	switch f.Kind {
	case export.KindScript:
		return "text/javascript"
	case export.KindWasm:
		return "application/wasm"
	case export.KindStyle:
		return "text/css"
	}
	if t, _, err := mime.ParseMediaType(mime.TypeByExtension(strings.ToLower(path.Ext(f.Path)))); err == nil {
		return t
	}
	return "application/octet-stream"
}

// onePage writes the page that everything was folded into.
func (p *Plan) onePage(file string, judge func(string) error) (*Archive, error) {
	sum := sha256.Sum256(p.entry.text)
	a := &Archive{Path: file, Entries: 1, Bytes: int64(len(p.entry.text)), SHA256: hex.EncodeToString(sum[:])}
	return a, place.File(file, func(f *os.File) error {
		if _, err := f.Write(p.entry.text); err != nil {
			return fmt.Errorf("writing %s: %w", file, err)
		}
		return judge(f.Name())
	})
}
