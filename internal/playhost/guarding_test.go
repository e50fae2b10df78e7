package playhost

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"havvel/internal/round"
)

// TestOwnOrigin: where each game has an origin of its own, a game is served on that alone, so that it reads nothing that another one saved.
func TestOwnOrigin(t *testing.T) {
	h, token := host(t, func(o *Options) { o.GamesURL = "http://*.games.example" })
	mine, other := opened(t, h, token, round.Opening{}), opened(t, h, token, round.Opening{})
	secret := func(o round.Opened) string {
		at := gameOf(t, o)
		return at[strings.LastIndex(strings.TrimSuffix(at, "/"), "/")+1 : len(at)-1]
	}
	get := func(name, path string) int {
		r, _ := http.NewRequest("GET", "http://"+h.options.Games+path, nil)
		r.Host = name
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return answer.StatusCode
	}
	a, b := secret(mine), secret(other)
	for name, want := range map[string]int{
		a + ".games.example": 200, strings.ToUpper(a) + ".games.example": 200, b + ".games.example": 421, "games.example": 421,
		a + ".games.example.evil.example": 421, "x." + a + ".games.example": 421,
	} {
		if s := get(name, "/p/"+a+"/"); s != want {
			t.Errorf("%s: %d, want %d", name, s, want)
		}
	}
}

// TestManyCookies: a game on the same domain that has browsers send as many cookies as they keep doesn't make the interface unreachable.
func TestManyCookies(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{})
	var cookies []string
	for i := range 170 {
		cookies = append(cookies, fmt.Sprintf("c%d=%s", i, strings.Repeat("x", 4000)))
	}
	cookies = append(cookies, "tester=forged", "round=forged")
	r, page := ask(t, "GET", o.Link, "", nil, "Cookie", strings.Join(cookies, "; "))
	if r.StatusCode != 200 || !strings.Contains(page, "const game") || r.Header.Get("Clear-Site-Data") != `"cookies"` {
		t.Errorf("%d %v", r.StatusCode, r.Header)
	}
	if r, _ := ask(t, "GET", o.Link, "", nil, "Cookie", "a=b"); r.Header.Get("Clear-Site-Data") != "" {
		t.Error("a few cookies are taken away")
	}
}

// contentFiles are the contents on a host's disk.
func contentFiles(t *testing.T, h *Host) (n int) {
	t.Helper()
	filepath.WalkDir(filepath.Join(h.options.Data, "files"), func(_ string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			n++
		}
		return nil
	})
	return n
}

// TestRefusedLeavesNothing: what is refused, or would be more than its owner may keep when it is unpacked, takes no room; and what comes back
// of rounds counts, too.
func TestRefusedLeavesNothing(t *testing.T) {
	h, token := host(t, func(o *Options) { o.Quota = 1 << 20 })
	for why, archive := range map[string][]byte{
		"no index.html": zipOf(t, "a.bin", strings.Repeat("a", 1000), "b.bin", "b"),
		"unpacked":      zipOf(t, "index.html", entry, "zeros.bin", strings.Repeat("\x00", 2<<20)),
	} {
		if b := sent(t, h, token, archive); b.State != Refused || !strings.Contains(fmt.Sprint(b.Problems), why) {
			t.Errorf("%s: %+v", why, b)
		}
	}
	if n := contentFiles(t, h); n != 0 {
		t.Errorf("%d contents of refused builds are kept", n)
	}
	o := opened(t, h, token, round.Opening{Record: true})
	_, session := begin(t, o.Link)
	r, text := ask(t, "PUT", o.Link+"/sessions/"+session+"/clip/1", "", bytes.NewReader(make([]byte, 900<<10)))
	if r.StatusCode != 200 {
		t.Fatal(r.StatusCode, text)
	}
	sum := strings.Repeat("ab", 32)
	r, text = ask(t, "POST", h.ControlURL()+"/api/builds", token,
		strings.NewReader(`{"game": "lane", "title": "Lane", "version": "9", "sha256": "`+sum+`", "bytes": 200000}`))
	if r.StatusCode != http.StatusInsufficientStorage {
		t.Errorf("with a clip of 900 KB: %d %s", r.StatusCode, text)
	}
}

// TestCollect: contents that no build holds go after a day, and those that one holds stay; one that comes again is there.
func TestCollect(t *testing.T) {
	clock := time.Now()
	h, token := host(t, func(o *Options) { o.Now = func() time.Time { return clock } })
	archive := zipOf(t, "index.html", entry, "lane.pack", strings.Repeat("lane", 500))
	first := sent(t, h, token, archive)
	second := sent(t, h, token, zipOf(t, "index.html", entry))
	if _, err := h.data.exec(t.Context(), "DELETE FROM files WHERE path = 'lane.pack'"); err != nil {
		t.Fatal(err)
	}
	before := contentFiles(t, h)
	if err := h.collect(t.Context()); err != nil || contentFiles(t, h) != before {
		t.Errorf("taken away at once: %v", err)
	}
	clock = clock.Add(25 * time.Hour)
	if err := h.collect(t.Context()); err != nil || contentFiles(t, h) != before-1 {
		t.Errorf("%d contents are left of %d (%v)", contentFiles(t, h), before, err)
	}
	third := sent(t, h, token, archive)
	for _, b := range []shownBuild{first, second, third} {
		if r, text := ask(t, "GET", b.Link, "", nil); r.StatusCode != 200 || text != entry {
			t.Errorf("%d %s", r.StatusCode, text)
		}
	}
	if r, text := ask(t, "GET", third.Link+"lane.pack", "", nil); r.StatusCode != 200 || len(text) != 2000 {
		t.Errorf("what came again: %d, %d bytes", r.StatusCode, len(text))
	}
}

// TestSlowOwner: an owner who reads an export slowly, and deletions meanwhile, hold nobody's events up.
func TestSlowOwner(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{})
	fill := func(sessions int) (list []string) {
		for range sessions {
			_, session := begin(t, o.Link)
			list = append(list, session)
			for n := 1; n < 400; n += 200 {
				var batch []string
				for i := range 200 {
					batch = append(batch, fmt.Sprintf(`{"n":%d,"at":1,"kind":"event","data":{"event":"x","text":%q}}`, n+i, strings.Repeat("w", 400)))
				}
				if s, text := sends(t, o, session, "["+strings.Join(batch, ",")+"]"); s != 200 {
					t.Fatal(s, text)
				}
			}
		}
		return list
	}
	list := fill(60)
	c, err := net.Dial("tcp", h.options.Control)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.(*net.TCPConn).SetReadBuffer(4096)
	fmt.Fprintf(c, "GET /api/rounds/%s/events HTTP/1.1\r\nHost: shed\r\nAuthorization: Bearer %s\r\n\r\n", o.ID, token)
	if _, err := bufio.NewReaderSize(c, 16).ReadString('\n'); err != nil {
		t.Fatal(err)
	}
	var slowest time.Duration
	for i, session := range list[:20] {
		began := time.Now()
		if s, text := sends(t, o, session, fmt.Sprintf(`[{"n":%d,"at":9,"kind":"left"}]`, ownFrom+1)); s != 200 {
			t.Fatal(s, text)
		}
		slowest = max(slowest, time.Since(began))
		if i%5 == 0 {
			began := time.Now()
			if r, _ := ask(t, "DELETE", o.Link+"/sessions/"+list[30+i], "", nil); r.StatusCode != 204 {
				t.Error(r.StatusCode)
			}
			if took := time.Since(began); took > 3*time.Second {
				t.Errorf("taking a session back takes %v while an owner reads", took)
			}
		}
	}
	if slowest > 3*time.Second { // the busy timeout of the database is ten
		t.Errorf("a batch of one event took %v", slowest)
	}
}

// log is what a host writes into its log.
type logged struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *logged) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *logged) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// TestNoAddresses: whatever visitors do, their address is not in the log, nor the secret of a link.
func TestNoAddresses(t *testing.T) {
	cert, key := certificateFiles(t)
	var log logged
	h, _ := host(t, func(o *Options) {
		o.Certificate, o.Key, o.Log = cert, key, slog.New(slog.NewJSONHandler(&log, nil))
	})
	c, err := net.Dial("tcp", h.options.Control)
	if err != nil {
		t.Fatal(err)
	}
	io.WriteString(c, "GET / HTTP/1.1\r\n\r\n") // no TLS
	io.Copy(io.Discard, c)
	c.Close()
	if c, err := tls.Dial("tcp", h.options.Control, &tls.Config{ServerName: "other.example"}); err == nil { // who does not believe it
		c.Close()
	}
	deadline := time.Now().Add(10 * time.Second)
	for !strings.Contains(log.String(), "TLS handshake error") && time.Now().Before(deadline) {
		time.Sleep(10 * time.Millisecond)
	}
	text := log.String()
	if !strings.Contains(text, "TLS handshake error") || strings.Contains(text, "127.0.0.1") {
		t.Errorf("the log says\n%s", text)
	}
}

// certificateFiles writes a certificate that nobody vouches for.
func certificateFiles(t *testing.T) (cert, key string) {
	t.Helper()
	s := httptest.NewTLSServer(nil)
	s.Close()
	pair := s.TLS.Certificates[0]
	der, err := x509.MarshalPKCS8PrivateKey(pair.PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	cert, key = filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	for name, b := range map[string]*pem.Block{
		cert: {Type: "CERTIFICATE", Bytes: pair.Certificate[0]}, key: {Type: "PRIVATE KEY", Bytes: der},
	} {
		if err := os.WriteFile(name, pem.EncodeToMemory(b), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return cert, key
}

// TestShares: games and pages are on one domain where a cookie of one reaches the other.
func TestShares(t *testing.T) {
	for _, c := range []struct{ control, games, want string }{
		{"https://shed.example", "https://*.shed.example", "shed.example"},
		{"https://test.shed.example", "https://games.shed.example", "shed.example"},
		{"https://shed.example", "https://shed.example:7441", "shed.example"},
		{"https://shed.example", "https://*.shed-games.example", ""},
		{"https://moor.co.uk", "https://thimble.co.uk", ""},
		{"http://127.0.0.1:7440", "http://127.0.0.1:7441", ""},
		{"http://192.0.2.1:7440", "http://192.0.2.1:7441", "192.0.2.1"},
	} {
		if got := shares(c.control, strings.Replace(c.games, "*", "game", 1)); got != c.want {
			t.Errorf("%s and %s share %q, want %q", c.control, c.games, got, c.want)
		}
	}
}
