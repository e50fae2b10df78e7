package web

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"

	"havvel/internal/export/link"
)

// ReadJSON lists the texts of a JSON file that look like names of files; those under src, href and start_url, as in
// a web manifest, are Likely. The error says where the file is not valid JSON; the links before that are returned.
func ReadJSON(data []byte) ([]link.Link, error) {
	body := bytes.TrimPrefix(data, []byte("\ufeff"))
	r := jsonReader{data: data, shift: len(data) - len(body), places: link.NewLines(data), decoder: json.NewDecoder(bytes.NewReader(body))}
	for {
		before := r.offset()
		t, err := r.decoder.Token()
		if errors.Is(err, io.EOF) {
			return r.links, nil
		}
		if err != nil {
			return r.links, err
		}
		switch t := t.(type) {
		case json.Delim:
			if t == '{' || t == '[' {
				r.nesting = append(r.nesting, t == '{')
			} else if len(r.nesting) > 0 {
				r.nesting = r.nesting[:len(r.nesting)-1]
			}
		case string:
			if r.expectKey {
				r.key, r.expectKey = t, false
				continue
			}
			r.text(t, before)
		}
		r.expectKey = len(r.nesting) > 0 && r.nesting[len(r.nesting)-1]
	}
}

type jsonReader struct {
	data      []byte
	shift     int // where the JSON begins
	places    link.Lines
	decoder   *json.Decoder
	key       string
	nesting   []bool // true inside an object, where every second text is a key
	expectKey bool
	links     []link.Link
}

func (r *jsonReader) offset() int { return int(r.decoder.InputOffset()) + r.shift }

// text takes a text that is a value; before is an offset before it.
func (r *jsonReader) text(t string, before int) {
	if len(t) > link.MaxTarget || !link.LooksLikePath(t) && !link.IsFolder(t) || link.IsAddress(t) || len(r.links) >= link.MaxLinks {
		return
	}
	l := link.Link{Target: t, Use: "data", Certainty: link.Possible, Base: link.OfFile}
	l.Offset = before + bytes.IndexByte(r.data[before:], '"') + 1
	l.Len = r.offset() - 1 - l.Offset
	if r.key == "src" || r.key == "href" || r.key == "start_url" {
		l.Certainty = link.Likely
	}
	l.Line, l.Column = r.places.Place(l.Offset)
	r.links = append(r.links, l)
}
