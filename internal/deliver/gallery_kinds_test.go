package deliver

import (
	"encoding/json"
	"fmt"
	"html"
	"io"
	"mime/multipart"
	"net/http"
	"regexp"
	"strings"
)

// graphShop speaks GraphQL; what goes wrong stands in an answer 200.
type graphShop struct {
	hall
}

func (s *graphShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if public(w, r) || !let(w, r) {
		return
	}
	fail := func(why string) {
		out(w, 200, map[string]any{"data": nil, "errors": []any{map[string]any{"message": why}}})
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if !strings.HasPrefix(r.Header.Get("Content-Type"), "multipart/") {
		v := in(r)
		if query, _ := v["query"].(string); !strings.Contains(query, "publish(id: $id) { state page }") {
			fail("not a query: " + query)
			return
		}
		s.live = true
		out(w, 200, map[string]any{"data": map[string]any{"publish": map[string]any{"state": "live", "page": "http://" + r.Host + "/page"}}})
		return
	}
	var o struct {
		Query     string
		Variables map[string]any
	}
	m, err := r.MultipartReader()
	var data []byte
	for part := (*multipart.Part)(nil); err == nil; {
		if part, err = m.NextPart(); err != nil {
			break
		}
		text, _ := io.ReadAll(part)
		switch part.FormName() {
		case "operations":
			json.Unmarshal(text, &o)
		case "0":
			data = text
		}
	}
	title, _ := o.Variables["title"].(string)
	if err != io.EOF || !strings.HasPrefix(o.Query, "mutation($file: Upload!, $title: String!) { upload(") || !strings.HasPrefix(title, `Tinderwick "Lane" & <Co>`) {
		fail(fmt.Sprintf("not a mutation: %q %q", o.Query, title))
		return
	}
	s.keep(data, "")
	out(w, 200, map[string]any{"data": map[string]any{"upload": map[string]any{"id": "g" + fmt.Sprint(s.versions), "state": "ready"}}})
}

// formShop is a web page with forms.
type formShop struct{ hall }

func (s *formShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	s.mu.Lock()
	defer s.mu.Unlock()
	form := func(to, token string) {
		fmt.Fprintf(w, `<form action=%s><input type=hidden name=csrf value="%s"><input type=password name=password>`, to, html.EscapeString(token))
	}
	cookie, _ := r.Cookie("session")
	entered := cookie != nil && cookie.Value == "abc"
	switch {
	case r.URL.Path == "/login" && r.Method == "GET":
		form("/login", `t&1"`)
	case r.URL.Path == "/login":
		r.ParseForm()
		if r.Form.Get("csrf") != `t&1"` || r.Form.Get("user")+":"+r.Form.Get("password") != galleryKey {
			form("/login", `t&1"`)
			return
		}
		http.SetCookie(w, &http.Cookie{Name: "session", Value: "abc", Path: "/"})
		http.Redirect(w, r, "/home", http.StatusFound)
	case !entered:
		http.Redirect(w, r, "/login", http.StatusFound)
	case r.URL.Path == "/home":
		io.WriteString(w, "<a>Log out</a>")
	case r.URL.Path == "/upload" && r.Method == "GET":
		form("/upload", "u2")
	case r.URL.Path == "/upload":
		f, _, err := r.FormFile("build")
		if err != nil || r.FormValue("csrf") != "u2" {
			io.WriteString(w, `<p class="error">The form has expired.</p>`)
			return
		}
		data, _ := io.ReadAll(f)
		s.keep(data, "")
		http.Redirect(w, r, "/builds/7", http.StatusSeeOther)
	case r.URL.Path == "/builds/7":
		io.WriteString(w, `<p data-build="7">Thank you.</p>`)
	}
}

// xmlShop speaks XML.
type xmlShop struct {
	hall
}

var titleIn = regexp.MustCompile(`<title>([^<]*)</title>`)

func (s *xmlShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("X-Key") != galleryKey {
		w.WriteHeader(401)
		return
	}
	data, _ := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	w.Header().Set("Content-Type", "application/xml")
	switch {
	case r.Method == "PUT" && strings.HasPrefix(r.URL.Path, "/versions/"):
		if m := titleIn.FindSubmatch(data); m == nil || html.UnescapeString(string(m[1])) != `Tinderwick "Lane" & <Co>` {
			w.WriteHeader(422)
			fmt.Fprintf(w, "<fault>bad title in %s</fault>", html.EscapeString(string(data)))
			return
		}
		s.keep(nil, r.URL.Path)
		fmt.Fprintf(w, `<?xml version="1.0"?><a:envelope xmlns:a="urn:a"><version xmlns="urn:cressburn" id="v-%s"><upload>http://%s/up</upload></version></a:envelope>`, last(r.URL.Path), r.Host)
	case r.Method == "PUT":
		s.data = data
		w.WriteHeader(204)
	case r.URL.Path == "/feed":
		io.WriteString(w, `<feed xmlns="http://www.w3.org/2005/Atom"><entry><title>1</title><state>ready</state></entry><entry><title>2</title><state>ready</state></entry></feed>`)
	default:
		io.WriteString(w, `<version xmlns="urn:cressburn"><state> ready </state><link href="/p"/></version>`)
	}
}

// jobShop does the work later.
type jobShop struct {
	putShop
	asked int
}

func (s *jobShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case !let(w, r):
	case r.Method == "PUT":
		s.putShop.ServeHTTP(&quiet{w}, r)
		s.asked = 0
		w.Header().Set("Location", "/jobs/1")
		out(w, 202, map[string]string{"state": "waiting"})
	case r.URL.Path == "/jobs/1":
		if s.asked++; s.asked < 3 {
			w.Header().Set("Retry-After", "1")
			out(w, 200, map[string]any{"state": "waiting"})
			return
		}
		http.Redirect(w, r, "/builds/9", http.StatusSeeOther)
	default:
		out(w, 200, map[string]any{"id": 9, "state": "ready"})
	}
}

// quiet takes an answer and says nothing.
type quiet struct{ http.ResponseWriter }

func (quiet) Write(p []byte) (int, error) { return len(p), nil }
func (quiet) WriteHeader(int)             {}
