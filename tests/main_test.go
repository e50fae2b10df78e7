// Package tests drives the built program on files in temporary folders, against the stand-in portal and
// real partners.
package tests

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"go/build"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
	"havvel/internal/standin"
)

// program is the path of havvel, built once for all tests.
var program string

// buildFlags are those of that build.
var buildFlags []string

// raced says that the tests and the program have the race detector in them, of which they become large and slow.
var raced bool

// patience is how long one run of the program may take.
var patience = 5 * time.Minute

// eventually looks until what it sees is good, on however slow a machine.
func eventually(t testing.TB, otherwise string, look func() (seen any, good bool)) {
	t.Helper()
	for end := time.Now().Add(patience / 4); ; time.Sleep(100 * time.Millisecond) {
		seen, good := look()
		if good {
			return
		}
		if time.Now().After(end) {
			t.Fatalf("%s: %+v", otherwise, seen)
		}
	}
}

// unraced skips a test that counts time or memory, where a run takes ten times as much of both.
func unraced(t testing.TB) {
	t.Helper()
	if raced {
		t.Skip("skipped: with the race detector the program needs more time and memory than the test allows")
	}
}

func TestMain(m *testing.M) {
	folder, err := os.MkdirTemp("", "havvel-tests-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	program = filepath.Join(folder, "havvel")
	build := exec.Command("go", append(append([]string{"build"}, buildFlags...), "-o", program, "havvel")...)
	build.Env = os.Environ()
	if len(buildFlags) == 0 {
		build.Env = append(build.Env, "CGO_ENABLED=0")
	}
	build.Stderr = os.Stderr
	code := 1
	os.Setenv("HAVVEL_PROOF", "off") // send proves in the tests of proofs
	if err := build.Run(); err == nil {
		code = m.Run()
	}
	os.RemoveAll(folder)
	os.Exit(code)
}

// An ending is how a run of havvel ended.
type ending struct {
	code     int
	out, err string
}

// run runs havvel in a folder, as a user with the practice key would.
func run(t testing.TB, folder string, args ...string) ending {
	t.Helper()
	return runWith(t, folder, []string{"BRACKWATER_KEY=" + demo.PracticeKey}, args...)
}

func runWith(t testing.TB, folder string, env []string, args ...string) ending {
	t.Helper()
	return runTold(t, folder, "", env, args...)
}

// runTold runs the program with something on its standard input.
func runTold(t testing.TB, folder, input string, env []string, args ...string) ending {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	c := exec.CommandContext(ctx, program, args...)
	c.Dir = folder
	c.Env = append(append(os.Environ(), "BRACKWATER_KEY="), env...)
	if input != "" {
		c.Stdin = strings.NewReader(input)
	}
	var out, errOut bytes.Buffer
	c.Stdout, c.Stderr = &out, &errOut
	err := c.Run()
	if ctx.Err() != nil {
		t.Fatalf("havvel %s hung", strings.Join(args, " "))
	}
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		t.Fatal(err)
	}
	return ending{c.ProcessState.ExitCode(), out.String(), errOut.String()}
}

// must fails the test unless havvel ended with that code and said all of these things.
func (e ending) must(t testing.TB, code int, says ...string) ending {
	t.Helper()
	if e.code != code {
		t.Fatalf("ended with %d, not %d\n%s%s", e.code, code, e.out, e.err)
	}
	for _, s := range says {
		if !strings.Contains(e.out+e.err, s) {
			t.Errorf("does not say %q:\n%s%s", s, e.out, e.err)
		}
	}
	return e
}

// decode reads what --json printed, and nothing else.
func decode[T any](t testing.TB, e ending) T {
	t.Helper()
	var v T
	d := json.NewDecoder(strings.NewReader(e.out))
	if err := d.Decode(&v); err != nil {
		t.Fatalf("not one JSON document: %v\n%s", err, e.out)
	}
	if d.More() {
		t.Fatalf("more than one JSON document:\n%s", e.out)
	}
	return v
}

// write writes files into a new folder.
func write(t testing.TB, files game.Files) string {
	t.Helper()
	folder := t.TempDir()
	writeInto(t, folder, files)
	return folder
}

func writeInto(t testing.TB, folder string, files game.Files) {
	t.Helper()
	for name, data := range files {
		path := filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// portal starts a quick Brackwater and returns it with a project that goes there.
func portal(t testing.TB, change func(*standin.Options)) (*standin.Portal, string) {
	t.Helper()
	o := demo.Brackwater(t.TempDir())
	o.VerifyTime = 20 * time.Millisecond
	if change != nil {
		change(&o)
	}
	a, err := standin.Start("127.0.0.1:0", o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(a.Stop)
	folder := filepath.Join(t.TempDir(), "project")
	if err := demo.Write(folder, map[string]string{"brackwater": a.Address()}); err != nil {
		t.Fatal(err)
	}
	return a, folder
}

// partner returns the path of a real program that a test works with. In CI it must be there.
func partner(t testing.TB, name string) string {
	t.Helper()
	if path, err := exec.LookPath(name); err == nil {
		return path
	}
	// not all are in everybody's PATH
	for _, folder := range []string{"/usr/local/bin", "/usr/local/sbin", "/usr/sbin", "/sbin", filepath.Join(build.Default.GOPATH, "bin")} {
		if path, err := exec.LookPath(filepath.Join(folder, name)); err == nil {
			return path
		}
	}
	if os.Getenv("CI") == "true" {
		t.Fatalf("%s is missing; scripts/test-partners installs it", name)
	}
	t.Skipf("skipped: %s is not installed (scripts/test-partners installs it)", name)
	return ""
}

// snapshot lists a folder's files with their contents, to see that nothing was changed.
func snapshot(t testing.TB, folder string) map[string]string {
	t.Helper()
	files := map[string]string{}
	err := filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		files[strings.TrimPrefix(path, folder)] = string(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return files
}

// freePort is a port that nobody listens on, nor on the one after it. It is not among those that the system gives out.
func freePort(t testing.TB) string {
	t.Helper()
	for range 100 {
		port := 12000 + (os.Getpid()*100+int(portsGiven.Add(2)))%18000
		if isFree(port) && isFree(port+1) {
			return strconv.Itoa(port)
		}
	}
	t.Fatal("there is no free port")
	return ""
}

// defaultPorts is held by a test that uses the ports that the program takes by itself.
var defaultPorts sync.Mutex

// portsGiven counts what freePort has given, so that it gives none twice.
var portsGiven atomic.Int64

func isFree(port int) bool {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err == nil {
		l.Close()
	}
	return err == nil
}
