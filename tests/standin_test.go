package tests

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"havvel/internal/demo"
	model "havvel/internal/hosting"
	"havvel/internal/standin"
)

// ask makes one request to a portal, as a program other than havvel would.
func ask(t testing.TB, method, address, kind string, body []byte) (int, map[string]any) {
	t.Helper()
	r, err := http.NewRequest(method, address, bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+demo.PracticeKey)
	r.Header.Set("Content-Type", kind)
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	var answer map[string]any
	json.NewDecoder(response.Body).Decode(&answer)
	return response.StatusCode, answer
}

// announce announces a version for these bytes and returns its id.
func announce(t testing.TB, address string, archive []byte) string {
	t.Helper()
	if status, _ := ask(t, "PUT", address+"/api/games/lane", "application/json", []byte(`{"title":"Lane"}`)); status/100 != 2 {
		t.Fatalf("game: %d", status)
	}
	sum := sha256.Sum256(archive)
	status, v := ask(
		t,
		"POST",
		address+"/api/games/lane/versions",
		"application/json",
		fmt.Appendf(nil, `{"version":"1","sha256":%q}`, hex.EncodeToString(sum[:])),
	)
	if status != 201 {
		t.Fatalf("version: %d %v", status, v)
	}
	return v["id"].(string)
}

// verdict waits for what the portal says of a version.
func verdict(t testing.TB, address, id string) (string, string) {
	t.Helper()
	var v map[string]any
	eventually(t, "the portal never decided", func() (any, bool) {
		_, v = ask(t, "GET", address+"/api/versions/"+id, "", nil)
		return v, v["state"] != "checking"
	})
	problems, _ := json.Marshal(v["problems"])
	return v["state"].(string), string(problems)
}

type entry struct {
	name string
	data []byte
}

func archiveOf(t testing.TB, entries ...entry) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, e := range entries {
		w, err := z.Create(e.name)
		if err != nil {
			t.Fatal(err)
		}
		w.Write(e.data)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestStandinVerifies gives the portal archives that havvel would never send.
func TestStandinVerifies(t *testing.T) {
	t.Parallel()
	a, _ := portal(t, nil)
	page := entry{"index.html", []byte(`<script src="/sdk/brackwater-1.js"></script>`)}
	lying := archiveOf(t, page, entry{"a.bin", bytes.Repeat([]byte("x"), 5000)})
	lying = bytes.Replace(lying, []byte{0x88, 0x13, 0, 0}, []byte{0x10, 0, 0, 0}, -1) // sizes in descriptor and directory
	for name, c := range map[string]struct {
		archive []byte
		state   string
		says    string
	}{
		"good":        {archiveOf(t, page), "ready", "null"},
		"not a zip":   {[]byte("hello"), "rejected", "not a zip"},
		"escapes":     {archiveOf(t, page, entry{"../../evil.js", nil}), "rejected", "leads out"},
		"backslash":   {archiveOf(t, page, entry{`..\evil.js`, nil}), "rejected", "leads out"},
		"twice":       {archiveOf(t, page, entry{"a.js", nil}, entry{"A.js", nil}), "rejected", "twice"},
		"bomb":        {archiveOf(t, page, entry{"zeros.bin", make([]byte, 70_000_000)}), "rejected", "unpacks to more"},
		"lying sizes": {lying, "rejected", "a.bin"},
		"no page":     {archiveOf(t, entry{"game/index.html", nil}), "rejected", "no index.html at the root"},
		"no script":   {archiveOf(t, entry{"index.html", []byte("<p>")}), "rejected", "is not in the page"},
		"in a comment": {archiveOf(t, entry{"index.html", []byte(`<!-- <script src="/sdk/brackwater-1.js"></script> -->`)}), "rejected",
			"is not in the page"},
		"letter case": {archiveOf(t, entry{"index.html", append(page.data, `<img src="Lane.png">`...)}, entry{"lane.png", nil}), "rejected",
			"Lane.png"},
		"brotli":  {archiveOf(t, page, entry{"a.br", nil}), "rejected", "brotli"},
		"program": {archiveOf(t, page, entry{"setup.exe", nil}), "rejected", "programs"},
	} {
		t.Run(name, func(t *testing.T) {
			id := announce(t, a.Address(), c.archive)
			if status, v := ask(t, "PUT", a.Address()+"/api/uploads/"+id, "application/zip", c.archive); status != 202 {
				t.Fatalf("upload: %d %v", status, v)
			}
			state, problems := verdict(t, a.Address(), id)
			if state != c.state || !strings.Contains(problems, c.says) {
				t.Errorf("%s: %s", state, problems)
			}
			if status, _ := ask(t, "POST", a.Address()+"/api/versions/"+id+"/release", "", nil); (status == 200) != (c.state == "ready") {
				t.Errorf("release: %d", status)
			}
		})
	}
}

// TestStandinRefuses: uploads that are not what was announced.
func TestStandinRefuses(t *testing.T) {
	a, _ := portal(t, nil)
	archive := archiveOf(t, entry{"index.html", nil})
	id := announce(t, a.Address(), archive)
	upload := a.Address() + "/api/uploads/" + id
	if status, _ := ask(t, "PUT", upload, "text/plain", archive); status != 415 {
		t.Errorf("wrong type: %d", status)
	}
	if status, _ := ask(t, "PUT", upload, "application/zip", archive[1:]); status != 422 {
		t.Errorf("wrong bytes: %d", status)
	}
	// An upload that stops half way.
	c, err := net.Dial("tcp", strings.TrimPrefix(a.Address(), "http://"))
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(
		c,
		"PUT /api/uploads/%s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: application/zip\r\nContent-Length: %d\r\n\r\n",
		id,
		demo.PracticeKey,
		len(archive),
	)
	c.Write(archive[:len(archive)/2])
	c.(*net.TCPConn).CloseWrite()
	answer, _ := io.ReadAll(c)
	c.Close()
	if !strings.Contains(string(answer), "400") || !strings.Contains(string(answer), "the upload stopped after") {
		t.Errorf("half an upload: %s", answer)
	}
	if _, v := ask(t, "GET", a.Address()+"/api/versions/"+id, "", nil); v["state"] != "awaiting" {
		t.Errorf("after half an upload the version is %v", v["state"])
	}
	if status, _ := ask(t, "PUT", upload, "application/zip", archive); status != 202 {
		t.Errorf("the whole upload: %d", status)
	}
}

// TestStandinRemembers: what the portal was told survives a restart, also one in the middle of verifying.
func TestStandinRemembers(t *testing.T) {
	folder := t.TempDir()
	first, _ := portal(t, func(o *standin.Options) { o.Folder, o.VerifyTime = folder, time.Hour })
	archive := archiveOf(t, entry{"index.html", []byte(`<title>t</title><script src="/sdk/brackwater-1.js"></script>`)})
	id := announce(t, first.Address(), archive)
	ask(t, "PUT", first.Address()+"/api/uploads/"+id, "application/zip", archive)
	first.Stop()
	second, _ := portal(t, func(o *standin.Options) { o.Folder = folder })
	if state, problems := verdict(t, second.Address(), id); state != "ready" {
		t.Fatalf("%s: %s", state, problems)
	}
	ask(t, "POST", second.Address()+"/api/versions/"+id+"/release", "", nil)
	second.Stop()
	third, _ := portal(t, func(o *standin.Options) { o.Folder = folder })
	response, err := http.Get(third.Address() + "/play/lane")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if page, _ := io.ReadAll(response.Body); response.StatusCode != 200 || !strings.Contains(string(page), "/index.html") {
		t.Errorf("the public page: %d %s", response.StatusCode, page)
	}
}

// TestStandinPages: the public page and its files, as a browser asks for them.
func TestStandinPages(t *testing.T) {
	a, _ := portal(t, nil)
	get := func(address string) (*http.Response, string) {
		t.Helper()
		r, err := http.NewRequest("GET", address, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Accept-Encoding", "identity")
		response, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		body, _ := io.ReadAll(response.Body)
		return response, string(body)
	}
	entries := []entry{{"index.html", []byte(`<script src="/sdk/brackwater-1.js"></script>`)}}
	served := slices.DeleteFunc(
		slices.Clone(hostedNames),
		func(name string) bool { return strings.HasSuffix(name, ".br") },
	) // which it refuses
	for _, name := range served {
		entries = append(entries, entry{name, hosted(t, name)})
	}
	archive := archiveOf(t, entries...)
	sum := sha256.Sum256(archive)
	ask(t, "PUT", a.Address()+"/api/games/lane", "application/json", []byte(`{"title":"<script>alert(1)</script>","studio":"Moor & Thimble"}`))
	_, v := ask(
		t,
		"POST",
		a.Address()+"/api/games/lane/versions",
		"application/json",
		fmt.Appendf(nil, `{"version":"1","sha256":%q}`, hex.EncodeToString(sum[:])),
	)
	id := v["id"].(string)
	ask(t, "PUT", a.Address()+"/api/uploads/"+id, "application/zip", archive)
	verdict(t, a.Address(), id)
	if r, _ := get(a.Address() + "/play/lane"); r.StatusCode != 404 {
		t.Errorf("a draft is public: %d", r.StatusCode)
	}
	if _, body := get(a.Address() + "/"); strings.Contains(body, "Moor") {
		t.Error("a draft is listed")
	}
	_, v = ask(t, "GET", a.Address()+"/api/versions/"+id, "", nil)
	if _, body := get(v["draft"].(string)); !strings.Contains(body, "Draft") {
		t.Errorf("the draft's page: %s", body)
	}
	if r, _ := get(a.Address() + "/draft/guess"); r.StatusCode != 404 {
		t.Errorf("a guessed draft: %d", r.StatusCode)
	}
	ask(t, "POST", a.Address()+"/api/versions/"+id+"/release", "", nil)
	_, body := get(a.Address() + "/play/lane")
	if strings.Contains(body, "<script>alert(1)") || !strings.Contains(body, "Full screen") || !strings.Contains(body, "--w:960; --h:540") {
		t.Errorf("the public page: %s", body)
	}
	_, frame, _ := strings.Cut(body, `src="`)
	frame, _, _ = strings.Cut(frame, `"`)
	files := strings.TrimSuffix(frame, "index.html")
	if strings.HasPrefix(frame, a.Address()) {
		t.Error("the game runs on the origin of the page around it")
	}
	conforms(t, files, model.Host{Encodings: []string{"gzip"}}, append(served, "index.html"))
	for _, name := range []string{"none.js", "../state.json", "%2e%2e/state.json"} {
		if r, _ := get(files + name); r.StatusCode == 200 {
			t.Errorf("%s was served", name)
		}
	}
}
