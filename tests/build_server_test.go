//go:build unix

package tests

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
	"havvel/internal/standin"
)

// TestBuildServer runs the script of docs/build-server.md: four destinations, of which one is away at first, and one is decided on by a
// person. Nothing is asked, the reports are whole, and no key is in them.
func TestBuildServer(t *testing.T) {
	t.Parallel()
	partner(t, "chromium")
	page, err := os.ReadFile(filepath.Join("..", "docs", "build-server.md"))
	if err != nil {
		t.Fatal(err)
	}
	script := regexp.MustCompile("(?s)```sh\n(.*?)```").FindSubmatch(page)
	if script == nil {
		t.Fatal("docs/build-server.md has no script")
	}
	addresses, late := map[string]string{}, func() {}
	env := []string{"PAUSE=1", "LIMIT=3s"}
	for _, x := range demo.StandIns(t.TempDir()) {
		x.Options.VerifyTime = 20 * time.Millisecond
		at := "127.0.0.1:" + freePort(t)
		open := func() {
			p, err := standin.Start(at, x.Options)
			if err != nil {
				t.Error(err)
				return
			}
			t.Cleanup(p.Stop)
		}
		if x.Rulebook == "quillmarsh" {
			late = open
		} else {
			open()
		}
		addresses[x.Rulebook] = "http://" + at + x.Path
		env = append(env, strings.ToUpper(x.Rulebook)+"_KEY="+x.Key)
	}
	project := filepath.Join(t.TempDir(), "game")
	if err := demo.Write(project, addresses); err != nil {
		t.Fatal(err)
	}
	edit(t, project, "[[statistic]]", "[to.shed]\naddress = \"../site\"\n\n[[statistic]]")
	writeInto(t, project, game.Files{"release.sh": script[1]})
	terminal := newTerminal(t, project, env...)
	go func() { // once the first try has begun
		for until := time.Now().Add(2 * time.Minute); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
			if exists(filepath.Join(project, "packed", "osierfold-0.4.1")) {
				time.Sleep(500 * time.Millisecond)
				late()
				return
			}
		}
	}()
	terminal.types("sh release.sh 0.4.1").must(t, 0)

	reports := snapshot(t, filepath.Join(project, "reports"))
	for name, text := range reports {
		if strings.Contains(text, demo.PracticeKey) {
			t.Errorf("the key is in %s", name)
		}
	}
	var sarif struct {
		Version string
		Runs    []struct {
			Tool struct{ Driver struct{ Name string } }
		}
	}
	if err := json.Unmarshal([]byte(reports["/check.sarif"]), &sarif); err != nil || sarif.Version != "2.1.0" || len(sarif.Runs) == 0 ||
		sarif.Runs[0].Tool.Driver.Name != "havvel" {
		t.Errorf("check.sarif: %v %+v", err, sarif)
	}
	for _, name := range []string{"/check.xml", "/trial.xml"} {
		var suites struct {
			XMLName xml.Name `xml:"testsuites"`
			Suites  []struct {
				Tests    int `xml:"tests,attr"`
				Failures int `xml:"failures,attr"`
			} `xml:"testsuite"`
		}
		if err := xml.NewDecoder(bytes.NewReader([]byte(reports[name]))).Decode(&suites); err != nil || len(suites.Suites) == 0 ||
			suites.Suites[0].Tests == 0 ||
			suites.Suites[0].Failures != 0 {
			t.Errorf("%s: %v %+v", name, err, suites)
		}
	}
	public := decode[deliveries](t, ending{out: reports["/public.json"]}).Deliveries
	for i, to := range []string{"brackwater", "quillmarsh", "shed"} {
		if len(public) != 3 || public[i].Destination != to || public[i].State != "public" || public[i].Version != "0.4.1" {
			t.Fatalf("public are %+v", public)
		}
	}
	if !strings.Contains(reports["/where.txt"], "in review") {
		t.Errorf("where.txt does not say that a person decides:\n%s", reports["/where.txt"])
	}
	// The same version once more is no news; a wrong key is said as such, and not tried three times.
	terminal.types("sh release.sh 0.4.1").must(t, 1, "was sent to brackwater as version 0.4.1")
	for name, data := range demo.Second() {
		writeInto(t, project, game.Files{demo.GoodExport + "/" + name: data})
	}
	terminal.env = append(terminal.env, "BRACKWATER_KEY=wrong", "PAUSE=600") // longer than a line may take
	terminal.types("sh release.sh 0.4.2").must(t, 1, "refused the key")
}
