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
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
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

// signedShop wants a signature of time, path and body.
type signedShop struct{ putShop }

func (s *signedShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	data, _ := io.ReadAll(r.Body)
	at, _ := strconv.ParseInt(r.Header.Get("X-Time"), 10, 64)
	mac := hmac.New(sha256.New, []byte(strings.TrimPrefix(galleryKey, "studio:")))
	fmt.Fprintf(mac, "PUT\n%s\n%d\n%x", r.URL.Path, at, sha256.Sum256(data))
	if r.Header.Get("X-Signature") != fmt.Sprintf("%x", mac.Sum(nil)) || time.Since(time.Unix(at, 0)) > time.Minute || r.Header.Get("X-Id") != "studio" {
		out(w, 403, map[string]string{"error": "the signature doesn't match"})
		return
	}
	r.Body = io.NopCloser(strings.NewReader(string(data)))
	s.putShop.ServeHTTP(w, r)
}

// messageShop checks signatures by RFC 9421.
type messageShop struct{ putShop }

var covered = regexp.MustCompile(`^sig=(\((.*)\);created=\d+;keyid="studio";alg="hmac-sha256")$`)

func (s *messageShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	data, _ := io.ReadAll(r.Body)
	sum := sha256.Sum256(data)
	m := covered.FindStringSubmatch(r.Header.Get("Signature-Input"))
	if m == nil || m[2] != `"@method" "@target-uri" "content-digest"` || r.Header.Get("Content-Digest") != "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":" {
		out(w, 401, map[string]string{"error": "no signature"})
		return
	}
	base := fmt.Sprintf("\"@method\": PUT\n\"@target-uri\": http://%s%s\n\"content-digest\": %s\n\"@signature-params\": %s", r.Host, r.URL.Path, r.Header.Get("Content-Digest"), m[1])
	mac := hmac.New(sha256.New, []byte(strings.TrimPrefix(galleryKey, "studio:")))
	mac.Write([]byte(base))
	if r.Header.Get("Signature") != "sig=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":" {
		out(w, 401, map[string]string{"error": "the signature doesn't match"})
		return
	}
	r.Body = io.NopCloser(strings.NewReader(string(data)))
	s.putShop.ServeHTTP(w, r)
}
