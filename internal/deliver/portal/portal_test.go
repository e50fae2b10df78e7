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

	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

const key = "oil-and-wick"

// host starts a server and a session with it, whose rulebook has these states.
func host(t *testing.T, handler http.HandlerFunc) *Session {
	t.Helper()
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	rules := &rulebook.Rulebook{
		Name: "Osierfold",
		Interface: rulebook.Interface{
			States:  map[string]string{"busy": "verifying", "good": "draft", "bad": "refused"},
			Refusal: rulebook.Refusal{Words: []rulebook.Pointer{pointer("/faults/*/text")}, Key: []int{401}},
		},
	}
	s := NewSession(
		rules,
		server.URL,
		key,
		map[string]string{"version": "0.4.0", "game.short": "a b/c", "game.title": `Lane "&"`, "archive.bytes": "11"},
	)
	archive := filepath.Join(t.TempDir(), "lane.zip")
	if err := os.WriteFile(archive, []byte("hello world"), 0o644); err != nil {
		t.Fatal(err)
	}
	s.Files = map[string]File{"archive": {Path: archive, Bytes: 11}, "entry": {Path: archive, Bytes: 11}}
	return s
}

func pointer(text string) rulebook.Pointer {
	p, err := rulebook.NewPointer(text)
	if err != nil {
		panic(err) // the test is wrong
	}
	return p
}

// taking are values and where they are in an answer, by turns.
func taking(list ...string) map[string]rulebook.Place {
	places := map[string]rulebook.Place{}
	for i := 0; i < len(list); i += 2 {
		var p rulebook.Place
		if err := p.UnmarshalText([]byte(list[i+1])); err != nil {
			panic(err) // the test is wrong
		}
		places[list[i]] = p
	}
	return places
}

func texts(list map[string]string) map[string]rulebook.Text {
	out := map[string]rulebook.Text{}
	for name, text := range list {
		out[name] = rulebook.NewText(text)
	}
	return out
}

func get(step rulebook.Step) []rulebook.Step {
	step.Step, step.Expect = "try", []int{200}
	if step.Method == "" {
		step.Method = "GET"
	}
	if step.Address.String() == "" {
		step.Address = rulebook.NewText("{address}/x")
	}
	return []rulebook.Step{step}
}

// TestBodies: each kind of body arrives as the standard for it says, with values filled in and escaped.
func TestBodies(t *testing.T) {
	for name, c := range map[string]struct {
		step rulebook.Step
		want string
	}{
		"json": {rulebook.Step{JSON: rulebook.Body(map[string]any{"title": "{game.title}", "size": "{archive.bytes}",
			"list": []any{"{version}", int64(2)}})}, `application/json {"list":["0.4.0",2],"size":11,"title":"Lane \"\u0026\""}`},
		"form": {rulebook.Step{Form: texts(map[string]string{"t": "{game.title}", "v": "{version}"})}, "application/x-www-form-urlencoded " +
			"t=Lane+%22%26%22&v=0.4.0"},
		"file": {rulebook.Step{File: "archive", Headers: texts(map[string]string{"Content-Type": "application/zip"})}, "application/zip hello " +
			"world"},
		"multipart": {rulebook.Step{Parts: []rulebook.Part{{Name: "v", Text: rulebook.NewText("{version}")},
			{Name: "f", File: "archive", Type: "application/zip"}}}, "multipart v=0.4.0 f=lane.zip application/zip hello world"},
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
					got = fmt.Sprintf("multipart v=%s f=%s %s %s", r.FormValue("v"), h.Filename, h.Header.Get("Content-Type"), data)
				} else {
					data, _ := io.ReadAll(r.Body)
					got = kind + " " + string(data)
				}
				if r.ContentLength < 0 || r.URL.EscapedPath() != "/games/a%20b%2Fc" || r.URL.Query().Get("v") != "0.4.0" {
					t.Errorf("length %d, address %s", r.ContentLength, r.URL)
				}
			})
			c.step.Method, c.step.Address = "POST", rulebook.NewText("{address}/games/{game.short}?v={version}")
			if _, err := s.Run(context.Background(), get(c.step), 0); err != nil {
				t.Fatal(err)
			}
			if got != c.want {
				t.Errorf("\n got %s\nwant %s", got, c.want)
			}
		})
	}
}

// TestTake: values come from the answer's body and header, and later steps use them.
func TestTake(t *testing.T) {
	s := host(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/x":
			w.Header().Set("Location", "/second/7")
			io.WriteString(w, `{"a/b":{"id":12345678901234567890},"state":"bad","faults":[{"text":"one"},{"text":"two"}],"draft":"http://d"}`)
		case "/second/7":
			if r.Header.Get("X-Id") != "12345678901234567890" {
				t.Errorf("id %q", r.Header.Get("X-Id"))
			}
		default:
			t.Errorf("asked for %s", r.URL)
		}
	})
	steps := append(
		get(
			rulebook.Step{
				Take: taking(
					"id", "/a~1b/id",
					"next", "header Location",
					"state", "/state",
					"reasons", "/faults/*/text",
					"draft", "/draft",
					"link", "/none",
				),
			},
		),
		get(rulebook.Step{Address: rulebook.NewText("{next}"), Headers: texts(map[string]string{"X-Id": "{id}"})})...)
	a, err := s.Run(context.Background(), steps, 0)
	if err != nil {
		t.Fatal(err)
	}
	if a.State != "refused" || strings.Join(a.Reasons, ",") != "one,two" || a.Draft != "http://d" || a.Link != "" {
		t.Errorf("%+v", a)
	}
}

// TestNo: how a portal's refusals and oddities are told, without the key.
func TestNo(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		body   string
		kind   any
		says   string
	}{
		"refused": {422, `{"faults":[{"text":"too large, oil-and-wick"}]}`, new(*Refused),
			"(status 422 Unprocessable Entity): too large, (key)"},
		"key":           {401, `{}`, new(*Refused), "refused the key (status 401)"},
		"no JSON":       {500, `<h1>oops</h1>`, new(*Refused), "status 500"},
		"unknown state": {200, `{"state":"dancing"}`, new(*Puzzled), `it says "dancing"`},
		"no state":      {200, `{}`, new(*Puzzled), "its answer has no state (at /state)"},
		"a web page":    {200, `<html>`, new(*Puzzled), "no state"},
	} {
		t.Run(name, func(t *testing.T) {
			s := host(t, func(w http.ResponseWriter, _ *http.Request) {
				w.WriteHeader(c.status)
				io.WriteString(w, c.body)
			})
			_, err := s.Run(context.Background(), get(rulebook.Step{Take: taking("state", "/state")}), 0)
			if err == nil || !errors.As(err, c.kind) || !strings.Contains(err.Error(), c.says) || strings.Contains(err.Error(), key) {
				t.Errorf("%T %v", err, err)
			}
		})
	}
}

// TestKeyStaysHome: the key goes to no other host than the destination's.
func TestKeyStaysHome(t *testing.T) {
	var leaked atomic.Bool
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		data, _ := io.ReadAll(r.Body)
		all, _ := json.Marshal(r.Header)
		if strings.Contains(string(data)+string(all)+r.URL.String(), key) {
			leaked.Store(true)
		}
	}))
	defer other.Close()
	withKey := rulebook.Step{Address: rulebook.NewText("{upload}"), Headers: texts(map[string]string{"X-Key": "{key}"})}
	inBody := rulebook.Step{Method: "POST", Address: rulebook.NewText("{upload}"),
		JSON: rulebook.Body(map[string]any{"k": map[string]any{"l": "{key}"}})}
	for name, step := range map[string]rulebook.Step{"header": withKey, "body": inBody} {
		s := host(t, func(http.ResponseWriter, *http.Request) {})
		s.Values["upload"] = other.URL + "/up"
		var puzzled *Puzzled
		if _, err := s.Run(context.Background(), get(step), 0); !errors.As(err, &puzzled) || !strings.Contains(err.Error(), "another host") {
			t.Errorf("%s: %v", name, err)
		}
	}
	s := host(t, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, other.URL, http.StatusTemporaryRedirect)
	})
	if _, err := s.Run(context.Background(), get(rulebook.Step{Headers: texts(map[string]string{"X-Key": "{key}"})}), 0); err == nil ||
		!strings.Contains(err.Error(), "another host") {
		t.Errorf("redirect: %v", err)
	}
	if leaked.Load() {
		t.Error("the key went to another host")
	}
	// Without the key, an address elsewhere is fine: portals hand out pre-signed ones.
	plain := host(t, func(http.ResponseWriter, *http.Request) {})
	plain.Values["upload"] = other.URL + "/up"
	if _, err := plain.Run(context.Background(), get(rulebook.Step{Method: "PUT", Address: rulebook.NewText("{upload}"), File: "archive"}),
		0); err != nil {
		t.Error(err)
	}
}

// TestRepeat waits for a decision, through a short outage, but no longer than it may.
func TestRepeat(t *testing.T) {
	var asked atomic.Int32
	s := host(t, func(w http.ResponseWriter, _ *http.Request) {
		switch n := asked.Add(1); {
		case n == 2:
			panic(http.ErrAbortHandler)
		case n < 4:
			io.WriteString(w, `{"state":"busy"}`)
		default:
			io.WriteString(w, `{"state":"good"}`)
		}
	})
	step := get(
		rulebook.Step{
			Take: taking("state", "/state"),
			Repeat: &rulebook.Repeat{
				Value: "state",
				Until: []string{"good", "bad"},
				Every: settings.Span(5 * time.Millisecond),
				Limit: settings.Span(time.Second),
			},
		},
	)
	if a, err := s.Run(context.Background(), step, 0); err != nil || a.State != "verifying" || asked.Load() != 1 {
		t.Errorf("without waiting: %+v %v after %d requests", a, err, asked.Load())
	}
	if a, err := s.Run(context.Background(), step, time.Second); err != nil || a.State != "draft" {
		t.Errorf("%+v %v", a, err)
	}
	never := host(t, func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, `{"state":"busy"}`) })
	began := time.Now()
	if a, err := never.Run(context.Background(), step, 50*time.Millisecond); err != nil || a.State != "verifying" ||
		time.Since(began) > 5*time.Second {
		t.Errorf("%+v %v after %s", a, err, time.Since(began))
	}
}

// TestSilence: a host that takes the connection and says nothing does not hold us for ever.
func TestSilence(t *testing.T) {
	release := make(chan bool)
	s := host(t, func(http.ResponseWriter, *http.Request) { <-release })
	defer close(release)
	var gone *Unreachable
	if _, err := s.Run(context.Background(), get(rulebook.Step{Limit: settings.Span(50 * time.Millisecond)}), 0); !errors.As(err, &gone) ||
		!strings.Contains(err.Error(), "no answer in time") {
		t.Errorf("%v", err)
	}
}

// TestParts: entry page and rest travel as parts of one request, each whole, with their sizes known before.
func TestParts(t *testing.T) {
	var got []string
	s := host(t, func(w http.ResponseWriter, r *http.Request) {
		if r.ContentLength <= 0 {
			t.Error("the length was not said before")
		}
		if err := r.ParseMultipartForm(1 << 20); err != nil {
			t.Error(err)
			return
		}
		for _, name := range []string{"page", "others"} {
			f, header, err := r.FormFile(name)
			if err != nil {
				t.Error(err)
				return
			}
			data, _ := io.ReadAll(f)
			got = append(got, name+" "+header.Filename+" "+string(data))
		}
		got = append(got, r.FormValue("size"))
	})
	rest := filepath.Join(t.TempDir(), "rest.zip")
	if err := os.WriteFile(rest, []byte("the rest"), 0o644); err != nil {
		t.Fatal(err)
	}
	s.Files["rest"] = File{Path: rest, Bytes: 8}
	s.Values["rest.bytes"] = "8"
	step := rulebook.Step{
		Method: "PUT",
		Parts: []rulebook.Part{
			{Name: "page", File: "entry", Type: "text/html"},
			{Name: "size", Text: rulebook.NewText("{rest.bytes}")},
			{Name: "others", File: "rest", Type: "application/zip"},
		},
	}
	if _, err := s.Run(context.Background(), get(step), 0); err != nil {
		t.Fatal(err)
	}
	if fmt.Sprint(got) != "[page lane.zip hello world others rest.zip the rest 8]" {
		t.Errorf("%q", got)
	}
	if _, err := s.Run(context.Background(), get(rulebook.Step{Method: "PUT", File: "none"}), 0); err == nil {
		t.Error("a file that is not there was sent")
	}
}
