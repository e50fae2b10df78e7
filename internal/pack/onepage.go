package pack

import (
	"bytes"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"html"
	"mime"
	"path"
	"regexp"
	"slices"
	"strings"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"
	"havvel/internal/export"
	"havvel/internal/export/link"
	"havvel/internal/export/web"
	"havvel/internal/fault"
)

// fold puts everything into the entry page. What the page and its stylesheets name, and what scripts import, goes where it is
// named. What scripts load while they run is held in the page, and handed out by name. What can't go in, such as a second
// page, is an error.
func (p *Plan) fold(ctx context.Context) error {
	if p.entry.From.Page == nil || p.result.Entry == nil {
		return fault.New(fault.No, "can't fold %s into one page: its entry page can't be read", p.build.Path)
	}
	f := &folding{plan: p, done: map[*export.File][]byte{}, placed: map[*export.File]bool{}}
	if err := f.verify(); err != nil {
		return err
	}
	page, err := f.file(ctx, p.result.Entry)
	if err != nil {
		return err
	}
	held, err := f.held(ctx)
	if err != nil {
		return err
	}
	if stamp := p.named(StampName); stamp != nil {
		held += fmt.Sprintf("<script type=\"application/json\" id=\"havvel-build\">%s</script>\n", bytes.TrimSpace(stamp.text))
	}
	if page, err = apply(page, []edit{{at: web.ReadPage(page).HeadStart, text: "\n" + held}}); err != nil {
		return err
	}
	inside := len(p.Items) - 1
	for i := range p.origins {
		p.origins[i].Steps = append(slices.Clone(p.origins[i].Steps), "one-page")
	}
	p.entry.text = page
	p.Items = []*Item{p.entry}
	p.Steps = append(
		p.Steps,
		Step{
			Name:  "one-page",
			What:  fmt.Sprintf("%s %s into %s", count(inside, "file"), verb(inside, "goes", "go"), export.EntryName),
			Why:   p.to.Rules.Name + " takes one page",
			Bytes: int64(len(page)) - p.result.Bytes,
		},
	)
	p.result, err = export.Assemble(
		ctx,
		p.build.Path,
		"page",
		[]export.Part{{Path: export.EntryName, Bytes: int64(len(page)), Open: p.entry.Open}},
	)
	return err
}

// A folding is the work of putting files into one.
type folding struct {
	plan   *Plan
	within []*export.File // that are being folded, the outermost first
	done   map[*export.File][]byte
	placed map[*export.File]bool // that stand where they are named
}

// verify returns an error for what can't go into a page.
func (f *folding) verify() error {
	b := f.plan.result
	workers := map[*export.File]bool{}
	for _, l := range b.Links {
		if l.To == nil {
			continue
		}
		if l.To.Page != nil && l.To != b.Entry {
			return f.cannot(l, "which is a page of its own")
		}
		if l.To.Script != nil && l.Worker {
			workers[l.To] = true
		}
	}
	for _, l := range b.Links {
		if workers[l.From] && l.To != nil {
			return f.cannot(l, "from a worker, which can't see what the page holds")
		}
	}
	return nil
}

func (f *folding) cannot(l export.Link, why string) error {
	return unfollowed(l.From.Path, l.Line, l.Column, "it names %s as %q, %s, so it can't be put into the page", l.Path, l.Target, why)
}

//go:embed onepage.js
var onePageScript string

// held holds the files that stand nowhere else, with a script that hands them out.
func (f *folding) held(ctx context.Context) (string, error) {
	var b strings.Builder
	for _, o := range f.plan.result.Parts() {
		if o == f.plan.result.Entry || o.Path == StampName || f.placed[o] && !f.loaded(o) {
			continue
		}
		data, err := f.file(ctx, o)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(
			&b,
			"<script type=\"text/plain\" data-havvel=\"%s\" data-type=\"%s\">%s</script>\n",
			html.EscapeString(o.Path),
			typeOf(o),
			base64.StdEncoding.EncodeToString(data),
		)
	}
	if b.Len() == 0 {
		return "", nil
	}
	return b.String() + "<script>" + strings.TrimSpace(onePageScript) + "</script>\n", nil
}

// loaded reports whether a script may load a file while it runs.
func (f *folding) loaded(o *export.File) bool {
	if _, vague := f.plan.result.Vague(o); vague {
		return o.Kind != export.KindScript && o.Kind != export.KindStyle
	}
	return slices.ContainsFunc(f.plan.result.NamesOf(o), func(l export.Link) bool { return l.Certainty != link.Certain })
}

// file returns a file's bytes with everything in them that it links to.
func (f *folding) file(ctx context.Context, o *export.File) ([]byte, error) {
	if data, ok := f.done[o]; ok {
		return data, nil
	}
	if slices.Contains(f.within, o) {
		return nil, unfollowed(o.Path, 0, 0, "it links to itself by way of %s, so it can't be put into the page", f.within[len(f.within)-1].Path)
	}
	f.within = append(f.within, o)
	defer func() { f.within = f.within[:len(f.within)-1] }()
	was := o.Encoding
	if who, _ := f.plan.result.Unpacker(o); was != "" && who != export.ByHost {
		data, err := f.plan.named(o.Path).read(ctx)
		f.done[o] = data
		return data, err // the game unpacks it, as it does on a host that sends no Content-Encoding
	}
	data, err := f.plan.named(o.Path).decoded(ctx, was)
	if err != nil {
		return nil, err
	}
	var edits []edit
	for _, l := range f.plan.result.Links {
		if l.From != o || l.Certainty != link.Certain || l.To == nil && l.Result != export.Missing {
			continue // what a script loads while it runs is held in the page
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
	switch {
	case l.To == nil:
		return nil, f.cannot(l, "and there is no such file")
	case !l.Whole():
		return nil, f.cannot(l, "which is put together from parts")
	}
	f.placed[l.To] = true
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
	return a, atomicfile.File(file, func(f disk.File) error {
		if _, err := f.Write(p.entry.text); err != nil {
			return fmt.Errorf("writing %s: %w", file, err)
		}
		return judge(f.Name())
	})
}
