package playhost

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"havvel/internal/round"
)

// holding lists the host's files that hold a text.
func holding(t *testing.T, h *Host, text string) (list []string) {
	t.Helper()
	err := filepath.WalkDir(h.options.Data, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		if bytes.Contains(data, []byte(text)) {
			list = append(list, filepath.Base(path))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// told opens a session, and tells an answer and two pieces of a clip.
func told(t *testing.T, o round.Opened, words string) (session string) {
	t.Helper()
	status, session := begin(t, o.Link)
	if status != 201 {
		t.Fatal(status)
	}
	at := o.Link + "/sessions/" + session
	if r, text := ask(t, "POST", at+"/events", "",
		strings.NewReader(fmt.Sprintf(`{"events": [{"n": 1, "at": 5, "kind": "answer", "data": {"question": 0, "answer": %q}}]}`,
			words))); r.StatusCode != 200 {
		t.Fatal(r.StatusCode, text)
	}
	for n, part := range []string{words + " one,", words + " two"} {
		for range 2 { // as when an answer was lost
			if r, text := ask(t, "PUT", fmt.Sprintf("%s/clip/%d", at, n+1), "", strings.NewReader(part)); r.StatusCode != 200 {
				t.Fatal(r.StatusCode, text)
			}
		}
	}
	return session
}

// TestClip: pieces are kept once and joined in their order; what is too large, not asked for, or from another page is not taken, and only
// the round's owner sees a clip.
func TestClip(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{Record: true})
	session := told(t, o, "seven lamps")
	clip := h.ControlURL() + "/api/rounds/" + o.ID + "/clips/" + session
	if r, text := ask(t, "GET", clip, token, nil); text != "seven lamps one,seven lamps two" || r.Header.Get("Content-Type") != "video/webm" {
		t.Errorf("%q %v", text, r.Header)
	}
	if back := events(t, h, token, o.ID); !strings.Contains(back, `"clip":31`) {
		t.Errorf("%s", back)
	}
	stranger, err := h.MakeToken(t.Context(), "stranger")
	if err != nil {
		t.Fatal(err)
	}
	if r, _ := ask(t, "GET", clip, stranger, nil); r.StatusCode != 404 {
		t.Errorf("somebody else: %d", r.StatusCode)
	}
	other := opened(t, h, token, round.Opening{})
	for what, c := range map[string]struct {
		path, origin string
		bytes, want  int
	}{
		"too large":       {o.Link + "/sessions/" + session + "/clip/3", "", mostClipPiece + 1, 413},
		"number 0":        {o.Link + "/sessions/" + session + "/clip/0", "", 5, 400},
		"a path":          {o.Link + "/sessions/" + session + "/clip/..%2f..%2fhost.db", "", 5, 400},
		"not asked for":   {other.Link + "/sessions/" + session + "/clip/3", "", 5, 400},
		"no such session": {o.Link + "/sessions/none/clip/1", "", 5, 404},
		"another page":    {o.Link + "/sessions/" + session + "/clip/3", h.GamesURL(), 5, 403},
	} {
		headers := []string{}
		if c.origin != "" {
			headers = []string{"Origin", c.origin}
		}
		if r, text := ask(t, "PUT", c.path, "", bytes.NewReader(make([]byte, c.bytes)), headers...); r.StatusCode != c.want {
			t.Errorf("%s: %d %s", what, r.StatusCode, text)
		}
	}
	last := 0
	for n := 3; n < 12; n++ {
		r, _ := ask(t, "PUT", fmt.Sprintf("%s/sessions/%s/clip/%d", o.Link, session, n), "", bytes.NewReader(make([]byte, mostClipPiece)))
		last = r.StatusCode
	}
	if last != 413 {
		t.Errorf("a clip grows without end: %d", last)
	}
	if r, _ := ask(t, "DELETE", o.Link+"/sessions/"+session, "", nil); r.StatusCode != 204 || len(holding(t, h, "seven lamps")) > 0 {
		t.Errorf("taken back: %d, %v", r.StatusCode, holding(t, h, "seven lamps"))
	}
}

// TestKept: what came back is deleted when testers were told, by the clock of the host, and then no file of it holds a word; uploads that
// nobody went on with go, too.
func TestKept(t *testing.T) {
	clock := time.Now()
	h, token := host(t, func(o *Options) { o.Now = func() time.Time { return clock }; o.Keep = 10 * 24 * time.Hour })
	o := opened(t, h, token, round.Opening{Record: true, Seconds: 3600, Keep: 86_400})
	stays := opened(t, h, token, round.Opening{Record: true, Seconds: 3600})
	if want := clock.Add(25 * time.Hour); o.Kept.Sub(want).Abs() > 2*time.Second {
		t.Errorf("kept until %v, want %v", o.Kept, want)
	}
	if _, page := ask(t, "GET", o.Link, "", nil); !strings.Contains(page, o.Kept.Format("2 January 2006")) {
		t.Error("testers are not told the day")
	}
	told(t, o, "seven lamps")
	told(t, stays, "eight lamps")
	archive := zipOf(t, "index.html", entry, "noise.bin", strings.Repeat("left behind", 900))
	id := announced(t, h, token, archive)
	ask(t, "PATCH", h.ControlURL()+"/api/builds/"+id+"/bytes", token, bytes.NewReader(archive[:len(archive)-4]), "Upload-Offset", "0")
	clock = clock.Add(24 * time.Hour)
	if err := h.sweep(t.Context()); err != nil || len(holding(t, h, "seven lamps")) == 0 {
		t.Errorf("it was deleted too early: %v", err)
	}
	clock = clock.Add(2 * time.Hour)
	if err := h.sweep(t.Context()); err != nil {
		t.Fatal(err)
	}
	if left := holding(t, h, "seven lamps"); len(left) > 0 || events(t, h, token, o.ID) != "" {
		t.Errorf("it is still in %v", left)
	}
	if !strings.Contains(events(t, h, token, stays.ID), "eight lamps") {
		t.Error("what is still kept went, too")
	}
	clock = clock.Add(8 * 24 * time.Hour)
	if err := h.sweep(t.Context()); err != nil {
		t.Fatal(err)
	}
	if left, _ := filepath.Glob(filepath.Join(h.options.Data, "uploads", "*", "*")); len(left) > 0 {
		t.Errorf("an upload that was given up is still there: %v", left)
	}
	if r, _ := ask(t, "POST", h.ControlURL()+"/api/rounds/"+stays.ID+"/forget", token, nil); r.StatusCode != 200 ||
		len(holding(t, h, "eight lamps")) > 0 {
		t.Errorf("forgotten: %d, %v", r.StatusCode, holding(t, h, "eight lamps"))
	}
	for _, keep := range []int64{-1, 11 * 86_400} {
		if r, _ := ask(t, "POST", h.ControlURL()+"/api/rounds", token,
			strings.NewReader(fmt.Sprintf(`{"build": %q, "seconds": 60, "keep": %d}`, arrivedAt(t, h, token, zipOf(t, "index.html", entry)),
				keep))); r.StatusCode != 422 {
			t.Errorf("kept for %d s: %d", keep, r.StatusCode)
		}
	}
}

// arrivedAt sends an archive, and returns the id of its build.
func arrivedAt(t *testing.T, h *Host, token string, archive []byte) string {
	t.Helper()
	id := announced(t, h, token, archive)
	if r, text := ask(t, "PATCH", h.ControlURL()+"/api/builds/"+id+"/bytes", token, bytes.NewReader(archive), "Upload-Offset",
		"0"); r.StatusCode != 204 {
		t.Fatal(r.StatusCode, text)
	}
	return id
}

// TestClock: a clock that was set back, or jumps, neither ends a round that goes on nor keeps anybody out.
func TestClock(t *testing.T) {
	clock := time.Now()
	h, token := host(t, func(o *Options) { o.Now = func() time.Time { return clock } })
	o := opened(t, h, token, round.Opening{Password: "seven lamps", Seconds: 3600})
	enter := func(word string) int {
		r, _ := ask(
			t,
			"POST",
			o.Link,
			"",
			strings.NewReader("password="+strings.ReplaceAll(word, " ", "+")),
			"Content-Type",
			"application/x-www-form-urlencoded",
		)
		return r.StatusCode
	}
	clock = clock.Add(-400 * 24 * time.Hour)
	if s := enter("eight lamps"); s != 401 {
		t.Errorf("a wrong password, with the clock set back: %d", s)
	}
	for range 15 {
		enter("eight lamps")
	}
	clock = clock.Add(2 * time.Minute)
	if s := enter("seven lamps"); s != 200 { // led on to the page
		t.Errorf("the right one, two minutes later: %d", s)
	}
	clock = clock.Add(500 * 24 * time.Hour)
	if s := enter("seven lamps"); s != 410 {
		t.Errorf("after its end: %d", s)
	}
}

// TestLimits: who sends without end is asked to wait, and others are not.
func TestLimits(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{})
	_, fast := begin(t, o.Link)
	_, calm := begin(t, o.Link)
	send := func(session string) int {
		r, _ := ask(t, "POST", o.Link+"/sessions/"+session+"/events", "", strings.NewReader(`{"events": []}`))
		if r.StatusCode == 429 && r.Header.Get("Retry-After") == "" {
			t.Error("it is not said when to try again")
		}
		return r.StatusCode
	}
	last := 0
	for range batches.burst + 20 {
		last = send(fast)
	}
	if last != 429 || send(calm) != 200 {
		t.Errorf("who sends without end: %d; somebody else: %d", last, send(calm))
	}
}

// TestMetrics: figures in the form that monitoring systems read, for owners only.
func TestMetrics(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{Record: true})
	told(t, o, "seven lamps")
	if r, _ := ask(t, "GET", h.ControlURL()+"/metrics", "", nil); r.StatusCode != 401 {
		t.Errorf("without a token: %d", r.StatusCode)
	}
	r, text := ask(t, "GET", h.ControlURL()+"/metrics", token, nil)
	if !strings.HasPrefix(r.Header.Get("Content-Type"), "application/openmetrics-text") || !strings.HasSuffix(text, "\n# EOF\n") {
		t.Errorf("%v\n%s", r.Header, text)
	}
	for _, want := range []string{"havvel_host_events_total 1\n", "havvel_host_clip_bytes_total 31\n", "havvel_host_open_rounds 1\n",
		"havvel_host_sessions 1\n", "havvel_host_builds 1\n", `havvel_host_requests_total{route="POST /api/rounds",status="2xx"} 1` + "\n"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	line := regexp.MustCompile(`^(# (TYPE|HELP|UNIT) [a-z_]+ .+|# EOF|[a-z_]+(\{[a-z]+="[^"]*"(,[a-z]+="[^"]*")*\})? -?[0-9]+)$`)
	for l := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
		if !line.MatchString(l) {
			t.Errorf("not of the form: %q", l)
		}
	}
	if strings.Contains(text, o.Link[strings.LastIndex(o.Link, "/")+1:]) {
		t.Error("the secret of a link is told")
	}
}

// TestIsolatedRound: a game that shares memory between threads is isolated in its round, too.
func TestIsolatedRound(t *testing.T) {
	h, token := host(t, nil)
	shared := "\x00asm\x01\x00\x00\x00\x05\x04\x01\x03\x01\x02"
	for wasm, want := range map[string]string{shared: "require-corp", "\x00asm\x01\x00\x00\x00": ""} {
		o := opened(t, h, token, round.Opening{Build: arrivedAt(t, h, token, zipOf(t, "index.html", entry, "lane.wasm", wasm))})
		r, page := ask(t, "GET", o.Link, "", nil)
		if got := r.Header.Get("Cross-Origin-Embedder-Policy"); got != want || strings.Contains(page, "cross-origin-isolated") != (want != "") {
			t.Errorf("the page: %q, want %q", got, want)
		}
		if r, _ := ask(t, "GET", gameOf(t, o), "", nil); r.Header.Get("Cross-Origin-Embedder-Policy") != want {
			t.Errorf("the game: %v", r.Header)
		}
	}
}
