package deliver

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"havvel/internal/deliver/portal"
	"havvel/internal/fault"
	"havvel/internal/logbook"
	"havvel/internal/pack"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// rules is a rulebook that a user could write for a portal that nobody has seen.
const rules = `
format = "havvel-rulebook/2"
name   = "Reedhouse"
keep   = ["ticket"]
[archive]
hand_over = "zip"
[key]
where = "the rushes"
[refusal]
words = ["/why"]
key   = [403]
[states]
"in line" = "in review"
fine      = "draft"
shown     = "public"
no        = "refused"
[[send]]
step    = "bring"
method  = "POST"
address = "{address}/bring?as={version}"
headers = { X-Key = "{key}" }
expect  = [200]
take    = { ticket = "header X-Ticket", state = "/now" }
[[send.part]]
name = "zip"
file = "archive"
type = "application/zip"
[[follow]]
step    = "ask"
method  = "GET"
address = "{address}/ask/{ticket}"
expect  = [200]
take    = { state = "/now", reasons = "$.why[*]", draft = "/peek", link = "/link" }
[[publish]]
step    = "show"
method  = "PUT"
address = "{address}/show/{ticket}"
form    = { note = "version {version}" }
expect  = [204]
`

// reedhouse is the portal: now is what it says of every ticket.
type reedhouse struct {
	now  map[string]string
	seen []string         // requests, with what they carried
	lane http.HandlerFunc // the public page; nil for one that opens
}

func (h *reedhouse) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.URL.Path == "/bring":
		f, _, err := r.FormFile("zip")
		if err != nil || r.Header.Get("X-Key") != "reed-and-rush" {
			w.WriteHeader(http.StatusForbidden)
			io.WriteString(w, `{"why": "no such key"}`)
			return
		}
		data, _ := io.ReadAll(f)
		h.seen = append(h.seen, "bring "+r.URL.Query().Get("as")+" "+string(data))
		w.Header().Set("X-Ticket", "t-"+r.URL.Query().Get("as"))
		io.WriteString(w, `{"now": "in line"}`)
	case strings.HasPrefix(r.URL.Path, "/ask/"):
		ticket := strings.TrimPrefix(r.URL.Path, "/ask/")
		json.NewEncoder(w).
			Encode(map[string]any{"now": h.now[ticket], "why": []string{"too dark"}, "peek": "https://r.example/peek/" + ticket,
				"link": "http://" + r.Host + "/lane"})
	case h.lane != nil && (strings.HasPrefix(r.URL.Path, "/lane") || r.URL.Path == "/enter"):
		h.lane(w, r)
	case r.URL.Path == "/lane":
		io.WriteString(w, "<!doctype html><title>Lane</title>")
	case strings.HasPrefix(r.URL.Path, "/show/"):
		h.seen = append(h.seen, "show "+r.FormValue("note"))
		h.now[strings.TrimPrefix(r.URL.Path, "/show/")] = "shown"
		w.WriteHeader(http.StatusNoContent)
	}
}

// world is a project with one destination, and its portal.
func world(t *testing.T) (*Courier, *project.Destination, *reedhouse) {
	t.Helper()
	h := &reedhouse{now: map[string]string{}}
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	folder := t.TempDir()
	for name, text := range map[string]string{
		"reedhouse.toml": rules,
		project.Name: "[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"1\"\nexport = \"web\"\n[to.reed]\nrulebook = " +
			"\"reedhouse.toml\"\naddress = \"" + server.URL + "\"\nkey = \"env:REED_KEY\"\n",
	} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("REED_KEY", "reed-and-rush")
	p, err := project.Find(folder)
	if err != nil {
		t.Fatal(err)
	}
	clock := time.Date(2026, 3, 2, 19, 0, 0, 0, time.UTC)
	now := func() time.Time { clock = clock.Add(time.Minute); return clock }
	return &Courier{Project: p, Book: logbook.Open(folder), Report: progress.None, Now: now}, p.To["reed"], h
}

func parcel(t *testing.T, version string) Parcel {
	t.Helper()
	path := filepath.Join(t.TempDir(), "a.zip")
	if err := os.WriteFile(path, []byte("zip of "+version), 0o644); err != nil {
		t.Fatal(err)
	}
	return Parcel{
		Version:     version,
		Fingerprint: "print-" + version,
		Archive:     &pack.Archive{Path: path, Bytes: int64(len("zip of " + version)), SHA256: "s"},
	}
}

// TestJourney follows two versions through a portal whose ways are only in its rulebook.
func TestJourney(t *testing.T) {
	c, d, h := world(t)
	ctx := context.Background()
	first, err := c.Send(ctx, d, parcel(t, "1"))
	if err != nil || first.State != rulebook.InReview || first.Values["ticket"] != "t-1" {
		t.Fatalf("%+v %v", first, err)
	}
	h.now["t-1"] = "fine"
	asked, err := c.Ask(ctx, d, first.Delivery, 0)
	if err != nil || asked.State != rulebook.Draft || asked.Link() != "https://r.example/peek/t-1" {
		t.Fatalf("%+v %v", asked, err)
	}
	h.now["t-1"] = "shown"
	if _, err := c.Publish(ctx, d, asked.Delivery); err != nil {
		t.Fatal(err)
	}
	second, err := c.Send(ctx, d, parcel(t, "2"))
	if err != nil {
		t.Fatal(err)
	}
	if latest, err := c.Latest([]*project.Destination{d}); err != nil || len(latest) != 2 || latest[0].Version != "2" ||
		latest[1].Version != "1" {
		t.Errorf("latest: %+v %v", latest, err)
	}
	if _, err := c.Publish(ctx, d, second.Delivery); err != nil {
		t.Fatal(err)
	}
	all, _, err := c.Book.Deliveries()
	if err != nil || len(all) != 2 || all[0].State != rulebook.Replaced || all[1].State != rulebook.Public {
		t.Errorf("%+v %v", all, err)
	}
	if want := "bring 1 zip of 1|show version 1|bring 2 zip of 2|show version 2"; strings.Join(h.seen, "|") != want {
		t.Errorf("the portal saw %q", h.seen)
	}
}

// TestRefused: the reasons are kept, and the next version may have the same name.
func TestRefused(t *testing.T) {
	c, d, h := world(t)
	sent, err := c.Send(context.Background(), d, parcel(t, "1"))
	if err != nil {
		t.Fatal(err)
	}
	h.now["t-1"] = "no"
	asked, err := c.Ask(context.Background(), d, sent.Delivery, 0)
	if err != nil || asked.State != rulebook.Refused || len(asked.Reasons) != 1 || asked.Reasons[0] != "too dark" {
		t.Fatalf("%+v %v", asked, err)
	}
	var before *AlreadySent
	if err := c.Fresh(d, "1", "print-1"); !errors.As(err, &before) || !before.Same {
		t.Errorf("the same export: %v", err)
	}
	if err := c.Fresh(d, "1", "another"); err != nil {
		t.Errorf("fixed, under the same version: %v", err)
	}
}

func TestFresh(t *testing.T) {
	c, d, _ := world(t)
	if err := c.Fresh(d, "1", "print-1"); err != nil {
		t.Error(err)
	}
	if _, err := c.Send(context.Background(), d, parcel(t, "1")); err != nil {
		t.Fatal(err)
	}
	var before *AlreadySent
	if err := c.Fresh(d, "2", "print-1"); !errors.As(err, &before) || !before.Same || !strings.Contains(err.Error(), "version 1") {
		t.Errorf("the same export: %v", err)
	}
	if err := c.Fresh(d, "1", "another"); !errors.As(err, &before) || before.Same {
		t.Errorf("the same version: %v", err)
	}
	other := *d
	other.Name = "elsewhere"
	if err := c.Fresh(&other, "1", "print-1"); err != nil {
		t.Errorf("another destination: %v", err)
	}
}

// TestKeyRefused: nothing is recorded of what the portal did not take.
func TestKeyRefused(t *testing.T) {
	c, d, _ := world(t)
	t.Setenv("REED_KEY", "wrong-key")
	var refused *portal.Refused
	if _, err := c.Send(context.Background(), d, parcel(t, "1")); !errors.As(err, &refused) || !refused.Key ||
		strings.Contains(err.Error(), "wrong-key") {
		t.Errorf("%v", err)
	}
	t.Setenv("REED_KEY", "")
	if _, err := c.Send(context.Background(), d, parcel(t, "1")); err == nil || !strings.Contains(fault.Of(err).Next, "REED_KEY") {
		t.Errorf("%v", err)
	}
	if all, _, err := c.Book.Deliveries(); err != nil || len(all) != 0 {
		t.Errorf("%+v %v", all, err)
	}
}
