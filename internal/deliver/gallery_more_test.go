package deliver

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// chunksShop takes ranges, and the same once more as numbered form fields.
type chunksShop struct {
	hall
	upload []byte
	mirror [][]byte
}

func (s *chunksShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.Method == "POST" {
		f, _, err := r.FormFile("data")
		total, _ := strconv.Atoi(r.FormValue("total"))
		index, bad := strconv.Atoi(r.FormValue("index"))
		if err != nil || bad != nil || index >= total {
			out(w, 400, map[string]string{"error": "no such part"})
			return
		}
		data, _ := io.ReadAll(f)
		if len(s.mirror) != total {
			s.mirror = make([][]byte, total)
		}
		s.mirror[index] = data
		if !slices.ContainsFunc(s.mirror, func(p []byte) bool { return p == nil }) && bytes.Equal(slices.Concat(s.mirror...), s.upload) {
			s.keep(s.upload, r.URL.Path+fmt.Sprint(len(s.upload)))
		}
		return
	}
	data, err := io.ReadAll(r.Body)
	if err != nil {
		return
	}
	ranges := r.Header.Get("Content-Range")
	if ranges == "" {
		var v struct{ Bytes int }
		json.Unmarshal(data, &v)
		if len(s.upload) != v.Bytes {
			s.upload, s.mirror = make([]byte, v.Bytes), nil
		}
		out(w, 201, map[string]any{"id": 3})
		return
	}
	var begin, end, total int
	if n, _ := fmt.Sscanf(ranges, "bytes %d-%d/%d", &begin, &end, &total); n != 3 || total != len(s.upload) || end-begin+1 != len(data) {
		out(w, 416, map[string]string{"error": "bad range " + ranges})
		return
	}
	copy(s.upload[begin:], data)
	w.WriteHeader(202)
}

// eventsShop tells states as they come.
type eventsShop struct{ putShop }

func (s *eventsShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	if r.Method == "PUT" {
		s.putShop.ServeHTTP(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	for _, text := range []string{": beat\n\n", "event: state\ndata: {\"to\":\"waiting\"}\n\n", "event: state\r\ndata: {\"to\":\r\ndata: \"ready\"}\r\n\r\n"} {
		io.WriteString(w, text)
		w.(http.Flusher).Flush()
		time.Sleep(20 * time.Millisecond)
	}
	<-r.Context().Done() // the stream goes on
}

// manifestShop wants only what it doesn't have.
type manifestShop struct {
	hall
	wants map[string]string
	blobs map[string][]byte
	puts  int
}

func (s *manifestShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	data, err := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	missing := func() []string {
		list := []string{}
		for sum := range s.wants {
			if s.blobs[sum] == nil {
				list = append(list, sum)
			}
		}
		return list
	}
	switch {
	case err != nil:
	case strings.HasPrefix(r.URL.Path, "/blobs/"):
		if fmt.Sprintf("%x", sha256.Sum256(data)) != last(r.URL.Path) {
			out(w, 422, map[string]string{"error": "damaged"})
			return
		}
		if s.blobs[last(r.URL.Path)] != nil {
			s.puts += 1000 // it was there
		}
		s.blobs[last(r.URL.Path)] = data
		s.puts++
	case strings.HasSuffix(r.URL.Path, "/done"):
		if len(missing()) > 0 {
			out(w, 409, map[string]string{"error": "files are missing"})
			return
		}
		s.keep(nil, r.URL.Path)
		out(w, 200, map[string]any{"id": "m"})
	default:
		var v struct {
			Files []struct{ Path, Sha256 string }
		}
		json.Unmarshal(data, &v)
		s.wants = map[string]string{}
		for _, f := range v.Files {
			s.wants[f.Sha256] = f.Path
		}
		out(w, 201, map[string]any{"missing": missing()})
	}
}

// busyShop is busy, knows idempotency keys, lists in pages, and wants entity tags.
type busyShop struct {
	hall
	asked int
	made  map[string]bool
	list  []string
	etag  int
}

func (s *busyShop) listed() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.list)
}

func (s *busyShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if public(w, r) || !let(w, r) {
		return
	}
	data, err := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.asked++; s.asked%4 == 1 {
		w.Header().Set("Retry-After", []string{"1", time.Now().Add(2 * time.Second).UTC().Format(http.TimeFormat)}[s.asked/4%2])
		out(w, []int{429, 403, 503}[s.asked/4%3], map[string]string{"error": "slow down"})
		return
	}
	switch {
	case err != nil:
	case r.Method == "POST":
		var v struct{ Version string }
		json.Unmarshal(data, &v)
		id := slices.Index(s.list, v.Version)
		if id >= 0 && !s.made[r.Header.Get("Idempotency-Key")] {
			out(w, 409, map[string]string{"problem": "it is there"})
			return
		}
		if id < 0 {
			s.list, s.made[r.Header.Get("Idempotency-Key")] = append(s.list, v.Version), true
			s.versions++
			id = len(s.list) - 1
		}
		out(w, 201, map[string]any{"id": id})
	case strings.HasSuffix(r.URL.Path, "/zip"):
		s.data = data
	case r.URL.Path == "/versions":
		page, _ := strconv.Atoi(r.URL.Query().Get("page"))
		rows := []any{}
		if page < len(s.list) {
			rows = append(rows, map[string]any{"version": s.list[page], "state": "ready", "id": page})
		}
		if page+1 < len(s.list) {
			w.Header().Set("Link", fmt.Sprintf(`</versions?page=%d>; rel=next`, page+1))
		}
		out(w, 200, map[string]any{"versions": rows})
	case r.Method == "GET":
		w.Header().Set("ETag", fmt.Sprintf(`"%d"`, s.etag))
		out(w, 200, map[string]any{})
	case r.Header.Get("If-Match") != fmt.Sprintf(`"%d"`, s.etag):
		out(w, 412, map[string]string{"error": "it has changed"})
	default:
		s.etag++
		s.live = true
		out(w, 200, map[string]any{"state": "live", "page": "http://" + r.Host + "/page"})
	}
}

// pageShop has a page, pictures and leaderboards.
type pageShop struct {
	putShop
	page   string
	boards map[string]string
}

func (s *pageShop) last() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.page
}

func (s *pageShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	if strings.HasPrefix(r.URL.Path, "/builds/") {
		s.putShop.ServeHTTP(w, r)
		return
	}
	data, _ := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case r.URL.Path == "/page":
		var v any
		json.Unmarshal(data, &v)
		var text bytes.Buffer
		e := json.NewEncoder(&text)
		e.SetEscapeHTML(false)
		e.Encode(v)
		s.page = text.String()
	case r.Method == "DELETE":
		delete(s.boards, last(r.URL.Path))
		w.WriteHeader(204)
	case strings.HasPrefix(r.URL.Path, "/boards/"):
		s.boards[last(r.URL.Path)] = string(data)
	default:
		out(w, 201, map[string]any{"id": 41})
	}
}

// visibilityShop shows a build to some.
type visibilityShop struct {
	putShop
	said []string
}

func (s *visibilityShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	if r.Method == "PUT" && strings.Count(r.URL.Path, "/") == 2 {
		s.putShop.ServeHTTP(&quiet{w}, r)
		out(w, 200, map[string]any{"id": 6, "state": "ready"})
		return
	}
	data, _ := io.ReadAll(r.Body)
	state := "ready"
	switch what := last(r.URL.Path); {
	case what == "review" && r.Method == "PUT":
		state = "queued"
	case strings.Contains(string(data), `"at"`):
		state = "planned"
	case strings.Contains(string(data), `"share"`):
		state = "few"
	}
	s.said = append(s.said, string(data))
	out(w, 200, map[string]any{"state": state, "review": []any{}})
}

// tracksShop has a game by its own number, tracks, and two builds of a version.
type tracksShop struct{ putShop }

func (s *tracksShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	if !strings.HasPrefix(r.URL.Path, "/games/7/tracks/early/") ||
		!strings.Contains(r.URL.Path, "/releases/") && r.Header.Get("X-Signing") != "nine-lanterns-lit" {
		out(w, 404, map[string]string{"error": "no such track"})
		return
	}
	if strings.Contains(r.URL.Path, "/releases/") {
		if v := in(r); fmt.Sprint(v["builds"]) != "[web phone]" {
			out(w, 422, map[string]string{"error": fmt.Sprint("no such builds: ", v)})
			return
		}
		s.versions = 0 // two builds are one version
		for path := range s.names {
			if strings.Contains(path, "/web/") {
				s.versions++
			}
		}
		out(w, 201, map[string]any{"id": "r"})
		return
	}
	s.putShop.ServeHTTP(&quiet{w}, r)
	out(w, 201, map[string]any{"id": strings.Split(r.URL.Path, "/")[5]})
}

// elsewhereShop takes uploads at another name of this machine.
type elsewhereShop struct{ putShop }

func (s *elsewhereShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	if strings.HasPrefix(r.Host, "localhost") {
		s.putShop.ServeHTTP(w, r)
		return
	}
	port := (&url.URL{Host: r.Host}).Port()
	out(w, 200, map[string]any{"upload": "http://localhost:" + port + r.URL.Path})
}
