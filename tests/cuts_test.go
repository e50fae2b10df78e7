//go:build unix

package tests

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/objects"
	"havvel/internal/deliver/site/sftp"
	"havvel/internal/deliver/site/webdav"
	"havvel/internal/progress"
)

type held struct{ *bytes.Reader }

func (held) Close() error { return nil }

// edition is a version of a few files, which say which it is of.
func edition(n int) site.Parcel {
	p := site.Parcel{Folder: fmt.Sprintf("0.%d.0-abcdef%04d", n, n), Version: fmt.Sprintf("0.%d.0", n), Fingerprint: fmt.Sprint(n)}
	for name, text := range map[string]string{"index.html": fmt.Sprintf("edition %d", n), "data/lane.pack": strings.Repeat(fmt.Sprint("lane", n), 2000), "rules.wasm": "always the same"} {
		data := []byte(text)
		sum := sha256.Sum256(data)
		p.Files = append(p.Files, site.File{Name: name, Bytes: int64(len(data)), SHA256: hex.EncodeToString(sum[:]), Open: func() (io.ReadSeekCloser, error) { return held{bytes.NewReader(data)}, nil }})
	}
	return p
}

// current is the edition that players get from a host's disk; it fails unless that is whole.
func current(t *testing.T, root string, editions map[string]site.Parcel) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(root, "havvel.json"))
	if err != nil {
		return ""
	}
	var x site.Index
	if err := json.Unmarshal(data, &x); err != nil {
		t.Fatalf("havvel.json is half: %v\n%s", err, data)
	}
	for _, f := range editions[x.Current].Files {
		data, err := os.ReadFile(filepath.Join(root, "versions", x.Current, filepath.FromSlash(f.Name)))
		sum := sha256.Sum256(data)
		if err != nil || hex.EncodeToString(sum[:]) != f.SHA256 {
			t.Fatalf("%s of the current edition %s is not whole (%v)", f.Name, x.Current, err)
		}
	}
	return x.Current
}

// TestSiteCuts sends and publishes on real servers while connections are cut after any number of bytes, 500 rounds in all:
// players get one whole version after each, the one before or the new one.
func TestSiteCuts(t *testing.T) {
	openers := map[string]func(ctx context.Context, h *machine, address string) (site.Store, error){
		"sftp": func(ctx context.Context, h *machine, address string) (site.Store, error) {
			return sftp.Open(ctx, address, h.root, sftp.Login{User: guest})
		},
		"webdav": func(ctx context.Context, _ *machine, address string) (site.Store, error) {
			return webdav.Open(ctx, &url.URL{Scheme: "http", Host: address, Path: "/lane"}, "moth", guestPassword)
		},
		"objects": func(ctx context.Context, _ *machine, address string) (site.Store, error) {
			return objects.Open(ctx, &url.URL{Scheme: "http", Host: address, Path: "/lanes/tinderwick"}, "moth", guestPassword)
		},
	}
	for name, rounds := range map[string]int{"sftp": 170, "webdav": 270, "objects": 60} {
		t.Run(name, func(t *testing.T) {
			if name != "sftp" { // which needs an environment of its own
				t.Parallel()
			}
			h := machines[name](t)
			through := newRelay(t, "127.0.0.1:"+h.port)
			if name == "sftp" {
				home := strings.TrimPrefix(h.env[0], "HOME=")
				known, _ := os.ReadFile(filepath.Join(home, ".ssh", "known_hosts"))
				put(t, filepath.Join(home, ".ssh", "known_hosts"), strings.Replace(string(known), ":"+h.port, through.address[len("127.0.0.1"):], 1))
				t.Setenv("HOME", home)
				t.Setenv("SSH_AUTH_SOCK", "")
			}
			editions, now, cuts, n := map[string]site.Parcel{}, "", 0, 0
			for range rounds {
				p := edition(n)
				editions[p.Folder] = p
				through.cut.Store(int64(1 + rand.N(24_000)))
				err := once(func(ctx context.Context) (site.Store, error) { return openers[name](ctx, h, through.address) }, p)
				switch is := current(t, h.root, editions); {
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
			p := edition(n)
			editions[p.Folder] = p
			if err := once(func(ctx context.Context) (site.Store, error) { return openers[name](ctx, h, through.address) }, p); err != nil || current(t, h.root, editions) != p.Folder {
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
	return s.Switch(ctx, p.Folder)
}
