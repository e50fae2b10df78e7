package playhost

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"havvel/internal/round"
)

// TestPauseExtend: a round that is paused shows nothing, and takes what was on its way; one that is extended ends later, but never after the
// day on which testers were told that all is deleted.
func TestPauseExtend(t *testing.T) {
	clock := time.Now().Truncate(time.Second)
	h, token := host(t, func(o *Options) { o.Now = func() time.Time { return clock } })
	o := opened(t, h, token, round.Opening{Seconds: 3600, Keep: 86_400, Studio: "Moor & Thimble", Contact: "moth@shed.example"})
	at := h.ControlURL() + "/api/rounds/" + o.ID
	do := func(what, body string) int {
		r, _ := ask(t, "POST", at+"/"+what, token, strings.NewReader(body))
		return r.StatusCode
	}
	_, page := ask(t, "GET", o.Link, "", nil)
	if !strings.Contains(page, "by Moor &amp; Thimble") || !strings.Contains(page, `href="mailto:moth@shed.example"`) {
		t.Errorf("testers don't read who asks:\n%s", page)
	}
	game := gameOf(t, o)
	_, session := begin(t, o.Link)
	if s := do("pause", `{"paused": true}`); s != 200 {
		t.Fatal(s)
	}
	if r, page := ask(t, "GET", o.Link, "", nil); r.StatusCode != 200 || !strings.Contains(page, "paused this round") || gameOf(t, o) != "" {
		t.Errorf("a paused round shows\n%s", page)
	}
	if r, _ := ask(t, "GET", game, "", nil); r.StatusCode != 410 {
		t.Errorf("its game: %d", r.StatusCode)
	}
	if s, _ := begin(t, o.Link); s != 409 {
		t.Errorf("a new tester: %d", s)
	}
	if s, text := sends(t, o, session, fmt.Sprintf(`[{"n":%d,"at":9,"kind":"left"}]`, ownFrom+1)); s != 200 {
		t.Errorf("what was on its way: %d %s", s, text)
	}
	if s := do("pause", `{"paused": false}`); s != 200 || gameOf(t, o) == "" {
		t.Errorf("it does not go on: %d", s)
	}
	for body, want := range map[string]int{`{"seconds": 80000}`: 200, `{"seconds": 100000}`: 409, `{"seconds": 0}`: 422, `x`: 400} {
		if s := do("extend", body); s != want {
			t.Errorf("extended by %s: %d, want %d", body, s, want)
		}
	}
	clock = clock.Add(20 * time.Hour)
	if gameOf(t, o) == "" {
		t.Error("a round that was extended is over")
	}
	do("close", "")
	if s := do("extend", `{"seconds": 60}`); s != 409 {
		t.Errorf("a closed one: %d", s)
	}
}

// TestSharedReport: a page is shown to those who have its link, shut in; another one takes its place; it goes when it is taken back, and with
// all that came back.
func TestSharedReport(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{})
	at := h.ControlURL() + "/api/rounds/" + o.ID + "/report"
	share := func(page string) string {
		r, text := ask(t, "PUT", at, token, strings.NewReader(page))
		var out struct{ Link string }
		if json.Unmarshal([]byte(text), &out); r.StatusCode != 201 {
			t.Fatal(r.StatusCode, text)
		}
		return out.Link
	}
	link := share("<p>one")
	if again := share("<p>two"); again != link {
		t.Errorf("%s, and then %s", link, again)
	}
	r, text := ask(t, "GET", link, "", nil)
	if policy := r.Header.Get("Content-Security-Policy"); text != "<p>two" || !strings.HasPrefix(policy, "sandbox allow-scripts;") ||
		strings.Contains(policy, "same-origin") {
		t.Errorf("%q %s", text, policy)
	}
	if len(holding(t, h, "<p>one")) != 0 {
		t.Error("the page before is kept")
	}
	if r, _ := ask(t, "PUT", at, "", strings.NewReader("x")); r.StatusCode != 401 {
		t.Errorf("without a token: %d", r.StatusCode)
	}
	if r, _ := ask(t, "DELETE", at, token, nil); r.StatusCode != 204 {
		t.Error(r.StatusCode)
	}
	if r, _ := ask(t, "GET", link, "", nil); r.StatusCode != 404 {
		t.Errorf("taken back: %d", r.StatusCode)
	}
	link = share("<p>three")
	ask(t, "POST", h.ControlURL()+"/api/rounds/"+o.ID+"/forget", token, nil)
	if r, _ := ask(t, "GET", link, "", nil); r.StatusCode != 404 || len(holding(t, h, "<p>three")) != 0 {
		t.Errorf("after all was forgotten: %d", r.StatusCode)
	}
}

// TestRemoved: a build that is removed is served no more, its files go, and what another build shares stays; one in an open round stays.
func TestRemoved(t *testing.T) {
	clock := time.Now()
	h, token := host(t, func(o *Options) { o.Now = func() time.Time { return clock } })
	first := sent(t, h, token, zipOf(t, "index.html", entry, "own.bin", "its own"))
	second := sent(t, h, token, zipOf(t, "index.html", entry))
	o := opened(t, h, token, round.Opening{})
	list, err := h.Builds(t.Context())
	if err != nil || len(list) != 3 {
		t.Fatal(list, err)
	}
	for _, b := range list {
		err := h.RemoveBuild(t.Context(), b.ID)
		if (err != nil) != (b.Rounds > 0) {
			t.Errorf("%+v: %v", b, err)
		}
	}
	ask(t, "GET", first.Link, "", nil)
	clock = clock.Add(time.Minute)
	for _, b := range []shownBuild{first, second} {
		if r, _ := ask(t, "GET", b.Link, "", nil); r.StatusCode != 404 {
			t.Errorf("a removed build: %d", r.StatusCode)
		}
	}
	if gameOf(t, o) == "" {
		t.Error("an open round lost its game")
	}
	clock = clock.Add(25 * time.Hour)
	if err := h.collect(t.Context()); err != nil || len(holding(t, h, "its own")) != 0 {
		t.Errorf("its file is kept (%v)", err)
	}
}

// TestLanguages: who asks for a language that the round has gets it, in its direction; what isn't translated is in English; nothing of it is
// markup.
func TestLanguages(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{Texts: []round.Translation{
		{Language: "ar", Texts: map[string]string{"share": "العب", "send": "<script>alert(1)</script>", "until": "{day} <b>"}},
	}})
	_, page := ask(t, "GET", o.Link, "", nil, "Accept-Language", "ar-EG,en;q=0.5")
	for _, want := range []string{`<html lang="ar" dir="rtl">`, "العب", "Play without sending anything", "&lt;b&gt;"} {
		if !strings.Contains(page, want) {
			t.Errorf("no %s in\n%s", want, page)
		}
	}
	if strings.Contains(page, "<script>alert") {
		t.Error("a translation is markup")
	}
	if _, page := ask(t, "GET", o.Link, "", nil, "Accept-Language", "fr"); !strings.Contains(page, `<html lang="en" dir="ltr">`) {
		t.Errorf("for somebody else it is\n%s", page)
	}
	words := `{"build": "x", "texts": [{"language": "de", "texts": {"sned": "x"}}]}`
	if r, text := ask(t, "POST", h.ControlURL()+"/api/rounds", token, strings.NewReader(words)); r.StatusCode < 400 {
		t.Errorf("%d %s", r.StatusCode, text)
	}
}

// TestWebhook: an address that the host's owner allowed is told of the first error and of the last tester, once; no other is ever asked.
func TestWebhook(t *testing.T) {
	told := make(chan string, 20)
	inside := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { told <- "inside" }))
	defer inside.Close()
	fails := 1
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if fails--; fails == 0 { // tried again, and not led on
			http.Redirect(w, r, inside.URL, http.StatusTemporaryRedirect)
			return
		}
		body, _ := io.ReadAll(r.Body)
		told <- r.URL.Path + " " + string(body)
	}))
	defer hook.Close()
	h, token := host(t, func(o *Options) { o.Webhooks = []string{hook.URL + "/hooks/"} })
	for _, address := range []string{
		inside.URL + "/hooks/a", hook.URL + "/other", hook.URL + "/hooks/../other", "file:///etc/passwd", "http://moth@" + hook.URL[7:] + "/hooks/a",
	} {
		words, _ := json.Marshal(round.Opening{Build: "x", Webhook: address})
		if err := h.hooked(address); err == nil {
			t.Errorf("%s is taken: %s", address, words)
		}
	}
	o := opened(t, h, token, round.Opening{Most: 1, Webhook: hook.URL + "/hooks/a"})
	_, session := begin(t, o.Link)
	heard := func() string {
		select {
		case words := <-told:
			return words
		case <-time.After(20 * time.Second):
			return "nothing"
		}
	}
	if words := heard(); words != `/hooks/a {"round":"`+o.ID+`","what":"full","testers":1}` {
		t.Errorf("told of the last tester: %s", words)
	}
	for n := 1; n < 4; n++ {
		if s, text := sends(t, o, session, fmt.Sprintf(`[{"n":%d,"at":9,"kind":"error","data":{"message":"lost"}}]`, n)); s != 200 {
			t.Fatal(s, text)
		}
	}
	if words := heard(); !strings.Contains(words, `"what":"error"`) {
		t.Errorf("told of an error: %s", words)
	}
	select {
	case words := <-told:
		t.Errorf("told once more: %s", words)
	case <-time.After(300 * time.Millisecond):
	}
}
