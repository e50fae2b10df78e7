package tests

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"havvel/internal/demo/game"
)

// A page that loads tiles by their numbers, for the open page host.
func tiles(t *testing.T, n int) (project string) {
	files := game.Files{
		"havvel.toml": []byte(
			"[game]\ntitle = \"Tinderwick Lane\"\nshort = \"lane\"\nversion = \"1.0.0\"\nexport = \"export\"\n[to.quillmarsh]\nrulebook = " +
				"\"quillmarsh\"\n",
		),
		"export/index.html": []byte(
			"<!doctype html><html lang=en><title>Tinderwick Lane</title><canvas id=lane></canvas><script type=module src=game.js></script>",
		),
		"export/game.js": []byte("const n = 5; const r = await fetch(`tiles/${n % 100}/${n}.json`);"),
	}
	for i := range n {
		files[fmt.Sprintf("export/tiles/%d/%d.json", i%100, i)] = fmt.Appendf(nil, `{"tile": %d, "lit": [%d, %d]}`, i, i*7%101, i*13%97)
	}
	return write(t, files)
}

// TestArchiveOfMany: with more files than the old form of a zip can count, every reader finds all of them, and memory stays bounded.
func TestArchiveOfMany(t *testing.T) {
	t.Parallel()
	unraced(t)
	project := tiles(t, 66_000)
	for _, args := range [][]string{{"pack", "--accept-errors"}, {"check"}} { // too many files for Quillmarsh
		c := exec.Command(program, args...)
		c.Dir = project
		var out bytes.Buffer
		c.Stdout, c.Stderr = &out, &out
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		ended, stop := make(chan float64), make(chan bool)
		go func() { ended <- watchMemory(c.Process.Pid, stop) }()
		c.Wait()
		close(stop)
		if most := <-ended; most == 0 || most > 256<<20 {
			t.Errorf("%v took %.0f MB", args, most/1e6)
		}
		if !strings.Contains(out.String(), "66003 files") && args[0] == "pack" {
			t.Fatalf("%s", out.String())
		}
	}
	readBack(t, filepath.Join(project, "packed", "quillmarsh-1.0.0.zip"))
}

// TestFileLimit: a limit on the size of files is a failure of this machine, and leaves the earlier archive as it was.
func TestFileLimit(t *testing.T) {
	project := tiles(t, 10)
	archive := filepath.Join(project, "packed", "quillmarsh-1.0.0.zip")
	run(t, project, "pack", "--accept-errors").must(t, 0)
	before, err := os.ReadFile(archive)
	if err != nil {
		t.Fatal(err)
	}
	writeInto(t, project, game.Files{"export/tiles/0/0.json": noise(rand.New(rand.NewPCG(1, 2)), 3<<20)})
	out, err := exec.Command("sh", "-c", fmt.Sprintf("cd %q && ulimit -f 1000 && exec %q pack --accept-errors", project, program)).
		CombinedOutput()
	if c := err.(*exec.ExitError).ExitCode(); c != 3 || !strings.Contains(string(out), "file too large") {
		t.Errorf("%d: %s", c, out)
	}
	if after, err := os.ReadFile(archive); err != nil || !bytes.Equal(before, after) {
		t.Errorf("the earlier archive is not as it was (%v)", err)
	}
	run(t, project, "pack", "--accept-errors").must(t, 0)
	readBack(t, archive)
}

// TestTwoPacks: two that pack the same at once, from an empty cache, both end well and with the same archive.
func TestTwoPacks(t *testing.T) {
	t.Parallel()
	project := tiles(t, 300)
	var wait sync.WaitGroup
	for range 2 {
		wait.Go(func() { run(t, project, "pack").must(t, 0) })
	}
	wait.Wait()
	archive := filepath.Join(project, "packed", "quillmarsh-1.0.0.zip")
	readBack(t, archive)
	together, err := os.ReadFile(archive)
	if err != nil {
		t.Fatal(err)
	}
	os.RemoveAll(filepath.Join(project, ".havvel"))
	run(t, project, "pack").must(t, 0)
	if alone, err := os.ReadFile(archive); err != nil || !bytes.Equal(alone, together) {
		t.Errorf("packed alone it is another archive (%v)", err)
	}
	if left, _ := filepath.Glob(filepath.Join(project, "packed", ".*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}
