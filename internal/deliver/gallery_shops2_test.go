package deliver

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

// cloudShop checks Signature Version 4.
type cloudShop struct{ putShop }

func (s *cloudShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	data, _ := io.ReadAll(r.Body)
	auth := r.Header.Get("Authorization")
	field := func(name string) string {
		_, rest, _ := strings.Cut(auth, name+"=")
		value, _, _ := strings.Cut(rest, ",")
		return value
	}
	scope := strings.SplitN(field("Credential"), "/", 2)
	headers := strings.Split(field("SignedHeaders"), ";")
	var canonical strings.Builder
	fmt.Fprintf(&canonical, "%s\n%s\n\n", r.Method, r.URL.EscapedPath())
	for _, name := range headers {
		v := r.Header.Get(name)
		if name == "host" {
			v = r.Host
		}
		fmt.Fprintf(&canonical, "%s:%s\n", name, v)
	}
	fmt.Fprintf(&canonical, "\n%s\n%x", strings.Join(headers, ";"), sha256.Sum256(data))
	sum := func(key []byte, text string) []byte {
		m := hmac.New(sha256.New, key)
		m.Write([]byte(text))
		return m.Sum(nil)
	}
	if len(scope) < 2 || !strings.HasSuffix(scope[1], "/north-1/builds/aws4_request") {
		out(w, 403, map[string]string{"error": "the signature's scope is " + auth})
		return
	}
	day := scope[1][:8]
	key := sum(sum(sum(sum([]byte("AWS4"+strings.TrimPrefix(galleryKey, "studio:")), day), "north-1"), "builds"), "aws4_request")
	toSign := fmt.Sprintf("AWS4-HMAC-SHA256\n%s\n%s\n%x", r.Header.Get("X-Amz-Date"), scope[1], sha256.Sum256([]byte(canonical.String())))
	if scope[0] != "studio" || field("Signature") != fmt.Sprintf("%x", sum(key, toSign)) {
		out(w, 403, map[string]string{"error": "the signature doesn't match"})
		return
	}
	r.Body = io.NopCloser(bytes.NewReader(data))
	s.putShop.ServeHTTP(w, r)
}

// digestShop wants HTTP Digest, by MD5 with qop=auth.
type digestShop struct{ putShop }

func (s *digestShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	values := map[string]string{}
	for part := range strings.SplitSeq(strings.TrimPrefix(r.Header.Get("Authorization"), "Digest "), ",") {
		name, v, _ := strings.Cut(strings.TrimSpace(part), "=")
		values[name] = strings.Trim(v, `"`)
	}
	sum := func(text string) string { return fmt.Sprintf("%x", md5.Sum([]byte(text))) }
	a1 := sum("studio:lane:" + strings.TrimPrefix(galleryKey, "studio:"))
	a2 := sum(r.Method + ":" + r.URL.Path)
	want := sum(strings.Join([]string{a1, "n1", values["nc"], values["cnonce"], "auth", a2}, ":"))
	if values["response"] != want {
		w.Header().Set("WWW-Authenticate", `Digest realm="lane", nonce="n1", qop="auth", algorithm=MD5`)
		w.WriteHeader(401)
		return
	}
	s.putShop.ServeHTTP(w, r)
}

// withCertificate serves to those who show a certificate; its path is the key.
func withCertificate(t *testing.T) (func(http.Handler) *httptest.Server, string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	own, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "studio.pem")
	text := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: own}), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: private})...)
	if err := os.WriteFile(path, text, 0o600); err != nil {
		t.Fatal(err)
	}
	return func(h http.Handler) *httptest.Server {
		server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if len(r.TLS.PeerCertificates) != 1 || !bytes.Equal(r.TLS.PeerCertificates[0].Raw, own) {
				w.WriteHeader(403)
				return
			}
			h.ServeHTTP(w, r)
		}))
		server.TLS = &tls.Config{ClientAuth: tls.RequireAnyClientCert}
		server.StartTLS()
		authority := filepath.Join(t.TempDir(), "authority.pem")
		if err := os.WriteFile(authority, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}), 0o600); err != nil {
			t.Fatal(err)
		}
		trust(t, server)
		return server
	}, path
}

// trust has all clients of this process believe a server's certificate.
func trust(t *testing.T, server *httptest.Server) {
	t.Helper()
	pool := x509.NewCertPool()
	pool.AddCert(server.Certificate())
	transport := http.DefaultTransport.(*http.Transport)
	before := transport.TLSClientConfig
	transport.TLSClientConfig = &tls.Config{RootCAs: pool}
	t.Cleanup(func() { transport.TLSClientConfig = before })
}

// chunksShop takes ranges, and the same once more as numbered form fields.
type chunksShop struct {
	hall
	upload []byte
	mirror [][]byte
	names  map[string]bool
}

func (s *chunksShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.Method == "POST" {
		f, _, err := r.FormFile("data")
		total, _ := strconv.Atoi(r.FormValue("total"))
		index, bad := strconv.Atoi(r.FormValue("index"))
		if err != nil || bad != nil || index >= total {
			out(w, 400, map[string]string{"error": "no such part"})
			return
		}
		data, _ := io.ReadAll(f)
		if len(s.mirror) != total {
			s.mirror = make([][]byte, total)
		}
		s.mirror[index] = data
		if !slices.ContainsFunc(s.mirror, func(p []byte) bool { return p == nil }) && bytes.Equal(slices.Concat(s.mirror...), s.upload) {
			if s.names == nil {
				s.names = map[string]bool{}
			}
			s.keep(s.upload, s.names[r.URL.Path+fmt.Sprint(len(s.upload))])
			s.names[r.URL.Path+fmt.Sprint(len(s.upload))] = true
		}
		return
	}
	data, err := io.ReadAll(r.Body)
	if err != nil {
		return
	}
	ranges := r.Header.Get("Content-Range")
	if ranges == "" {
		var v struct{ Bytes int }
		json.Unmarshal(data, &v)
		if len(s.upload) != v.Bytes {
			s.upload, s.mirror = make([]byte, v.Bytes), nil
		}
		out(w, 201, map[string]any{"id": 3})
		return
	}
	var begin, end, total int
	if n, _ := fmt.Sscanf(ranges, "bytes %d-%d/%d", &begin, &end, &total); n != 3 || total != len(s.upload) || end-begin+1 != len(data) {
		out(w, 416, map[string]string{"error": "bad range " + ranges})
		return
	}
	copy(s.upload[begin:], data)
	w.WriteHeader(202)
}

// eventsShop tells states as they come.
type eventsShop struct{ putShop }

func (s *eventsShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	if r.Method == "PUT" {
		s.putShop.ServeHTTP(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	for _, text := range []string{": beat\n\n", "event: state\ndata: {\"to\":\"waiting\"}\n\n", "event: state\r\ndata: {\"to\":\r\ndata: \"ready\"}\r\n\r\n"} {
		io.WriteString(w, text)
		w.(http.Flusher).Flush()
		time.Sleep(20 * time.Millisecond)
	}
	<-r.Context().Done() // the stream goes on
}

// manifestShop wants only what it doesn't have.
type manifestShop struct {
	hall
	wants map[string]string
	blobs map[string][]byte
	puts  int
	names map[string]bool
}

func (s *manifestShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	data, err := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	missing := func() []string {
		list := []string{}
		for sum := range s.wants {
			if s.blobs[sum] == nil {
				list = append(list, sum)
			}
		}
		return list
	}
	switch {
	case err != nil:
	case strings.HasPrefix(r.URL.Path, "/blobs/"):
		if fmt.Sprintf("%x", sha256.Sum256(data)) != last(r.URL.Path) {
			out(w, 422, map[string]string{"error": "damaged"})
			return
		}
		if s.blobs[last(r.URL.Path)] != nil {
			s.puts += 1000 // it was there
		}
		s.blobs[last(r.URL.Path)] = data
		s.puts++
	case strings.HasSuffix(r.URL.Path, "/done"):
		if len(missing()) > 0 {
			out(w, 409, map[string]string{"error": "files are missing"})
			return
		}
		if s.names == nil {
			s.names = map[string]bool{}
		}
		s.keep(nil, s.names[r.URL.Path])
		s.names[r.URL.Path] = true
		out(w, 200, map[string]any{"id": "m"})
	default:
		var v struct {
			Files []struct{ Path, Sha256 string }
		}
		json.Unmarshal(data, &v)
		s.wants = map[string]string{}
		for _, f := range v.Files {
			s.wants[f.Sha256] = f.Path
		}
		out(w, 201, map[string]any{"missing": missing()})
	}
}

// busyShop is busy, knows idempotency keys, lists in pages, and wants entity tags.
type busyShop struct {
	hall
	asked int
	made  map[string]bool
	names []string
	etag  int
}

func (s *busyShop) listed() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.names)
}

func (s *busyShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/page" {
		w.Header().Set("Content-Type", "text/html")
		io.WriteString(w, "<!doctype html><title>Lane</title>")
		return
	}
	if !let(w, r) {
		return
	}
	data, err := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.asked++; s.asked%4 == 1 {
		w.Header().Set("Retry-After", []string{"1", time.Now().Add(2 * time.Second).UTC().Format(http.TimeFormat)}[s.asked/4%2])
		out(w, []int{429, 403, 503}[s.asked/4%3], map[string]string{"error": "slow down"})
		return
	}
	switch {
	case err != nil:
	case r.Method == "POST":
		var v struct{ Version string }
		json.Unmarshal(data, &v)
		id := slices.Index(s.names, v.Version)
		if id >= 0 && !s.made[r.Header.Get("Idempotency-Key")] {
			out(w, 409, map[string]string{"problem": "it is there"})
			return
		}
		if id < 0 {
			s.names, s.made[r.Header.Get("Idempotency-Key")] = append(s.names, v.Version), true
			s.versions++
			id = len(s.names) - 1
		}
		out(w, 201, map[string]any{"id": id})
	case strings.HasSuffix(r.URL.Path, "/zip"):
		s.data = data
	case r.URL.Path == "/versions":
		page, _ := strconv.Atoi(r.URL.Query().Get("page"))
		list := []any{}
		if page < len(s.names) {
			list = append(list, map[string]any{"version": s.names[page], "state": "ready", "id": page})
		}
		if page+1 < len(s.names) {
			w.Header().Set("Link", fmt.Sprintf(`</versions?page=%d>; rel=next`, page+1))
		}
		out(w, 200, map[string]any{"versions": list})
	case r.Method == "GET":
		w.Header().Set("ETag", fmt.Sprintf(`"%d"`, s.etag))
		out(w, 200, map[string]any{})
	case r.Header.Get("If-Match") != fmt.Sprintf(`"%d"`, s.etag):
		out(w, 412, map[string]string{"error": "it has changed"})
	default:
		s.etag++
		out(w, 200, map[string]any{"state": "live", "page": "http://" + r.Host + "/page"})
	}
}

// pageShop has a page, pictures and leaderboards.
type pageShop struct {
	putShop
	page   string
	boards map[string]string
}

func (s *pageShop) last() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.page
}

func (s *pageShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	if strings.HasPrefix(r.URL.Path, "/builds/") {
		s.putShop.ServeHTTP(w, r)
		return
	}
	data, _ := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case r.URL.Path == "/page":
		var v any
		json.Unmarshal(data, &v)
		var text bytes.Buffer
		e := json.NewEncoder(&text)
		e.SetEscapeHTML(false)
		e.Encode(v)
		s.page = text.String()
	case r.Method == "DELETE":
		delete(s.boards, last(r.URL.Path))
		w.WriteHeader(204)
	case strings.HasPrefix(r.URL.Path, "/boards/"):
		s.boards[last(r.URL.Path)] = string(data)
	default:
		out(w, 201, map[string]any{"id": 41})
	}
}

// visibilityShop shows a build to some.
type visibilityShop struct {
	putShop
	said []string
}

func (s *visibilityShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	if r.Method == "PUT" && strings.Count(r.URL.Path, "/") == 2 {
		s.putShop.ServeHTTP(&quiet{w}, r)
		out(w, 200, map[string]any{"id": 6, "state": "ready"})
		return
	}
	data, _ := io.ReadAll(r.Body)
	state := "ready"
	switch what := last(r.URL.Path); {
	case what == "review" && r.Method == "PUT":
		state = "queued"
	case strings.Contains(string(data), `"at"`):
		state = "planned"
	case strings.Contains(string(data), `"share"`):
		state = "few"
	}
	s.said = append(s.said, string(data))
	out(w, 200, map[string]any{"state": state, "review": []any{}})
}

// tracksShop has a game by its own number, tracks, and two builds of a version.
type tracksShop struct{ putShop }

func (s *tracksShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	if !strings.HasPrefix(r.URL.Path, "/games/7/tracks/early/") ||
		!strings.Contains(r.URL.Path, "/releases/") && r.Header.Get("X-Signing") != "nine-lanterns-lit" {
		out(w, 404, map[string]string{"error": "no such track"})
		return
	}
	if strings.Contains(r.URL.Path, "/releases/") {
		if v := in(r); fmt.Sprint(v["builds"]) != "[web phone]" {
			out(w, 422, map[string]string{"error": fmt.Sprint("no such builds: ", v)})
			return
		}
		s.versions = 0 // two builds are one version
		for path := range s.names {
			if strings.Contains(path, "/web/") {
				s.versions++
			}
		}
		out(w, 201, map[string]any{"id": "r"})
		return
	}
	s.putShop.ServeHTTP(&quiet{w}, r)
	out(w, 201, map[string]any{"id": strings.Split(r.URL.Path, "/")[5]})
}

// elsewhereShop takes uploads at another name of this machine.
type elsewhereShop struct{ putShop }

func (s *elsewhereShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	if strings.HasPrefix(r.Host, "localhost") {
		s.putShop.ServeHTTP(w, r)
		return
	}
	port := (&url.URL{Host: r.Host}).Port()
	out(w, 200, map[string]any{"upload": "http://localhost:" + port + r.URL.Path})
}
