// Package web reads the pages and stylesheets of an export: what they link to and where. Whether a
// link leads anywhere is left to export, which knows the files.
package web

import (
	"bytes"
	"html"
	"slices"
	"strconv"
	"strings"

	nethtml "golang.org/x/net/html"

	"havvel/internal/export/link"
	"havvel/internal/export/script"
)

// A Page is what an HTML file says of itself.
type Page struct {
	Title   string
	Base    string // href of its base element
	BaseAt  Span   // where that stands
	Links   []link.Link
	Scripts int  // script elements that run, with and without a src
	Canvas  bool // has a canvas element

	Frames                     []Frame        // its frames
	Fragment                   bool           // has none of the elements that a whole page has, so that it is most likely put into another
	Doctype, Charset, Viewport bool           // has one
	CanvasWidth, CanvasHeight  int            // of the first canvas, from its attributes; 0 when it has none
	Style                      Style          // of its style elements, and of the body's style attribute
	Inline                     *script.Script // all its inline scripts together
	Encoding                   string         // the charset that it declares; "" for none
	Policies                   []string       // its content security policies
	Maps                       ImportMap      // its import maps, joined
	Digests                    []link.Digest  // that it gives for files, its inline scripts too

	// Offsets at which a script can be planted: before everything else in the head, at the head's
	// end, and at the body's end.
	HeadStart, HeadEnd, BodyEnd int
}

// A Span is a place in a file, in bytes.
type Span struct{ Offset, Len int }

// A Frame is an iframe of a page.
type Frame struct {
	Source     string
	FullScreen bool // may show its content on the full screen
}

// ReadPage reads an HTML file. It never fails: what a browser would make something of, it reads.
func ReadPage(data []byte) *Page {
	r := &pageReader{page: &Page{HeadStart: -1, HeadEnd: -1, BodyEnd: -1, Inline: script.New()}, data: data, lines: link.NewLines(data)}
	z := nethtml.NewTokenizer(bytes.NewReader(data))
	for at := 0; ; {
		kind := z.Next()
		raw := z.Raw()
		if kind == nethtml.ErrorToken {
			break
		}
		switch kind {
		case nethtml.StartTagToken, nethtml.SelfClosingTagToken:
			r.start(at, len(raw))
		case nethtml.EndTagToken:
			r.end(at, tagName(raw))
		case nethtml.TextToken:
			r.text(at, raw)
		case nethtml.DoctypeToken:
			r.page.Doctype = true
		}
		at += len(raw)
	}
	r.finish()
	return r.page
}

type pageReader struct {
	page    *Page
	data    []byte
	lines   link.Lines
	within  string // the element whose text comes next: title, style or script
	started int    // offset of the first tag inside html
	whole   bool   // an element of a whole page was met
}

func (r *pageReader) start(at, length int) {
	name := tagName(r.data[at : at+length])
	attributes := attributesOf(r.data[at : at+length])
	r.within = name
	r.element(name, attributes, at, length)
	if name == "base" {
		return
	}
	integrity := attributes.value("integrity")
	r.page.Digests = append(r.page.Digests, link.Digests(integrity)...)
	for _, l := range linksOf(name, attributes) {
		if name == "script" || name == "link" {
			l.Integrity = integrity
		}
		r.add(l, at)
	}
	r.scripted(attributes, at)
	if style, ok := attributes.find("style"); ok {
		r.styled(style, at)
	}
}

// element takes from an element what the page says of itself.
func (r *pageReader) element(name string, attributes attributes, at, length int) {
	p := r.page
	switch name {
	case "head":
		p.HeadStart, r.whole = at+length, true
	case "html":
		r.started, r.whole = at+length, true
	case "body":
		r.body(attributes, at)
	case "iframe":
		_, old := attributes.find("allowfullscreen")
		p.Frames = append(p.Frames, Frame{attributes.value("src"), old || strings.Contains(attributes.value("allow"), "fullscreen")})
	case "canvas":
		if !p.Canvas {
			p.CanvasWidth, _ = strconv.Atoi(attributes.value("width")) // what is no number is no size
			p.CanvasHeight, _ = strconv.Atoi(attributes.value("height"))
		}
		p.Canvas = true
	case "meta":
		p.declare(attributes)
		if strings.EqualFold(attributes.value("name"), "viewport") {
			p.Viewport = true
		}
	case "script":
		r.runs(strings.ToLower(attributes.value("type")))
	case "base":
		if href, ok := attributes.find("href"); ok && p.Base == "" {
			p.Base, p.BaseAt = strings.TrimSpace(href.value), Span{at + href.offset, href.length}
		}
	}
}

// runs takes an element that holds a script, or data for scripts, by its type.
func (r *pageReader) runs(kind string) {
	switch kind {
	case "", "module", "text/javascript", "application/javascript":
		r.page.Scripts++
	case "importmap":
		r.within = "importmap"
	default:
		r.within = ""
	}
}

func (r *pageReader) body(attributes attributes, at int) {
	p := r.page
	r.whole = true
	if p.HeadEnd < 0 {
		p.HeadEnd = at
	}
	if style := attributes.value("style"); style != "" {
		p.Style.add(ReadStyle([]byte("body{" + style + "}")))
	}
	if attributes.value("topmargin") == "0" || attributes.value("marginheight") == "0" {
		p.Style.NoMargin = true
	}
}

// scripted reads the attributes that hold scripts, or a page.
func (r *pageReader) scripted(list attributes, at int) {
	for _, a := range list {
		switch {
		case strings.HasPrefix(a.name, "on"):
			r.handler(a, at, a.value)
		case (a.name == "href" || a.name == "src") && strings.HasPrefix(strings.TrimSpace(a.value), "javascript:"):
			r.handler(a, at, strings.TrimPrefix(strings.TrimSpace(a.value), "javascript:"))
		case a.name == "srcdoc":
			r.inner(a, at)
		}
	}
}

// styled reads a style attribute.
func (r *pageReader) styled(style attribute, at int) {
	for _, l := range ReadStyle([]byte(style.value)).Links {
		l.Offset += at + style.offset
		if len(style.value) != style.length { // character references make offsets differ from those in the file
			l.Pieces = []link.Piece{{Text: l.Target, Offset: l.Offset, Len: l.Len, Kept: true}}
		}
		r.add(l, 0)
	}
}

// declare takes what a meta element says of the page's charset and policy.
func (p *Page) declare(meta attributes) {
	name, equiv, content := meta.value("charset"), strings.ToLower(meta.value("http-equiv")), meta.value("content")
	if _, ok := meta.find("charset"); ok || equiv == "content-type" {
		p.Charset = true
	}
	if _, after, ok := strings.Cut(strings.ToLower(content), "charset="); ok && equiv == "content-type" {
		name, _, _ = strings.Cut(after, ";")
	}
	if p.Encoding == "" {
		p.Encoding = strings.Trim(name, " \"'")
	}
	if equiv == "content-security-policy" {
		p.Policies = append(p.Policies, content)
	}
}

func (r *pageReader) add(l link.Link, base int) {
	l.Shift(base)
	l.Line, l.Column = r.lines.Place(l.Offset)
	r.page.Links = append(r.page.Links, l)
}

func (r *pageReader) text(at int, raw []byte) {
	switch r.within {
	case "title":
		if r.page.Title == "" {
			r.page.Title = strings.Join(strings.Fields(html.UnescapeString(string(raw))), " ")
		}
	case "style":
		style := ReadStyle(raw)
		for _, l := range style.Links {
			r.add(l, at)
		}
		r.page.Style.add(style)
	case "script":
		r.inline(at, raw)
	case "importmap":
		r.imports(at, raw)
	}
	r.within = ""
}

// inline reads a script that stands in the page.
func (r *pageReader) inline(at int, raw []byte) {
	r.code(at, ReadScript(slices.Clip(raw)), true) // behind it the page goes on
}

// code notes what a piece of script in the page says. exact says that it stands there letter for letter.
func (r *pageReader) code(at int, s *script.Script, exact bool) {
	for _, l := range s.Links {
		if l.Base == link.OfFile { // the page's own address
			l.Base = link.OfPage
		}
		if !exact {
			l.Offset, l.Len, l.Again = 0, 0, nil
			l.Pieces = []link.Piece{{Text: l.Target, Len: -1}}
		}
		r.add(l, at)
	}
	for _, l := range s.Bare {
		l.Line, l.Column = r.lines.Place(at + l.Offset)
		l.Offset += at
		r.page.Inline.Bare = append(r.page.Inline.Bare, l)
	}
	if s.Unparsed != "" {
		r.page.Inline.Unparsed = s.Unparsed
	}
	r.page.Inline.Others.Add(s.Others)
	r.page.Inline.Decoders = append(r.page.Inline.Decoders, s.Decoders...)
	r.page.Inline.Holds(s, func(offset int) int { return at + offset })
	r.page.Digests = append(r.page.Digests, s.Digests...)
}

// handler reads code that is written as an attribute: that of an event, or an address that is a script.
func (r *pageReader) handler(a attribute, at int, code string) {
	if script.Telling(a.name) {
		r.page.Inline.Words[a.name] = true
	}
	start := at + a.offset + len(a.value) - len(code)
	s := ReadScript([]byte("function _(event){" + code + "}"))
	for i := range s.Links {
		s.Links[i].Shift(-len("function _(event){"))
	}
	for _, places := range []map[string]int{s.Calls, s.Uses, s.Says} {
		for name := range places {
			places[name] -= len("function _(event){")
		}
	}
	r.code(start, s, len(a.value) == a.length)
}

// inner reads a page that is written as an attribute.
func (r *pageReader) inner(a attribute, at int) {
	for _, l := range ReadPage([]byte(a.value)).Links {
		if len(a.value) != a.length {
			l.Pieces = []link.Piece{{Text: l.Target, Offset: a.offset, Len: a.length, Kept: true}}
			l.Offset, l.Len, l.Again = a.offset, a.length, nil
			r.add(l, at)
			continue
		}
		r.add(l, at+a.offset)
	}
}

// imports reads an import map: the addresses that names stand for.
func (r *pageReader) imports(at int, raw []byte) {
	r.page.Digests = append(r.page.Digests, link.Digests(string(raw))...)
	links, _ := ReadJSON(raw) // a broken map loads nothing
	r.page.Maps.add(raw)
	for _, l := range links {
		if link.IsRelative(l.Target) {
			l.Use, l.Certainty, l.Base, l.Mapped = "script", link.Likely, link.OfPage, true
			l.Import = true
			r.add(l, at)
		}
	}
	for scope := range r.page.Maps.Scopes { // scopes are addresses, too
		if from := bytes.LastIndex(raw, []byte(`"`+scope+`"`)); from >= 0 && link.IsRelative(scope) {
			r.add(link.Link{Target: scope, Use: "script", Certainty: link.Likely, Mapped: true, Import: true, Offset: from + 1, Len: len(scope)}, at)
		}
	}
}

func (r *pageReader) end(at int, name string) {
	r.within = ""
	switch {
	case name == "head" && r.page.HeadEnd < 0:
		r.page.HeadEnd = at
	case name == "body":
		r.page.BodyEnd = at
	}
}

// finish fills in the places of elements that the page leaves out, as a browser does.
func (r *pageReader) finish() {
	p := r.page
	p.Fragment = !p.Doctype && !r.whole
	if p.HeadStart < 0 {
		p.HeadStart = r.started
		if p.HeadStart == 0 {
			p.HeadStart = afterDoctype(r.data)
		}
	}
	if p.HeadEnd < p.HeadStart {
		p.HeadEnd = p.HeadStart
	}
	if p.BodyEnd < 0 {
		p.BodyEnd = len(r.data)
	}
}

func afterDoctype(data []byte) int {
	trimmed := bytes.TrimLeft(bytes.TrimPrefix(data, []byte("\ufeff")), " \t\r\n")
	if len(trimmed) > 9 && strings.EqualFold(string(trimmed[:9]), "<!doctype") {
		if end := bytes.IndexByte(trimmed, '>'); end >= 0 {
			return len(data) - len(trimmed) + end + 1
		}
	}
	return len(data) - len(trimmed)
}

func tagName(raw []byte) string {
	name := bytes.TrimLeft(raw, "</")
	if end := bytes.IndexAny(name, " \t\r\n\f/>"); end >= 0 {
		name = name[:end]
	}
	return strings.ToLower(string(name))
}
