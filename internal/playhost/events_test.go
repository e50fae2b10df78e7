package playhost

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf8"

	"havvel/internal/round"
)

// sends gives a batch to a session, and returns the status and what the host says.
func sends(t *testing.T, o round.Opened, session, batch string) (int, string) {
	t.Helper()
	r, text := ask(t, "POST", o.Link+"/sessions/"+session+"/events", "", strings.NewReader(`{"events": `+batch+`}`))
	return r.StatusCode, text
}

// report makes a report of what a round exports.
func report(t *testing.T, h *Host, token, id string) *round.Report {
	t.Helper()
	maker := round.NewMaker(false)
	if err := round.Read(t.Context(), strings.NewReader(events(t, h, token, id)), func(s *round.Session) error { maker.Add(s); return nil }); err != nil {
		t.Fatalf("what the host kept can't be read: %v", err)
	}
	return maker.Report()
}

// TestOddWords: whatever a game or a tester writes, what is kept is read again, and nothing else of its batch or round is lost.
func TestOddWords(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{})
	_, session := begin(t, o.Link)
	moths := strings.Repeat("🦋", mostWords)
	n := 0
	for _, data := range []string{
		`{"question":0,"answer":"a moth: \ud83e"}`, "{\"question\":0,\"answer\":\"bytes \xff\xfe\"}", `{"question":0,"answer":"` + moths + `"}`,
		`{"question":0,"question":0,"answer":"twice","answer":"twice"}`, `{"question":1e400,"answer":"no number"}`, `[1]`, `"text"`, `null`,
		`{"question":0,"answer":["a"]}`, `{"question":0,"answer":"` + strings.Repeat(`\u0000`, 2000) + `"}`,
	} {
		n++
		if s, text := sends(t, o, session, fmt.Sprintf(`[{"n":%d,"at":%d,"kind":"answer","data":%s}]`, ownFrom+n, n, data)); s != 200 {
			t.Errorf("%.60s: %d %s", data, s, text)
		}
	}
	game := 0
	for _, data := range []string{
		`{"event":"level-begun","level":"\udc00"}`, `{"event":"level-begun","level":"1","level":"2"}`, `{"event":"x","deep":` + strings.Repeat("[", 900) +
			strings.Repeat("]", 900) + `}`, `{"event":"big","data":"` + strings.Repeat("猫", 9000) + `"}`, `{"event":"level-begun","level":` +
			strings.Repeat("9", 3000) + `}`,
	} {
		game++
		if s, text := sends(t, o, session, fmt.Sprintf(`[{"n":%d,"at":5,"kind":"event","data":%s}]`, game, data)); s != 200 {
			t.Errorf("%.60s: %d %s", data, s, text)
		}
	}
	text := events(t, h, token, o.ID)
	for line := range strings.Lines(text) {
		if !json.Valid([]byte(line)) || !utf8.ValidString(line) || len(line) > 8*mostWords {
			t.Errorf("kept: %.80s", line)
		}
	}
	r := report(t, h, token, o.ID)
	if r.Unread != 0 {
		t.Errorf("%d lines can't be read", r.Unread)
	}
	var given []string
	for _, a := range r.Answers {
		given = append(given, a.Given...)
	}
	if len(given) < 5 || given[2] != moths {
		t.Errorf("%d answers came back, %.100q", len(given), given)
	}
}

// TestCrowd: a game that says too much loses what is too much of it, which is counted; never an answer, nor another tester's.
func TestCrowd(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{})
	_, session := begin(t, o.Link)
	full := false
	for n := 1; n <= mostEvents && !full; n += 100 {
		var batch []string
		for i := range 100 {
			batch = append(batch, fmt.Sprintf(`{"n":%d,"at":1,"kind":"error","data":{"message":%q}}`, n+i, strings.Repeat("m", 3000)))
		}
		s, text := sends(t, o, session, "["+strings.Join(batch, ",")+"]")
		if s == 429 {
			h.limits = limits{}
			s, text = sends(t, o, session, "["+strings.Join(batch, ",")+"]")
		}
		if s != 200 {
			t.Fatal(s, text)
		}
		full = strings.Contains(text, `"full":true`)
	}
	if !full {
		t.Fatal("a session grows without end")
	}
	if s, text := sends(t, o, session, fmt.Sprintf(`[{"n":%d,"at":9,"kind":"answer","data":{"question":0,"answer":"it was fun"}}]`, ownFrom+1)); s != 200 ||
		!strings.Contains(text, `"kept":1`) {
		t.Errorf("an answer in a full session: %d %s", s, text)
	}
	r := report(t, h, token, o.ID)
	if len(r.Answers) != 1 || r.Cut == 0 || r.Testers != 1 {
		t.Errorf("%+v", r)
	}
	var bytes int64
	if err := h.data.row(t.Context(), "SELECT SUM(LENGTH(lines)) FROM batches").Scan(&bytes); err != nil || bytes > mostKept+mostAnswer {
		t.Errorf("%d bytes are kept (%v)", bytes, err)
	}
}

// TestRoomExact: of many who come at once, as many get in as there is room for; who is in comes back to the same session; who withdraws makes
// room.
func TestRoomExact(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{Most: 5})
	var mu sync.Mutex
	in := map[string]int{}
	var cookies []*http.Cookie
	var work sync.WaitGroup
	for range 60 {
		work.Go(func() {
			r, text := ask(t, "POST", o.Link+"/sessions", "", strings.NewReader(`{}`))
			var out struct{ Session string }
			json.Unmarshal([]byte(text), &out)
			mu.Lock()
			defer mu.Unlock()
			if r.StatusCode == 201 {
				in[out.Session]++
				cookies = append(cookies, r.Cookies()...)
			}
		})
	}
	work.Wait()
	if len(in) != 5 || len(cookies) != 5 {
		t.Fatalf("%d testers got into a round for 5, with %d cookies", len(in), len(cookies))
	}
	again := func(c *http.Cookie) (status int, out begun) {
		r, text := ask(t, "POST", o.Link+"/sessions", "", strings.NewReader(`{}`), "Cookie", c.Name+"="+c.Value)
		json.Unmarshal([]byte(text), &out)
		return r.StatusCode, out
	}
	first, out := again(cookies[0])
	if first != 201 || !out.Again || in[out.Session] != 1 {
		t.Errorf("one who comes back: %d %+v", first, out)
	}
	if gameOf(t, o) != "" || gameOf(t, o, "Cookie", cookies[1].Name+"="+cookies[1].Value) == "" {
		t.Error("a full round is open to strangers, or closed to its own testers")
	}
	forged := *cookies[0]
	forged.Value = strings.Replace(forged.Value, ".", "x.", 1)
	if s, _ := again(&forged); s != 409 {
		t.Errorf("with a forged mark: %d", s)
	}
	if r, _ := ask(t, "DELETE", o.Link+"/sessions/"+out.Session, "", nil); r.StatusCode != 204 {
		t.Fatal(r.StatusCode)
	}
	if s, _ := begin(t, o.Link); s != 201 {
		t.Errorf("after one withdrew: %d", s)
	}
}

// TestSimulated: only who knows the round's id, as its owner does, says that nobody plays.
func TestSimulated(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{Most: 1})
	for said, want := range map[string]int{`"` + o.ID + `"`: 201, `"guess"`: 201, `true`: 400} {
		if r, _ := ask(t, "POST", o.Link+"/sessions", "", strings.NewReader(`{"simulated": `+said+`}`)); r.StatusCode != want {
			t.Errorf("%s: %d", said, r.StatusCode)
		}
	}
	if r := report(t, h, token, o.ID); r.Testers != 1 || r.Simulated != 1 {
		t.Errorf("%d testers, %d simulated", r.Testers, r.Simulated)
	}
}

// TestLate: what was on its way when a round ended is kept for an hour, and no longer; nothing is taken for a round that is forgotten.
func TestLate(t *testing.T) {
	clock := time.Now()
	h, token := host(t, func(o *Options) { o.Now = func() time.Time { return clock } })
	o := opened(t, h, token, round.Opening{Seconds: 600})
	_, session := begin(t, o.Link)
	tell := func(n int) int {
		s, _ := sends(t, o, session, fmt.Sprintf(`[{"n":%d,"at":9,"kind":"answer","data":{"question":0,"answer":"late"}}]`, ownFrom+n))
		return s
	}
	ask(t, "POST", h.ControlURL()+"/api/rounds/"+o.ID+"/close", token, nil)
	if s, _ := begin(t, o.Link); s != 410 || tell(1) != 200 {
		t.Errorf("a round that was closed just now: %d for a new tester", s)
	}
	clock = clock.Add(59 * time.Minute)
	if s := tell(2); s != 200 {
		t.Errorf("within the hour: %d", s)
	}
	clock = clock.Add(2 * time.Minute)
	if s := tell(3); s != 410 {
		t.Errorf("after the hour: %d", s)
	}
	gone := opened(t, h, token, round.Opening{})
	_, session = begin(t, gone.Link)
	ask(t, "POST", h.ControlURL()+"/api/rounds/"+gone.ID+"/forget", token, nil)
	if s, _ := sends(t, gone, session, `[{"n":1,"at":9,"kind":"left"}]`); s != 410 {
		t.Errorf("a round that is forgotten: %d", s)
	}
}

// TestInvited: only those who were invited play, each with a link of their own; the owner sees what they did.
func TestInvited(t *testing.T) {
	h, token := host(t, nil)
	o := opened(t, h, token, round.Opening{Invited: []string{"Ada", "Zoë <z@shed.example>"}})
	if len(o.Invitations) != 2 || gameOf(t, o) != "" {
		t.Fatalf("%+v", o.Invitations)
	}
	if s, _ := begin(t, o.Link); s != 403 {
		t.Errorf("without an invitation: %d", s)
	}
	link := o.Invitations[1].Link
	_, page := ask(t, "GET", link, "", nil)
	if !strings.Contains(page, "const game") {
		t.Errorf("an invitation leads nowhere:\n%s", page)
	}
	_, mark, _ := strings.Cut(link, "?for=")
	var first string
	for range 2 { // two browsers of one person
		r, text := ask(t, "POST", o.Link+"/sessions", "", strings.NewReader(`{"invitation": "`+mark+`"}`))
		var out begun
		json.Unmarshal([]byte(text), &out)
		if r.StatusCode != 201 || first != "" && out.Session != first {
			t.Errorf("%d %s", r.StatusCode, text)
		}
		first = out.Session
	}
	sends(t, o, first, fmt.Sprintf(`[{"n":%d,"at":9,"kind":"answer","data":{"question":0,"answer":"yes"}}]`, ownFrom+1))
	_, text := ask(t, "GET", h.ControlURL()+"/api/rounds/"+o.ID+"/invitations", token, nil)
	var out struct{ Invitations []round.Invitation }
	json.Unmarshal([]byte(text), &out)
	if l := out.Invitations; len(l) != 2 || l[0].Opened != 0 || l[0].Played || l[1].Opened != 1 || !l[1].Played || !l[1].Answered || l[1].Link != link {
		t.Errorf("%s", text)
	}
	if r, _ := ask(t, "POST", o.Link+"/sessions", "", strings.NewReader(`{"invitation": "`+mark[1:]+`"}`)); r.StatusCode != 403 {
		t.Errorf("a guessed one: %d", r.StatusCode)
	}
}

// TestFormerData: what a former havvel wrote is taken along, read, and goes on.
func TestFormerData(t *testing.T) {
	data := t.TempDir()
	was, err := os.ReadFile(filepath.Join("testdata", "format-1.db"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(data, "host.db"), was, 0o600); err != nil {
		t.Fatal(err)
	}
	made := time.Date(2026, 11, 30, 6, 20, 0, 0, time.UTC)
	h, _ := host(t, func(o *Options) { o.Data, o.Now = data, func() time.Time { return made }; o.Log = nil })
	_ = h
	var id, secret string
	if err := h.data.row(t.Context(), "SELECT id, secret FROM rounds").Scan(&id, &secret); err != nil {
		t.Fatal(err)
	}
	if _, err := h.data.exec(t.Context(), "UPDATE tokens SET hash = ? WHERE name = 'moth'", hashOf("known")); err != nil {
		t.Fatal(err)
	}
	r := report(t, h, "known", id)
	if r.Testers != 2 || r.Simulated != 1 || len(r.Answers) != 1 || len(r.Answers[0].Given) != 3 || r.Unread != 0 {
		t.Errorf("%+v", r)
	}
	var testers, simulated int
	if err := h.data.row(t.Context(), "SELECT testers, simulated FROM rounds").Scan(&testers, &simulated); err != nil || testers != 2 || simulated != 1 {
		t.Errorf("%d testers, %d simulated (%v)", testers, simulated, err)
	}
	o := round.Opened{ID: id, Link: h.ControlURL() + "/r/" + secret}
	if s, session := begin(t, o.Link); s != 201 {
		t.Errorf("a new tester: %d", s)
	} else if s, text := sends(t, o, session, `[{"n":1,"at":9,"kind":"left"}]`); s != 200 {
		t.Errorf("%d %s", s, text)
	}
}

// TestVisitor: an address is believed only as far as proxies that were named vouch for it.
func TestVisitor(t *testing.T) {
	for _, c := range []struct{ near, said, want string }{
		{"192.0.2.7:80", "203.0.113.9", "192.0.2.7"},
		{"10.0.0.1:80", "203.0.113.9", "203.0.113.9"},
		{"10.0.0.1:80", "1.2.3.4, 203.0.113.9", "203.0.113.9"},
		{"10.0.0.1:80", "1.2.3.4, 203.0.113.9, 10.0.0.2", "203.0.113.9"},
		{"10.0.0.1:80", "nonsense", "10.0.0.1"},
		{"[2001:db8::1]:80", "", "2001:db8::/64"},
	} {
		r, _ := http.NewRequest("GET", "/", nil)
		r.RemoteAddr = c.near
		if c.said != "" {
			r.Header.Set("X-Forwarded-For", c.said)
		}
		o := Options{Proxies: prefixes("10.0.0.0/8")}
		if got := o.visitor(r); got != c.want {
			t.Errorf("%s, %s: %s", c.near, c.said, got)
		}
	}
}

// FuzzTidied keeps whatever a page may send, and makes a report of it.
func FuzzTidied(f *testing.F) {
	for _, s := range []string{`{"event":"level-begun","level":1}`, `{"question":0,"answer":"\ud83d"}`, `{"a":1,"a":2}`, "\xff", `1e999`, `[[[[`} {
		f.Add("event", s)
		f.Add("answer", s)
	}
	f.Fuzz(func(t *testing.T, kind, data string) {
		l := lane{most: mostKept}
		lines, _, err := l.add("s", []event{{N: 1, At: 5, Kind: kind, Data: json.RawMessage(data)}}, &keeping{})
		if err != nil {
			t.Fatal(err)
		}
		text := `{"round":1,"session":"s"}` + "\n" + string(lines)
		if !utf8.Valid(lines) || len(lines) > 8*mostWords+len(kind)*6 {
			t.Errorf("%d bytes are kept: %.100q", len(lines), lines)
		}
		err = round.Read(t.Context(), strings.NewReader(text), func(s *round.Session) error {
			if s.Unread > 0 || len(s.Events) != 1 {
				t.Errorf("%d events come back of %q", len(s.Events), lines)
			}
			round.Follow(s)
			return nil
		})
		if err != nil {
			t.Error(err)
		}
	})
}
