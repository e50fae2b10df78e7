package webdav

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"

	server "golang.org/x/net/webdav"

	"havvel/internal/deliver/site/sitetest"
)

func handler(t *testing.T) http.Handler {
	h := &server.Handler{FileSystem: server.Dir(t.TempDir()), LockSystem: server.NewMemLS()}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, ok := r.BasicAuth(); !ok || user != "moth" || password != "wick-and-oil" {
			w.Header().Set("WWW-Authenticate", `Basic realm="lane"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		h.ServeHTTP(w, r)
	})
}

func TestConforms(t *testing.T) {
	host := httptest.NewServer(handler(t))
	defer host.Close()
	address, _ := url.Parse(host.URL + "/lane/")
	s, err := Open(context.Background(), address, "moth", "wick-and-oil", "")
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	sitetest.Conforms(t, s)
}

// TestCertificate: a host whose certificate nobody vouches for gets no password.
func TestCertificate(t *testing.T) {
	asked := false
	host := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked = true }))
	defer host.Close()
	host.Config.ErrorLog = nil
	address, _ := url.Parse(host.URL + "/lane/")
	if s, err := Open(context.Background(), address, "moth", "wick-and-oil", ""); err == nil {
		if _, err = s.List(context.Background(), "versions"); err == nil {
			t.Error("any certificate was taken")
		}
	}
	if asked {
		t.Error("the host was asked, though its certificate is not valid")
	}
}
