//go:build linux

package tests

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

// A windows runs the Windows program under Wine.
type windows struct {
	t        *testing.T
	emulator string
	program  string
	env      []string
}

func newWindows(t *testing.T) *windows {
	gcc := partner(t, "x86_64-w64-mingw32-gcc")
	const name = "wine"
	at, emulator := t.TempDir(), partner(t, name)
	w := &windows{t, emulator, filepath.Join(at, "havvel.exe"),
		append(os.Environ(), "WINEPREFIX="+filepath.Join(at, "prefix"), "WINEDEBUG=-all", "WINEARCH=win64")}
	build := exec.Command("go", "build", "-o", w.program, "havvel")
	build.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	library := filepath.Join(at, "prefix", "drive_c", "windows", "system32", "bcryptprimitives.dll")
	boot := exec.Command(emulator, "wineboot", "-i")
	boot.Env = w.env
	for _, c := range []*exec.Cmd{build, boot, exec.Command(gcc, "-shared", "-o", library, filepath.Join("testdata", "bcryptprimitives.c"),
		"-ladvapi32")} {
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%v: %v\n%s", c.Args, err, out)
		}
	}
	// As long as one program runs, the next one finds the system up.
	stays := exec.Command(emulator, "cmd")
	stays.Env = w.env
	if _, err := stays.StdinPipe(); err != nil {
		t.Fatal(err)
	}
	if err := stays.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		defer stays.Wait()
		stop := exec.Command("wineserver", "-k")
		stop.Env = w.env
		stop.Run() // there may be none any more
	})
	return w
}

func (w *windows) run(folder string, env []string, args ...string) ending {
	w.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	c := exec.CommandContext(ctx, w.emulator, append([]string{w.program}, args...)...)
	c.Dir, c.Env = folder, append(append(w.env, "BRACKWATER_KEY="+demo.PracticeKey), env...)
	c.Stdin = strings.NewReader("wick-and-oil\n")
	var out, errOut bytes.Buffer
	c.Stdout, c.Stderr = &out, &errOut
	err := c.Run()
	var ended *exec.ExitError
	if ctx.Err() != nil || err != nil && !errors.As(err, &ended) {
		w.t.Fatalf("havvel.exe %s: %v %v\n%s%s", strings.Join(args, " "), err, ctx.Err(), out.String(), errOut.String())
	}
	clean := func(text string) string { return strings.ReplaceAll(text, "\r\n", "\n") }
	return ending{c.ProcessState.ExitCode(), clean(out.String()), clean(errOut.String())}
}

// TestWindows: the Windows program does what the other one does, with that system's names, and packs the same bytes.
func TestWindows(t *testing.T) {
	t.Parallel()
	unraced(t)
	w := newWindows(t)
	_, project := portal(t, nil)
	hv := func(args ...string) ending { return w.run(project, nil, args...) }
	hv("look").must(t, 0, "wasm-split", "next: havvel check")
	hv("check", `export\web`).must(t, 0, "no errors")
	hv("check", "--json", "Z:"+strings.ReplaceAll(filepath.Join(project, "export", "flawed"), "/", `\`)).must(t, 1, `"link-missing"`)

	// The archive is the same on every system, also by two processes at once.
	run(t, project, "pack").must(t, 0)
	archive := filepath.Join(project, "packed", "brackwater-0.4.0.zip")
	want, err := os.ReadFile(archive)
	if err != nil {
		t.Fatal(err)
	}
	os.RemoveAll(filepath.Join(project, "packed"))
	os.RemoveAll(filepath.Join(project, ".havvel"))
	var both sync.WaitGroup
	for range 2 {
		both.Go(func() { hv("pack").must(t, 0, "read back and checked") })
	}
	both.Wait()
	if got, err := os.ReadFile(archive); err != nil || !bytes.Equal(got, want) {
		t.Errorf("the archive differs from that of the other system (%v)", err)
	}
	if left, _ := filepath.Glob(filepath.Join(project, "packed", ".*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}

	hv("send", "--wait").must(t, 0, "sent 0.4.0 to Brackwater", "state: draft")
	hv("publish").must(t, 0, "is public on Brackwater")
	hv("logbook").must(t, 0, "0.4.0", "public")
	hv("send").must(t, 1, "was sent to brackwater as version 0.4.0")

	keys := []string{`HAVVEL_KEYS=Z:` + strings.ReplaceAll(filepath.Join(t.TempDir(), "keys.json"), "/", `\`), "BRACKWATER_KEY="}
	w.run(project, keys, "keys", "set", "brackwater").must(t, 0, "is stored")
	w.run(project, keys, "keys", "list").must(t, 0, "brackwater")
	w.run(project, keys, "keys", "forget", "brackwater").must(t, 0, "is forgotten")
	w.run(project, keys, "keys", "forget", "brackwater").must(t, 1, "no key is stored")

	// A site in a folder: named beside the project, and by a drive.
	site := t.TempDir()
	edit(t, project, "[[statistic]]", "[to.near]\naddress = \"../public\"\n\n[to.far]\naddress = 'Z:"+strings.ReplaceAll(site, "/",
		`\`)+"'\n\n[[statistic]]")
	hv("send", "--to", "near", "--to", "far").must(t, 0, "sent 0.4.0 to near", "sent 0.4.0 to far")
	hv("publish", "--to", "far").must(t, 0, "is in place on far")
	for _, at := range []string{filepath.Join(filepath.Dir(project), "public"), site} {
		if files := snapshot(t, at); files["/havvel-versions.json"] == "" {
			t.Errorf("nothing is in %s", at)
		}
	}
	hv("trial").must(t, 3, "set HAVVEL_BROWSER=")

	// Names that Windows can't write, in a zip that another system made; and a path longer than 260 letters.
	odd := filepath.Join(t.TempDir(), "odd.zip")
	names := archiveOf(t, entry{"index.html", []byte("<!doctype html><title>Lane</title><script src=aux.js></script>")},
		entry{"aux.js", []byte("Brackwater.ready()")})
	if err := os.WriteFile(odd, names, 0o644); err != nil {
		t.Fatal(err)
	}
	hv("check", "Z:"+odd).must(t, 0, "name-reserved")
	long := filepath.Join(t.TempDir(), strings.Repeat("a lane with many lanterns/", 12))
	writeInto(t, long, game.Files{"index.html": []byte("<!doctype html><title>Lane</title><script src=game.js></script>"),
		"game.js": []byte("1")})
	hv("look", "Z:"+long).must(t, 0, "2 files")

	// The whole way, from an empty folder.
	folder := t.TempDir()
	w.run(folder, nil, "demo", "--dir", "lane").must(t, 0, "From the export to a public page in")
	own := filepath.Join(folder, "own")
	writeInto(t, own, game.Files{
		"web/index.html": []byte("<!doctype html><title>Tinderwick Lane</title><script src=game.js></script>"), "web/game.js": []byte("1"),
	})
	w.run(own, nil, "start", "web", "--to", "quillmarsh").must(t, 0, "wrote havvel.toml")
	w.run(own, nil, "check").must(t, 0)

	// A browser ends with the program that started it, also when that is killed.
	browsers := *w
	browsers.program = filepath.Join(t.TempDir(), "browser.test.exe")
	build := exec.Command("go", "test", "-c", "-o", browsers.program, "havvel/internal/browser")
	build.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %v\n%s", build.Args, err, out)
	}
	browsers.run(folder, nil, "-test.run", "^TestLeash$", "-test.v").must(t, 0, "--- PASS: TestLeash")
}
