package playhost

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/andybalholm/brotli"
)

// host starts a host with one token.
func host(t *testing.T, change func(*Options)) (*Host, string) {
	t.Helper()
	o := Options{Data: t.TempDir(), Control: "127.0.0.1:0", Games: "127.0.0.1:0"}
	if change != nil {
		change(&o)
	}
	h, err := Start(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.Stop(time.Second) })
	token, err := h.MakeToken(context.Background(), "moth")
	if err != nil && !strings.Contains(err.Error(), "there is a token") {
		t.Fatal(err)
	}
	return h, token
}

func prefixes(list ...string) (all []netip.Prefix) {
	for _, p := range list {
		all = append(all, netip.MustParsePrefix(p))
	}
	return all
}

// ask makes a request, and reads its answer.
func ask(t *testing.T, method, address, token string, body io.Reader, headers ...string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequest(method, address, body)
	if err != nil {
		t.Fatal(err)
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	answer, err := (&http.Client{Transport: &http.Transport{DisableCompression: true}}).Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer, string(text)
}

// announced tells the host of an archive, and begins its upload.
func announced(t *testing.T, h *Host, token string, archive []byte) string {
	t.Helper()
	sum := sha256.Sum256(archive)
	words := fmt.Sprintf(
		`{"game": "lane", "title": "Lane", "version": "1", "sha256": "%s", "bytes": %d}`,
		hex.EncodeToString(sum[:]),
		len(archive),
	)
	r, text := ask(t, "POST", h.ControlURL()+"/api/builds", token, strings.NewReader(words))
	var in struct{ ID, Upload string }
	if json.Unmarshal([]byte(text), &in); r.StatusCode != 201 || in.ID == "" {
		t.Fatalf("%d %s", r.StatusCode, text)
	}
	if r, text := ask(t, "POST", h.ControlURL()+in.Upload, token, nil, "Upload-Length", fmt.Sprint(len(archive))); r.StatusCode != 201 {
		t.Fatalf("%d %s", r.StatusCode, text)
	}
	return in.ID
}

type shownBuild struct {
	State, Link string
	Problems    []Problem
}

func state(t *testing.T, h *Host, token, id string) shownBuild {
	t.Helper()
	_, text := ask(t, "GET", h.ControlURL()+"/api/builds/"+id, token, nil)
	var b shownBuild
	if err := json.Unmarshal([]byte(text), &b); err != nil {
		t.Fatalf("%v: %s", err, text)
	}
	return b
}

// sent uploads an archive whole.
func sent(t *testing.T, h *Host, token string, archive []byte) shownBuild {
	t.Helper()
	id := announced(t, h, token, archive)
	if r, text := ask(t, "PATCH", h.ControlURL()+"/api/builds/"+id+"/bytes", token, bytes.NewReader(archive), "Upload-Offset",
		"0"); r.StatusCode != 204 {
		t.Fatalf("%d %s", r.StatusCode, text)
	}
	return state(t, h, token, id)
}

func zipOf(t *testing.T, files ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(files); i += 2 {
		w, err := z.CreateHeader(&zip.FileHeader{Name: files[i], Method: zip.Deflate})
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, files[i+1])
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

const entry = "<!doctype html><title>Lane</title>"

// TestServed: a build comes as it was sent, with the right words around it.
func TestServed(t *testing.T) {
	h, token := host(t, nil)
	var packed bytes.Buffer
	w := brotli.NewWriter(&packed)
	io.WriteString(w, "lanterns")
	w.Close()
	b := sent(
		t,
		h,
		token,
		zipOf(
			t,
			"index.html",
			entry,
			"art/lane.png",
			"pixels",
			"lane.data.br",
			packed.String(),
			"a b/ä.js",
			"1",
			"play.wasm",
			"\x00asm\x01\x00\x00\x00\x05\x04\x01\x03\x01\x02",
		),
	)
	if b.State != Ready || !strings.HasPrefix(b.Link, h.GamesURL()+"/b/") {
		t.Fatalf("%+v", b)
	}
	for _, c := range []struct {
		path, accepts, body, kind, encoding string
		status                              int
	}{
		{"", "", entry, "text/html; charset=utf-8", "", 200}, {"index.html", "", entry, "text/html; charset=utf-8", "", 200},
		{"art/lane.png", "gzip", "pixels", "image/png", "", 200}, {"a%20b/%C3%A4.js", "", "1", "text/javascript; charset=utf-8", "", 200},
		{"lane.data.br", "gzip, br", packed.String(), "application/octet-stream", "br", 200},
		{"lane.data", "br", packed.String(), "application/octet-stream", "br", 200},
		{"lane.data", "gzip, br;q=0", "lanterns", "application/octet-stream", "", 200}, {"none.js", "", "", "", "", 404},
		{"Art/lane.png", "", "", "", "", 404},
	} {
		r, body := ask(t, "GET", b.Link+c.path, "", nil, "Accept-Encoding", c.accepts)
		if r.StatusCode != c.status {
			t.Errorf("%s: %d", c.path, r.StatusCode)
			continue
		}
		if c.status == 200 &&
			(body != c.body || r.Header.Get("Content-Type") != c.kind || r.Header.Get("Content-Encoding") != c.encoding ||
				r.Header.Get("Cross-Origin-Embedder-Policy") != "require-corp" || !strings.Contains(r.Header.Get("Cache-Control"), "immutable")) {
			t.Errorf("%s: %q %v", c.path, body, r.Header)
		}
	}
	r, body := ask(t, "GET", b.Link+"art/lane.png", "", nil, "Range", "bytes=2-3")
	if r.StatusCode != 206 || body != "xe" {
		t.Errorf("a range: %d %q", r.StatusCode, body)
	}
	if r, _ := ask(t, "GET", b.Link, "", nil, "If-None-Match", must(t, b.Link).Header.Get("Etag")); r.StatusCode != 304 {
		t.Errorf("what the browser has: %d", r.StatusCode)
	}
	for _, away := range []string{"/b/none/index.html", "/api/builds", "/healthz"} {
		if r, _ := ask(t, "GET", h.GamesURL()+away, token, nil); r.StatusCode != 404 {
			t.Errorf("%s on the games' origin: %d", away, r.StatusCode)
		}
	}
	again := sent(t, h, token, zipOf(t, "index.html", entry+"<p>", "art/lane.png", "pixels"))
	kept := 0
	filepath.Walk(filepath.Join(h.options.Data, "files"), func(_ string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			kept++
		}
		return nil
	})
	if again.State != Ready || again.Link == b.Link || kept != 8 {
		t.Errorf("%d contents are kept, want 6 and two archives: %+v", kept, again)
	}
}

func must(t *testing.T, address string) *http.Response {
	t.Helper()
	r, _ := ask(t, "GET", address, "", nil)
	return r
}

// TestHostile: archives that lie, escape, or unpack without end are refused, and nothing of them is served.
func TestHostile(t *testing.T) {
	h, token := host(t, nil)
	raw := func(f zip.FileHeader, data string) []byte {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		w, err := z.Create("index.html")
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, entry)
		f.CompressedSize64 = uint64(len(data))
		if w, err = z.CreateRaw(&f); err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, data)
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	link := zip.FileHeader{Name: "link.js", UncompressedSize64: 11, CRC32: crc32.ChecksumIEEE([]byte("/etc/passwd"))}
	link.SetMode(os.ModeSymlink | 0o777)
	for name, c := range map[string]struct {
		archive []byte
		says    string
	}{
		"no zip":        {[]byte("<html>not a zip</html>"), "not a zip"},
		"no entry page": {zipOf(t, "web/index.html", entry), "no index.html at the root"},
		"escape":        {zipOf(t, "index.html", entry, "../../evil.js", "1"), "leads out"},
		"absolute":      {zipOf(t, "index.html", entry, "/etc/cron", "1"), "leads out"},
		"other case":    {zipOf(t, "index.html", entry, "a.js", "1", "A.js", "2"), "twice"},
		"twice":         {zipOf(t, "index.html", entry, "index.html", "other"), "twice"},
		"a link":        {raw(link, "/etc/passwd"), "a link or a device"},
		"wrong sum":     {raw(zip.FileHeader{Name: "a.js", UncompressedSize64: 1, CRC32: 7}, "x"), "damaged"},
		"wrong size":    {raw(zip.FileHeader{Name: "a.js", UncompressedSize64: 900, CRC32: crc32.ChecksumIEEE([]byte("x"))}, "x"), "damaged"},
		"cut short":     {zipOf(t, "index.html", strings.Repeat(entry, 99))[:80], "not a zip"},
		"a backslash":   {zipOf(t, "index.html", entry, `a\b.js`, "1"), "can't be served"},
	} {
		b := sent(t, h, token, c.archive)
		if b.State != Refused || b.Link != "" || len(b.Problems) == 0 || !strings.Contains(fmt.Sprint(b.Problems), c.says) {
			t.Errorf("%s: %+v", name, b)
		}
	}
	for _, of := range []string{"uploads/*/*", "scratch/*"} {
		if left, err := filepath.Glob(filepath.Join(h.options.Data, of)); err != nil || len(left) > 0 {
			t.Errorf("archives are left: %v %v", left, err)
		}
	}
}

// TestUploads: an upload goes on where it was, over requests and restarts; what is not what was announced is refused.
func TestUploads(t *testing.T) {
	folder := t.TempDir()
	h, token := host(t, func(o *Options) { o.Data = folder })
	archive := zipOf(t, "index.html", entry, "noise.bin", strings.Repeat("light", 3000))
	id := announced(t, h, token, archive)
	bytesAt := func(h *Host) string { return h.ControlURL() + "/api/builds/" + id + "/bytes" }
	half := len(archive) / 2
	if r, text := ask(t, "PATCH", bytesAt(h), token, bytes.NewReader(archive[:half]), "Upload-Offset", "0"); r.StatusCode != 204 {
		t.Fatalf("%d %s", r.StatusCode, text)
	}
	if r, text := ask(t, "PATCH", bytesAt(h), token, bytes.NewReader(archive), "Upload-Offset", "0"); r.StatusCode != 409 ||
		!strings.Contains(text, fmt.Sprint(half)) {
		t.Errorf("at another offset: %d %s", r.StatusCode, text)
	}
	if err := h.Stop(time.Second); err != nil {
		t.Fatal(err)
	}
	h2, err := Start(Options{Data: folder, Control: "127.0.0.1:0", Games: "127.0.0.1:0"})
	if err != nil {
		t.Fatal(err)
	}
	defer h2.Stop(time.Second)
	if r, _ := ask(t, "HEAD", bytesAt(h2), token, nil); r.Header.Get("Upload-Offset") != fmt.Sprint(half) {
		t.Errorf("after a restart it is at %q", r.Header.Get("Upload-Offset"))
	}
	if r, text := ask(t, "PATCH", bytesAt(h2), token, bytes.NewReader(archive[half:]), "Upload-Offset",
		fmt.Sprint(half)); r.StatusCode != 204 {
		t.Errorf("%d %s", r.StatusCode, text)
	}
	if b := state(t, h2, token, id); b.State != Ready {
		t.Errorf("%+v", b)
	}
	id = announced(t, h2, token, archive)
	spoiled := bytes.Clone(archive)
	spoiled[half] ^= 1
	ask(t, "PATCH", bytesAt(h2), token, bytes.NewReader(spoiled), "Upload-Offset", "0")
	if b := state(t, h2, token, id); b.State != Refused || !strings.Contains(fmt.Sprint(b.Problems), "the sums differ") {
		t.Errorf("%+v", b)
	}
}

// TestKilledWhole: an archive that was here whole when the host was killed is verified when it runs again.
func TestKilledWhole(t *testing.T) {
	folder := t.TempDir()
	h, token := host(t, func(o *Options) { o.Data = folder })
	archive := zipOf(t, "index.html", entry)
	id := announced(t, h, token, archive)
	if n, _, err := h.keepPiece(t.Context(), &Build{ID: id, travels: int64(len(archive))}, 0, bytes.NewReader(archive)); err != nil ||
		int(n) != len(archive) { // it came, and nobody was told
		t.Fatal(n, err)
	}
	if err := h.Stop(time.Second); err != nil {
		t.Fatal(err)
	}
	h2, err := Start(Options{Data: folder, Control: "127.0.0.1:0", Games: "127.0.0.1:0"})
	if err != nil {
		t.Fatal(err)
	}
	defer h2.Stop(time.Second)
	if b := state(t, h2, token, id); b.State != Ready {
		t.Errorf("%+v", b)
	}
}

// TestOwners: who has no token gets nowhere, a revoked one is shut out at once, and nobody sees another's builds.
func TestOwners(t *testing.T) {
	h, moth := host(t, func(o *Options) { o.Quota = 400 })
	ctx := context.Background()
	other, err := h.MakeToken(ctx, "lamp")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.MakeToken(ctx, "lamp"); err == nil {
		t.Error("a name was given twice")
	}
	id := announced(t, h, moth, zipOf(t, "index.html", entry))
	for token, want := range map[string]int{"": 401, "shed-guess": 401, other: 404, moth: 200} {
		if r, _ := ask(t, "GET", h.ControlURL()+"/api/builds/"+id, token, nil); r.StatusCode != want {
			t.Errorf("%q: %d, want %d", token, r.StatusCode, want)
		}
	}
	if r, text := ask(t, "POST", h.ControlURL()+"/api/builds", moth,
		strings.NewReader(`{"game":"lane","title":"x","version":"1","sha256":"`+strings.Repeat("a", 64)+`","bytes":500}`)); r.StatusCode != 507 ||
		!strings.Contains(text, "go over your 400") {
		t.Errorf("over the quota: %d %s", r.StatusCode, text)
	}
	if err := h.RevokeToken(ctx, "moth"); err != nil {
		t.Fatal(err)
	}
	if r, _ := ask(t, "GET", h.ControlURL()+"/api/builds/"+id, moth, nil); r.StatusCode != 401 {
		t.Errorf("revoked: %d", r.StatusCode)
	}
	data, err := os.ReadFile(filepath.Join(h.options.Data, "host.db"))
	wal, _ := os.ReadFile(filepath.Join(h.options.Data, "host.db-wal"))
	if err != nil || bytes.Contains(append(data, wal...), []byte(other)) {
		t.Errorf("a token stands in the data: %v", err)
	}
	list, err := h.Tokens(ctx)
	if err != nil || len(list) != 2 || list[0].Revoked || !list[1].Revoked {
		t.Errorf("%+v %v", list, err)
	}
}

// FuzzUnpack reads archives that somebody else made.
func FuzzUnpack(f *testing.F) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, _ := z.Create("index.html")
	io.WriteString(w, entry)
	z.Close()
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		a, err := survey(t.Context(), bytes.NewReader(data), int64(len(data)))
		if err != nil {
			t.Skip() // a disk, or a form of zip that nobody writes
		}
		for _, f := range a.files {
			if badName(f.path) != "" {
				t.Errorf("took %q", f.path)
			}
		}
	})
}
