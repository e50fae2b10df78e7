package web

import (
	"bytes"
	"strings"

	"havvel/internal/export/link"
)

// between are the letters that end a name in formats of data: maps and models in XML, lists of pictures, fonts, materials.
const between = "\"'<>=,;|()[]{}\t\r\n"

// ReadText lists the texts of a data file that look like names of files. They stand in quotes, between tags, behind equals signs, alone on
// a line, or as words. The file's format need not be known: whether there is such a file tells whether a text is its name.
func ReadText(data []byte) []link.Link {
	r := &textReader{data: data, seen: map[string]int{}}
	for at := 0; at < len(data); {
		end := at + bytes.IndexAny(data[at:], between)
		if end < at {
			end = len(data)
		}
		if bytes.IndexByte(data[at:end], '.') >= 0 {
			r.field(at, end)
		}
		at = end + 1
	}
	return r.links
}

type textReader struct {
	data  []byte
	links []link.Link
	seen  map[string]int // their places in links, by their texts
	lines link.Lines     // nil until they are asked for
}

// field reads what stands between two of those letters: a name, or words with names among them.
func (r *textReader) field(at, end int) {
	for at < end && r.data[at] == ' ' {
		at++
	}
	for end > at && r.data[end-1] == ' ' {
		end--
	}
	r.name(at, end)
	if bytes.IndexByte(r.data[at:end], ' ') < 0 {
		return
	}
	for at < end {
		n := bytes.IndexByte(r.data[at:end], ' ')
		if n < 0 {
			n = end - at
		}
		r.name(at, at+n)
		at += n + 1
	}
}

func (r *textReader) name(at, end int) {
	if end-at > link.MaxTarget || len(r.links) >= link.MaxLinks {
		return
	}
	text := string(r.data[at:end])
	if dot := strings.LastIndexByte(text, '.'); dot < 1 || dot+1 == len(text) ||
		text[dot+1] >= '0' && text[dot+1] <= '9' && !strings.Contains(text, "/") { // a number
		return
	}
	if !link.LooksLikePath(text) || link.IsAddress(text) || strings.ContainsAny(text, `*?&\`) {
		return
	}
	l := link.Link{Target: text, Use: "data", Certainty: link.Possible, Base: link.OfAny, Offset: at, Len: end - at}
	if first, ok := r.seen[text]; ok {
		r.links[first].Repeat(l)
		return
	}
	if r.lines == nil {
		r.lines = link.NewLines(r.data)
	}
	l.Line, l.Column = r.lines.Place(at)
	r.seen[text] = len(r.links)
	r.links = append(r.links, l)
}
