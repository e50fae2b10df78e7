package tests

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
	"havvel/internal/standin"
)

// at starts one of the simulated portals, and returns it with a project that goes there, and the environment with its key.
func at(t testing.TB, rulebook string, change func(*standin.Options)) (*standin.Portal, string, []string) {
	t.Helper()
	for _, x := range demo.StandIns(t.TempDir()) {
		if x.Rulebook != rulebook {
			continue
		}
		x.Options.VerifyTime = 20 * time.Millisecond
		if change != nil {
			change(&x.Options)
		}
		p, err := standin.Start("127.0.0.1:0", x.Options)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(p.Stop)
		folder := filepath.Join(t.TempDir(), "project")
		if err := demo.Write(folder, map[string]string{"brackwater": "http://127.0.0.1:1"}); err != nil {
			t.Fatal(err)
		}
		toml := snapshot(t, folder)["/havvel.toml"]
		begin := strings.Index(toml, "[to.brackwater]")
		end := begin + strings.Index(toml[begin:], "[[statistic]]")
		to := fmt.Sprintf("[to.%s]\nrulebook = %q\naddress = %q\n", rulebook, rulebook, p.Address()+x.Path)
		writeInto(t, folder, game.Files{"havvel.toml": []byte(toml[:begin] + to + toml[end:])})
		return p, folder, []string{strings.ToUpper(rulebook) + "_KEY=" + x.Key, "HAVVEL_KEYS=" + filepath.Join(t.TempDir(), "keys.json")}
	}
	t.Fatalf("there is no %s", rulebook)
	return nil, "", nil
}

// get fetches a page.
func get(t testing.TB, address string) (int, string) {
	t.Helper()
	r, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	if err != nil {
		t.Fatal(err)
	}
	return r.StatusCode, string(body)
}

var caseForm = regexp.MustCompile(`action="(/desk/[a-z0-9]+)"`)

// decide is what a person does at Osierfold's review desk.
func decide(t testing.TB, portal *standin.Portal, say, reasons string) {
	t.Helper()
	_, desktop := get(t, portal.Address()+"/desk")
	m := caseForm.FindStringSubmatch(desktop)
	if m == nil {
		t.Fatalf("nothing waits at the desk:\n%s", desktop)
	}
	r, err := http.PostForm(portal.Address()+m[1], url.Values{"say": {say}, "reasons": {reasons}})
	if err != nil || r.StatusCode != 200 {
		t.Fatalf("deciding: %v %v", r, err)
	}
}

// settled is the state of the newest delivery, once the portal has looked at it.
func settled(t testing.TB, hv func(args ...string) ending) (state string) {
	t.Helper()
	eventually(t, "the portal does not come to an end", func() (any, bool) {
		state = decode[deliveries](t, hv("where", "--json").must(t, 0)).Deliveries[0].State
		return state, state != "sent" && state != "verifying"
	})
	return state
}

// TestThreePortals walks two versions, the way back and taking off on each portal, whose ways differ.
func TestThreePortals(t *testing.T) {
	for _, name := range []string{"brackwater", "quillmarsh", "osierfold"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			portal, project, env := at(t, name, nil)
			hv := func(args ...string) ending { return runWith(t, project, env, args...) }
			state := func() string {
				return settled(t, hv)
			}
			hv("send").must(t, 0, "sent 0.4.0")
			if name == "osierfold" {
				if s := state(); s != "in review" {
					t.Fatalf("it is %s", s)
				}
				hv("publish").must(t, 1, "has not decided on version 0.4.0 yet (state: in review)")
				decide(t, portal, "refuse", "The first night can't be finished.\nThe title is cut off on phones.")
				hv("where").must(t, 0, "refused", "The first night can't be finished.", "The title is cut off on phones.")
				hv("send", "--again").must(t, 0)
				state()
				decide(t, portal, "accept", "")
			}
			if s := state(); s != "draft" {
				t.Fatalf("it is %s", s)
			}
			link := decode[deliveries](t, hv("publish", "--json").must(t, 0)).Deliveries[0].Link
			if status, page := get(t, link); status != 200 || !strings.Contains(page, "Tinderwick Lane") {
				t.Fatalf("the public page: %d", status)
			}
			toml := snapshot(t, project)["/havvel.toml"]
			writeInto(t, project, game.Files{"havvel.toml": []byte(strings.Replace(toml, "0.4.0", "0.4.1", 1))})
			for name, data := range demo.Second() {
				writeInto(t, project, game.Files{demo.GoodExport + "/" + name: data})
			}
			hv("send").must(t, 0, "sent 0.4.1")
			state()
			if name == "osierfold" {
				decide(t, portal, "accept", "")
			}
			if second := decode[deliveries](t, hv("publish", "--json").must(t, 0)).Deliveries[0]; second.Link != link || second.Version != "0.4.1" {
				t.Errorf("the second version is %+v, the link was %s", second, link)
			}
			hv("back").must(t, 0, "version 0.4.0 is public on ", "instead of 0.4.1", link)
			if _, page := get(t, link); !strings.Contains(page, "version 0.4.0") {
				t.Error("the page does not show the earlier version")
			}
			hv("back", "--off").must(t, 0, "nothing is public")
			if status, _ := get(t, link); status != 404 {
				t.Errorf("the page still answers %d", status)
			}
			hv("back", "0.4.1").must(t, 0, "version 0.4.1 is public")
			hv("logbook").must(t, 0, "0.4.0", "0.4.1", "withdrawn", "public")
			if name == "brackwater" {
				hv("where", "--all").must(t, 0, "0.4.0    withdrawn", "0.4.1    public")
			} else {
				hv("where", "--all").must(t, 1, "does not say how to list versions")
			}
			for file, text := range snapshot(t, filepath.Join(project, ".havvel")) {
				if strings.Contains(text, demo.PracticeKey) || strings.Contains(text, "signature=") {
					t.Errorf("a secret stands in %s", file)
				}
			}
		})
	}
}

// TestPassword: a version for some opens with the password only, which is in no file of the project.
func TestPassword(t *testing.T) {
	t.Parallel()
	_, project, env := at(t, "quillmarsh", nil)
	hv := func(args ...string) ending { return runWith(t, project, env, args...) }
	hv("send").must(t, 0)
	c := exec.Command(program, "publish", "--password")
	c.Dir, c.Env, c.Stdin = project, append(os.Environ(), env...), strings.NewReader("seven lamps\n")
	if out, err := c.CombinedOutput(); err != nil || strings.Contains(string(out), "seven lamps") {
		t.Fatalf("%v\n%s", err, out)
	}
	e := hv("where", "--share", "--password").must(t, 0, "Password: seven lamps")
	link := regexp.MustCompile(`http://\S+/play/\S+`).FindString(e.out)
	if _, page := get(t, link); !strings.Contains(page, "for those who have its password") {
		t.Errorf("the page is open: %s", page)
	}
	for word, opens := range map[string]bool{"seven lamps": true, "six lamps": false} {
		r, err := http.PostForm(link, url.Values{"password": {word}})
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(r.Body)
		if strings.Contains(string(body), "<iframe") != opens {
			t.Errorf("%q: opens is not %v", word, opens)
		}
	}
	for file, text := range snapshot(t, project) {
		if strings.Contains(text, "seven lamps") {
			t.Errorf("the password stands in %s", file)
		}
	}
	run(t, t.TempDir(), "publish", "--password").must(t, 2)
}

// TestPortalFaults: whatever a portal does wrong, an upload gets there, or ends with words that help; and never half.
func TestPortalFaults(t *testing.T) {
	for _, c := range []struct {
		portal string
		fault  standin.Fault
		at     int64
		code   int
		says   string
	}{
		{"brackwater", standin.DropUpload, 400_000, 0, "sent 0.4.0"},
		{"brackwater", standin.DropOnce, 0, 0, "sent 0.4.0"},
		{"brackwater", standin.Busy, 0, 0, "sent 0.4.0"},
		{"brackwater", standin.ErrorOnce, 0, 0, "sent 0.4.0"},
		{"brackwater", standin.WrongChecksum, 0, 0, "sent 0.4.0"},
		{"brackwater", standin.TokenExpired, 0, 1, "this key has expired"},
		{"quillmarsh", standin.DropOnce, 0, 4, "so whether it was done is unknown"}, // a POST of a form can't be made twice
		{"quillmarsh", standin.Busy, 0, 0, "sent 0.4.0"},
		{"quillmarsh", standin.WrongChecksum, 0, 1, "arrived damaged"},
		{"quillmarsh", standin.TokenExpired, 0, 0, "sent 0.4.0"},
		{"osierfold", standin.DropOnce, 0, 0, "sent 0.4.0"},
		{"osierfold", standin.DropUpload, 0, 4, "the connection broke off"},
		{"osierfold", standin.Busy, 0, 0, "sent 0.4.0"},
		{"osierfold", standin.ErrorOnce, 0, 0, "sent 0.4.0"},
		{"osierfold", standin.WrongChecksum, 0, 0, "sent 0.4.0"},
		{"osierfold", standin.TokenExpired, 0, 1, "this key has expired"},
	} {
		t.Run(c.portal+" "+string(c.fault), func(t *testing.T) {
			t.Parallel()
			portal, project, env := at(t, c.portal, func(o *standin.Options) { o.Fault, o.FaultAt = c.fault, c.at })
			e := runWith(t, project, env, "send").must(t, c.code, c.says)
			if strings.Contains(e.out+e.err, demo.PracticeKey) || strings.Contains(e.out+e.err, "signature=") {
				t.Errorf("a secret was printed:\n%s%s", e.out, e.err)
			}
			list := decode[deliveries](t, runWith(t, project, env, "logbook", "--json").must(t, 0)).Deliveries
			lost := len(list) == 1 && list[0].State == "unknown"
			if (len(list) == 1 && !lost) != (c.code == 0) || lost != (c.says == "so whether it was done is unknown") {
				t.Errorf("the logbook has %+v", list)
			}
			if lost {
				runWith(t, project, env, "where").must(t, 0, "unknown", "havvel send --again")
				runWith(t, project, env, "send").must(t, 4, "whether it arrived is unknown", "look at your page there")
				runWith(t, project, env, "send", "--again").must(t, 0, "sent 0.4.0")
				list := decode[deliveries](t, runWith(t, project, env, "logbook", "--json").must(t, 0)).Deliveries
				if len(list) != 1 || list[0].State == "unknown" {
					t.Errorf("it was sent after all, and the logbook has %+v", list)
				}
			}
			_ = portal
		})
	}
}

// TestPortalResume kills an upload in the middle: the next process goes on at the portal's offset, with the version that was
// announced before.
func TestPortalResume(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	slow, project, env := at(t, "brackwater", func(o *standin.Options) { o.Folder, o.Fault = data, standin.SlowUpload })
	noise := make([]byte, 2<<20)
	for i := range noise {
		noise[i] = byte(rand.IntN(256))
	}
	writeInto(t, project, game.Files{"export/web/night.dat": noise})
	toml := snapshot(t, project)["/havvel.toml"]
	through := newRelay(t, strings.TrimPrefix(slow.Address(), "http://"))
	rules, err := os.ReadFile("../internal/rulebook/ship/brackwater.toml")
	if err != nil {
		t.Fatal(err)
	}
	pieces := strings.Replace(string(rules), "resumable = true", "resumable = true\npiece     = \"100 KB\"", 1)
	toml = strings.Replace(
		strings.Replace(toml, slow.Address(), "http://"+through.address, 1),
		`rulebook = "brackwater"`,
		`rulebook = "own.toml"`,
		1,
	)
	writeInto(t, project, game.Files{"havvel.toml": []byte(toml), "own.toml": []byte(pieces)})
	c := exec.Command(program, "send")
	c.Dir, c.Env = project, append(os.Environ(), env...)
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	here := func() (n int64) {
		parts, _ := filepath.Glob(filepath.Join(data, "archives", "*.part"))
		for _, p := range parts {
			if info, err := os.Stat(p); err == nil {
				n += info.Size()
			}
		}
		return n
	}
	for until := time.Now().Add(40 * time.Second); here() < 500_000; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatal("nothing arrives")
		}
	}
	c.Process.Signal(syscall.SIGKILL)
	c.Wait()
	address := strings.TrimPrefix(slow.Address(), "http://")
	slow.Stop()
	o := demo.Brackwater(data)
	quick, err := standin.Start(address, o)
	if err != nil {
		t.Fatal(err)
	}
	defer quick.Stop()
	there, before := here(), through.sent.Load()
	e := runWith(t, project, env, "send", "--only", "build", "--wait", "--json").must(t, 0)
	size := decode[struct{ Deliveries []struct{ Bytes int64 } }](t,
		runWith(t, project, env, "logbook", "--json").must(t, 0)).Deliveries[0].Bytes
	if again := through.sent.Load() - before; again > size-there+100_000+64<<10 {
		t.Errorf("%d bytes went out the second time, with %d of %d there\n%s", again, there, size, e.err)
	}
	if v, _ := filepath.Glob(filepath.Join(data, "archives", "*")); len(v) != 1 {
		t.Errorf("the portal has %v", v)
	}
}

// TestBoards: Brackwater's leaderboards are those that havvel.toml declares, and keep values by their kind.
func TestBoards(t *testing.T) {
	t.Parallel()
	portal, project, env := at(t, "brackwater", nil)
	toml := snapshot(t, project)["/havvel.toml"] + "\n[[statistic]]\nname = \"presses\"\nkeeps = \"lowest\"\n[[statistic]]\nname = " +
		"\"oil\"\nkeeps = \"total\"\n"
	writeInto(t, project, game.Files{"havvel.toml": []byte(toml)})
	runWith(t, project, env, "send").must(t, 0)
	for leaderboard, want := range map[string]string{"lanterns": "7", "presses": "3", "oil": "15"} {
		kept := ""
		for _, value := range []string{"3", "7", "5"} {
			r, err := http.Post(
				portal.Address()+"/leaderboards/tinderwick-lane/"+leaderboard,
				"application/json",
				strings.NewReader(`{"player":"moth","value":`+value+`}`),
			)
			if err != nil {
				t.Fatal(err)
			}
			body, _ := io.ReadAll(r.Body)
			kept = strings.TrimSpace(string(body))
		}
		if kept != `{"kept":`+want+`}` {
			t.Errorf("%s keeps %s instead of %s", leaderboard, kept, want)
		}
	}
}

// TestRulesTry: your own recipe is walked request by request, and shows no secret.
func TestRulesTry(t *testing.T) {
	t.Parallel()
	for name, steps := range map[string][]string{
		"brackwater": {"1 game  PUT", "upload  PATCH", "Authorization: Bearer (key)", "→ 201 Created", "the recipe works"},
		"quillmarsh": {"1 log in  POST", "(not shown", "X-Pass: (key)", "the recipe works"},
		"osierfold":  {"entry  PUT", "(query)", "Basic (key)", "the recipe works"},
	} {
		portal, project, env := at(t, name, nil)
		text, err := os.ReadFile("../internal/rulebook/ship/" + name + ".toml")
		if err != nil {
			t.Fatal(err)
		}
		writeInto(t, project, game.Files{"own.toml": text})
		path := map[string]string{"quillmarsh": "/api"}[name]
		e := runWith(t, project, env, "rules", "try", "own.toml", "--against", portal.Address()+path).must(t, 0, steps...)
		if strings.Contains(e.out, demo.PracticeKey) || strings.Contains(e.out, "signature=") {
			t.Errorf("a secret is shown:\n%s", e.out)
		}
		runWith(t, project, env, "rules", "test").must(t, 2, "nothing is recorded here")
		more := map[string]string{"brackwater": "list"}[name]
		args := []string{"rules", "try", "own.toml", "--against", portal.Address() + path, "--record"}
		if more != "" {
			args = append(args, "--recipe", more)
		}
		runWith(t, project, env, args...).must(t, 0, "recorded in own.recorded.json")
		if kept := snapshot(t, project)["/own.recorded.json"]; strings.Contains(kept, demo.PracticeKey) || strings.Contains(kept, "signature=") {
			t.Errorf("a secret is recorded:\n%s", kept)
		}
		run(t, project, "rules", "test").must(t, 0, "own.toml  as recorded")
		other := strings.Replace(string(text), "/{game.short}", "/{game.short}/x", 1)
		writeInto(t, project, game.Files{"own.toml": []byte(other)})
		run(t, project, "rules", "test", "own.toml").must(t, 1, "not as recorded", "was not asked for when the recording was made")
		wrong := strings.Replace(string(text), `expect  = [200, 201]`, `expect  = [299]`, 1)
		writeInto(t, project, game.Files{"own.toml": []byte(wrong)})
		runWith(t, project, env, "rules", "try", "own.toml", "--against", portal.Address()+path).must(t, 1, `said no at step`)
	}
}

// TestManyFiles: a portal that takes files one by one gets each, under its own address; one that fails ends the upload.
func TestManyFiles(t *testing.T) {
	var mu sync.Mutex
	got, fail := map[string]string{}, ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		if fail != "" && strings.HasSuffix(r.URL.Path, fail) {
			http.Error(w, "no", http.StatusForbidden)
			return
		}
		sum := sha256.Sum256(body)
		if r.Header.Get("X-Sum") != hex.EncodeToString(sum[:]) {
			t.Errorf("%s: the sum is not that of what came", r.URL.Path)
		}
		got[r.URL.Path] = r.Header.Get("Content-Type")
	}))
	defer server.Close()
	rules := "format = \"havvel-rulebook/2\"\nname = \"Plain\"\n[archive]\nhand_over = \"folder\"\n[[send]]\nstep = \"file\"\nmethod = " +
		"\"PUT\"\naddress = \"{address}/{version}/{path(file.name)}\"\nheaders = { X-Sum = \"{file.sha256}\", Content-Type = \"{file.type}\" " +
		"}\neach = \"file in files\"\nfile = \"file\"\nexpect = [200]\n"
	files := small()
	files["n 1/night.json"] = []byte("{}")
	folder := tryProject(t, files, "")
	toml := strings.Replace(smallProject, "https://little.example", server.URL, 1)
	writeInto(t, folder, game.Files{"little.toml": []byte(rules), "havvel.toml": []byte(toml)})
	failing := func(name string) {
		mu.Lock()
		defer mu.Unlock()
		fail = name
	}
	failing("game.js")
	run(t, folder, "send").must(t, 1, "game.js: Plain said no")
	run(t, folder, "logbook").must(t, 0, "nothing was sent yet")
	failing("")
	run(t, folder, "send").must(t, 0, "sent 1 to Plain")
	mu.Lock()
	defer mu.Unlock()
	if len(got) != 4 || got["/1/n 1/night.json"] != "application/json" || got["/1/game.js"] != "text/javascript; charset=utf-8" ||
		!strings.HasPrefix(got["/1/index.html"], "text/html") {
		t.Errorf("%v", got)
	}
}
