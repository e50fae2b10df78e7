package portal

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"havvel/internal/fault"
	"havvel/internal/rulebook"
	"havvel/internal/rulebook/expression"
)

const key = "oil-and-wick"

// bare is a rulebook to which a test adds steps.
const bare = `format = "havvel-rulebook/2"
name = "Osierfold"
[archive]
hand_over = "zip"
[key]
where = "there"
[refusal]
words = ["$.faults[*].text", "/error"]
key = [401]
[states]
busy = "verifying"
good = "draft"
bad = "refused"
open = "public"
[[value]]
name = "nothing"
says = "it"
`

// host starts a server and a session with it, whose rulebook has these steps besides. The server gets an archive of 11 bytes.
func host(t *testing.T, handler http.HandlerFunc, steps string) *Session {
	t.Helper()
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	rules, err := rulebook.Parse("own.toml", []byte(bare+steps))
	if err != nil {
		t.Fatal(err)
	}
	archive := filepath.Join(t.TempDir(), "lane.zip")
	if err := os.WriteFile(archive, []byte("hello world"), 0o644); err != nil {
		t.Fatal(err)
	}
	s, err := NewSession(rules, server.URL, key, expression.Values{
		"version": "0.4.0", "game": map[string]any{"short": "a b/c", "title": `Lane "&"`},
		"archive": expression.File{Name: "lane.zip", Bytes: 11, SHA256: "sum"}.At(archive),
	})
	if err != nil {
		t.Fatal(err)
	}
	s.pause = time.Millisecond
	return s
}

// step is a step of a recipe, with what is usual left out.
func step(recipe, more string) string {
	text := "[[" + recipe + "]]\nstep = \"try\"\n" + more + "\n"
	for name, usual := range map[string]string{"method": `"GET"`, "address": `"{address}/x"`, "expect": "[200]"} {
		if !strings.Contains(text, "\n"+name+" =") {
			text += name + " = " + usual + "\n"
		}
	}
	return text
}

// TestBodies: each kind of body arrives as the standard for it says, with values filled in and escaped.
func TestBodies(t *testing.T) {
	for name, c := range map[string]struct{ body, want string }{
		"json": {`json = { title = "{game.title}", size = "{archive.bytes}", list = ["{version}", 2], big = "{archive.bytes > 3}" }`,
			`application/json {"big":true,"list":["0.4.0",2],"size":11,"title":"Lane \"&\""}`},
		"form": {`form = { t = "{game.title}", v = "{version}" }`, "application/x-www-form-urlencoded t=Lane+%22%26%22&v=0.4.0"},
		"file": {"file = \"archive\"\nheaders = { Content-Type = \"application/zip\" }", "application/zip hello world"},
		"text": {"text = \"<v>{version}</v>\"\nheaders = { Content-Type = \"application/xml\" }", "application/xml <v>0.4.0</v>"},
		"hash": {"file = \"archive\"\nheaders = { Content-Type = \"a/{body.md5}\" }", "a/5eb63bbbe01eeed093cb22bb8f5acdc3 hello world"},
		"parts": {"part = [{ name = \"v\", text = \"{version}\" }, { name = \"n\", when = \"false\", text = \"x\" }, " +
			"{ name = \"f\", file = \"archive\", type = \"application/zip\", as = \"{version}.zip\" }]",
			"multipart v=0.4.0 f=0.4.0.zip application/zip hello world n=[]"},
		"piece": {"each = \"p in pieces(archive, 4)\"\nfile = \"p\"\nheaders = { Content-Type = \"a/{p.offset}-{p.end}\" }",
			"a/0-3 hella/4-7 o woa/8-10 rld"},
	} {
		t.Run(name, func(t *testing.T) {
			var got string
			s := host(t, func(w http.ResponseWriter, r *http.Request) {
				kind := r.Header.Get("Content-Type")
				if strings.HasPrefix(kind, "multipart/") {
					f, h, err := r.FormFile("f")
					if err != nil {
						t.Error(err)
						return
					}
					data, _ := io.ReadAll(f)
					got = fmt.Sprintf("multipart v=%s f=%s %s %s n=%v", r.FormValue("v"), h.Filename, h.Header.Get("Content-Type"), data, r.Form["n"])
				} else {
					data, _ := io.ReadAll(r.Body)
					got += kind + " " + string(data)
				}
				if r.ContentLength < 0 || r.URL.EscapedPath() != "/games/a%20b%2Fc" || r.URL.Query().Get("v") != "0.4.0" {
					t.Errorf("length %d, address %s", r.ContentLength, r.URL)
				}
			}, step("replace", "method = \"POST\"\naddress = \"{address}/games/{game.short}?v={version}\"\n"+c.body))
			if _, err := s.Run(context.Background(), s.Rules.Replace, ByRulebook); err != nil {
				t.Fatal(err)
			}
			if got != c.want {
				t.Errorf("\n got %s\nwant %s", got, c.want)
			}
		})
	}
}

// TestYes: what counts as yes, and what doesn't.
func TestYes(t *testing.T) {
	page := func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		io.WriteString(w, "<title>Log in</title>")
	}
	say := func(status int, body string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			w.WriteHeader(status)
			io.WriteString(w, body)
		}
	}
	to := func(status int, where string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/x" {
				page(w, r)
				return
			}
			http.Redirect(w, r, where, status)
		}
	}
	for name, c := range map[string]struct {
		host http.HandlerFunc
		step string
		says string // the error; "" for yes
		kind any
	}{
		"yes":                         {say(200, `{}`), `method = "POST"`, "", nil},
		"a write sent to the log-in":  {to(302, "/login?next=secret"), `method = "POST"`, "/login, and that is no yes to a write", new(*Refused)},
		"likewise, 303":               {to(303, "/login"), `method = "PUT"`, "that is no yes", new(*Refused)},
		"likewise, 301":               {to(301, "/login"), `method = "DELETE"`, "that is no yes", new(*Refused)},
		"where the step follows":      {to(303, "/done"), "method = \"POST\"\nredirect = \"result\"", "", nil},
		"307 within the host":         {to(307, "/moved"), `method = "POST"`, "", nil},
		"307 elsewhere":               {to(307, "http://elsewhere.example/x"), `method = "POST"`, "elsewhere.example/x, and that is no yes", new(*Refused)},
		"an error inside a 200":       {say(200, `{"error":"too large"}`), `method = "POST"`, "too large", new(*Refused)},
		"an empty error":              {say(200, `{"error":null,"faults":[]}`), `method = "POST"`, "", nil},
		"no, by a condition":          {say(200, `{"ok":false}`), "method = \"POST\"\nyes = \"answer.ok\"", "answer.ok is false", new(*Refused)},
		"yes, by a condition":         {say(200, `{"ok":true}`), "method = \"POST\"\nyes = \"answer.ok\"\nno = \"answer?.problem != nil\"", "", nil},
		"a condition that can't be":   {say(200, `{"okay":true}`), "method = \"PUT\"\nyes = \"answer.ok\"", `no "ok" in it; it has: okay`, new(*Puzzled)},
		"refused":                     {say(422, `{"faults":[{"text":"too large, oil-and-wick"}]}`), "", "422 Unprocessable Entity): too large, (key)", new(*Refused)},
		"the key, percent-escaped":    {say(422, `{"error":"a%20b oil-and-wick"}`), "", "(key)", new(*Refused)},
		"key":                         {say(401, `{}`), "", "refused the key (status 401)", new(*Refused)},
		"words that nobody told of":   {say(400, "Title is missing"), "", "400 Bad Request): Title is missing", new(*Refused)},
		"an unknown state":            {say(200, `{"state":"dancing"}`), `take = { state = "/state" }`, `it says "dancing"`, new(*Puzzled)},
		"no state":                    {say(200, `{}`), `take = { state = "/state" }`, "its answer has no state (at /state)", new(*Puzzled)},
		"a web page in place of JSON": {page, `take = { id = "/id" }`, `a web page, "Log in", not JSON`, new(*Puzzled)},
		"a list that is a web page":   {page, `take = { ids = "$.ids[*]" }`, "not JSON", new(*Puzzled)},
		"a write that answers so":     {page, "method = \"POST\"\ntake = { id = \"/id\" }", "whether it was done is unknown", new(*Lost)},
		"a gateway's word":            {say(502, ""), `method = "POST"`, "whether it was done is unknown", new(*Lost)},
		"done before":                 {say(409, `{"error":"it is there"}`), "method = \"POST\"\ndone = [409]", "", nil},
		"a value that isn't there":    {say(200, `{}`), `headers = { X = "{to.nothing}" }`, "{to.nothing} has no value", new(*Puzzled)},
		"JSON as another type, guarded": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			io.WriteString(w, "\ufeff)]}'\n{\"id\":1}")
		}, `take = { id = "/id" }`, "", nil},
	} {
		t.Run(name, func(t *testing.T) {
			s := host(t, c.host, step("follow", c.step))
			s.Know("to", map[string]any{"nothing": nil})
			_, err := s.Run(context.Background(), s.Rules.Follow, ByRulebook)
			if c.says == "" {
				if err != nil {
					t.Error(err)
				}
				return
			}
			if err == nil || !errors.As(err, c.kind) || !strings.Contains(err.Error(), c.says) || strings.Contains(err.Error(), key) ||
				strings.Contains(err.Error(), "secret") {
				t.Errorf("%T %v", err, err)
			}
			if strings.Contains(fault.Of(err).Next, "nothing was lost") {
				t.Errorf("it promises too much: %s", fault.Of(err).Next)
			}
		})
	}
}

// TestKeyStaysHome: the key goes to no other host than the destination's, and those that are named.
func TestKeyStaysHome(t *testing.T) {
	var leaked atomic.Int32
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		data, _ := io.ReadAll(r.Body)
		all, _ := json.Marshal(r.Header)
		if strings.Contains(string(data)+string(all)+r.URL.String(), key) {
			leaked.Add(1)
		}
	}))
	defer other.Close()
	nothing := func(http.ResponseWriter, *http.Request) {}
	elsewhere := `address = "` + strings.Replace(other.URL, "127.0.0.1", "localhost", 1) + `/up"` + "\n"
	for name, more := range map[string]string{
		"header": elsewhere + `headers = { X-Key = "{key}" }`, "made of it": elsewhere + `headers = { X-Key = "{base64(key)}" }`,
		"body": elsewhere + "method = \"POST\"\njson = { k = { l = \"{key}\" } }",
	} {
		s := host(t, nothing, step("follow", more))
		var puzzled *Puzzled
		if _, err := s.Run(context.Background(), s.Rules.Follow, 0); !errors.As(err, &puzzled) || !strings.Contains(err.Error(), "another host") {
			t.Errorf("%s: %v", name, err)
		}
	}
	s := host(t, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, other.URL, http.StatusTemporaryRedirect)
	},
		step("follow", `headers = { X-Key = "{key}" }`))
	if _, err := s.Run(context.Background(), s.Rules.Follow, 0); err == nil || !strings.Contains(err.Error(), "another host") {
		t.Errorf("redirect: %v", err)
	}
	// Without the key, an address elsewhere is fine: portals hand out pre-signed ones. A header of every step stays behind.
	s = host(t, nothing, "[headers]\nAuthorization = \"Bearer {key}\"\n"+step("send", elsewhere+"method = \"PUT\"\nfile = \"archive\""))
	if _, err := s.Run(context.Background(), s.Rules.Send, 0); err != nil || leaked.Load() > 0 {
		t.Errorf("%v, %d leaks", err, leaked.Load())
	}
	s.Rules.Key.Hosts = []string{"localhost"}
	if _, err := s.Run(context.Background(), s.Rules.Send, 0); err != nil || leaked.Load() != 1 {
		t.Errorf("a host that is named: %v, %d", err, leaked.Load())
	}
}

// TestRepeat waits for a decision, through a short outage, but no longer than it may.
func TestRepeat(t *testing.T) {
	var asked atomic.Int32
	text := step("follow", "take = { state = \"/state\" }\nrepeat = { until = 'state in [\"good\", \"bad\"]', every = \"5ms\", limit = \"1s\" }")
	s := host(t, func(w http.ResponseWriter, _ *http.Request) {
		switch n := asked.Add(1); {
		case n == 2:
			panic(http.ErrAbortHandler)
		case n < 4:
			io.WriteString(w, `{"state":"busy"}`)
		default:
			io.WriteString(w, `{"state":"good"}`)
		}
	}, text)
	if a, err := s.Run(context.Background(), s.Rules.Follow, 0); err != nil || a.State != "verifying" || asked.Load() != 1 {
		t.Errorf("without waiting: %+v %v after %d requests", a, err, asked.Load())
	}
	if a, err := s.Run(context.Background(), s.Rules.Follow, ByRulebook); err != nil || a.State != "draft" {
		t.Errorf("%+v %v", a, err)
	}
	never := host(t, func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, `{"state":"busy"}`) }, text)
	began := time.Now()
	if a, err := never.Run(context.Background(), never.Rules.Follow, 50*time.Millisecond); err != nil || a.State != "verifying" ||
		time.Since(began) > 5*time.Second {
		t.Errorf("%+v %v after %s", a, err, time.Since(began))
	}
}

// TestSilence: neither a host that says nothing nor one that never ends holds us for ever.
func TestSilence(t *testing.T) {
	for name, h := range map[string]http.HandlerFunc{
		"nothing": func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() },
		"a trickle": func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				io.WriteString(w, " ")
				w.(http.Flusher).Flush()
				time.Sleep(5 * time.Millisecond)
			}
		},
	} {
		s := host(t, h, step("follow", "method = \"POST\"\nlimit = \"30ms\""))
		var lost *Lost
		began := time.Now()
		if _, err := s.Run(context.Background(), s.Rules.Follow, 0); !errors.As(err, &lost) || time.Since(began) > 10*time.Second {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestWaits: a portal that asks for time gets it, in seconds or by a date, up to the step's limit.
func TestWaits(t *testing.T) {
	for after, c := range map[string]struct {
		limit string
		ends  bool
	}{
		"1":                             {"5s", true},
		"40":                            {"2s", false},
		"Thu, 01 Jan 2099 00:00:00 GMT": {"2s", false},
		time.Now().Add(2 * time.Second).UTC().Format(http.TimeFormat): {"9s", true},
	} {
		var asked atomic.Int32
		s := host(t, func(w http.ResponseWriter, _ *http.Request) {
			if asked.Add(1) == 1 {
				w.Header().Set("Retry-After", after)
				w.WriteHeader(http.StatusTooManyRequests)
			}
		}, step("follow", "method = \"POST\"\nlimit = \""+c.limit+"\""))
		if _, err := s.Run(context.Background(), s.Rules.Follow, 0); (err == nil) != c.ends {
			t.Errorf("%s: %v", after, err)
		}
	}
}

// TestStates: 202 was asked for, and isn't done.
func TestStates(t *testing.T) {
	s := host(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusAccepted) }, step("publish", "method = \"POST\"\nexpect = [202]"))
	if a, err := s.Run(context.Background(), s.Rules.Publish, ByRulebook); err != nil || !a.Asked || a.State != "" {
		t.Errorf("%+v %v", a, err)
	}
}
