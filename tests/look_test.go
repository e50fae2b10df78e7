package tests

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/check"
	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

// TestLookScreens: what look prints of the demo game, in each of its forms.
func TestLookScreens(t *testing.T) {
	export := write(t, demo.Good())
	here := t.TempDir()
	run(
		t,
		here,
		"look",
		export,
	).must(t, 0, "wasm-split", "to start", "in memory", "fingerprint", "largest files", "lane.pack", "PNG, 480 by 270")
	run(t, here, "look", export, "--files").must(t, 0, "rules.wasm", "memory from 131 KB")
	run(t, here, "look", export, "--links").must(t, 0, "index.html:14:14", "loader.js", "certain", "found")
	run(t, here, "look", export, "--memory").must(t, 0, "four bytes a pixel", "backdrop.png")
}

// TestLookFollows: nothing of the demo game is taken for unused, and all of it comes before the start.
func TestLookFollows(t *testing.T) {
	type document struct {
		Unlinked []string
		Start    struct {
			Bytes int64
			Files []string
		}
		Wasm []struct {
			File     string
			Memories []struct{ Initial, Maximum int64 }
		}
		Memory struct{ Pictures int64 }
	}
	d := decode[document](t, run(t, t.TempDir(), "look", "--json", write(t, demo.Good())).must(t, 0))
	if len(d.Unlinked) != 0 || len(d.Start.Files) != 8 || len(d.Wasm) != 1 || d.Wasm[0].Memories[0].Initial != 131072 ||
		d.Memory.Pictures != 4*(480*270+64*64) {
		t.Errorf("%+v", d)
	}
}

// TestEntryFlag: with several pages, the one that loads the game is taken, and --entry settles it.
func TestEntryFlag(t *testing.T) {
	files := game.Files{
		"help.html":  []byte("<script>1</script>"),
		"other.html": []byte("<canvas></canvas><script src=o.js></script>"),
		"o.js":       []byte("1"),
	}
	for name, data := range demo.Good() {
		files[strings.Replace(name, "index.html", "play.html", 1)] = data
	}
	export := write(t, files)
	here := t.TempDir()
	if l := decode[look](t, run(t, here, "look", "--json", export).must(t, 0)); l.Entry != "play.html" {
		t.Errorf("the entry page is %s", l.Entry)
	}
	run(t, here, "look", export).must(t, 0, "could also be other.html", "--entry")
	run(t, here, "look", export, "--entry", "other.html").must(t, 0, "entry page   other.html")
	run(t, here, "check", export, "--entry", "none.html").must(t, 2, "no HTML page none.html", "its pages are: help.html")
}

// TestFormats: SARIF and JUnit as programs of a build server read them.
func TestFormats(t *testing.T) {
	_, project := portal(t, nil)
	flawed := filepath.Join("export", "flawed")
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct {
					Name  string
					Rules []struct{ ID string }
				}
			}
			Results []struct {
				RuleID    string
				RuleIndex int
				Level     string
				Message   struct{ Text string }
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	e := run(t, project, "check", flawed, "--format", "sarif").must(t, 1)
	if err := json.Unmarshal([]byte(e.out), &log); err != nil || log.Version != "2.1.0" || len(log.Runs) != 1 {
		t.Fatalf("%v: %s", err, e.out)
	}
	driver, errors := log.Runs[0].Tool.Driver, 0
	for _, r := range log.Runs[0].Results {
		if driver.Rules[r.RuleIndex].ID != r.RuleID || r.Message.Text == "" || len(r.Locations) != 1 {
			t.Errorf("%+v", r)
		}
		if r.Level == "error" {
			errors++
		}
		uri := r.Locations[0].PhysicalLocation.ArtifactLocation.URI
		if _, ok := snapshot(t, project)["/"+uri]; !ok {
			t.Errorf("%s leads to no file", uri)
		}
	}
	if errors != 1 || driver.Name != "havvel" {
		t.Errorf("%d errors", errors)
	}

	var suites struct {
		Suites []struct {
			Name     string `xml:"name,attr"`
			Tests    int    `xml:"tests,attr"`
			Failures int    `xml:"failures,attr"`
			Cases    []struct {
				Failure *struct {
					Text string `xml:",chardata"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	e = run(t, project, "check", flawed, "--format", "junit").must(t, 1)
	d := xml.NewDecoder(strings.NewReader(e.out))
	d.Strict = true
	if err := d.Decode(&suites); err != nil || len(suites.Suites) != 1 {
		t.Fatalf("%v: %s", err, e.out)
	}
	for {
		token, err := d.Token()
		if err == io.EOF {
			break
		}
		if text, ok := token.(xml.CharData); err != nil || !ok || strings.TrimSpace(string(text)) != "" {
			t.Fatalf("something follows the document: %v %v", token, err)
		}
	}
	failed := 0
	for _, c := range suites.Suites[0].Cases {
		if c.Failure != nil {
			failed++
		}
	}
	if s := suites.Suites[0]; s.Failures != 1 || failed != 1 || s.Tests != len(s.Cases) || s.Name != "brackwater" {
		t.Errorf("%d failures, %d failed cases of %d", s.Failures, failed, s.Tests)
	}
}

func TestCheckFlags(t *testing.T) {
	_, project := portal(t, nil)
	flawed := filepath.Join("export", "flawed")
	run(t, project, "check", "--explain", "link-case").must(t, 0, "On the developer's disk", "before:", "after:")
	run(t, project, "check", "--explain", "link-cse").must(t, 2, `did you mean "link-case"?`)
	run(
		t,
		project,
		"check",
		flawed,
		"--only",
		"page",
	).must(t, 0, fmt.Sprintf("11 of %d checks", len(check.Catalogue())), "no errors in these", "(all checks)")
	if e := run(t, project, "check", flawed, "--only", "link", "--level", "error").must(t, 1, "link-missing"); strings.Contains(
		e.out,
		"link-case",
	) ||
		strings.Contains(e.out, "encoding-unserved") ||
		strings.Contains(e.out, "hook-absent") {
		t.Errorf("shows what was not asked for:\n%s", e.out)
	}
	run(t, project, "check", "--only", "nothing").must(t, 2, "no check")
	run(t, project, "check", "--format", "yaml").must(t, 2, "it can be text, json, sarif, junit")
	run(t, project, "check", "--level", "fatal").must(t, 2, "it can be note, warning, error")
}

// TestRules: the rulebooks that ship can be listed, shown and begun from; mistakes in one's own are named.
func TestRules(t *testing.T) {
	here := t.TempDir()
	run(t, here, "rules", "list").must(t, 0, "brackwater", "quillmarsh", "osierfold")
	run(t, here, "rules", "show", "osierfold").must(t, 0, "the entry page, and a zip of the rest", "200 MB", "started.playBegan")
	own := run(t, here, "rules", "show", "brackwater", "--toml").must(t, 0).out
	writeInto(t, here, game.Files{"own.toml": []byte(own), "bad.toml": []byte(strings.Replace(own, "hand_over", "handover", 1))})
	run(t, here, "rules", "check", "own.toml").must(t, 0, "no mistakes")
	run(t, here, "rules", "check", "bad.toml").must(t, 2, "bad.toml:9:1", `did you mean "hand_over"?`)
	run(t, here, "rules", "check", "none.toml").must(t, 2, "none.toml")
	run(t, here, "rules", "show", "brakwater").must(t, 2, `did you mean "brackwater"?`)
	run(t, here, "rules", "sohw").must(t, 2, "havvel rules --help")
}

// TestSeveralPortals: one export checked for three portals; each finding says for whom it holds.
func TestSeveralPortals(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	toml := snapshot(t, project)["/havvel.toml"] + "\n[to.quillmarsh]\nrulebook = \"quillmarsh\"\n[to.osierfold]\nrulebook = \"osierfold\"\n"
	writeInto(t, project, game.Files{"havvel.toml": []byte(toml)})
	flawed := filepath.Join("export", "flawed")
	run(t, project, "check", flawed).must(t, 1, "for Brackwater, Osierfold and Quillmarsh", "1 error", "Fixed automatically by havvel pack")
	run(t, project, "check", flawed, "--to", "quillmarsh", "--only", "encoding").must(t, 0, "no errors in these")
	run(t, project, "pack", "--to", "quillmarsh").must(t, 0, "quillmarsh-0.4.0.zip", "of 500 MB allowed")
	run(t, project, "pack", "--to", "osierfold").must(t, 0, "rest.zip")
	run(t, project, "send", "--to", "quillmarsh").must(t, 3, "havvel keys set quillmarsh", "QUILLMARSH_KEY", "your account on Quillmarsh")
}

// TestOddNames: names that are legal somewhere are read, and reported where they make trouble elsewhere.
func TestOddNames(t *testing.T) {
	names := []string{
		"index.html",
		"night sky/l\u00e4rm.png",
		"caf\u0065\u0301.json",
		`back\slash.js`,
		"aux.js",
		"Lane.js",
		"lane.js",
		strings.Repeat("deep/", 50) + "a.js",
		"夜.js",
		"%41.js",
		"a&b=c.js",
	}
	files := game.Files{"index.html": []byte("<canvas></canvas><script src=lane.js></script>")}
	for _, name := range names[1:] {
		files[name] = []byte("{}")
	}
	path := zipOf(t, "", files, names)
	here := t.TempDir()
	run(t, here, "look", path).must(t, 0, "11 files")
	e := run(t, here, "check", path, "--json", "--only", "name").must(t, 0)
	for _, id := range []string{"name-case-twice", "name-form", "name-letters", "name-reserved", "name-long"} {
		if !strings.Contains(e.out, id) {
			t.Errorf("%s is not reported:\n%s", id, e.out)
		}
	}
}

// TestEncodings: a compressed file is read inside, and who unpacks it is told.
func TestEncodings(t *testing.T) {
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write(demo.Good()["rules.wasm"])
	z.Close()
	for unpacks, script := range map[string]string{
		"no script in the build can unpack it, so the host must": `fetch("rules.wasm.gz")`,
		"unpacks it itself": `fetch("rules.wasm.gz").then((r) => r.body.pipeThrough(new DecompressionStream("gzip")))`,
		"must send it with": `fetch("rules.wasm")`,
	} {
		export := write(
			t,
			game.Files{"index.html": []byte("<canvas></canvas><script src=a.js></script>"), "a.js": []byte(script), "rules.wasm.gz": packed.Bytes()},
		)
		run(t, t.TempDir(), "look", "--files", export).must(t, 0, "memory from 131 KB", "compressed with gzip, 2.2 KB unpacked", unpacks)
	}
}

// TestManyFindings: what is said of many places is said once, and of one check ten places are named at most.
func TestManyFindings(t *testing.T) {
	files := game.Files{}
	for name, data := range demo.Good() {
		files[name] = data
	}
	for i := range 25 {
		files[fmt.Sprintf("m%02d.log", i)] = []byte("x")
	}
	out := run(t, t.TempDir(), "check", write(t, files)).must(t, 0, "m00.log", "m09.log", "and 15 more of leftover-log").out
	if strings.Contains(out, "m10.log") || strings.Count(out, "it is a log or dump of a tool") != 1 {
		t.Errorf("says too much:\n%s", out)
	}
}

// TestWorkshop: where tools of the web make a game, its export is what they wrote, not the page that they made it from.
func TestWorkshop(t *testing.T) {
	made := write(t, game.Files{
		"package.json": []byte(
			"{}",
		), "index.html": []byte(`<script type="module" src="main.js"></script>`), "main.js": []byte(`import { lamp } from "lantern-kit"`),
		"node_modules/lantern-kit/index.html": []byte(
			"<p>not ours",
		), "dist/index.html": []byte(`<title>Lane</title><script src="lane.js"></script>`), "dist/lane.js": []byte("1"),
	})
	run(t, made, "check", ".").must(t, 1, "link-package", `"lantern-kit" is imported by its name alone`)
	run(t, made, "look").must(t, 0, "dist  a folder", "2 files")
	run(t, made, "start", "--dry-run").must(t, 0, `export  = "dist"`)
	writeInto(t, made, game.Files{"docs/index.html": []byte("<script>1</script>")})
	run(t, made, "look").must(t, 2, "it holds 2 exports: dist and docs", "name one of them")
}
