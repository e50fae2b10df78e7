package tests

import (
	"bufio"
	"bytes"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

// hosting runs a playtest host, and returns where it is, and how it is killed.
func hosting(t testing.TB, data string, args ...string) (control, games string, kill func(os.Signal)) {
	t.Helper()
	c := exec.Command(program, append([]string{"host", "--data", data}, args...)...)
	var wrong bytes.Buffer
	c.Stderr = &wrong
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	over := false
	kill = func(s os.Signal) {
		if !over {
			over = true
			c.Process.Signal(s)
			c.Wait()
		}
	}
	t.Cleanup(func() { kill(os.Kill) })
	lines := bufio.NewScanner(out)
	at := regexp.MustCompile(`the host is at (\S+)\s+games at (\S+)`)
	for lines.Scan() {
		if m := at.FindStringSubmatch(lines.Text()); m != nil {
			go func() {
				for lines.Scan() { // so that it never waits for a reader
				}
			}()
			return m[1], m[2], kill
		}
	}
	kill(os.Kill)
	t.Fatalf("the host did not start: %s", &wrong)
	return "", "", nil
}

// arrived is how many bytes of uploads a host has.
func arrived(data string) (n int64) {
	parts, _ := filepath.Glob(filepath.Join(data, "uploads", "*", "*"))
	for _, p := range parts {
		if info, err := os.Stat(p); err == nil {
			n += info.Size()
		}
	}
	return n
}

// TestHost: a version goes to your own host with the same send, an upload goes on after the host was killed, and players get
// what was sent.
func TestHost(t *testing.T) {
	t.Parallel()
	const size, piece = 40 << 20, 4 << 20
	data := filepath.Join(t.TempDir(), "shed")
	port := freePort(t)
	control, _, kill := hosting(t, data, "--port", port)
	address := strings.TrimPrefix(control, "http://")
	_, project, _ := at(t, "brackwater", nil)
	token := strings.Fields(run(t, project, "host", "token", "make", "moth", "--data", data).must(t, 0, "havvel keys set shed").out)[0]
	run(t, project, "host", "token", "list", "--data", data).must(t, 0, "moth", "lets in")
	writeInto(t, project, game.Files{demo.GoodExport + "/noise.bin": noise(rand.New(rand.NewPCG(4, 2)), size)})
	through := newRelay(t, address)
	edit(t, project, "[[statistic]]", fmt.Sprintf("[to.shed]\nrulebook = \"shed\"\naddress = \"http://%s\"\n\n[[statistic]]", through.address))
	hv := func(args ...string) ending {
		return runWith(t, project, []string{"SHED_KEY=" + token, "HAVVEL_KEYS=" + filepath.Join(data, "none")}, args...)
	}
	runWith(t, project, []string{"SHED_KEY=shed-guess"}, "send", "--to", "shed").must(t, 1, "refused the key", "havvel host token make NAME")

	c := exec.Command(program, "send", "--to", "shed", "--only", "build")
	c.Dir, c.Env = project, append(os.Environ(), "SHED_KEY="+token)
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	for until := time.Now().Add(30 * time.Second); arrived(data) < 3*piece && time.Now().Before(until); {
		time.Sleep(time.Millisecond)
	}
	kill(syscall.SIGKILL)
	c.Wait()
	there := arrived(data)
	if code := c.ProcessState.ExitCode(); code != 4 || there < 3*piece {
		t.Fatalf("send ended with %d, %d bytes are there", code, there)
	}
	before := through.sent.Load()
	_, games, kill := hosting(t, data, "--port", port)
	hv("send", "--to", "shed").must(t, 0, "sent 0.4.0 to the Shed", "state: draft", "havvel round open --to shed")
	if again := through.sent.Load() - before; again > size+600_000-(there-piece)+64<<10 { // the last may be kept and not noted
		t.Errorf("%d bytes went out the second time, %d were there", again, there)
	}
	link := decode[deliveries](t, hv("where", "--to", "shed", "--json").must(t, 0)).Deliveries[0].Link
	if !strings.HasPrefix(link, games+"/b/") {
		t.Fatalf("the link is %s, games are at %s", link, games)
	}
	for _, name := range []string{"lane.pack", "rules.wasm", "noise.bin"} {
		want, err := os.ReadFile(filepath.Join(project, demo.GoodExport, name))
		if err != nil {
			t.Fatal(err)
		}
		if status, got := get(t, link+name); status != 200 || got != string(want) {
			t.Errorf("%s: %d, %d bytes of %d", name, status, len(got), len(want))
		}
	}
	hv("where", "--all", "--to", "shed").must(t, 0, "0.4.0", "draft")
	run(t, project, "host", "token", "revoke", "moth", "--data", data).must(t, 0, "no longer accepted")
	hv("where", "--to", "shed").must(t, 1, "refused the key")
	run(t, project, "host", "token", "revoke", "moth", "--data", data).must(t, 2, "there is no token")
	run(t, project, "host", "--url", "https://shed.example", "--games-url", "https://shed.example").must(t, 2, "an origin of their own")
	kill(os.Interrupt)
	eventually(t, "the host still answers", func() (any, bool) {
		r, err := http.Get(link)
		if err == nil {
			r.Body.Close()
		}
		return link, err != nil
	})
}
