package objects

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/sitetest"
)

func TestConforms(t *testing.T) {
	store := s3mem.New()
	if err := store.CreateBucket("lane-bucket"); err != nil {
		t.Fatal(err)
	}
	host := httptest.NewServer(gofakes3.New(store).Server())
	defer host.Close()
	address, _ := url.Parse(host.URL + "/lane-bucket/games")
	s, err := Open(context.Background(), address, Login{ID: "moth", Secret: "wick-and-oil", Region: "lane-1"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	sitetest.Conforms(t, s)
}

// TestCertificate: a host whose certificate nobody vouches for is not asked anything.
func TestCertificate(t *testing.T) {
	asked := false
	host := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked = true }))
	defer host.Close()
	address, _ := url.Parse(host.URL + "/lane-bucket/games")
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	s, err := Open(ctx, address, Login{ID: "moth", Secret: "wick-and-oil"})
	if err == nil {
		if _, err = site.Read(ctx, s, "index.json"); err == nil {
			t.Error("any certificate was taken")
		}
	}
	if asked {
		t.Error("the host was asked, though its certificate is not valid")
	}
}
