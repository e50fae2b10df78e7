package tests

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/chromedp/chromedp"

	"havvel/internal/demo/game"
	"havvel/internal/rulebook"
)

// three adds destinations to a project: the other two portals, and one that takes a page.
func three(t *testing.T, project, more string) {
	t.Helper()
	toml := snapshot(t, project)["/havvel.toml"] + "\n[to.quillmarsh]\nrulebook = \"quillmarsh\"\n" + more + "\n[to.osierfold]\nrulebook " +
		"= \"osierfold\"\n"
	writeInto(t, project, game.Files{"havvel.toml": []byte(toml)})
}

type packedJSON struct{ Archives []packedArchive }

type packedArchive struct {
	Destination, Path, SHA256 string
	HandOver                  string `json:"hand_over"`
	Parts                     []struct{ Part, Path string }
	Steps                     []struct{ Step, What, Why string }
}

// unzipped reads the files of a zip.
func unzipped(t *testing.T, path string) game.Files {
	t.Helper()
	z, err := zip.OpenReader(path)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	files := game.Files{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		if files[f.Name], err = io.ReadAll(r); err != nil {
			t.Fatal(err)
		}
		r.Close()
	}
	return files
}

// host serves what was handed over as a destination does: precompressed files with Content-Encoding where it can, and as
// they are where it can't; and a script for the portal's own.
func host(t *testing.T, rules *rulebook.Rulebook, files game.Files) string {
	t.Helper()
	types := map[string]string{
		".html": "text/html",
		".js":   "text/javascript",
		".css":  "text/css",
		".wasm": "application/wasm",
		".png":  "image/png",
		".json": "application/json",
	}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(r.URL.Path, "/")
		if name == "" {
			name = "index.html"
		}
		data, ok := files[name]
		if strings.HasPrefix(name, "sdk/") {
			data, ok = []byte("window.Brackwater = { score() {} };"), true
		}
		if !ok {
			http.NotFound(w, r)
			return
		}
		for _, e := range rules.Serves.Encodings {
			if ending := map[string]string{"gzip": ".gz", "br": ".br"}[e]; strings.HasSuffix(name, ending) {
				w.Header().Set("Content-Encoding", e)
				name = strings.TrimSuffix(name, ending)
			}
		}
		kind := types[filepath.Ext(name)]
		if kind == "" {
			kind = "application/octet-stream"
		}
		w.Header().Set("Content-Type", kind)
		w.Write(data)
	}))
	t.Cleanup(s.Close)
	return s.URL
}

func squeezed(t *testing.T, encoding string, data []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	var w io.WriteCloser = gzip.NewWriter(&b)
	switch encoding {
	case "br":
		w = brotli.NewWriterLevel(&b, 5)
	case "deflate-raw":
		w, _ = flate.NewWriter(&b, flate.BestCompression) // the level is one
	}
	if _, err := w.Write(data); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// compressed is an export whose data was compressed by the engine.
func compressed(t *testing.T, encoding, ending string) game.Files {
	files := game.WasmSplit().Changed("loader.js", "lane.pack", "lane.pack"+ending).Changed("loader.js", "rules.wasm", "rules.wasm"+ending)
	for _, name := range []string{"lane.pack", "rules.wasm"} {
		files[name+ending] = squeezed(t, encoding, files[name])
		delete(files, name)
	}
	return files
}

// awry is an export with mistakes that pack fixes: a folder around it, another entry name, links from the host's root and in
// another letter case, and junk.
func awry() game.Files {
	files := game.Files{"Thumbs.db": []byte("x")}
	good := game.Wasm().Changed("index.html", `src="runtime.js"`, `src="/runtime.js"`).Changed("style.css", "backdrop.png", "Backdrop.PNG")
	for name, data := range good {
		files["web build/"+strings.Replace(name, "index.html", "Tinderwick.html", 1)] = data
	}
	return files
}

// TestPackedGamesPlay packs every shape, and builds with mistakes, for every portal, and loads what comes out in a real
// browser, from a host that serves as that portal does: the game reaches its title.
func TestPackedGamesPlay(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	three(t, project, "encode = \"br\"\n[to.page]\nrulebook = \"page.toml\"")
	onePage := strings.Replace(
		run(t, project, "rules", "show", "quillmarsh", "--toml").must(t, 0).out,
		`hand_over  = "zip"`,
		`hand_over = "one-page"`,
		1,
	)
	front := snapshot(t, project)["/havvel.toml"] + "\n[front]\nbackground = \"#102\"\nbar = \"gold\"\ncanvas = \"fill\"\n"
	writeInto(t, project, game.Files{"page.toml": []byte(onePage), "havvel.toml": []byte(front)})
	t.Run("", func(t *testing.T) { // the portal stays up until all are done
		for name, files := range map[string]game.Files{
			"wasm-split": game.WasmSplit(), "single-page": game.SinglePage(), "wasm": game.Wasm(), "script": game.Script(),
			"gzip": compressed(t, "gzip", ".gz"), "brotli": compressed(t, "br", ".br"), "awry": awry(),
		} {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				window, _ := browser(t, 480, 320) // one of its own: games stand still in a tab behind another
				out := t.TempDir()
				for _, a := range decode[packedJSON](t, run(t, project, "pack", "--slim", "--json", "--out", out, write(t, files)).must(t,
					0)).Archives {
					plays(t, window, a)
				}
			})
		}
	})
}

// plays loads what was handed over to a destination.
func plays(t *testing.T, ctx context.Context, a packedArchive) {
	t.Helper()
	handed := game.Files{}
	entry := a.Path
	switch a.HandOver {
	case "zip":
		handed, entry = unzipped(t, a.Path), ""
	case "entry-apart":
		handed, entry = unzipped(t, a.Parts[1].Path), a.Parts[0].Path
	}
	if entry != "" {
		page, err := os.ReadFile(entry)
		if err != nil {
			t.Fatal(err)
		}
		handed["index.html"] = page
	}
	rules, err := rulebook.Find(strings.Replace(a.Destination, "page", "quillmarsh", 1), "")
	if err != nil {
		t.Fatal(err)
	}
	do(
		t,
		ctx,
		chromedp.Navigate(host(t, rules, handed)+"/"),
		// one page writes its game's page first
		chromedp.Poll[chromedp.Void](`document.querySelector("canvas") && !document.querySelector("#loading, #havvel-front")`,
			chromedp.WithPollingInterval(200*time.Millisecond), chromedp.WithPollingTimeout(time.Minute)),
	)
	eventually(t, fmt.Sprintf("%s: the game is blank or dark (%v)", a.Destination, a.Steps), func() (any, bool) {
		_, colours, brightest := picture(t, ctx)
		return []any{colours, brightest}, colours >= 200 && brightest >= 100
	})
}

// readers are programs that open archives strictly, and how each is called.
func readers(t *testing.T) [][]string {
	sevenZip, bsdtar, unzip := partner(t, "7z"), partner(t, "bsdtar"), partner(t, "unzip")
	python := []string{partner(t, "python3"), "-c", "import sys, zipfile; z = zipfile.ZipFile(sys.argv[1]); assert z.testzip() is None"}
	java := []string{partner(t, "java"), filepath.Join("testdata", "ReadZip.java")}
	return [][]string{{sevenZip, "t"}, {bsdtar, "-tf"}, {bsdtar, "-xOf"}, {unzip, "-tq"}, python, java}
}

// readBack has an archive opened by all readers.
func readBack(t *testing.T, path string) {
	t.Helper()
	for _, open := range readers(t) {
		if out, err := exec.Command(open[0], append(open[1:], path)...).CombinedOutput(); err != nil {
			t.Errorf("%v: %v\n%s", open, err, out)
		}
	}
}

// TestOpeners has archives opened by programs that are not ours, and packs the same again from another folder.
func TestOpeners(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	three(t, project, "")
	sums := map[string]string{}
	for round, files := range []game.Files{game.WasmSplit(), awry(), game.WasmSplit(), awry()} {
		export := write(t, files)
		for _, a := range decode[packedJSON](t, run(t, project, "pack", "--json", export).must(t, 0)).Archives {
			path := filepath.Join(project, a.Path)
			if a.HandOver == "entry-apart" {
				path = filepath.Join(path, "rest.zip")
			}
			readBack(t, path)
			key := a.Destination + map[int]string{0: "good", 1: "awry"}[round%2]
			if was, ok := sums[key]; ok && was != a.SHA256 {
				t.Errorf("%s: the same export in another folder gives other bytes", key)
			}
			sums[key] = a.SHA256
		}
	}
}

// TestPlan: the plan says each change and why, and writes nothing.
func TestPlan(t *testing.T) {
	_, project := portal(t, nil)
	export := write(t, compressed(t, "br", ".br"))
	before := snapshot(t, project)
	run(
		t,
		project,
		"pack",
		"--plan",
		export,
	).must(t, 0, "recode", "lane.pack.br becomes lane.pack.gz", "Brackwater can't serve brotli", "plant", "stamp", "not written",
		"next: havvel pack")
	for _, a := range decode[packedJSON](t, run(t, project, "pack", "--plan", "--json", export).must(t, 0)).Archives {
		for _, s := range a.Steps {
			if s.Step == "" || s.What == "" || s.Why == "" {
				t.Errorf("a step without words: %+v", s)
			}
		}
	}
	for name := range snapshot(t, project) {
		if _, ok := before[name]; !ok && !strings.HasPrefix(name, "/.havvel/cache/") {
			t.Errorf("the plan wrote %s", name)
		}
	}
	run(t, project, "pack", "--without", "recode", export).must(t, 1, "encoding-unserved")
	run(t, project, "pack", "--without", "stamp", "--without", "recode", "--accept-errors", export).must(t, 0, "2 errors")
	run(t, project, "pack", "--without", "stmp").must(t, 2, `no step "stmp"`, "leave-out")
}

// TestTooLarge: an archive over the limit is not written, and it is said what would bring it under.
func TestTooLarge(t *testing.T) {
	_, project := portal(t, nil)
	rules := strings.Replace(run(t, project, "rules", "show", "brackwater", "--toml").must(t, 0).out, `"80 MB"`, `"300 KB"`, 1)
	toml := strings.Replace(snapshot(t, project)["/havvel.toml"], `rulebook = "brackwater"`, `rulebook = "small.toml"`, 1)
	writeInto(
		t,
		project,
		game.Files{"small.toml": []byte(rules), "havvel.toml": []byte(toml), "export/web/twice.pack": game.WasmSplit()["lane.pack"]},
	)
	run(
		t,
		project,
		"pack",
	).must(t, 1, "takes up to 300 KB", "less by duplicates", "less by unused", "less by slim", "the largest files", "lane.pack (549 KB)")
	if exists(filepath.Join(project, "packed", "brackwater-0.4.0.zip")) {
		t.Error("an archive that is too large was left behind")
	}
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// TestKilled: a pack that is killed leaves the earlier archive, and the next pack makes the same bytes as ever.
func TestKilled(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	noise := make([]byte, 30_000_000)
	for i := range noise {
		noise[i] = byte(i * i >> 7)
	}
	writeInto(t, project, game.Files{"export/web/extra.pack": noise})
	run(t, project, "pack").must(t, 0)
	archive := filepath.Join(project, "packed", "brackwater-0.4.0.zip")
	want, err := os.ReadFile(archive)
	if err != nil {
		t.Fatal(err)
	}
	for _, after := range []time.Duration{20, 60, 120, 200, 300} {
		if err := os.RemoveAll(filepath.Join(project, ".havvel", "cache")); err != nil {
			t.Fatal(err)
		}
		ctx, stop := context.WithTimeout(context.Background(), after*time.Millisecond)
		c := exec.CommandContext(ctx, program, "pack") // killed, not asked to stop
		c.Dir = project
		c.Run()
		stop()
		if got, err := os.ReadFile(archive); err != nil || !bytes.Equal(got, want) {
			t.Fatalf("killed after %v ms: the earlier archive is not as it was (%v)", int(after), err)
		}
		run(t, project, "pack").must(t, 0)
		if got, err := os.ReadFile(archive); err != nil || !bytes.Equal(got, want) {
			t.Fatalf("after a kill the archive differs (%v)", err)
		}
	}
}

// TestCompare compares exports, archives and versions.
func TestCompare(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	run(t, project, "compare").must(t, 2, "nothing was sent yet")
	run(t, project, "send").must(t, 0)
	changed := game.WasmSplit().Changed("runtime.js", "vec3(.93, .92, .84)", "vec3(.9, .9, .7)")
	changed["night.pack"], changed["glow.png"] = []byte("more"), changed["icon.png"]
	delete(changed, "icon.png")
	export := filepath.Join("export", "web")
	if err := os.RemoveAll(filepath.Join(project, export)); err != nil {
		t.Fatal(err)
	}
	for name, data := range changed {
		writeInto(t, project, game.Files{filepath.Join(export, name): data})
	}
	run(
		t,
		project,
		"compare",
	).must(t, 0, "0.4.0 on Brackwater", "as it would be packed for Brackwater", "changed  runtime.js", "added    night.pack",
		"moved    icon.png to glow.png", "new   warning link-missing index.html", "1 file changed, 1 added, 1 moved; ")
	run(t, project, "compare", "0.4.0", export, "--json").must(t, 0)
	run(t, project, "compare", filepath.Join("export", "single-page"), export, "--fail-over", "5%").must(t, 0, "smaller")
	run(t, project, "compare", filepath.Join("packed", "brackwater-0.4.0.zip"), write(t, game.Wasm()), "--fail-over", "0.01%").must(t, 0)
	twice := game.WasmSplit()
	twice["again.pack"] = append(twice["lane.pack"], 1)
	run(t, project, "compare", export, write(t, twice), "--fail-over", "5%").must(t, 1, "added    again.pack", "grew by more than 5%")
	run(t, project, "compare", "0.4.0", "0.9").must(t, 2, "0.9", "neither a file or folder nor a version")
	run(t, project, "compare", "a", "b", "c").must(t, 2)
	run(t, project, "compare", "--fail-over", "much").must(t, 2, "5%")
	if err := os.RemoveAll(filepath.Join(project, "packed")); err != nil {
		t.Fatal(err)
	}
	run(t, project, "compare").must(t, 2, "is not in packed any more")
}

// TestAcceptErrors: a build with an error goes out only when that is said, and the logbook remembers it.
func TestAcceptErrors(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	flawed := filepath.Join("export", "flawed")
	run(t, project, "send", flawed).must(t, 1, "link-missing")
	run(t, project, "send", flawed, "--accept-errors").must(t, 0, "sent 0.4.0")
	if book := snapshot(t, project)["/.havvel/logbook.jsonl"]; !strings.Contains(book, `"errors":["link-missing"]`) {
		t.Errorf("the logbook does not remember the error: %s", book)
	}
}
