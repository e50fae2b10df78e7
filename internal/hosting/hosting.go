// Package hosting is the one model of how a host serves the files of a game: under which type, with which encoding, isolated or not,
// and what it answers for a file that isn't there. What serves files asks it, and so does what judges them.
package hosting

import (
	"maps"
	"net/http"
	"path"
	"slices"
	"strings"

	coding "havvel/internal/export/encoding"
)

// A Host is how one host serves files.
type Host struct {
	Encodings []string // that it sends with Content-Encoding for files whose names say so: "gzip", "br"
	Isolation bool     // sends the headers that threads of WebAssembly need
}

// Any is a host that serves every encoding, as the one that an engine's own preview has.
var Any = Host{Encodings: []string{"gzip", "br"}}

// A Sent is how a file comes.
type Sent struct {
	Type     string // with its charset
	Encoding string // "" for none
}

// Plain is a name without the ending of its encoding, and which that is; a name without one comes back as it is.
func Plain(name string) (inner, encoding string) {
	inner, encoding = coding.Named(name)
	if path.Ext(inner) == "" {
		return name, ""
	}
	return inner, encoding
}

// Serves reports whether the host sends Content-Encoding for files of an encoding.
func (h Host) Serves(encoding string) bool { return slices.Contains(h.Encodings, encoding) }

// Send says how a file of that name comes. A host goes by names alone: what is compressed under any other name comes as it is, and what
// isn't comes as if it were.
func (h Host) Send(name string) Sent {
	inner, named := Plain(name)
	switch {
	case named == "":
		return Sent{Type: TypeOf(name)}
	case h.Serves(named):
		return Sent{TypeOf(inner), named}
	}
	return Sent{Type: unknown}
}

// Isolate sets the headers of cross-origin isolation, where the host sends them (HTML standard, section 7.1.3).
func (h Host) Isolate(head http.Header) {
	if h.Isolation {
		head["Cross-Origin-Opener-Policy"], head["Cross-Origin-Embedder-Policy"] = opener, embedder
	}
}

// Isolated reports whether headers isolate a page.
func Isolated(head http.Header) bool {
	return head.Get("Cross-Origin-Opener-Policy") == opener[0] && head.Get("Cross-Origin-Embedder-Policy") != ""
}

// Missing is the status that hosts answer for a file that isn't there: none sends the entry page in its place.
const Missing = http.StatusNotFound

var opener, embedder = []string{"same-origin"}, []string{"require-corp"}

const unknown = "application/octet-stream"

// types are those that browsers want to be told. The system's own table differs from machine to machine, and is not asked.
var types = map[string]string{
	".html": "text/html; charset=utf-8", ".htm": "text/html; charset=utf-8", ".js": "text/javascript; charset=utf-8",
	".mjs": "text/javascript; charset=utf-8",
	".css": "text/css; charset=utf-8", ".json": "application/json", ".wasm": "application/wasm", ".svg": "image/svg+xml",
	".ogg": "audio/ogg", ".mp3": "audio/mpeg",
	".wav": "audio/wav", ".m4a": "audio/mp4", ".flac": "audio/flac", ".opus": "audio/ogg", ".webm": "video/webm", ".mp4": "video/mp4",
	".webp": "image/webp", ".avif": "image/avif",
	".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".gif": "image/gif", ".bmp": "image/bmp", ".ico": "image/x-icon",
	".ttf": "font/ttf", ".otf": "font/otf", ".woff": "font/woff", ".woff2": "font/woff2",
	".txt": "text/plain; charset=utf-8", ".xml": "application/xml", ".csv": "text/csv; charset=utf-8", ".pdf": "application/pdf",
	".webmanifest": "application/manifest+json", ".gz": "application/gzip", ".br": "application/octet-stream",
}

// Types are the content types of files, by their endings.
func Types() map[string]string { return maps.Clone(types) }

// TypeOf is the content type under which a file of that name is served.
func TypeOf(name string) string {
	ending := strings.ToLower(path.Ext(name))
	if t, ok := types[ending]; ok {
		return t
	}
	return unknown
}
