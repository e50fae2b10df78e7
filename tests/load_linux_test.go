package tests

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

// A crowd sends a million events.
const (
	crowd    = 200  // sessions at once
	each     = 5000 // events of each
	oneBatch = 200
)

// play sends what one of the crowd plays: levels, tries, frames, and an error now and then. The host answers each batch.
func play(client *http.Client, link string, seed int) error {
	ask := func(address, body string) ([]byte, error) {
		for try := 0; ; try++ {
			r, err := client.Post(address, "application/json", bytes.NewBufferString(body))
			if err != nil {
				return nil, err
			}
			text, err := io.ReadAll(r.Body)
			r.Body.Close()
			if err != nil || r.StatusCode < 300 {
				return text, err
			}
			if r.StatusCode != http.StatusTooManyRequests || try == 50 {
				return nil, fmt.Errorf("%d %s", r.StatusCode, text)
			}
			time.Sleep(200 * time.Millisecond)
		}
	}
	text, err := ask(link+"/sessions", fmt.Sprintf(`{"device":{"width":%d,"height":700,"touch":%v}}`, 400+seed%3*400, seed%3 == 0))
	if err != nil {
		return err
	}
	var begun struct{ Session string }
	if err := json.Unmarshal(text, &begun); err != nil {
		return err
	}
	random := rand.New(rand.NewPCG(8, uint64(seed)))
	var batch bytes.Buffer
	for n := 1; n <= each; n++ {
		data := fmt.Sprintf(`"kind":"frames","data":{"fps":%.1f}`, 30+30*random.Float64())
		switch n % 5 {
		case 0:
			data = fmt.Sprintf(`"kind":"event","data":{"event":"level-begun","level":%d}`, 1+n/500)
		case 1:
			data = fmt.Sprintf(`"kind":"event","data":{"event":"level-ended","level":%d,"won":%v}`, 1+(n-1)/500, random.IntN(3) == 0)
		case 2:
			data = `"kind":"event","data":{"event":"statistic","name":"lanterns","value":120}`
		}
		fmt.Fprintf(&batch, `{"n":%d,"at":%d,%s},`, n, n*200, data)
		if n%oneBatch == 0 {
			batch.Truncate(batch.Len() - 1)
			if _, err := ask(link+"/sessions/"+begun.Session+"/events", `{"events":[`+batch.String()+`]}`); err != nil {
				return err
			}
			batch.Reset()
		}
	}
	return nil
}

// TestLoad: two hundred sessions send a million events at once, while a build is served and another one uploaded; nothing is lost, and
// the report of all of it stays within its memory.
func TestLoad(t *testing.T) {
	unraced(t)
	hv, project := shed(t)
	hv("send", "--to", "shed", "--only", "build").must(t, 0)
	link := decode[deliveries](t, hv("where", "--to", "shed", "--json").must(t, 0)).Deliveries[0].Link
	round := roundLink.FindString(hv("round", "open", "--until", "1h").must(t, 0).out)
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: crowd}}

	began := time.Now()
	var all, others sync.WaitGroup
	over := make(chan struct{})
	for i := range crowd {
		all.Go(func() {
			if err := play(client, round, i); err != nil {
				t.Errorf("session %d: %v", i, err)
			}
		})
	}
	want, err := os.ReadFile(filepath.Join(project, demo.GoodExport, "lane.pack"))
	if err != nil {
		t.Fatal(err)
	}
	var served atomic.Int64
	others.Go(func() {
		for {
			select {
			case <-over:
				return
			default:
			}
			if status, got := get(t, link+"lane.pack"); status != 200 || got != string(want) {
				t.Errorf("served: %d, %d bytes", status, len(got))
				return
			}
			served.Add(1)
		}
	})
	writeInto(t, project, game.Files{demo.GoodExport + "/noise.bin": noise(rand.New(rand.NewPCG(4, 2)), 20<<20)})
	edit(t, project, `version = "0.4.0"`, `version = "0.4.2"`)
	hv("send", "--to", "shed", "--only", "build").must(t, 0, "sent 0.4.2")
	all.Wait()
	close(over)
	others.Wait()
	t.Logf("%d events in %.1f s, %d files served meanwhile", crowd*each, time.Since(began).Seconds(), served.Load())
	if t.Failed() {
		return
	}
	c := exec.Command(program, "round", "report", "--lines", "back.jsonl")
	c.Dir = project
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	began = time.Now()
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	stop, used := make(chan bool), make(chan float64, 1)
	go func() { used <- watchMemory(c.Process.Pid, stop) }()
	if err := c.Wait(); err != nil || !bytes.Contains(out.Bytes(), fmt.Appendf(nil, "%d testers agreed", crowd)) {
		t.Fatalf("%v\n%s", err, out.String())
	}
	close(stop)
	most := <-used
	t.Logf("reported in %.1f s, %.0f MB", time.Since(began).Seconds(), most/1e6)
	if most > 256e6 || most == 0 {
		t.Errorf("the report took %.0f MB", most/1e6)
	}
	back, err := os.ReadFile(filepath.Join(project, "back.jsonl"))
	if n := bytes.Count(back, []byte(`"n":`)); err != nil || n != crowd*each {
		t.Errorf("%d events came back: %v", n, err)
	}
}
