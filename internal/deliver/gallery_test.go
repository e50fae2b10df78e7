package deliver

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"havvel/internal/listing"
	"havvel/internal/logbook"
	"havvel/internal/pack"
	"havvel/internal/pictures"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// A shop is a server that takes builds by one of the gallery's interfaces.
type shop interface {
	http.Handler
	// got is what arrived whole, and how many versions were made of it.
	got() (data []byte, versions int)
	// shown reports whether a version was made public.
	shown() bool
}

// a hall is what all shops have.
type hall struct {
	mu       sync.Mutex
	data     []byte
	names    map[string]bool // of versions
	versions int
	live     bool
}

func (h *hall) shown() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.live
}

func (h *hall) got() ([]byte, int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.data, h.versions
}

const galleryKey = "studio:wick-and-oil-1"

// galleries are the rulebooks of docs/formats/rulebooks, each with a server written to the letter of its standard.
func galleries() map[string]func() shop {
	return map[string]func() shop{
		"resumable":   func() shop { return &resumableShop{} },
		"parts":       func() shop { return &partsShop{parts: map[string][]byte{}} },
		"oauth":       func() shop { return &oauthShop{pieces: map[string][]byte{}} },
		"device":      func() shop { return &deviceShop{} },
		"releases":    func() shop { return &releasesShop{} },
		"graphql":     func() shop { return &graphShop{} },
		"form":        func() shop { return &formShop{} },
		"xml":         func() shop { return &xmlShop{} },
		"job":         func() shop { return &jobShop{} },
		"signed":      func() shop { return &signedShop{} },
		"cloud":       func() shop { return &cloudShop{} },
		"message":     func() shop { return &messageShop{} },
		"digest":      func() shop { return &digestShop{} },
		"certificate": func() shop { return &putShop{} },
		"chunks":      func() shop { return &chunksShop{} },
		"events":      func() shop { return &eventsShop{} },
		"manifest":    func() shop { return &manifestShop{blobs: map[string][]byte{}} },
		"busy":        func() shop { return &busyShop{made: map[string]bool{}} },
		"page":        func() shop { return &pageShop{boards: map[string]string{}} },
		"visibility":  func() shop { return &visibilityShop{} },
		"tracks":      func() shop { return &tracksShop{} },
		"elsewhere":   func() shop { return &elsewhereShop{} },
	}
}

// gallery is a project that goes to a shop by its rulebook.
func gallery(t *testing.T, name string, s shop, serve func(http.Handler) *httptest.Server, key string) (*Courier, *project.Destination) {
	t.Helper()
	server := serve(s)
	t.Cleanup(server.Close)
	folder := t.TempDir()
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", "formats", "rulebooks", name+".toml"))
	if err != nil {
		t.Fatal(err)
	}
	rules := strings.Replace(string(text), "uploads.kelpwick.example", "localhost:"+server.URL[strings.LastIndex(server.URL, ":")+1:], 1)
	values := ""
	if name == "tracks" {
		values = "[to.x.values]\ngame_id = \"7\"\ntrack = \"early\"\n"
	}
	for file, text := range map[string]string{
		"x.toml": rules,
		project.Name: "[game]\ntitle = \"Tinderwick \\\"Lane\\\" & <Co>\"\nshort = \"lane\"\nversion = \"1\"\nexport = \"web\"\n[to.x]\nrulebook = " +
			"\"x.toml\"\naddress = \"" + server.URL + "\"\nkey = \"env:GALLERY_KEY\"\n" + values + "[listing]\ntagline = \"Light.\"\ntags = [\"night\", " +
			"\"puzzle\"]\nage = 6\n[listing.de]\ntagline = \"Zünde.\"\n[[statistic]]\nname = \"lanterns\"\nkeeps = \"highest\"\n",
	} {
		if err := os.WriteFile(filepath.Join(folder, file), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if os.Getenv("GALLERY_KEY") != key {
		keysOf(t, key)
	}
	p, err := project.Find(folder)
	if err != nil {
		t.Fatal(err)
	}
	c := &Courier{Project: p, Book: logbook.Open(folder), Report: progress.None, Now: time.Now}
	return c, p.To["x"]
}

// keysOf has a key, and the other secrets of the gallery, in the environment.
func keysOf(t *testing.T, key string) {
	t.Helper()
	t.Setenv("GALLERY_KEY", key)
	t.Setenv("X_SIGNING", "nine-lanterns-lit")
	t.Setenv("HAVVEL_KEYS", filepath.Join(t.TempDir(), "keys.json"))
}

// noise is a parcel with this many bytes, and a folder of files where that is handed over.
func noise(t *testing.T, version string, size int) (Parcel, []byte) {
	t.Helper()
	r := rand.New(rand.NewPCG(uint64(size), 7))
	data := make([]byte, size)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	path := filepath.Join(t.TempDir(), "lane.zip")
	if err := os.WriteFile(path, data, 0o644); err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(data)
	a := &pack.Archive{Path: path, Bytes: int64(size), SHA256: hex.EncodeToString(sum[:])}
	for i := range 40 {
		text := fmt.Appendf(nil, "file %d of %s", i, version)
		if i%2 == 0 {
			text = fmt.Appendf(nil, "file %d of all", i)
		}
		file := filepath.Join(t.TempDir(), "f")
		if err := os.WriteFile(file, text, 0o644); err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256(text)
		a.Files = append(a.Files, pack.Content{Name: fmt.Sprintf("a/%d.txt", i), Path: file, Bytes: int64(len(text)), SHA256: hex.EncodeToString(sum[:])})
	}
	return Parcel{Version: version, Fingerprint: "print-" + version, Archive: a}, data
}

// TestGallery: each interface of the gallery takes a version, whole and once, by its rulebook alone.
func TestGallery(t *testing.T) {
	for name, make := range galleries() {
		t.Run(name, func(t *testing.T) {
			s, serve, key := make(), httptest.NewServer, galleryKey
			if name == "certificate" {
				serve, key = withCertificate(t)
			}
			c, d := gallery(t, name, s, serve, key)
			codes := 0
			c.Prompt = func(address, code string) { codes++ }
			for i, version := range []string{"1", "2"} {
				size := 1 << 20
				if name == "parts" {
					size = 11 << 20
				}
				parcel, data := noise(t, version, size+i)
				status, err := c.Send(context.Background(), d, parcel)
				if err != nil {
					t.Fatalf("%s: %v", version, err)
				}
				if got, n := s.got(); !bytes.Equal(got, data) && name != "manifest" || n != i+1 {
					t.Fatalf("%d bytes of %d arrived, and %d versions", len(got), len(data), n)
				}
				after(t, name, s, c, d, status, i)
			}
			if name == "device" && codes != 1 {
				t.Errorf("%d log-ins were to be confirmed", codes)
			}
			leaks(t, c.Project.Folder, key)
		})
	}
}

// leaks looks for secrets in all files of a project.
func leaks(t *testing.T, folder, key string) {
	t.Helper()
	filepath.WalkDir(filepath.Join(folder, ".havvel"), func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil
		}
		text, err := os.ReadFile(path)
		if err != nil {
			t.Error(err)
		}
		_, secret, _ := strings.Cut(key, ":")
		for _, bad := range []string{secret, "access-", "refresh-", "signature=", "nine-lanterns"} {
			if bad != "" && strings.Contains(string(text), bad) {
				t.Errorf("%q stands in %s", bad, path)
			}
		}
		if info, err := e.Info(); strings.Contains(path, "uploads") && err == nil && info.Mode().Perm()&0o077 != 0 && !strings.HasSuffix(path, ".lock") {
			t.Errorf("%s can be read by others", path)
		}
		return nil
	})
}

// after is what comes after an upload, where the interface has more.
func after(t *testing.T, name string, s shop, c *Courier, d *project.Destination, status *Status, round int) {
	t.Helper()
	ctx := context.Background()
	state := func(now *Status, err error, want string) {
		t.Helper()
		if err != nil || now.State != want {
			t.Fatalf("state %+v, want %s: %v", now, want, err)
		}
	}
	switch name {
	case "resumable", "events", "xml":
		now, err := c.Ask(ctx, d, status.Delivery, 10*time.Second)
		state(now, err, rulebook.Draft)
	case "job":
		state(status, nil, rulebook.Draft)
	case "releases", "graphql", "busy":
		now, err := c.Publish(ctx, d, status.Delivery)
		state(now, err, rulebook.Public)
	}
	switch name {
	case "xml", "busy":
		list, err := c.Versions(ctx, d)
		if err != nil || len(list) < round+1 || list[0].Version != "1" {
			t.Errorf("versions: %v %v", list, err)
		}
		if busy, ok := s.(*busyShop); ok && len(list) != busy.listed() {
			t.Errorf("%d versions of %d are listed", len(list), busy.listed())
		}
	case "visibility":
		now, err := c.Do(ctx, d, status.Delivery, Submit, nil)
		state(now, err, rulebook.InReview)
		now, err = c.Do(ctx, d, now.Delivery, Recall, nil)
		state(now, err, rulebook.Draft)
		now, err = c.Do(ctx, d, now.Delivery, Testers, []string{"ann@moor.example"})
		state(now, err, rulebook.Draft)
		now, err = c.Do(ctx, d, now.Delivery, Stage, 10)
		state(now, err, rulebook.Draft)
		now, err = c.Do(ctx, d, now.Delivery, Schedule, time.Now().Add(time.Hour))
		state(now, err, rulebook.Scheduled)
		if said := strings.Join(s.(*visibilityShop).said, "; "); !strings.Contains(said, `{"testers":["ann@moor.example"]}`) ||
			!strings.Contains(said, `{"share":0.1}`) {
			t.Errorf("it was told %s", said)
		}
	case "page":
		page(t, s.(*pageShop), c, d, status, round)
	}
}

// leaf is what is to stand on the page of version 1 or 2, with one picture.
func leaf(t *testing.T, c *Courier, d *project.Destination, picture string) *Contents {
	t.Helper()
	p, err := listing.Read(c.Project, d, "1")
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "p.png")
	if err := os.WriteFile(file, []byte(picture), 0o644); err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256([]byte(picture))
	return &Contents{p, []*pictures.Cut{{Name: "cover", Number: 1, Type: "image/png", Path: file, Bytes: int64(len(picture)), SHA256: hex.EncodeToString(sum[:])}}}
}

// page fills in a page, changes one picture, and takes a leaderboard away.
func page(t *testing.T, s *pageShop, c *Courier, d *project.Destination, status *Status, round int) {
	t.Helper()
	read := func(picture string) *Contents { return leaf(t, c, d, picture) }
	ctx := context.Background()
	if round == 1 {
		c.Project.Statistics = nil
	}
	contents := read("one")
	if _, err := c.Fill(ctx, d, contents, status.Delivery, false); err != nil {
		t.Fatal(err)
	}
	c.Project.Listing.Tags = []string{"night", "puzzle", fmt.Sprint("lamp", round)}
	contents = read("one") // the picture stays, and its id with it
	if _, err := c.Fill(ctx, d, contents, status.Delivery, false); err != nil {
		t.Fatal(err)
	}
	de := c.Project.Listing.In["de"]
	de.Tagline = "Zünde!"
	if changed := c.LastPage(d).Changed(read("one")); !slices.Contains(changed, "tagline (de)") || len(changed) != 1 {
		t.Errorf("changed: %v", changed)
	}
	de.Tagline = "Zünde."
	if c.Unfilled(d, contents, status.Version) {
		t.Error("the page is filled in, and is said not to be")
	}
	want := fmt.Sprintf(`{"adult":false,"age":6,"pictures":[41],"tags":["night","puzzle","lamp%d"],"texts":{"de":{"tagline":"Zünde.","title":"Tinderwick \"Lane\" & <Co>"},"en":`, round)
	if got := s.last(); !strings.HasPrefix(got, want) {
		t.Errorf("the page is %s\nwant %s…", got, want)
	}
	if n := len(s.boards); n != 1-round {
		t.Errorf("%d leaderboards after round %d", n, round)
	}
}
