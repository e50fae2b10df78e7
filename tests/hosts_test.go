//go:build unix

package tests

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

// front leads connections to the first of several addresses that takes them, as a proxy before several hosts does.
func front(t testing.TB, to ...string) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go lead(in, to)
		}
	}()
	return "http://" + l.Addr().String()
}

func lead(in net.Conn, to []string) {
	defer in.Close()
	for _, at := range to {
		out, err := net.Dial("tcp", at)
		if err != nil {
			continue
		}
		go func() {
			io.Copy(out, in)
			out.Close()
		}()
		io.Copy(in, out)
		out.Close()
		return
	}
}

// posting sends JSON, without keeping the connection.
func posting(address string, in any) (status int, body []byte) {
	text, err := json.Marshal(in)
	if err != nil {
		return 0, nil
	}
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	r, err := client.Post(address, "application/json", bytes.NewReader(text))
	if err != nil {
		return 0, nil
	}
	defer r.Body.Close()
	body, err = io.ReadAll(r.Body)
	if err != nil {
		return 0, nil
	}
	return r.StatusCode, body
}

type sentEvent struct {
	N    int            `json:"n"`
	At   int            `json:"at"`
	Kind string         `json:"kind"`
	Data map[string]any `json:"data"`
}

func clipPiece(n int) string { return fmt.Sprintf("piece %d %s;", n, strings.Repeat("x", 20_000)) }

// witnesses are sessions that tell without end, and what part of it was acknowledged.
type witnesses struct {
	round, link, control string
	stop                 chan struct{}
	all                  sync.WaitGroup
	mu                   sync.Mutex
	events, pieces       map[string]int
	taken                atomic.Int64 // events that were acknowledged, of all sessions
}

// more waits until so many more events are acknowledged.
func (w *witnesses) more(t *testing.T, n int64) {
	t.Helper()
	before := w.taken.Load()
	eventually(t, "events are not acknowledged", func() (any, bool) {
		now := w.taken.Load() - before
		return now, now >= n
	})
}

// witness opens a round, and lets sessions tell.
func witness(t *testing.T, hv func(args ...string) ending, control string) *witnesses {
	t.Helper()
	opened := decode[struct{ ID, Link string }](t, hv("round", "open", "--until", "1h", "--record", "--json").must(t, 0))
	w := &witnesses{
		round:   opened.ID,
		link:    opened.Link,
		control: control,
		stop:    make(chan struct{}),
		events:  map[string]int{},
		pieces:  map[string]int{},
	}
	for range 8 {
		status, body := posting(w.link+"/sessions", map[string]any{"device": map[string]any{"width": 800, "height": 600}})
		var begun struct{ Session string }
		if json.Unmarshal(body, &begun); status != 201 {
			t.Fatalf("%d %s", status, body)
		}
		w.all.Go(func() {
			events, pieces := w.telling(begun.Session)
			w.mu.Lock()
			defer w.mu.Unlock()
			w.events[begun.Session], w.pieces[begun.Session] = events, pieces
		})
	}
	return w
}

// end ends the telling, and looks whether all that was acknowledged is there, once.
func (w *witnesses) end(t *testing.T, hv func(args ...string) ending, project string) {
	t.Helper()
	close(w.stop)
	w.all.Wait()
	hv("round", "report", "--lines", "back.jsonl").must(t, 0, "8 testers agreed")
	back, err := os.ReadFile(filepath.Join(project, "back.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	for session, n := range w.events {
		for i := 1; i <= n; i++ {
			if got := bytes.Count(back, fmt.Appendf(nil, `{"session":%q,"n":%d,`, session, i)); got != 1 {
				t.Errorf("event %d of %d is there %d times", i, n, got)
				break
			}
		}
		if n < 100 || w.pieces[session] < 20 {
			t.Errorf("only %d events and %d pieces were taken", n, w.pieces[session])
		}
		r, _ := http.NewRequest("GET", w.control+"/api/rounds/"+w.round+"/clips/"+session, nil)
		r.Header.Set("Authorization", "Bearer "+keyOf(t, project))
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		clip, err := io.ReadAll(answer.Body)
		answer.Body.Close()
		var want strings.Builder
		for i := 1; i <= w.pieces[session]; i++ {
			want.WriteString(clipPiece(i))
		}
		if err != nil || !strings.HasPrefix(string(clip), want.String()) {
			t.Errorf("a clip of %d bytes came back, which is not what was acknowledged (%d): %v", len(clip), want.Len(), err)
		}
	}
}

// TestRoundKilled: a host on a folder is killed again and again while testers tell, and runs again: what was acknowledged is there, once.
func TestRoundKilled(t *testing.T) {
	t.Parallel()
	unraced(t)
	data, port := filepath.Join(t.TempDir(), "shed"), freePort(t)
	control, _, kill := hosting(t, data, "--port", port)
	hv, project := letIn(t, control, "--data", data)
	hv("send", "--to", "shed", "--only", "build").must(t, 0)
	w := witness(t, hv, control)
	for range 3 {
		w.more(t, 200)
		kill(syscall.SIGKILL)
		_, _, kill = hosting(t, data, "--port", port)
	}
	w.more(t, 1200)
	w.end(t, hv, project)
	kill(os.Interrupt)
	if left, err := filepath.Glob(filepath.Join(data, "host.db-wal")); err != nil || len(left) > 0 {
		t.Errorf("a host that ended in peace left %v", left)
	}
}

// telling sends numbered events and pieces of a clip of a session until it is stopped, each again until it is acknowledged, and
// returns how many were.
func (w *witnesses) telling(session string) (acknowledged, pieces int) {
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	for {
		var batch []sentEvent
		for n := acknowledged + 1; n <= acknowledged+5; n++ {
			batch = append(batch, sentEvent{n, n * 10, "event", map[string]any{"event": "statistic", "name": "lanterns", "value": n}})
		}
		if status, _ := posting(w.link+"/sessions/"+session+"/events", map[string]any{"events": batch}); status == 200 {
			acknowledged += 5
			w.taken.Add(5)
		}
		r, _ := http.NewRequest("PUT", fmt.Sprintf("%s/sessions/%s/clip/%d", w.link, session, pieces+1), strings.NewReader(clipPiece(pieces+1)))
		if answer, err := client.Do(r); err == nil {
			answer.Body.Close()
			if answer.StatusCode == 200 {
				pieces++
			}
		}
		select {
		case <-w.stop:
			return acknowledged, pieces
		case <-time.After(40 * time.Millisecond):
		}
	}
}

// TestHostsShared: two hosts on one PostgreSQL server and one object store; one is killed in the middle of an upload and of events, and the
// database goes away and comes back: what was acknowledged is there, once.
func TestHostsShared(t *testing.T) {
	unraced(t)
	data, store := database(t), objectStore(t)
	bucket, _, _ := strings.Cut(strings.TrimPrefix(store.address, "s3+http://"), "/tinderwick")
	for name, value := range map[string]string{"PGPASSWORD": guestPassword, "HAVVEL_FILES_KEY": "moth:" + guestPassword} {
		t.Setenv(name, value)
	}
	ports := []string{freePort(t), freePort(t)}
	address := func(i, more int) string {
		var n int
		fmt.Sscan(ports[i], &n)
		return fmt.Sprintf("127.0.0.1:%d", n+more)
	}
	control, games := front(t, address(0, 0), address(1, 0)), front(t, address(0, 1), address(1, 1))
	run1 := func(i int) func(os.Signal) {
		_, _, kill := hosting(t, data.address, "--files", "s3+http://"+bucket+"/shed", "--port", ports[i], "--url", control, "--games-url", games)
		return kill
	}
	kills := []func(os.Signal){run1(0), run1(1)}
	ready := len(queryLog(t, data)) // what came before made the tables
	hv, project := letIn(t, control, "--data", data.address, "--files", "s3+http://"+bucket+"/shed")
	writeInto(t, project, game.Files{demo.GoodExport + "/noise.bin": noise(rand.New(rand.NewPCG(4, 2)), 40<<20)})

	// Killed in the middle of an upload.
	c := exec.Command(program, "send", "--to", "shed", "--only", "build")
	c.Dir = project
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	objects := func() int {
		there, _ := filepath.Glob(filepath.Join(filepath.Dir(store.root), "shed", "uploads", "*", "*"))
		return len(there)
	}
	for until := time.Now().Add(30 * time.Second); objects() < 3 && time.Now().Before(until); {
		time.Sleep(time.Millisecond)
	}
	kills[0](syscall.SIGKILL)
	if n := objects(); n < 3 || n > 9 {
		t.Fatalf("killed when %d pieces were there", n)
	}
	if c.Wait() != nil { // the other host may have taken what was left at once
		hv("send", "--to", "shed").must(t, 0)
	}
	link := decode[deliveries](t, hv("where", "--to", "shed", "--json").must(t, 0)).Deliveries[0].Link
	want, err := os.ReadFile(filepath.Join(project, demo.GoodExport, "noise.bin"))
	if err != nil {
		t.Fatal(err)
	}
	if status, got := get(t, link+"noise.bin"); status != 200 || got != string(want) {
		t.Errorf("what was sent: %d, %d bytes", status, len(got))
	}

	// Killed in the middle of events, and the database away for a while.
	kills[0] = run1(0)
	w := witness(t, hv, control)
	w.more(t, 200)
	kills[0](syscall.SIGKILL)
	w.more(t, 200) // by the other host
	data.stop()
	if status, _ := get(t, control+"/healthz"); status != http.StatusServiceUnavailable {
		t.Errorf("without its data the host is in health: %d", status)
	}
	data.start()
	eventually(t, "the host does not find its data again", func() (any, bool) {
		status, _ := get(t, control+"/healthz")
		return status, status == 200
	})
	w.more(t, 1200)
	w.end(t, hv, project)
	hv("round", "list").must(t, 0)
	hv("round", "close", "--forget").must(t, 0)
	for table, queries := range scans(t, queryLog(t, data)[ready:]) {
		if table == "host" { // one line a step of the schema
			continue
		}
		t.Errorf("all of %s is read for\n%s", table, strings.Join(queries, "\n"))
	}
}

// TestHostTLS: a host with a certificate of its own takes a version, and serves it, also over HTTP/2; without trust in it nothing is sent.
func TestHostTLS(t *testing.T) {
	t.Parallel()
	cert, key := certificate(t, t.TempDir())
	data := filepath.Join(t.TempDir(), "shed")
	control, games, _ := hosting(t, data, "--port", "0", "--certificate", cert, "--certificate-key", key)
	if !strings.HasPrefix(control, "https://") || !strings.HasPrefix(games, "https://") {
		t.Fatal(control, games)
	}
	_, project := letIn(t, control, "--data", data)
	runWith(t, project, nil, "send", "--to", "shed", "--only", "build").must(t, 4, "certificate")
	trusting := []string{"SSL_CERT_FILE=" + cert}
	runWith(t, project, trusting, "send", "--to", "shed", "--only", "build").must(t, 0)
	link := decode[deliveries](t, runWith(t, project, trusting, "where", "--to", "shed", "--json").must(t, 0)).Deliveries[0].Link
	pool := x509.NewCertPool()
	chain, err := os.ReadFile(cert)
	if err != nil || !pool.AppendCertsFromPEM(chain) {
		t.Fatal(err)
	}
	want, err := os.ReadFile(filepath.Join(project, demo.GoodExport, "lane.pack"))
	if err != nil {
		t.Fatal(err)
	}
	for major, h2 := range map[int]bool{1: false, 2: true} {
		client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, ForceAttemptHTTP2: h2}}
		r, err := client.Get(link + "lane.pack")
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(r.Body)
		r.Body.Close()
		if err != nil || r.StatusCode != 200 || r.ProtoMajor != major || !bytes.Equal(got, want) {
			t.Errorf("HTTP/%d: %d over %s, %d bytes, %v", major, r.StatusCode, r.Proto, len(got), err)
		}
	}
	run(t, project, "host", "--certificate", cert).must(t, 2, "go together")
}
