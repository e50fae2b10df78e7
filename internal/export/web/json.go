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
	var links []link.Link
	places := link.NewLines(data)
	body := bytes.TrimPrefix(data, []byte("\ufeff"))
	shift := len(data) - len(body)
	decoder := json.NewDecoder(bytes.NewReader(body))
	key := ""
	var nesting []bool // true inside an object, where every second text is a key
	expectKey := false
	for {
		before := int(decoder.InputOffset()) + shift
		t, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return links, nil
		}
		if err != nil {
			return links, err
		}
		switch t := t.(type) {
		case json.Delim:
			if t == '{' || t == '[' {
				nesting = append(nesting, t == '{')
			} else if len(nesting) > 0 {
				nesting = nesting[:len(nesting)-1]
			}
			expectKey = len(nesting) > 0 && nesting[len(nesting)-1]
			continue
		case string:
			if expectKey {
				key, expectKey = t, false
				continue
			}
			if len(t) <= link.MaxTarget && (link.LooksLikePath(t) || link.IsFolder(t)) && !link.IsAddress(t) && len(links) < link.MaxLinks {
				l := link.Link{Target: t, Use: "data", Certainty: link.Possible, Base: link.OfFile}
				l.Offset = before + bytes.IndexByte(data[before:], '"') + 1
				l.Len = int(decoder.InputOffset()) + shift - 1 - l.Offset
				if key == "src" || key == "href" || key == "start_url" {
					l.Certainty = link.Likely
				}
				l.Line, l.Column = places.Place(l.Offset)
				links = append(links, l)
			}
		}
		expectKey = len(nesting) > 0 && nesting[len(nesting)-1]
	}
}
