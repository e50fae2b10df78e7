package tests

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

// TestStoredKeys: a stored key works, is readable by its owner only, is never printed, and is only ever sent to its own host.
func TestStoredKeys(t *testing.T) {
	t.Parallel()
	a, project := portal(t, nil)
	ring := filepath.Join(t.TempDir(), "config", "keys.json")
	hv := func(in string, args ...string) ending {
		c := exec.Command(program, args...)
		c.Dir, c.Env, c.Stdin = project, append(os.Environ(), "BRACKWATER_KEY=", "HAVVEL_KEYS="+ring), strings.NewReader(in)
		var out, errOut bytes.Buffer
		c.Stdout, c.Stderr = &out, &errOut
		c.Run()
		return ending{c.ProcessState.ExitCode(), out.String(), errOut.String()}
	}
	hv("", "send").must(t, 3, "havvel keys set brackwater", "BRACKWATER_KEY")
	hv("", "keys", "set", "brackwater").must(t, 2, "was given")
	hv("x\n", "keys", "set", "elsewhere").must(t, 2, "elsewhere")
	hv("", "keys", "list").must(t, 0, "no key is stored")
	e := hv(demo.PracticeKey+"\n", "keys", "set", "brackwater").must(t, 0, "is stored", strings.TrimPrefix(a.Address(), "http://"))
	list := hv("", "keys", "list").must(t, 0, "brackwater")
	if strings.Contains(e.out+e.err+list.out, demo.PracticeKey) {
		t.Error("the key is printed")
	}
	if info, err := os.Stat(ring); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the file with the keys: %v %v", info.Mode(), err)
	}
	hv("", "send").must(t, 0, "sent 0.4.0")
	other, _ := portal(t, nil) // another project file can't lead the key to another host
	toml := strings.Replace(snapshot(t, project)["/havvel.toml"], a.Address(), other.Address(), 1)
	writeInto(t, project, game.Files{"havvel.toml": []byte(toml)})
	hv("", "send", "--again").must(t, 3, "is never sent to "+strings.TrimPrefix(other.Address(), "http://"))
	hv("", "keys", "forget", "brackwater", "--dry-run").must(t, 0, "would be forgotten")
	hv("", "keys", "forget", "brackwater").must(t, 0, "is forgotten")
	hv("", "keys", "forget", "brackwater").must(t, 1, "no key is stored for brackwater")
}

// TestMergedLogbooks: two people's histories, put together line by line in any order, with lines of both twice, are one.
func TestMergedLogbooks(t *testing.T) {
	t.Parallel()
	_, project := portal(t, nil)
	file := filepath.Join(project, ".havvel", "logbook.jsonl")
	read := func() string {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	run(t, project, "send", "--wait").must(t, 0)
	run(t, project, "publish").must(t, 0)
	mine := read()
	os.Remove(file)
	run(t, project, "send", "--version", "0.3.9", "--wait").must(t, 0)
	theirs := strings.Split(strings.TrimSpace(read()), "\n")
	// of both, out of order, and a line cut short
	merged := "<<<<<<< mine\n" + mine + "=======\n" + theirs[1] + "\n" + theirs[0] + "\n" + mine[:20]
	if err := os.WriteFile(file, []byte(merged), 0o644); err != nil {
		t.Fatal(err)
	}
	e := run(t, project, "logbook", "--json").must(t, 0)
	d := decode[deliveries](t, e).Deliveries
	if len(d) != 2 || d[0].Version != "0.3.9" || d[0].State != "draft" || d[1].Version != "0.4.0" || d[1].State != "public" {
		t.Errorf("%+v", d)
	}
	run(t, project, "back", "0.3.9").must(t, 0, "version 0.3.9 is public on Brackwater, instead of 0.4.0")
}
