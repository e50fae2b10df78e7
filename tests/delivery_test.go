package tests

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
	"havvel/internal/standin"
)

type deliveries struct {
	Deliveries []struct {
		Destination, Version, State, Link string
		Reasons                           []string
	}
}

func states(t testing.TB, project string) deliveries {
	t.Helper()
	return decode[deliveries](t, run(t, project, "where", "--json").must(t, 0))
}

// TestTwoVersionsOneLink sends two versions; players find both under the same link, and never half of one.
func TestTwoVersionsOneLink(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	run(t, project, "publish").must(t, 1, "nothing was sent")
	run(t, project, "send", "--wait").must(t, 0, "state: draft", "/draft/")
	run(t, project, "publish", "--dry-run").must(t, 0, "0.4.0 would become public")
	first := decode[deliveries](t, run(t, project, "publish", "--json").must(t, 0)).Deliveries[0]
	if err := demo.WriteSecond(project); err != nil {
		t.Fatal(err)
	}
	run(t, project, "send", "--version", "0.4.0").must(t, 1, "version 0.4.0 was sent", "raise the version")
	run(t, project, "send", "--wait").must(t, 0)
	both := states(t, project).Deliveries
	if len(both) != 2 || both[0].Version != "0.4.1" || both[0].State != "draft" || both[1].Version != "0.4.0" || both[1].State != "public" {
		t.Errorf("where shows %+v", both)
	}
	second := decode[deliveries](t, run(t, project, "publish", "--json").must(t, 0)).Deliveries[0]
	if first.Link != second.Link || second.Version != "0.4.1" || second.State != "public" {
		t.Errorf("the second version is at %+v, the first was at %s", second, first.Link)
	}
	if now := states(t, project).Deliveries; len(now) != 1 || now[0].Link != first.Link {
		t.Errorf("where shows %+v", now)
	}
	run(t, project, "publish").must(t, 0, "0.4.1 is public") // once more does no harm
}

// TestSendOnce: the same export is not sent twice by mistake.
func TestSendOnce(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	run(t, project, "send", "--dry-run").must(t, 0, "would get version 0.4.0")
	run(t, project, "where").must(t, 0, "nothing sent")
	run(t, project, "send").must(t, 0)
	run(t, project, "send", "--version", "0.4.1").must(t, 1, "this very export was sent", "0.4.0", "--again")
	run(t, project, "send", "--version", "0.4.1", "--again").must(t, 0)
	run(t, project, "send", filepath.Join("export", "flawed"), "--again").must(t, 1, "link-missing")
}

// TestPortalSaysNo: what the portal's own verification finds is told in its words.
func TestPortalSaysNo(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	broken := demo.Good()
	broken["icon.png"] = bytes.Replace(broken["icon.png"], []byte("IHDR"), []byte("IHDS"), 1) // its size can still be read
	broken["setup.sh"] = []byte("echo hello")
	export := write(t, broken)
	run(t, project, "check", export).must(t, 0)
	run(t, project, "send", export, "--wait").must(t, 1, "state: refused", "it is not a PNG picture", "programs are not allowed")
	run(t, project, "publish").must(t, 1, "refused version 0.4.0", "not a PNG picture")
	run(t, project, "where").must(t, 0, "refused", "programs are not allowed")
}

// TestNeverFinishes: the wait has a limit, and the delivery is taken up again later.
func TestNeverFinishes(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	stuck, project := portal(t, func(o *standin.Options) { o.Folder, o.Fault = data, standin.NeverFinish })
	run(t, project, "send", "--wait", "--limit", "1s").must(t, 4, "has not decided on version 0.4.0 within 1s", "nothing is lost")
	run(t, project, "publish").must(t, 1, "has not decided")
	address := strings.TrimPrefix(stuck.Address(), "http://")
	stuck.Stop()
	run(t, project, "where").must(t, 4, "verifying", "nothing answers there")
	o := demo.Brackwater(data)
	o.VerifyTime = 0
	again, err := standin.Start(address, o)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Stop()
	run(t, project, "where", "--wait").must(t, 0, "draft", "/draft/")
}

// TestUploadBreaksOff: a cut connection is said so, and nothing is recorded that did not arrive.
func TestUploadBreaksOff(t *testing.T) {
	t.Parallel()
	_, project := portal(t, func(o *standin.Options) { o.Fault = standin.DropUpload })
	run(t, project, "send").must(t, 4, "broke off", "it goes on where it was")
	if d := states(t, project).Deliveries; len(d) != 0 {
		t.Errorf("where shows %+v", d)
	}
}

// TestKeys: a key that is missing or wrong is said so, and never printed or written.
func TestKeys(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	runWith(t, project, nil, "send").must(t, 3, "set the environment variable BRACKWATER_KEY")
	const wrong = "hunter-of-moths-77"
	e := runWith(t, project, []string{"BRACKWATER_KEY=" + wrong}, "send").must(t, 1, "refused the key", "this token is not one of ours")
	run(t, project, "send").must(t, 0)
	for file, data := range snapshot(t, project) {
		if strings.Contains(data, wrong) || strings.Contains(data, demo.PracticeKey) {
			t.Errorf("a key stands in %s", file)
		}
	}
	if strings.Contains(e.out+e.err, wrong) {
		t.Errorf("the key is on the screen: %s%s", e.out, e.err)
	}
}

// TestDraftLinkIsSecret: the link to a draft is shown, and stands in no file of the project.
func TestDraftLinkIsSecret(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	out := run(t, project, "send", "--wait").must(t, 0, "/draft/").out
	_, secret, _ := strings.Cut(out, "/draft/")
	secret, _, _ = strings.Cut(secret, "\n")
	for file, data := range snapshot(t, project) {
		if strings.Contains(data, secret) {
			t.Errorf("the draft's secret stands in %s", file)
		}
	}
}

// TestNobodyThere: an address where nothing answers.
func TestNobodyThere(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := "http://" + l.Addr().String()
	l.Close()
	project := filepath.Join(t.TempDir(), "p")
	if err := demo.Write(project, map[string]string{"brackwater": address}); err != nil {
		t.Fatal(err)
	}
	run(t, project, "send").must(t, 4, "can't reach Brackwater at "+address, "nothing answers there")
}

// TestCrashedLogbook: a line that a crash cut short costs nothing but itself.
func TestCrashedLogbook(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	run(t, project, "send", "--wait").must(t, 0)
	book := filepath.Join(project, ".havvel", "logbook.jsonl")
	f, err := os.OpenFile(book, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteString(`{"logbook":1,"at":"2026-`)
	f.Close()
	run(t, project, "where").must(t, 0, "draft", "1 line of the logbook can't be read")
	run(t, project, "publish").must(t, 0, "is public")
	if d := states(t, project).Deliveries; len(d) != 1 || d[0].State != "public" {
		t.Errorf("where shows %+v", d)
	}
	if data, err := os.ReadFile(book); err != nil || !strings.Contains(string(data), "\"2026-\n{") {
		t.Errorf("what came after the crash is lost with it: %s %v", data, err)
	}
}

// TestInterrupt stops each command in the middle, as Ctrl-C does.
func TestInterrupt(t *testing.T) {
	t.Parallel()
	large := demo.Good()
	noise := make([]byte, 24<<20) // takes a while to pack and to send
	for i := range noise {
		noise[i] = byte(i * i >> 7)
	}
	large["lane2.pack"] = noise
	export := write(t, large)
	_, project := portal(t, func(o *standin.Options) { o.Fault = standin.SlowUpload })
	_, never := portal(t, func(o *standin.Options) { o.Fault = standin.NeverFinish })
	run(t, never, "send").must(t, 0)
	for _, c := range []struct {
		folder string
		after  time.Duration
		args   []string
	}{
		{project, 20 * time.Millisecond, []string{"pack", export}},
		{project, 1500 * time.Millisecond, []string{"send", export}},
		{never, 700 * time.Millisecond, []string{"where", "--wait"}},
		{t.TempDir(), 1500 * time.Millisecond, []string{"demo"}},
		{t.TempDir(), 500 * time.Millisecond, []string{"standin", "--port", "0"}},
	} {
		ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
		cmd := exec.CommandContext(ctx, program, c.args...)
		cmd.Dir = c.folder
		cmd.Env = append(os.Environ(), "BRACKWATER_KEY="+demo.PracticeKey)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(c.after)
		cmd.Process.Signal(os.Interrupt)
		err := cmd.Wait()
		if ctx.Err() != nil {
			t.Errorf("%v did not stop", c.args)
		}
		stop()
		var ended *exec.ExitError
		early := cmd.ProcessState.String() == "signal: interrupt" // before the program listened, which shells show as 130 too
		if code := cmd.ProcessState.ExitCode(); errors.As(err, &ended) && code != 130 && !early || err == nil && c.args[0] != "standin" {
			t.Errorf("%v ended with %d", c.args, code)
		}
	}
	if entries, _ := os.ReadDir(filepath.Join(project, "packed")); len(entries) > 1 {
		t.Errorf("left behind: %v", entries)
	}
	if d := states(t, project).Deliveries; len(d) != 0 {
		t.Errorf("an upload that was stopped is recorded: %+v", d)
	}
	if d := states(t, never).Deliveries; len(d) != 1 || d[0].State != "verifying" {
		t.Errorf("the state is not kept: %+v", d)
	}
}

// TestHostilePortal: nothing that a portal says, nor a name in an export, makes the terminal do anything; programs get it as it is.
func TestHostilePortal(t *testing.T) {
	t.Parallel()
	const hostile = "\x1b[2J\x1b]0;lane\x07\u202emoc\u009b2K"
	a, project := portal(t, nil)
	to, err := url.Parse(a.Address())
	if err != nil {
		t.Fatal(err)
	}
	words, _ := json.Marshal(hostile)
	on := httputil.NewSingleHostReverseProxy(to)
	on.ModifyResponse = func(r *http.Response) error {
		body, err := io.ReadAll(r.Body)
		body = bytes.ReplaceAll(body, []byte("it is not valid JSON"), bytes.Trim(words, `"`))
		r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
		r.Header.Del("Content-Length")
		return err
	}
	s := httptest.NewServer(on)
	t.Cleanup(s.Close)
	edit(t, project, a.Address(), s.URL)
	odd := demo.Good()
	odd["night.json"], odd[hostile+".json"] = []byte("{"), []byte("{")
	odd["index.html"] = append(odd["index.html"], "<script src=\""+hostile+".js\"></script>"...)
	export := write(t, odd)
	for _, command := range [][]string{
		{"look", export, "--links"}, {"check", export}, {"pack", export}, {"compare", export, write(t, demo.Good())},
		{"send", export, "--wait", "--accept-errors", "--no-proof"}, {"where"}, {"logbook"},
	} {
		e := run(t, project, command...)
		if strings.ContainsAny(e.out+e.err, "\x1b\x07\u202e\u009b") {
			t.Errorf("%s: control characters on the screen: %q", command[0], e.out+e.err)
		}
		if command[0] == "send" && !strings.Contains(e.out, "2J") {
			t.Errorf("the portal's words are not told: %s", e.out)
		}
	}
	e := run(t, project, "where", "--json").must(t, 0)
	if strings.ContainsAny(e.out, "\x1b\u202e\u009b") {
		t.Errorf("control characters in JSON: %q", e.out)
	}
	if d := decode[deliveries](t, e).Deliveries[0]; !slices.Contains(d.Reasons, hostile) && !strings.Contains(fmt.Sprint(d.Reasons), "moc") {
		t.Errorf("%q", d.Reasons)
	}
}

func TestOwnRulebook(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	rules, err := os.ReadFile(filepath.Join("..", "internal", "rulebook", "ship", "brackwater.toml"))
	if err != nil {
		t.Fatal(err)
	}
	toml, err := os.ReadFile(filepath.Join(project, "havvel.toml"))
	if err != nil {
		t.Fatal(err)
	}
	own := strings.Replace(string(toml), `rulebook = "brackwater"`, `rulebook = "ours.toml"`, 1)
	writeInto(t, project, game.Files{"ours.toml": rules, "havvel.toml": []byte(own)})
	run(t, project, "send", "--wait").must(t, 0, "state: draft")
	misspelt := strings.Replace(string(rules), "file_limit", "filelimit", 1)
	writeInto(t, project, game.Files{"ours.toml": []byte(misspelt)})
	run(t, project, "check").must(t, 2, "havvel: ours.toml:11:1:", `did you mean "file_limit"?`)
}
