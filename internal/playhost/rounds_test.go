package playhost

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"havvel/internal/round"
)

// opened opens a round of a small build, and returns its id and link.
func opened(t *testing.T, h *Host, token string, o round.Opening) round.Opened {
	t.Helper()
	if o.Build == "" {
		archive := zipOf(t, "index.html", "<!doctype html><html><head><title>Lane</title></head></html>", "lane.js", "1")
		id := announced(t, h, token, archive)
		ask(t, "PATCH", h.ControlURL()+"/api/builds/"+id+"/bytes", token, strings.NewReader(string(archive)), "Upload-Offset", "0")
		o.Build = id
	}
	if o.Seconds == 0 {
		o.Seconds = 3600
	}
	words, err := json.Marshal(o)
	if err != nil {
		t.Fatal(err)
	}
	r, text := ask(t, "POST", h.ControlURL()+"/api/rounds", token, strings.NewReader(string(words)))
	var out round.Opened
	if json.Unmarshal([]byte(text), &out); r.StatusCode != 201 {
		t.Fatalf("%d %s", r.StatusCode, text)
	}
	return out
}

func begin(t *testing.T, link string, headers ...string) (int, string) {
	t.Helper()
	r, text := ask(t, "POST", link+"/sessions", "", strings.NewReader(`{"device": {"width": 800, "height": 600}}`), headers...)
	var out struct{ Session string }
	json.Unmarshal([]byte(text), &out)
	return r.StatusCode, out.Session
}

// gameOf is where the page of a round has its game.
func gameOf(t *testing.T, o round.Opened, headers ...string) string {
	t.Helper()
	_, page := ask(t, "GET", o.Link, "", nil, headers...)
	m := regexp.MustCompile(`const game = "([^"]+)"`).FindStringSubmatch(page)
	if m == nil {
		return ""
	}
	return strings.ReplaceAll(m[1], `\/`, "/")
}

func events(t *testing.T, h *Host, token, id string) string {
	t.Helper()
	_, text := ask(t, "GET", h.ControlURL()+"/api/rounds/"+id+"/events", token, nil)
	return text
}

// TestEvents: what is sent is kept once, also when it comes twice; what is forged, too large, or from another page is not.
func TestEvents(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{})
	status, session := begin(t, o.Link)
	if status != 201 || session == "" {
		t.Fatal(status)
	}
	send := func(body string, headers ...string) int {
		t.Helper()
		r, _ := ask(t, "POST", o.Link+"/sessions/"+session+"/events", "", strings.NewReader(body), headers...)
		return r.StatusCode
	}
	good := `{"events": [{"n": 1, "at": 5, "kind": "event", "data": {"event": "play-begun"}}, {"n": 2, "at": 9, "kind": "shown"}]}`
	for range 3 {
		if s := send(good); s != 200 {
			t.Errorf("good events: %d", s)
		}
	}
	if s := send(`{"events": [{"n": 2, "at": 1, "kind": "left"}, {"n": 3, "at": 12, "kind": "left"}]}`); s != 200 {
		t.Errorf("one that was there, and a new one: %d", s)
	}
	for body, want := range map[string]int{
		`{"events": [{"n": 0, "kind": "event"}]}`: 400, `{"events": [{"n": 4, "at": -1, "kind": "event"}]}`: 400,
		`{"events": [{"n": 4, "kind": "secret"}]}`: 400, `{"events": [{"n": 99999, "kind": "event"}]}`: 400,
		`{"events": [` + strings.Repeat(`{"n":5,"kind":"left"},`, 200) + `{"n":5,"kind":"left"}]}`: 400,
		`{"events": "` + strings.Repeat("x", mostAsked) + `"}`:                                     413, `no JSON`: 400,
	} {
		if s := send(body); s != want {
			t.Errorf("%.60s: %d", body, s)
		}
	}
	for _, foreign := range [][]string{{"Origin", "https://evil.example"}, {"Sec-Fetch-Site", "cross-site"},
		{"Sec-Fetch-Site", "same-site"}, {"Origin", h.GamesURL()}} {
		if s := send(good, foreign...); s != 403 {
			t.Errorf("from another page, %v: %d", foreign, s)
		}
		if s, _ := begin(t, o.Link, foreign...); s != 403 {
			t.Errorf("a session from another page, %v: %d", foreign, s)
		}
	}
	other := opened(t, h, token, round.Opening{})
	if r, _ := ask(t, "POST", other.Link+"/sessions/"+session+"/events", "", strings.NewReader(good)); r.StatusCode != 404 {
		t.Errorf("into another round: %d", r.StatusCode)
	}
	if r, _ := ask(t, "DELETE", other.Link+"/sessions/"+session, "", nil); r.StatusCode != 404 {
		t.Errorf("taken back from another round: %d", r.StatusCode)
	}
	text := events(t, h, token, o.ID)
	if n := strings.Count(text, "\n"); n != 4 || strings.Count(text, `"n":2`) != 1 || !strings.Contains(text, `"n":2,"at":9`) {
		t.Errorf("%d lines:\n%s", n, text)
	}
	if r, _ := ask(t, "DELETE", o.Link+"/sessions/"+session, "", nil); r.StatusCode != 204 || events(t, h, token, o.ID) != "" {
		t.Errorf("taken back: %d\n%s", r.StatusCode, events(t, h, token, o.ID))
	}
	var left int
	if err := h.data.row(t.Context(), "SELECT COUNT(*) FROM batches").Scan(&left); err != nil || left != 0 {
		t.Errorf("%d events are left: %v", left, err)
	}
}

// TestRoundEnds: a round that is over, full or closed takes nobody, and its game is gone at once.
func TestRoundEnds(t *testing.T) {
	clock := time.Now()
	h, token := host(t, func(o *Options) { o.Now = func() time.Time { return clock } })
	o := opened(t, h, token, round.Opening{Most: 1, Seconds: 60})
	game := gameOf(t, o)
	r, page := ask(t, "GET", game, "", nil)
	if r.StatusCode != 200 || !strings.Contains(page, "postMessage") || !strings.Contains(page, h.ControlURL()) ||
		r.Header.Get("Cache-Control") != "no-store" {
		t.Errorf("the game: %d %v", r.StatusCode, r.Header)
	}
	if r, body := ask(t, "GET", game+"lane.js", "", nil); r.StatusCode != 200 || body != "1" {
		t.Errorf("its script: %d %q", r.StatusCode, body)
	}
	begin(t, o.Link)
	if s, _ := begin(t, o.Link); s != 409 {
		t.Errorf("one tester too many: %d", s)
	}
	clock = clock.Add(2 * time.Minute)
	for what, got := range map[string]func() int{
		"page":    func() int { r, _ := ask(t, "GET", o.Link, "", nil); return r.StatusCode },
		"game":    func() int { r, _ := ask(t, "GET", game, "", nil); return r.StatusCode },
		"script":  func() int { r, _ := ask(t, "GET", game+"lane.js", "", nil); return r.StatusCode },
		"session": func() int { s, _ := begin(t, o.Link); return s },
	} {
		if s := got(); s != http.StatusGone {
			t.Errorf("after the end, the %s: %d", what, s)
		}
	}
	o = opened(t, h, token, round.Opening{})
	stranger, err := h.MakeToken(t.Context(), "stranger")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/api/rounds/" + o.ID + "/events", "/api/rounds/" + o.ID + "/close"} {
		method := map[bool]string{true: "POST", false: "GET"}[strings.HasSuffix(path, "close")]
		if r, _ := ask(t, method, h.ControlURL()+path, stranger, nil); r.StatusCode != 404 {
			t.Errorf("somebody else, %s: %d", path, r.StatusCode)
		}
	}
	if r, _ := ask(t, "POST", h.ControlURL()+"/api/rounds/"+o.ID+"/close", token, nil); r.StatusCode != 200 {
		t.Errorf("closing: %d", r.StatusCode)
	}
	if s, _ := begin(t, o.Link); s != http.StatusGone {
		t.Errorf("closed: %d", s)
	}
	for _, bad := range []string{`{}`, `{"build": "none", "seconds": 60}`, `{`, fmt.Sprintf(`{"build": %q, "seconds": 99999999}`, "x")} {
		if r, _ := ask(t, "POST", h.ControlURL()+"/api/rounds", token, strings.NewReader(bad)); r.StatusCode < 400 || r.StatusCode >= 500 {
			t.Errorf("%s: %d", bad, r.StatusCode)
		}
	}
}

// TestRoundPassword: without the password there is no page, no session and no event; guessing comes to an end.
func TestRoundPassword(t *testing.T) {
	var clock atomic.Int64
	began := time.Now().Truncate(time.Minute)
	h, token := host(t, func(o *Options) { o.Now = func() time.Time { return began.Add(time.Duration(clock.Load())) } })
	o := opened(t, h, token, round.Opening{Password: "seven lamps"})
	if _, page := ask(t, "GET", o.Link, "", nil); !strings.Contains(page, "has a password") || strings.Contains(page, "const game") {
		t.Errorf("the page is open:\n%s", page)
	}
	if s, _ := begin(t, o.Link); s != 401 {
		t.Errorf("a session: %d", s)
	}
	if r, _ := ask(t, "GET", h.GamesURL()+"/p/"+o.Link[strings.LastIndex(o.Link, "/")+1:]+"/", "", nil); r.StatusCode == 200 {
		t.Error("the link leads to the game without the password")
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	guess := func(word string) *http.Response {
		t.Helper()
		r, err := client.PostForm(o.Link, url.Values{"password": {word}})
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		return r
	}
	if r := guess("six lamps"); r.StatusCode != 401 || len(r.Cookies()) > 0 {
		t.Errorf("a wrong one: %d", r.StatusCode)
	}
	right := guess("seven lamps")
	if right.StatusCode != 303 || len(right.Cookies()) != 1 || !right.Cookies()[0].HttpOnly {
		t.Fatalf("the right one: %d %v", right.StatusCode, right.Cookies())
	}
	pass := right.Cookies()[0].String()
	if game := gameOf(t, o, "Cookie", pass); game == "" {
		t.Error("who knows it does not get in")
	}
	second := opened(t, h, token, round.Opening{Password: "seven lamps"})
	if _, page := ask(t, "GET", second.Link, "", nil, "Cookie", pass); strings.Contains(page, "const game") {
		t.Error("a pass opens another round")
	}
	for i := range 30 { // a class behind one address
		if s := guess("seven lamps").StatusCode; s != 303 {
			t.Fatalf("the right one, for the %dth: %d", i+1, s)
		}
	}
	last := 0
	for range wrongOfOne + 2 {
		last = guess("eight lamps").StatusCode
	}
	if last != 429 || guess("seven lamps").StatusCode != 429 {
		t.Errorf("guessing goes on: %d", last)
	}
	clock.Store(int64(time.Minute))
	if s := guess("seven lamps").StatusCode; s != 303 {
		t.Errorf("the right one, a minute later: %d", s)
	}
}

// TestTesterPage: nothing that an owner writes runs in the page, and only the round's game is framed.
func TestTesterPage(t *testing.T) {
	h, token := host(t, nil)
	o := opened(
		t,
		h,
		token,
		round.Opening{
			Questions: []round.Question{
				{Ask: "<script>alert(1)</script>", Kind: "text"},
				{Ask: "Which?", Kind: "choice", Choices: []string{`"><img src=x onerror=alert(1)>`, "b"}},
			},
		},
	)
	r, page := ask(t, "GET", o.Link, "", nil)
	policy := r.Header.Get("Content-Security-Policy")
	if !strings.Contains(policy, "default-src 'none'") || !strings.Contains(policy, "frame-src "+h.GamesURL()) ||
		strings.Contains(policy, "unsafe") ||
		r.Header.Get("X-Frame-Options") != "DENY" {
		t.Errorf("%s", policy)
	}
	if strings.Contains(page, "<script>alert") || strings.Contains(page, "<img") || !strings.Contains(page, "&lt;script&gt;") {
		t.Errorf("what an owner writes is markup:\n%s", page)
	}
	for _, path := range []string{"/r/none", "/r/../api/rounds", "/r/" + o.ID} {
		if r, _ := ask(t, "GET", h.ControlURL()+path, "", nil); r.StatusCode == 200 {
			t.Errorf("%s: %d", path, r.StatusCode)
		}
	}
}
