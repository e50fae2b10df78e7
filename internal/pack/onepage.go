package pack

import (
	"bytes"
	"compress/flate"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"html"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2/js"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"
	"havvel/internal/export"
	"havvel/internal/export/link"
	"havvel/internal/export/script"
	"havvel/internal/fault"
	"havvel/internal/hosting"
	"havvel/internal/pack/deflate"
	slimmer "havvel/internal/pack/slim"
	"havvel/internal/progress"
)

// fold puts everything into the entry page: one compressed stream with all files, and a script that hands them out wherever the game looks
// for them, under the addresses that they would have on a host. What can't go in is an error that names it.
func (p *Plan) fold(ctx context.Context) error {
	if p.entry.From.Page == nil || p.result.Entry == nil {
		return fault.New(fault.No, "can't fold %s into one page: its entry page can't be read", p.build.Path)
	}
	f := &folding{plan: p, files: map[string]heldFile{}, queries: map[string]string{}}
	if err := f.verify(); err != nil {
		return err
	}
	contents, err := f.contents(ctx)
	if err != nil {
		return err
	}
	stream, err := f.compressed(ctx, contents)
	if err != nil {
		return err
	}
	made, err := f.made(stream, inBase64)
	if limit := p.limit(); err == nil && limit > 0 && made.bytes > limit {
		made, err = f.made(stream, inSeven)
	}
	if err != nil {
		return err
	}
	inside := len(p.Items) - 1
	p.origins = p.Origins()
	for i := range p.origins {
		p.origins[i].Steps = append(slices.Clone(p.origins[i].Steps), "one-page")
	}
	p.entry.text, p.entry.edits = nil, nil
	p.entry.use(made)
	p.Items = []*Item{p.entry}
	p.Steps = append(
		p.Steps,
		Step{
			Name:  "one-page",
			What:  fmt.Sprintf("%s %s into %s", count(inside, "file"), verb(inside, "goes", "go"), export.EntryName),
			Why:   p.to.Rules.Name + " takes one page",
			Bytes: made.bytes - p.result.Bytes,
		},
	)
	p.inside = p.result
	p.result, err = export.Assemble(ctx, p.build.Path, "page", []export.Part{{Path: export.EntryName, Bytes: made.bytes, Open: p.entry.Open}})
	return err
}

// limit is the largest page that the destination takes, in bytes; 0 where it says nothing.
func (p *Plan) limit() int64 {
	a, b := int64(p.to.Rules.Archive.Limit), int64(p.to.Rules.Archive.FileLimit)
	if a == 0 || b > 0 && b < a {
		return b
	}
	return a
}

// A coding is how bytes stand in a page: its name in the page's script, and how a part is written.
type coding struct {
	name  string
	write func(part []byte) string
}

var (
	inBase64 = coding{"64", base64.StdEncoding.EncodeToString}
	inSeven  = coding{"7", seven}
)

// seven writes bytes as characters of seven bits each, the highest first. Those that a page can't hold as they are (HTML standard, section
// 13.2.3.5) are written as U+0080 and the two after it. It takes a seventh more, where base64 takes a third.
func seven(part []byte) string {
	var b strings.Builder
	b.Grow(len(part)*8/7 + len(part)/32)
	held, bits := uint(0), 0
	put := func(v uint) {
		if i := strings.IndexByte(unheld, byte(v)); i >= 0 {
			b.WriteRune(rune(0x80 + i))
			return
		}
		b.WriteByte(byte(v))
	}
	for _, c := range part {
		held, bits = held<<8|uint(c), bits+8
		for bits >= 7 {
			bits -= 7
			put(held >> bits & 0x7f)
		}
		held &= 1<<bits - 1
	}
	if bits > 0 {
		put(held << (7 - bits) & 0x7f)
	}
	return b.String()
}

// unheld are the characters that a script's text in a page can't hold.
const unheld = "\x00\r<"

// made is the page, as it was made before or is made now.
func (f *folding) made(stream []byte, as coding) (product, error) {
	way := fmt.Sprintf("one-page 3 %s %x", as.name, sha256.Sum256([]byte(f.frame())))
	return f.plan.made.product(sha256.Sum256(stream), way, func(w io.Writer) error { return f.page(w, stream, as) })
}

// A folding is the work of putting files into one.
type folding struct {
	plan    *Plan
	files   map[string]heldFile
	queries map[string]string // specifiers of imports with a query, and the files that they lead to
}

// A heldFile is a file's type, and where it is in the stream: its start, and how long it is.
type heldFile [3]any

// verify returns an error for what can't go into a page.
func (f *folding) verify() error {
	imports := map[*export.File][]export.Link{}
	var workers []export.Link
	for _, l := range f.plan.result.Links {
		switch {
		case l.To == nil:
			continue
		case l.To.Page != nil:
			if err := f.verifyPage(l); err != nil {
				return err
			}
		case l.To.Script != nil && l.Import && l.Certainty == link.Certain:
			imports[l.From] = append(imports[l.From], l)
		}
		if l.To.Script != nil && l.Worker {
			workers = append(workers, l)
		}
	}
	for _, l := range workers {
		if err := f.verifyWorker(l, imports); err != nil {
			return err
		}
	}
	return nil
}

// verifyWorker returns an error for a worker that can't be started from a page.
func (f *folding) verifyWorker(l export.Link, imports map[*export.File][]export.Link) error {
	if l.Use == "script" && strings.Contains(strings.ToLower(l.Target), "sharedworker") && f.plan.opaque() {
		return f.cannot(l, "a worker that several pages share, which the sandbox of %s forbids", f.plan.to.Rules.Name)
	}
	if circle := circleOf(imports, l.To, nil); circle != nil {
		return f.cannot(*circle, "and that leads back to itself, which a worker can't import from a page")
	}
	return nil
}

// verifyPage returns an error for a page that another page can't lead to in one page.
func (f *folding) verifyPage(l export.Link) error {
	if !f.plan.opaque() {
		return nil
	}
	byItself := l.Use == "page" && l.Certainty != link.Possible && l.To != f.plan.result.Entry
	if byItself && (l.From.Page == nil || !f.leads(l)) {
		return f.cannot(l, "and a script opens that page, which can't work in the sandbox of %s (a link can)", f.plan.to.Rules.Name)
	}
	return nil
}

// opaque reports whether the destination's frame has an origin of its own (HTML standard, section 7.1.1).
func (p *Plan) opaque() bool {
	sandbox := p.to.Rules.Frame.Sandbox
	return len(sandbox) > 0 && !slices.Contains(sandbox, "allow-same-origin")
}

// leading is the beginning of an attribute that leads players to another page when they press something.
var leading = regexp.MustCompile(`(?i)\s(href|action|formaction)\s*=\s*["']?\s*$`)

// leads reports whether a page's link stands in an attribute that leads players on.
func (f *folding) leads(l export.Link) bool {
	it := f.plan.named(l.From.Path)
	if it == nil {
		return false
	}
	r, err := it.Open()
	if err != nil {
		return false // reading it again says why
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, int64(l.Offset)))
	return err == nil && leading.Match(data)
}

// circleOf is an import that leads back to where one came from; nil for none.
func circleOf(imports map[*export.File][]export.Link, at *export.File, within []*export.File) *export.Link {
	within = append(within, at)
	for _, l := range imports[at] {
		if slices.Contains(within, l.To) {
			return &l
		}
		if found := circleOf(imports, l.To, within); found != nil {
			return found
		}
	}
	return nil
}

func (f *folding) cannot(l export.Link, why string, args ...any) error {
	why = fmt.Sprintf(why, args...)
	return unfollowed(l.From.Path, l.Line, l.Column, "it names %s as %q, %s, so it can't be put into the page", l.Path, l.Target, why)
}

// contents are all files one after another, behind an index that says which is where. The index comes behind its length, in ten digits.
func (f *folding) contents(ctx context.Context) ([]byte, error) {
	var all bytes.Buffer
	for _, o := range f.plan.result.Parts() {
		if o.Path == StampName {
			continue
		}
		data, kind, err := f.content(ctx, o)
		if err != nil {
			return nil, err
		}
		f.files[o.Path] = heldFile{kind, all.Len(), len(data)}
		all.Write(data)
		if all.Len() > mostFolded {
			return nil, fault.New(fault.No, "can't fold %s into one page: it has more than %s", f.plan.build.Path, size(mostFolded)).
				Then("export it with smaller pictures and sounds, or hand it over in another form")
		}
	}
	index, err := json.Marshal(map[string]any{
		"page": f.plan.result.Entry.Path, "files": f.files, "root": f.plan.build.Root(), "queries": f.queries, "ask": askForPage,
	})
	if err != nil {
		return nil, err
	}
	return slices.Concat(fmt.Appendf(nil, "%10d", len(index)), index, all.Bytes()), nil
}

// askForPage is the parameter of the one page's address that asks for another page than the entry page.
const askForPage = "held-page"

// mostFolded is the most that goes into a page, in bytes.
const mostFolded = 96 << 20

// content is what a page holds of a file, and its type: as it would come from a host.
func (f *folding) content(ctx context.Context, o *export.File) (data []byte, kind string, err error) {
	it := f.plan.named(o.Path)
	if who, _ := f.plan.result.Unpacker(o); o.Encoding != "" && who != export.ByHost {
		data, err = it.read(ctx) // the game unpacks it, as it does on a host that sends no Content-Encoding
		return data, hosting.TypeOf(o.Path), err
	}
	if data, err = it.decoded(ctx, o.Encoding); err == nil && o.Script != nil {
		data, err = f.script(o, data)
	}
	plain, _ := hosting.Plain(o.Path)
	return data, hosting.TypeOf(plain), err
}

// script is a script whose imports lead to what the page holds.
func (f *folding) script(o *export.File, data []byte) ([]byte, error) {
	holds := func(name string) bool { return f.plan.named(name) != nil && name != StampName }
	now, err := rewritten(data, o.Path, holds, func(specifier, to string) { f.queries[specifier] = to })
	if err != nil || bytes.Equal(now, data) || o.WhyUnparsed() != "" || len(data) > script.LargestTree {
		return now, err
	}
	if _, err := js.Parse(inputOf(now), js.Options{}); err != nil {
		return nil, unfollowed(o.Path, 0, 0, "its imports can't be rewritten for one page: %w. That is a mistake in Havvel", err)
	}
	return now, nil
}

// compressed is one stream (RFC 1951).
func (f *folding) compressed(ctx context.Context, contents []byte) ([]byte, error) {
	effort := deflate.Quick
	if f.plan.to.Smallest {
		effort = deflate.Smallest
	}
	f.plan.to.Report.Begin("packing", int64(len(contents)))
	defer f.plan.to.Report.End()
	streams, err := f.plan.cache.deflated.Streams(ctx, []deflate.Content{{
		Name: export.EntryName, SHA256: sha256.Sum256(contents), CRC32: crc32.ChecksumIEEE(contents), Bytes: int64(len(contents)),
		Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(contents)), nil },
	}}, effort, f.plan.to.Report.Advance)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if streams[0].Deflated {
		_, err = streams[0].CopyTo(&out)
		return out.Bytes(), err
	}
	w, err := flate.NewWriter(&out, flate.NoCompression) // nothing is gained, and a browser wants a stream
	if err != nil {
		return nil, err
	}
	_, err = w.Write(contents)
	if err == nil {
		err = w.Close()
	}
	return out.Bytes(), err
}

//go:embed onepage.js
var holdScript string

//go:embed onepage_start.js
var startScript string

// frame is all of the page but the stream, with a mark where that goes.
func (f *folding) frame() string {
	lang, title := "en", f.plan.to.Title
	if page := f.plan.result.Entry.Page; page != nil && page.Title != "" {
		title = page.Title
	}
	stamp := ""
	if it := f.plan.named(StampName); it != nil {
		stamp = fmt.Sprintf("<script type=\"application/json\" id=\"havvel-build\">%s</script>\n", bytes.TrimSpace(it.text))
	}
	return fmt.Sprintf("<!DOCTYPE html>\n<html lang=\"%s\">\n<head>\n<meta charset=\"utf-8\">\n"+
		"<meta name=\"viewport\" content=\"width=device-width, initial-scale=1, viewport-fit=cover\">\n<title>%s</title>\n%s"+
		"<script>%s\n%s</script>\n</head>\n<body>\n%s<script>havvelBegin()</script>\n</body>\n</html>\n",
		lang, html.EscapeString(title), stamp, small(holdScript), small(startScript), streamMark)
}

const streamMark = "\x00stream\x00"

// small is a script without its comments and spaces, as it may stand in a page (HTML standard, section 4.12.1.3).
func small(text string) string {
	text = strings.TrimSpace(string(slimmer.Content("a.js", []byte(text))))
	return strings.NewReplacer("</script", `<\/script`, "<!--", `<\!--`).Replace(text)
}

// chunk is how much of the stream one element holds, in bytes: whole groups of three and of seven.
const chunk = 21 * 37_449

// page writes the page.
func (f *folding) page(w io.Writer, stream []byte, as coding) error {
	before, after, _ := strings.Cut(f.frame(), streamMark)
	if _, err := io.WriteString(w, before); err != nil {
		return err
	}
	for part := range slices.Chunk(stream, chunk) {
		_, err := fmt.Fprintf(w, "<script type=\"text/held\">%s</script><script>havvelTake(%s)</script>\n", as.write(part), as.name)
		if err != nil {
			return err
		}
	}
	_, err := io.WriteString(w, after)
	return err
}

// onePage writes the page that everything was folded into.
func (p *Plan) onePage(ctx context.Context, file string, judge func(string) error) (*Archive, error) {
	a := &Archive{Path: file, Entries: 1}
	return a, atomicfile.File(file, func(f disk.File) error {
		r, err := p.entry.Open()
		if err != nil {
			return err
		}
		defer r.Close()
		sum := sha256.New()
		if a.Bytes, err = io.Copy(io.MultiWriter(f, sum), progress.Reader(ctx, r, progress.None)); err != nil {
			return fmt.Errorf("writing %s: %w", file, err)
		}
		a.SHA256 = hex.EncodeToString(sum.Sum(nil))
		return judge(f.Name())
	})
}
