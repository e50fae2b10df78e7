//go:build unix

package tests

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

// TestHostChanged: of a build in whose large files little changed, little travels to a playtest host, also when the host is killed in the
// middle, when the same comes again, and when another machine knows nothing of what was sent; testers load what was packed.
func TestHostChanged(t *testing.T) {
	t.Parallel()
	const size, changed = 48 << 20, 1 << 20
	data := filepath.Join(t.TempDir(), "shed")
	port := freePort(t)
	control, _, kill := hosting(t, data, "--port", port)
	_, project, _ := at(t, "brackwater", nil)
	token := strings.Fields(run(t, project, "host", "token", "make", "moth", "--data", data).must(t, 0).out)[0]
	through := newRelay(t, strings.TrimPrefix(control, "http://"))
	edit(t, project, "[[statistic]]", fmt.Sprintf("[to.shed]\nrulebook = \"shed\"\naddress = \"http://%s\"\n\n[[statistic]]", through.address))
	hv := func(args ...string) ending { return runWith(t, project, []string{"SHED_KEY=" + token}, args...) }
	r := rand.New(rand.NewPCG(3, 4))
	tiles, level := noise(r, size), words(r, size/4, 3000)
	send := func() int64 {
		t.Helper()
		writeInto(t, project, game.Files{demo.GoodExport + "/tiles.bin": tiles, demo.GoodExport + "/level.txt": level})
		before := through.sent.Load()
		hv("send", "--to", "shed", "--only", "build", "--again", "--accept-errors", "--no-proof").must(t, 0)
		return through.sent.Load() - before
	}
	same := func() {
		t.Helper()
		link := decode[deliveries](t, hv("where", "--to", "shed", "--json").must(t, 0)).Deliveries[0].Link
		got := map[string]bool{}
		for name, want := range map[string][]byte{"tiles.bin": tiles, "level.txt": level} {
			status, body := get(t, link+name)
			got[name] = status == 200 && body == string(want)
		}
		if !maps.Equal(got, map[string]bool{"tiles.bin": true, "level.txt": true}) {
			t.Errorf("what testers load is what was packed: %v", got)
		}
	}
	insert := func(b []byte, at, over int) []byte {
		return bytes.Join([][]byte{b[:at], noise(r, changed), b[at+over:]}, nil)
	}

	first := send()
	same()
	tiles = insert(tiles, 20<<20, changed-100)
	second := send()
	same()
	level = append(level[:5<<20:5<<20], append([]byte("One lantern more.\n"), level[5<<20:]...)...)
	third := send()
	same()
	again := send()
	t.Logf("first %d, then %d, of text %d, the same again %d bytes", first, second, third, again)
	if first < size || second > changed+changed/5 || third > 3<<20 || again > 100<<10 {
		t.Errorf("%d, %d, %d and %d bytes went out", first, second, third, again)
	}

	const half = size / 2
	tiles = append(tiles[:half:half], noise(r, size-half)...)
	writeInto(t, project, game.Files{demo.GoodExport + "/tiles.bin": tiles})
	c := exec.Command(program, "send", "--to", "shed", "--only", "build", "--again", "--accept-errors", "--no-proof")
	c.Dir, c.Env = project, append(os.Environ(), "SHED_KEY="+token)
	began := through.sent.Load()
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	for until := time.Now().Add(30 * time.Second); arrived(data) < 8<<20 && time.Now().Before(until); {
		time.Sleep(time.Millisecond)
	}
	kill(syscall.SIGKILL)
	c.Wait()
	if code := c.ProcessState.ExitCode(); code != 4 {
		t.Fatalf("send ended with %d", code)
	}
	_, _, kill = hosting(t, data, "--port", port)
	if err := os.RemoveAll(filepath.Join(project, ".havvel", "cache", "pieces")); err != nil {
		t.Fatal(err)
	}
	hv("send", "--to", "shed", "--only", "build", "--again", "--accept-errors", "--no-proof").must(t, 0)
	if went := through.sent.Load() - began; went > half+10<<20 {
		t.Errorf("%d bytes went out over a host that was killed", went)
	}
	same()
	kill(os.Interrupt)
}
