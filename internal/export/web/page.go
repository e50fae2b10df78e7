// Package web reads the pages and stylesheets of an export: what they link to and where. Whether a
// link leads anywhere is left to export, which knows the files.
package web

import (
	"bytes"
	"encoding/json"
	"html"
	"maps"
	"slices"
	"strconv"
	"strings"

	nethtml "golang.org/x/net/html"
)

// A Link is one place that names another file or address.
type Link struct {
	Target       string // as written, with character references resolved
	Use          string // what it is for: script, style, picture, media, page, icon, manifest, preload, frame, data, socket
	Line, Column int    // of the target, from 1; columns count bytes
	Offset, Len  int    // of the target in the file, in bytes
	Certainty    Certainty
	Module       bool   // relative to the script that it stands in, and not to the page that runs the script
	Worker       bool   // names a script that runs apart from the page
	Whole        bool   // the place holds all of the target, perhaps with escapes
	Tail         int    // how many bytes at the target's end stand at the place letter for letter
	Again        []int  // offsets of more places in the file where the same text stands
	Integrity    string // the hashes that the file must have one of, as an integrity attribute says
}

// Certainty is how sure it is that a place names a file that the game loads.
type Certainty int

// The certainties. A target that is Possible may have stars for parts that are not known.
const (
	Certain  Certainty = iota // by the language: an element, an import
	Likely                    // by what is done with it: a fetch, a worker, a setting called url
	Possible                  // a text that could be a file's name
)

// String is the certainty in one word.
func (c Certainty) String() string { return [...]string{"certain", "likely", "possible"}[c] }

// A Page is what an HTML file says of itself.
type Page struct {
	Title   string
	Base    string // href of its base element
	BaseAt  Span   // where that stands
	Links   []Link
	Scripts int  // script elements that run, with and without a src
	Canvas  bool // has a canvas element

	Frames                     []Frame  // its frames
	Doctype, Charset, Viewport bool     // has one
	CanvasWidth, CanvasHeight  int      // of the first canvas, from its attributes; 0 when it has none
	Style                      Style    // of its style elements, and of the body's style attribute
	Inline                     *Script  // all its inline scripts together
	Mapped                     []string // names that its import maps know; one that ends with a slash stands for all that begin with it
	Digests                    []Digest // by which it names files, its inline scripts too

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
	r := &pageReader{page: &Page{HeadStart: -1, HeadEnd: -1, BodyEnd: -1, Inline: &Script{Calls: map[string]int{}, Args: map[string][]string{}, Words: map[string]bool{}, Says: map[string]int{}}}, data: data, lines: newLines(data)}
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
	r.settle()
	return r.page
}

type pageReader struct {
	page    *Page
	data    []byte
	lines   lines
	within  string // the element whose text comes next: title, style or script
	started int    // offset of the first tag inside html
}

func (r *pageReader) start(at, length int) {
	tag := r.data[at : at+length]
	name := tagName(tag)
	attributes := attributesOf(tag)
	p := r.page
	r.within = name
	switch name {
	case "head":
		p.HeadStart = at + length
	case "html":
		r.started = at + length
	case "body":
		if p.HeadEnd < 0 {
			p.HeadEnd = at
		}
		if style := attributes.value("style"); style != "" {
			p.Style.add(ReadStyle([]byte("body{" + style + "}")))
		}
		if attributes.value("topmargin") == "0" || attributes.value("marginheight") == "0" {
			p.Style.NoMargin = true
		}
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
		if _, ok := attributes.find("charset"); ok || strings.EqualFold(attributes.value("http-equiv"), "content-type") {
			p.Charset = true
		}
		if strings.EqualFold(attributes.value("name"), "viewport") {
			p.Viewport = true
		}
	case "script":
		switch kind := strings.ToLower(attributes.value("type")); kind {
		case "", "module", "text/javascript", "application/javascript":
			p.Scripts++
		case "importmap":
			r.within = "importmap"
		default:
			r.within = ""
		}
	case "base":
		if href, ok := attributes.find("href"); ok && p.Base == "" {
			p.Base, p.BaseAt = strings.TrimSpace(href.value), Span{at + href.offset, href.length}
		}
		return
	}
	integrity := attributes.value("integrity")
	p.Digests = append(p.Digests, digests(integrity)...)
	for _, l := range linksOf(name, attributes) {
		if name == "script" || name == "link" {
			l.Integrity = integrity
		}
		r.add(l, at)
	}
	for _, a := range attributes {
		if strings.HasPrefix(a.name, "on") {
			r.handler(at+a.offset, a.name, a.value)
		}
	}
	if style, ok := attributes.find("style"); ok {
		for _, l := range ReadStyle([]byte(style.value)).Links {
			l.Offset += at + style.offset
			if len(style.value) != style.length { // character references make offsets differ from those in the file
				l.Whole, l.Tail = false, 0
			}
			r.add(l, 0)
		}
	}
}

func (r *pageReader) add(l Link, base int) {
	l.Offset += base
	for i := range l.Again {
		l.Again[i] += base
	}
	l.Line, l.Column = r.lines.place(l.Offset)
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
	s := ReadScript(slices.Clip(raw)) // behind it the page goes on
	for _, l := range s.Links {
		r.add(l, at)
	}
	for _, l := range s.Bare {
		l.Line, l.Column = r.lines.place(at + l.Offset)
		r.page.Inline.Bare = append(r.page.Inline.Bare, l)
	}
	r.says(at, s)
}

// handler reads an event handler that is written as an attribute.
func (r *pageReader) handler(at int, event, code string) {
	if telling[event] {
		r.page.Inline.Words[event] = true
	}
	r.says(at, ReadScript([]byte(code)))
}

// says notes what a part of the page's scripts says.
func (r *pageReader) says(at int, s *Script) {
	for name, offset := range s.Calls {
		if _, ok := r.page.Inline.Calls[name]; !ok {
			r.page.Inline.Calls[name] = at + offset
		}
	}
	for name, args := range s.Args {
		r.page.Inline.Args[name] = append(r.page.Inline.Args[name], args...)
	}
	for text, offset := range s.Says {
		if _, ok := r.page.Inline.Says[text]; !ok {
			r.page.Inline.Says[text] = at + offset
		}
	}
	for word := range s.Words {
		r.page.Inline.Words[word] = true
	}
	r.page.Digests = append(r.page.Digests, s.Digests...)
}

// imports reads an import map: the addresses that bare names stand for.
func (r *pageReader) imports(at int, raw []byte) {
	r.page.Digests = append(r.page.Digests, digests(string(raw))...)
	links, _ := ReadJSON(raw) // a broken map loads nothing
	var names struct {
		Imports map[string]any            `json:"imports"`
		Scopes  map[string]map[string]any `json:"scopes"`
	}
	if json.Unmarshal(raw, &names) == nil {
		r.page.Mapped = slices.AppendSeq(r.page.Mapped, maps.Keys(names.Imports))
		for _, scope := range names.Scopes {
			r.page.Mapped = slices.AppendSeq(r.page.Mapped, maps.Keys(scope))
		}
		slices.Sort(r.page.Mapped)
	}
	for _, l := range links {
		if isRelative(l.Target) {
			l.Use, l.Certainty, l.Module = "script", Certain, true
			r.add(l, at)
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

// settle fills in the places of elements that the page leaves out, as a browser does.
func (r *pageReader) settle() {
	p := r.page
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
