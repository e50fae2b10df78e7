package tests

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"havvel/internal/demo/game"
)

// largeExport writes an export like a real one: 150 MB in 1,500 files, of which one is a large WebAssembly
// module, one a large data file, and the others are scripts, pictures and sounds.
func largeExport(b *testing.B) string {
	b.Helper()
	chance := rand.New(rand.NewPCG(1, 1))
	files := game.Files{"index.html": []byte(`<html><head></head><body><canvas></canvas><script src="s/0.js"></script></body></html>`)}
	code := append([]byte("\x04lane"), words(chance, 30_000_000, 60_000)...) // a custom section, which any reader takes
	files["lane.wasm"] = append(binary.AppendUvarint([]byte("\x00asm\x01\x00\x00\x00\x00"), uint64(len(code))), code...)
	files["lane.pack"] = append(words(chance, 30_000_000, 3_000_000), noise(chance, 20_000_000)...)
	for i := range 500 {
		files[fmt.Sprintf("s/%d.js", i)] = words(chance, 30_000, 4_000)
	}
	for i := range 700 {
		files[fmt.Sprintf("p/%d.png", i)] = append(
			[]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x0dIHDR\x00\x00\x01\x00\x00\x00\x01\x00"),
			noise(chance, 50_000)...)
	}
	for i := range 297 {
		files[fmt.Sprintf("a/%d.ogg", i)] = append([]byte("OggS"), noise(chance, 68_000)...)
	}
	folder := write(b, files)
	yesterday := time.Now().Add(-24 * time.Hour) // as an export that was not written this very second
	for name := range files {
		if err := os.Chtimes(filepath.Join(folder, filepath.FromSlash(name)), yesterday, yesterday); err != nil {
			b.Fatal(err)
		}
	}
	return folder
}

// words are bytes that compress about as well as code does: pieces of a vocabulary of that many bytes.
func words(chance *rand.Rand, size, vocabulary int) []byte {
	book := noise(chance, vocabulary)
	out := make([]byte, 0, size+64)
	for len(out) < size {
		at, n := chance.IntN(len(book)-16), 3+chance.IntN(12)
		out = append(out, book[at:at+n]...)
	}
	return out[:size]
}

func noise(chance *rand.Rand, size int) []byte {
	out := make([]byte, size)
	for i := range out {
		out[i] = byte(chance.Uint32())
	}
	return out
}

// timed runs a program and returns how long it took and the most memory it had, in bytes.
func timed(b *testing.B, folder string, args ...string) (time.Duration, float64) {
	b.Helper()
	c := exec.Command(args[0], args[1:]...)
	c.Dir = folder
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	began := time.Now()
	if err := c.Start(); err != nil {
		b.Fatal(err)
	}
	ended := make(chan float64)
	stop := make(chan bool)
	go func() { ended <- watchMemory(c.Process.Pid, stop) }()
	err := c.Wait()
	took := time.Since(began)
	close(stop)
	if err != nil {
		b.Fatalf("%v: %v\n%s", args, err, out.String())
	}
	return took, <-ended
}

// watchMemory looks at a process's highest resident memory while it runs. What the system reports after
// its end would count the memory of this process, too.
func watchMemory(pid int, stop chan bool) float64 {
	most := 0.0
	for {
		status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid)) // gone at the end, and absent elsewhere than on Linux
		if _, rest, ok := bytes.Cut(status, []byte("VmHWM:")); ok {
			var kib float64
			fmt.Sscan(string(rest), &kib)
			most = max(most, kib*1024)
		}
		select {
		case <-stop:
			return most
		case <-time.After(3 * time.Millisecond):
		}
	}
}

// against reports how havvel's time compares with that of a partner in the same run.
func against(b *testing.B, folder string, ours, partners []string, before func()) {
	b.Helper()
	var mine, theirs time.Duration
	var most float64
	for b.Loop() {
		took, _ := timed(b, folder, partners...)
		theirs += took
		before()
		took, memory := timed(b, folder, ours...)
		mine += took
		most = max(most, memory)
	}
	b.ReportMetric(mine.Seconds()/theirs.Seconds(), "of-partner")
	b.ReportMetric(most/1e6, "MB-resident")
}

// sums is the partner of look and check.
var sums = []string{"sh", "-c", "find . -type f -print0 | xargs -0 sha256sum >/dev/null"}

func BenchmarkLook(b *testing.B)  { againstUnknown(b, "look") }
func BenchmarkCheck(b *testing.B) { againstUnknown(b, "check") }

func BenchmarkLookAgain(b *testing.B)  { againstKnown(b, "look") }
func BenchmarkCheckAgain(b *testing.B) { againstKnown(b, "check") }

// BenchmarkLookScripts reads a tree of scripts alone, as bundlers write them: 200 of 60 KB, each of which differs.
func BenchmarkLookScripts(b *testing.B) {
	against(b, scriptTree(b), []string{program, "look"}, sums, func() { b.Setenv("XDG_CACHE_HOME", b.TempDir()) })
}

func scriptTree(b *testing.B) string {
	b.Helper()
	bundles, err := filepath.Glob("../internal/export/script/testdata/*.js")
	if err != nil || len(bundles) == 0 {
		b.Fatal("no bundles: ", err)
	}
	files := game.Files{"index.html": []byte(`<html><head></head><body><canvas></canvas><script src="s/0.js"></script></body></html>`)}
	for i := range 200 {
		var text bytes.Buffer
		for n := i; text.Len() < 60_000; n++ {
			data, err := os.ReadFile(bundles[n%len(bundles)])
			if err != nil {
				b.Fatal(err)
			}
			if bytes.Contains(data, []byte("import")) { // a script within a function imports nothing
				continue
			}
			fmt.Fprintf(&text, "(function(){%s\n})();\n", data)
		}
		files[fmt.Sprintf("s/%d.js", i)] = text.Bytes()
	}
	return write(b, files)
}

// againstUnknown has nothing in the cache when each run begins.
func againstUnknown(b *testing.B, command string) {
	against(b, largeExport(b), []string{program, command}, sums, func() { b.Setenv("XDG_CACHE_HOME", b.TempDir()) })
}

// againstKnown runs a command on an export that was read before.
func againstKnown(b *testing.B, command string) {
	export := largeExport(b)
	b.Setenv("XDG_CACHE_HOME", b.TempDir())
	time.Sleep(2100 * time.Millisecond) // what was written just now is read again each time
	timed(b, export, program, command)
	against(b, export, []string{program, command}, sums, func() {})
}

// large is a project with a large export, that goes to as many destinations of large limits.
func large(b *testing.B, destinations int) (project, export string) {
	b.Helper()
	_, project = portal(b, nil)
	rules, err := os.ReadFile(filepath.Join("..", "internal", "rulebook", "ship", "brackwater.toml"))
	if err != nil {
		b.Fatal(err)
	}
	toml := "[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"0.4.0\"\nexport = \"large\"\n"
	for i := range destinations {
		toml += fmt.Sprintf("[to.d%d]\nrulebook = \"large.toml\"\n", i)
	}
	writeInto(
		b,
		project,
		game.Files{"large.toml": []byte(replaceAll(string(rules), `"80 MB"`, `"800 MB"`, "1500", "2000")), "havvel.toml": []byte(toml)},
	)
	export = filepath.Join(project, "large")
	if err := os.Rename(largeExport(b), export); err != nil {
		b.Fatal(err)
	}
	time.Sleep(2100 * time.Millisecond) // what was written just now is read again each time
	return project, export
}

// forget takes away what was kept of earlier packs.
func forget(b *testing.B, project string) {
	b.Helper()
	for _, name := range []string{filepath.Join(".havvel", "cache"), "packed"} {
		if err := os.RemoveAll(filepath.Join(project, name)); err != nil {
			b.Fatal(err)
		}
	}
}

// trees are what archives are measured on: a generated export, the data of a game in Debian, and WebAssembly of libraries. Those that
// are not on this machine are left out, and that is said.
func trees(b *testing.B) map[string]string {
	list := map[string]string{"generated": largeExport(b)}
	page := game.Files{"index.html": []byte("<!doctype html><html lang=en><title>Tinderwick Lane</title><canvas></canvas></html>")}
	if data := "/usr/share/games/neverball"; exists(data) {
		list["assets"] = write(b, page)
		if out, err := exec.Command("cp", "-rL", data, list["assets"]).CombinedOutput(); err != nil {
			b.Fatalf("%s", out)
		}
	} else {
		b.Log("not measured: a game's data, Debian's neverball-data")
	}
	modules := []string{
		"esbuild-wasm/esbuild.wasm", "canvaskit-wasm/bin/canvaskit.wasm", "@dimforge/rapier3d/rapier_wasm3d_bg.wasm",
		"sql.js/dist/sql-wasm.wasm", "box2d-wasm/dist/es/Box2D.wasm",
	}
	for _, name := range modules {
		data, err := os.ReadFile(filepath.Join(os.Getenv("CORPUS"), "npm", "node_modules", filepath.FromSlash(name)))
		if err != nil {
			b.Log("not measured: WebAssembly of libraries, which make bench fetches")
			return list
		}
		page[filepath.Base(name)] = data
	}
	list["wasm"] = write(b, page)
	return list
}

// packing is a project with one of the trees.
func packing(b *testing.B, export string) (project, archive string) {
	project = write(
		b,
		game.Files{
			"havvel.toml": fmt.Appendf(
				nil,
				"[game]\ntitle = \"Tinderwick Lane\"\nshort = \"lane\"\nversion = \"1.0.0\"\nexport = %q\n[to.d]\nrulebook = \"quillmarsh\"\n",
				export,
			),
		},
	)
	return project, filepath.Join(project, "packed", "d-1.0.0.zip")
}

// BenchmarkFirstPack packs each tree; its partner is zip -6 for time, and zip -9 for size.
func BenchmarkFirstPack(b *testing.B) {
	zip := partner(b, "zip")
	for name, export := range trees(b) {
		b.Run(name, func(b *testing.B) {
			project, archive := packing(b, export)
			theirs, nine := filepath.Join(b.TempDir(), "six.zip"), filepath.Join(b.TempDir(), "nine.zip")
			timed(b, export, zip, "-q", "-9", "-r", nine, ".")
			against(
				b,
				project,
				[]string{program, "pack"},
				[]string{"sh", "-c", fmt.Sprintf("rm -f %q; cd %q && %s -q -6 -r %q .", theirs, export, zip, theirs)},
				func() { forget(b, project) },
			)
			b.ReportMetric(size(b, archive)/size(b, nine), "of-zip-9-size")
		})
	}
}

// BenchmarkSmallest packs each tree as small as can be; its partner is zip -9 for time, and for size 7z and advzip, also with zopfli.
func BenchmarkSmallest(b *testing.B) {
	zip, seven, adv := partner(b, "zip"), partner(b, "7z"), partner(b, "advzip")
	for name, export := range trees(b) {
		if name == "generated" {
			continue // of noise, which nobody makes smaller
		}
		b.Run(name, func(b *testing.B) {
			project, archive := packing(b, export)
			at := b.TempDir()
			nine, ours7, theirs3, zopfli4 := filepath.Join(
				at,
				"nine.zip",
			), filepath.Join(
				at,
				"7.zip",
			), filepath.Join(
				at,
				"3.zip",
			), filepath.Join(
				at,
				"4.zip",
			)
			against(
				b,
				project,
				[]string{program, "pack", "--smallest"},
				[]string{"sh", "-c", fmt.Sprintf("rm -f %q; cd %q && %s -q -9 -r %q .", nine, export, zip, nine)},
				func() { forget(b, project) },
			)
			timed(b, export, seven, "a", "-tzip", "-mx=9", ours7, ".")
			timed(b, export, "cp", nine, theirs3)
			timed(b, export, adv, "-z", "-3", theirs3)
			timed(b, export, "cp", nine, zopfli4)
			timed(b, export, adv, "-z", "-4", zopfli4)
			b.ReportMetric(size(b, archive)/size(b, ours7), "of-7z-size")
			b.ReportMetric(size(b, archive)/size(b, theirs3), "of-advzip-size")
			b.ReportMetric(size(b, archive)/size(b, zopfli4), "of-zopfli-size")
		})
	}
}

// BenchmarkFivePortals packs for five destinations; its partner packs for one.
func BenchmarkFivePortals(b *testing.B) {
	project, _ := large(b, 5)
	one := []string{"sh", "-c", fmt.Sprintf("rm -rf .havvel/cache packed && exec %q pack --to d0", program)}
	against(b, project, []string{program, "pack"}, one, func() { forget(b, project) })
}

// BenchmarkPackAgain packs after one small file changed; its partner is the first pack.
func BenchmarkPackAgain(b *testing.B) {
	project, export := large(b, 1)
	first := []string{"sh", "-c", fmt.Sprintf("rm -rf .havvel/cache packed && exec %q pack", program)}
	n := 0
	against(b, project, []string{program, "pack"}, first, func() {
		n++
		if err := os.WriteFile(filepath.Join(export, "s", "100.js"), []byte(fmt.Sprintf("let changed = %d", n)), 0o644); err != nil {
			b.Fatal(err)
		}
	})
}

func replaceAll(s string, pairs ...string) string { return strings.NewReplacer(pairs...).Replace(s) }

func size(b *testing.B, path string) float64 {
	b.Helper()
	info, err := os.Stat(path)
	if err != nil {
		b.Fatal(err)
	}
	return float64(info.Size())
}
