package objects

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"
)

// TestCertificate: a host whose certificate nobody vouches for is not asked anything.
func TestCertificate(t *testing.T) {
	asked := false
	host := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked = true }))
	defer host.Close()
	address, _ := url.Parse(host.URL + "/lane-bucket/games")
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	s, err := Open(ctx, address, "moth", "wick-and-oil")
	if err == nil {
		if _, err = s.Read(ctx, "index.json"); err == nil {
			t.Error("any certificate was taken")
		}
	}
	if asked {
		t.Error("the host was asked, though its certificate is not valid")
	}
}
