//go:build unix

package tests

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
)

// TestFormerShared: what a former havvel wrote into PostgreSQL is taken along by the first of two hosts, and read whole; then both agree on how
// many testers a round has room for.
func TestFormerShared(t *testing.T) {
	unraced(t)
	data := database(t)
	t.Setenv("PGPASSWORD", guestPassword)
	sql := func(args ...string) {
		t.Helper()
		c := exec.Command("psql", append([]string{data.address, "-v", "ON_ERROR_STOP=1", "-q"}, args...)...)
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	sql("-f", filepath.Join("..", "internal", "playhost", "testdata", "format-1.sql"))
	sql("-c", "UPDATE rounds SET until = 4000000000, forget = 4100000000")
	files := t.TempDir()
	first, _, _ := hosting(t, data.address, "--files", files, "--port", "0")
	second, _, _ := hosting(t, data.address, "--files", files, "--port", "0")
	project := t.TempDir()
	run(t, project, "host", "token", "revoke", "moth", "--data", data.address, "--files", files).must(t, 0)
	token := strings.Fields(run(t, project, "host", "token", "make", "moth", "--data", data.address, "--files", files).must(t, 0).out)[0]
	asks := func(path string) string {
		t.Helper()
		r, _ := http.NewRequest("GET", second+path, nil)
		r.Header.Set("Authorization", "Bearer "+token)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		var text strings.Builder
		if _, err := io.Copy(&text, answer.Body); err != nil || answer.StatusCode != 200 {
			t.Fatalf("%s: %d %v %s", path, answer.StatusCode, err, text.String())
		}
		return text.String()
	}
	var list struct {
		Rounds []struct {
			ID, Link            string
			Sessions, Simulated int
		}
	}
	if err := json.Unmarshal([]byte(asks("/api/rounds?game=lane")), &list); err != nil || len(list.Rounds) != 1 ||
		list.Rounds[0].Sessions != 2 || list.Rounds[0].Simulated != 1 {
		t.Fatalf("%v %+v", err, list)
	}
	round := list.Rounds[0]
	if back := asks("/api/rounds/" + round.ID + "/events"); strings.Count(back, "\n") != 8 || !strings.Contains(back, "eight lamps") {
		t.Errorf("what came back is not whole:\n%s", back)
	}
	sql("-c", "UPDATE rounds SET most = 7")
	var in atomic.Int64
	var work sync.WaitGroup
	_, path, _ := strings.Cut(round.Link, "/r/")
	for i := range 60 {
		work.Go(func() {
			if status, _ := posting([]string{first, second}[i%2]+"/r/"+path+"/sessions", map[string]any{}); status == 201 {
				in.Add(1)
			}
		})
	}
	work.Wait()
	if in.Load() != 5 {
		t.Errorf("two hosts let %d testers in where there was room for 5", in.Load())
	}
	if left, _ := os.ReadDir(files); len(left) > 3 {
		t.Errorf("files were left: %v", left)
	}
}
