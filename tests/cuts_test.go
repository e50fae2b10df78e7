//go:build unix

package tests

import (
	"context"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
	"time"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/objects"
	"havvel/internal/deliver/site/sftp"
	"havvel/internal/deliver/site/sitetest"
	"havvel/internal/deliver/site/webdav"
	"havvel/internal/progress"
)

// TestSiteCuts sends and publishes on real servers while connections are cut after any number of bytes, 500 rounds in all:
// players get one whole version after each, the one before or the new one.
func TestSiteCuts(t *testing.T) {
	openers := map[string]func(ctx context.Context, h *machine, address string) (site.Store, error){
		"sftp": func(ctx context.Context, h *machine, address string) (site.Store, error) {
			return sftp.Open(ctx, address, h.root, sftp.Login{User: guest})
		},
		"webdav": func(ctx context.Context, _ *machine, address string) (site.Store, error) {
			return webdav.Open(ctx, &url.URL{Scheme: "http", Host: address, Path: "/lane"}, "moth", guestPassword, "")
		},
		"objects": func(ctx context.Context, _ *machine, address string) (site.Store, error) {
			return objects.Open(ctx, &url.URL{Scheme: "http", Host: address, Path: "/lanes/tinderwick"}, objects.Login{ID: "moth", Secret: guestPassword})
		},
	}
	for name, rounds := range map[string]int{"sftp": 170, "webdav": 270, "objects": 60} {
		t.Run(name, func(t *testing.T) {
			if name != "sftp" { // which needs an environment of its own
				t.Parallel()
			}
			h := machines[name](t)
			through := h.behind(t)
			if name == "sftp" {
				t.Setenv("HOME", strings.TrimPrefix(h.env[0], "HOME="))
				t.Setenv("SSH_AUTH_SOCK", "")
			}
			editions, now, cuts, n := map[string]site.Parcel{}, "", 0, 0
			for range rounds {
				p := sitetest.Edition(n)
				editions[p.Folder] = p
				through.cut.Store(int64(1 + rand.N(24_000)))
				err := once(func(ctx context.Context) (site.Store, error) { return openers[name](ctx, h, through.address) }, p)
				switch is := sitetest.Current(t, h.root, editions); {
				case is != now && is != p.Folder:
					t.Fatalf("players get %q after %q and %q", is, now, p.Folder)
				case err == nil && is != p.Folder:
					t.Fatalf("%s was said to be public, and players get %q", p.Folder, is)
				default:
					now = is
				}
				if err != nil {
					cuts++
					continue // the same edition once more
				}
				n++
			}
			through.cut.Store(0)
			p := sitetest.Edition(n)
			editions[p.Folder] = p
			if err := once(func(ctx context.Context) (site.Store, error) { return openers[name](ctx, h, through.address) }, p); err != nil ||
				sitetest.Current(t, h.root, editions) != p.Folder {
				t.Errorf("without cuts: %v", err)
			}
			t.Logf("%d rounds: %d were cut, %d editions became public", rounds, cuts, n)
			if cuts < rounds/10 || n == 0 {
				t.Errorf("of %d rounds %d were cut, and %d editions became public", rounds, cuts, n)
			}
		})
	}
}

// once sends an edition and makes it current, on one connection.
func once(open func(context.Context) (site.Store, error), p site.Parcel) error {
	ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
	defer stop()
	store, err := open(ctx)
	if err != nil {
		return err
	}
	defer store.Close()
	s := site.New(store, 3, "moth")
	s.Patience = 20 * time.Millisecond
	if _, err := s.Send(ctx, p, progress.None); err != nil {
		return err
	}
	_, err = s.Switch(ctx, p.Folder, false)
	return err
}
