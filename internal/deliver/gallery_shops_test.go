package deliver

import (
	"crypto/md5"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
)

// in reads a request's JSON.
func in(r *http.Request) map[string]any {
	var v map[string]any
	json.NewDecoder(r.Body).Decode(&v)
	return v
}

func out(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

// let reports whether a request has the key.
func let(w http.ResponseWriter, r *http.Request) bool {
	if r.Header.Get("Authorization") == "Bearer "+galleryKey || r.Header.Get("X-Key") == galleryKey {
		return true
	}
	out(w, 401, map[string]string{"error": "no such key"})
	return false
}

// public answers for the page that everybody may see.
func public(w http.ResponseWriter, r *http.Request) bool {
	if r.URL.Path != "/page" {
		return false
	}
	w.Header().Set("Content-Type", "text/html")
	io.WriteString(w, "<!doctype html><title>Lane</title>")
	return true
}

func last(path string) string { return path[strings.LastIndex(path, "/")+1:] }

// keep puts a whole build away. A version that has a name is made once, however often it comes.
func (h *hall) keep(data []byte, name string) {
	h.data = data
	if name != "" && h.names[name] {
		return
	}
	if h.names == nil {
		h.names = map[string]bool{}
	}
	h.names[name] = true
	h.versions++
}

// putShop takes a build by PUT.
type putShop struct {
	hall
}

func (s *putShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	data, err := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil || r.Method != "PUT" {
		out(w, 400, map[string]string{"error": "cut short"})
		return
	}
	s.keep(data, r.URL.Path)
	out(w, 200, map[string]string{"id": "b"})
}

// resumableShop speaks the open protocol for resumable uploads, and makes a version of an upload that is named.
type resumableShop struct {
	hall
	upload []byte
}

func (s *resumableShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !let(w, r) {
		return
	}
	data, err := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case r.Method == "POST" && r.URL.Path == "/uploads":
		s.upload = nil
		w.Header().Set("Location", "/uploads/7")
		w.WriteHeader(201)
	case r.Method == "HEAD":
		w.Header().Set("Upload-Offset", fmt.Sprint(len(s.upload)))
	case r.Method == "PATCH":
		if r.Header.Get("Upload-Offset") != fmt.Sprint(len(s.upload)) {
			w.WriteHeader(409)
			return
		}
		s.upload = append(s.upload, data...)
		w.Header().Set("Upload-Offset", fmt.Sprint(len(s.upload)))
		if err == nil {
			w.WriteHeader(204)
		}
	case r.Method == "PUT":
		var v map[string]string
		json.Unmarshal(data, &v)
		sum := sha256.Sum256(s.upload)
		if !strings.HasSuffix(v["upload"], "/uploads/7") || v["sha256"] != fmt.Sprintf("%x", sum) {
			out(w, 422, map[string]string{"error": "no such upload: " + v["upload"]})
			return
		}
		s.keep(s.upload, r.URL.Path)
		out(w, 201, map[string]any{"id": 9007199254740993, "state": "waiting"})
	case r.Method == "GET":
		if last(r.URL.Path) != "9007199254740993" {
			out(w, 404, map[string]string{"error": "no such version"})
			return
		}
		out(w, 200, map[string]any{"state": "ready", "reasons": []string{}})
	default:
		w.WriteHeader(405)
	}
}

// partsShop hands out addresses for parts, and wants their entity tags in order.
type partsShop struct {
	hall
	parts map[string][]byte
}

func (s *partsShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	data, err := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case r.Method == "PUT":
		if r.Header.Get("Authorization") != "" || r.URL.Query().Get("signature") != "s" || err != nil {
			w.WriteHeader(403)
			return
		}
		s.parts[last(r.URL.Path)] = data
		w.Header().Set("ETag", fmt.Sprintf(`"%x"`, md5.Sum(data)))
	case !let(w, r):
	case r.URL.Path == "/uploads":
		var v struct{ Bytes, Parts int }
		json.Unmarshal(data, &v)
		parts := []any{}
		for i := range v.Parts {
			parts = append(parts, map[string]any{"number": i + 1, "put": fmt.Sprintf("/put/%d?signature=s", i+1)})
		}
		out(w, 201, map[string]any{"upload": "u" + r.Header.Get("Idempotency-Key")[:4], "parts": parts})
	default:
		var v struct {
			Parts []struct {
				Number int
				Etag   string
			}
		}
		json.Unmarshal(data, &v)
		var whole []byte
		for i, p := range v.Parts {
			part := s.parts[fmt.Sprint(i+1)]
			if p.Number != i+1 || p.Etag != fmt.Sprintf(`"%x"`, md5.Sum(part)) {
				out(w, 422, map[string]string{"error": fmt.Sprintf("part %d is another", i+1)})
				return
			}
			whole = append(whole, part...)
		}
		s.keep(whole, r.URL.Path)
		out(w, 200, map[string]any{"id": 5})
	}
}

// oauthShop gives tokens that last for five requests.
type oauthShop struct {
	hall
	token, left int
	pieces      map[string][]byte
}

func (s *oauthShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	data, _ := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.URL.Path == "/token" {
		id, secret, _ := r.BasicAuth()
		if id+":"+secret != galleryKey || !strings.Contains(string(data), "grant_type=client_credentials") {
			out(w, 401, map[string]string{"error": "invalid_client"})
			return
		}
		s.token, s.left = s.token+1, 5
		out(w, 200, map[string]any{"access_token": fmt.Sprint("access-", s.token), "token_type": "Bearer", "expires_in": 3600})
		return
	}
	if s.left--; r.Header.Get("Authorization") != fmt.Sprint("Bearer access-", s.token) || s.left < 0 {
		out(w, 401, map[string]string{"error": "the token has expired"})
		return
	}
	if !strings.Contains(r.URL.Path, "/pieces/") {
		s.keep(nil, r.URL.Path)
		s.pieces = map[string][]byte{}
		out(w, 201, map[string]any{"id": s.versions})
		return
	}
	s.pieces[last(r.URL.Path)] = data
	s.data = nil
	for i := range len(s.pieces) {
		s.data = append(s.data, s.pieces[fmt.Sprint(i+1)]...)
	}
}

// deviceShop has a person confirm; its tokens for renewing can be used once.
type deviceShop struct {
	putShop
	asked, renewals int
	access          string
}

func (s *deviceShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/device":
		out(w, 200, map[string]any{"device_code": "d", "user_code": "LAMP", "verification_uri": "http://127.0.0.1/device", "interval": 1, "expires_in": 60})
	case "/token":
		r.ParseForm()
		s.mu.Lock()
		defer s.mu.Unlock()
		switch r.Form.Get("grant_type") {
		case "urn:ietf:params:oauth:grant-type:device_code":
			if s.asked++; s.asked < 2 {
				out(w, 400, map[string]string{"error": "authorization_pending"})
				return
			}
		case "refresh_token":
			if r.Form.Get("refresh_token") != fmt.Sprint("refresh-", s.renewals) {
				out(w, 400, map[string]string{"error": "invalid_grant"})
				return
			}
		}
		s.renewals++
		s.access = fmt.Sprint("access-", s.renewals)
		out(w, 200, map[string]any{"access_token": s.access, "refresh_token": fmt.Sprint("refresh-", s.renewals), "token_type": "Bearer", "expires_in": 3600})
	default:
		if r.Header.Get("Authorization") != "Bearer "+s.access {
			out(w, 401, map[string]string{"error": "log in"})
			return
		}
		s.putShop.ServeHTTP(w, r)
		s.access = "used up" // each upload needs a new one
	}
}

// releasesShop has releases with files, ten on a page.
type releasesShop struct {
	hall
	releases []map[string]any
}

func (s *releasesShop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if public(w, r) || !let(w, r) {
		return
	}
	data, err := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.releases) == 0 {
		for i := range 60 {
			s.releases = append(s.releases, map[string]any{"id": 1000 + i, "tag": fmt.Sprint("0.", i)})
		}
	}
	switch {
	case err != nil:
	case r.Method == "GET" && r.URL.Path == "/releases":
		page, _ := strconv.Atoi(r.URL.Query().Get("page"))
		end := min(page*10+10, len(s.releases))
		if end < len(s.releases) {
			w.Header().Set("Link", fmt.Sprintf(`<http://%s/releases?page=%d>; rel="next"`, r.Host, page+1))
		}
		out(w, 200, s.releases[page*10:end])
	case r.Method == "POST":
		var v map[string]any
		json.Unmarshal(data, &v)
		v["id"] = 2000 + len(s.releases)
		s.releases = append(s.releases, v)
		s.versions++
		out(w, 201, v)
	case r.Method == "GET":
		out(w, 200, []any{map[string]any{"id": 3, "name": "game.zip"}, map[string]any{"id": 4, "name": "notes"}})
	case r.Method == "DELETE" && r.URL.Path == "/files/3":
		w.WriteHeader(204)
	case r.Method == "PUT":
		s.data = data
		out(w, 201, map[string]any{})
	case r.Method == "PATCH":
		s.live = true
		out(w, 200, map[string]any{"state": "live", "page": "http://" + r.Host + "/page"})
	default:
		out(w, 400, map[string]string{"error": r.Method + " " + r.URL.Path})
	}
}
