package tests

import (
	"bytes"
	"context"
	"image"
	"image/png"
	"net/http"
	"path"
	"testing"

	"havvel/internal/demo/game"
	"havvel/internal/export"
	model "havvel/internal/hosting"
	"havvel/internal/rulebook"
	server "havvel/internal/serve"
)

// hostedNames are files of all kinds that games have.
var hostedNames = []string{
	"a.wasm",
	"b.js",
	"c.mjs",
	"d.css",
	"e.json",
	"f.png",
	"g.ogg",
	"h.woff2",
	"i.svg",
	"j.webmanifest",
	"b.js.gz",
	"a.wasm.gz",
	"d.css.br",
}

// hosted is what a file of that name may hold.
func hosted(t *testing.T, name string) []byte {
	t.Helper()
	inner, encoding := model.Plain(name)
	data := []byte("1")
	switch path.Ext(inner) {
	case ".wasm":
		data = []byte("\x00asm\x01\x00\x00\x00")
	case ".ogg":
		data = []byte("OggS")
	case ".woff2":
		data = []byte("wOF2")
	case ".png":
		var b bytes.Buffer
		if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, 8, 8))); err != nil {
			t.Fatal(err)
		}
		data = b.Bytes()
	}
	if encoding != "" {
		return squeezed(t, encoding, data)
	}
	return data
}

// conforms asks a host for files, and compares what comes with what the one model of hosts says.
func conforms(t *testing.T, address string, h model.Host, names []string) {
	t.Helper()
	for _, name := range names {
		want := h.Send(name)
		r, err := http.DefaultTransport.RoundTrip(browsers(t, address+name))
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		if kind := r.Header.Get("Content-Type"); r.StatusCode != 200 || kind != want.Type || r.Header.Get("Content-Encoding") != want.Encoding {
			t.Errorf("%s: %d %s %q, where %s %q was said", name, r.StatusCode, kind, r.Header.Get("Content-Encoding"), want.Type, want.Encoding)
		}
	}
	r, err := http.DefaultTransport.RoundTrip(browsers(t, address+"none.js"))
	if err != nil || r.StatusCode != model.Missing {
		t.Errorf("for a file that isn't there: %v %v", r, err)
	}
	r.Body.Close()
}

// browsers is a request as a browser makes it, of which nothing is unpacked on the way.
func browsers(t *testing.T, address string) *http.Request {
	t.Helper()
	r, err := http.NewRequest(http.MethodGet, address, nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Accept-Encoding", "gzip, br")
	return r
}

// TestHosting: havvel's own server sends what the one model of hosts says.
func TestHosting(t *testing.T) {
	folder := t.TempDir()
	files := game.Files{"index.html": []byte("<canvas></canvas>")}
	for _, name := range hostedNames {
		files[name] = hosted(t, name)
	}
	writeInto(t, folder, files)
	b, err := export.Read(context.Background(), folder)
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	for _, h := range []model.Host{model.Any, {}, {Encodings: []string{"gzip"}}} {
		s, err := server.Start(server.Config{Build: b, Rules: &rulebook.Rulebook{Serves: rulebook.Serves{Encodings: h.Encodings}}})
		if err != nil {
			t.Fatal(err)
		}
		conforms(t, s.Game, h, hostedNames)
		s.Close()
	}
}
