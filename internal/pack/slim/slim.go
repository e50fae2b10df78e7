// Package slim makes files smaller without changing what players see and hear: pictures keep every pixel, sounds every
// sample, texts their meaning. Which files, and whether it is wanted, is left to pack.
package slim

import (
	"bytes"
	"io"
	"path"
	"strings"

	"github.com/tdewolff/minify/v2"
	"github.com/tdewolff/minify/v2/html"
	"github.com/tdewolff/minify/v2/json"
	"github.com/tdewolff/minify/v2/svg"
)

// Version changes whenever the same content would become something else.
const Version = "2"

// A way makes a content smaller.
type way struct {
	how  string              // what it does, in words
	make func([]byte) []byte // returns nil where that can't be done with certainty
}

var (
	squeeze = "comments and spaces are left out"
	tags    = "texts and pictures beside the sound are left out"
	notes   = "the camera's notes and texts are left out"
	spaces  = way{"spaces are left out", text((&json.Minifier{KeepNumbers: true}).Minify)}
)

var (
	byStart = []struct {
		at    int
		start string
		way   way
	}{
		{0, pngSignature, way{"pixels are packed again, with a palette where they have few colours", png}},
		{0, "\xff\xd8\xff", way{notes, jpeg}},
		{8, "WEBP", way{notes, webp}},
		{0, "\x00asm", way{"what only debuggers read is left out", module}},
		{0, "ID3", way{tags, mp3}}, {8, "WAVE", way{tags, wav}}, {0, "fLaC", way{tags, flac}},
	}
	byEnding = map[string]way{
		".js": {squeeze, script}, ".mjs": {squeeze, script}, ".css": {squeeze, style},
		".html": {squeeze, page}, ".htm": {squeeze, page},
		".json": spaces, ".webmanifest": spaces, ".svg": {squeeze, text(svg.Minify)},
	}
)

// Content returns a smaller content that says the same, or data itself where there is none. The name tells what a text is.
func Content(name string, data []byte) []byte {
	w := wayOf(name, data)
	if w.make == nil {
		return data
	}
	if small := w.make(data); len(small) > 0 && len(small) < len(data) {
		return small
	}
	return data
}

// How says in words how Content makes a file of that name, which begins so, smaller; "" where it can't.
func How(name string, head []byte) string { return wayOf(name, head).how }

func wayOf(name string, data []byte) way {
	for _, s := range byStart {
		if len(data) >= s.at+len(s.start) && string(data[s.at:s.at+len(s.start)]) == s.start {
			return s.way
		}
	}
	return byEnding[strings.ToLower(path.Ext(name))]
}

// text minifies by the language's own minifier.
func text(f minify.MinifierFunc) func([]byte) []byte {
	return func(data []byte) []byte {
		var b bytes.Buffer
		if f(minify.New(), &b, bytes.NewReader(data), nil) != nil {
			return nil // it is not of that language, or of a newer form of it
		}
		return b.Bytes()
	}
}

// page leaves comments of its writer and spaces out of a page, as far as no program sees it: texts between elements stay, and so does what
// stands between the marks of planted scripts.
func page(data []byte) []byte {
	m := minify.New()
	m.AddFunc("text/css", entire(style))
	m.AddFunc("application/javascript", entire(script))
	m.Add("text/html", &html.Minifier{
		KeepComments: true, KeepDocumentTags: true, KeepEndTags: true, KeepQuotes: true, KeepDefaultAttrVals: true, KeepWhitespace: true,
	})
	small, err := m.Bytes("text/html", data)
	if err != nil {
		return nil
	}
	return small
}

// entire makes contents smaller as the minifier of pages wants it: what can't be made smaller goes through as it is.
func entire(w func([]byte) []byte) minify.MinifierFunc {
	return func(_ *minify.M, out io.Writer, in io.Reader, _ map[string]string) error {
		data, err := io.ReadAll(in)
		if err != nil {
			return err
		}
		if small := w(data); len(small) > 0 {
			data = small
		}
		_, err = out.Write(data)
		return err
	}
}
