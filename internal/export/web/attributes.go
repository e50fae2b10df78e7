package web

import (
	"bytes"
	"html"
	"strings"

	"havvel/internal/export/link"
)

// attribute is one attribute of a start tag, with the place of its value as written.
type attribute struct {
	name           string
	value          string
	offset, length int // of the raw value, from the start of the tag
}

type attributes []attribute

func (list attributes) find(name string) (attribute, bool) {
	for _, a := range list {
		if a.name == name {
			return a, true
		}
	}
	return attribute{}, false
}

func (list attributes) value(name string) string {
	a, _ := list.find(name)
	return strings.TrimSpace(a.value)
}

// attributesOf reads the attributes of a raw start tag by the HTML standard's tokenizer states 32 to 39,
// keeping offsets, which the tokenizer of golang.org/x/net/html does not tell.
func attributesOf(tag []byte) attributes {
	const space = " \t\r\n\f"
	var list attributes
	i := bytes.IndexAny(tag, space+"/")
	if i < 0 {
		return nil
	}
	end := len(bytes.TrimSuffix(tag, []byte(">")))
	for i < end {
		if strings.IndexByte(space+"/", tag[i]) >= 0 {
			i++
			continue
		}
		from := i
		for i++; i < end && strings.IndexByte(space+"/=", tag[i]) < 0; i++ {
		}
		a := attribute{name: strings.ToLower(string(tag[from:i]))}
		next := i
		for next < end && strings.IndexByte(space, tag[next]) >= 0 {
			next++
		}
		if next < end && tag[next] == '=' {
			a.offset, a.length, i = valueAt(tag[:end], next+1)
			a.value = html.UnescapeString(string(tag[a.offset : a.offset+a.length]))
		}
		list = append(list, a)
	}
	return list
}

// valueAt finds the value that starts at or after i: its offset, its length, and where to go on.
func valueAt(tag []byte, i int) (offset, length, next int) {
	for i < len(tag) && strings.IndexByte(" \t\r\n\f", tag[i]) >= 0 {
		i++
	}
	if i == len(tag) {
		return i, 0, i
	}
	if quote := tag[i]; quote == '"' || quote == '\'' {
		i++
		end := bytes.IndexByte(tag[i:], quote)
		if end < 0 {
			return i, len(tag) - i, len(tag)
		}
		return i, end, i + end + 1
	}
	from := i
	for i < len(tag) && strings.IndexByte(" \t\r\n\f", tag[i]) < 0 {
		i++
	}
	return from, i - from, i
}

// linkAttributes says which attributes of which elements name another file, and what for.
var linkAttributes = map[string][]struct{ attribute, use string }{
	"script": {{"src", "script"}},
	"img":    {{"src", "picture"}, {"srcset", "picture"}},
	"source": {{"src", "media"}, {"srcset", "picture"}},
	"audio":  {{"src", "media"}},
	"video":  {{"src", "media"}, {"poster", "picture"}},
	"track":  {{"src", "media"}},
	"iframe": {{"src", "frame"}},
	"embed":  {{"src", "frame"}},
	"object": {{"data", "frame"}},
	"image":  {{"href", "picture"}, {"xlink:href", "picture"}},
	"use":    {{"href", "picture"}, {"xlink:href", "picture"}},
	"a":      {{"href", "page"}},
	"area":   {{"href", "page"}},
	"body":   {{"background", "picture"}},
	"table":  {{"background", "picture"}},
	"td":     {{"background", "picture"}},
}

// relations says what a link element is for, by its rel. Those not here load nothing of the build.
var relations = map[string]string{
	"stylesheet": "style", "icon": "icon", "apple-touch-icon": "icon", "mask-icon": "icon",
	"manifest": "manifest", "preload": "preload", "modulepreload": "preload", "prefetch": "preload",
}

// linksOf lists the links of one start tag; offsets are from the start of the tag.
func linksOf(element string, list attributes) []link.Link {
	var links []link.Link
	add := func(attribute, use string) {
		if a, ok := list.find(attribute); ok {
			if x, ok := a.link(use); ok {
				links = append(links, x)
			}
		}
	}
	for _, l := range linkAttributes[element] {
		if a, ok := list.find(l.attribute); ok && l.attribute == "srcset" {
			links = append(links, candidates(a, l.use)...)
		} else if ok {
			add(l.attribute, l.use)
		}
	}
	if element == "link" {
		for rel := range strings.FieldsSeq(strings.ToLower(list.value("rel"))) {
			if use, ok := relations[rel]; ok {
				add("href", use)
				break
			}
		}
	}
	links = append(links, forScripts(list)...)
	if element == "input" && strings.EqualFold(list.value("type"), "image") {
		add("src", "picture")
	}
	return links
}

// forScripts lists what looks like names of files in attributes that only scripts read.
func forScripts(list attributes) (links []link.Link) {
	for _, a := range list {
		if !strings.HasPrefix(a.name, "data-") || !link.LooksLikePath(a.value) || link.IsAddress(a.value) || len(a.value) > link.MaxTarget {
			continue
		}
		if x, ok := a.link("data"); ok {
			x.Certainty, x.Base = link.Possible, link.OfAny
			links = append(links, x)
		}
	}
	return links
}

func (a attribute) link(use string) (link.Link, bool) {
	target := strings.TrimSpace(a.value)
	return link.Link{Target: target, Use: use, Offset: a.offset, Len: a.length}, target != ""
}

// candidates reads a srcset: addresses, each followed by an optional size, with commas between.
func candidates(a attribute, use string) []link.Link {
	var links []link.Link
	rest, at := a.value, 0
	for {
		trimmed := strings.TrimLeft(rest, " \t\r\n\f,")
		at += len(rest) - len(trimmed)
		if trimmed == "" {
			return links
		}
		end := strings.IndexAny(trimmed, " \t\r\n\f")
		if end < 0 {
			end = len(trimmed)
		}
		target := strings.TrimRight(trimmed[:end], ",")
		l := link.Link{Target: target, Use: use, Offset: a.offset + at, Len: len(target)}
		if len(a.value) != a.length { // character references make offsets differ from those in the file
			l.Pieces = []link.Piece{{Text: target, Offset: l.Offset, Len: l.Len, Kept: true}}
		}
		links = append(links, l)
		if len(target) == end { // a size may follow, up to the next comma
			if comma := strings.IndexByte(trimmed[end:], ','); comma >= 0 {
				end += comma
			} else {
				end = len(trimmed)
			}
		}
		rest, at = trimmed[end:], at+end
	}
}
