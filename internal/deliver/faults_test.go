package deliver

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"havvel/internal/fault"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// A nuisance stands before a shop, and does something at one request.
type nuisance struct {
	shop http.Handler
	kind string
	at   int
	stop context.CancelFunc // of the process that asks

	mu    sync.Mutex
	count int
}

// kinds are what a nuisance can do.
var nuisances = []string{
	"cut before", "cut within", "lost answer", "half an answer", "web page", "broken", "gateway", "expired", "stopped", "stopped after",
	"doubled", "trickle", "silent", "empty", "moved", "huge", "reset", "limited", "forbidden", "not found", "half a body",
}

func (n *nuisance) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	n.mu.Lock()
	n.count++
	now := n.count == n.at
	n.mu.Unlock()
	if r.URL.Path == "/log-in-first" {
		w.Header().Set("Content-Type", "text/html")
		io.WriteString(w, "<!doctype html><title>Log in</title><form action=/log-in-first><input type=password></form>")
		return
	}
	if !now {
		n.shop.ServeHTTP(w, r)
		return
	}
	cut := func() { panic(http.ErrAbortHandler) }
	passed := func() *httptest.ResponseRecorder {
		data, err := io.ReadAll(r.Body)
		if err != nil {
			cut()
		}
		r.Body = io.NopCloser(bytes.NewReader(data))
		out := httptest.NewRecorder()
		ctx, done := context.WithTimeout(r.Context(), 200*time.Millisecond) // of a stream that goes on
		defer done()
		n.shop.ServeHTTP(out, r.WithContext(ctx))
		return out
	}
	switch n.kind {
	case "cut before":
		cut()
	case "cut within":
		io.CopyN(io.Discard, r.Body, max(r.ContentLength/2, 0))
		cut()
	case "lost answer":
		passed()
		cut()
	case "half an answer":
		out := passed()
		for name, v := range out.Header() {
			w.Header()[name] = v
		}
		w.Header().Set("Content-Length", fmt.Sprint(out.Body.Len()+100))
		w.WriteHeader(out.Code)
		w.Write(out.Body.Bytes())
		w.(http.Flusher).Flush()
		cut()
	case "web page":
		passed()
		w.Header().Set("Content-Type", "text/html")
		io.WriteString(w, "<!doctype html><title>Log in</title><form><input type=password></form>")
	case "broken":
		w.WriteHeader(http.StatusInternalServerError)
	case "gateway":
		passed()
		w.WriteHeader(http.StatusBadGateway)
	case "expired":
		w.Header().Set("WWW-Authenticate", `Digest realm="lane", nonce="n1", qop="auth", algorithm=MD5`)
		w.WriteHeader(http.StatusUnauthorized)
	case "doubled":
		recorded := passed()
		answer := recorded.Result()
		answer.ContentLength = int64(recorded.Body.Len())
		c, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			panic(err)
		}
		defer c.Close()
		var text bytes.Buffer
		answer.Write(&text)
		c.Write(bytes.Repeat(text.Bytes(), 2))
	case "trickle", "silent":
		passed()
		enough := time.After(3 * time.Second) // log-ins and links wait longer than steps
		for every := time.NewTicker(20 * time.Millisecond); ; {
			select {
			case <-r.Context().Done():
				return
			case <-enough:
				cut()
			case <-every.C:
				if n.kind == "trickle" {
					io.WriteString(w, " ")
					w.(http.Flusher).Flush()
				}
			}
		}
	case "reset":
		passed()
		c, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			panic(err)
		}
		c.(*net.TCPConn).SetLinger(0)
		c.Close()
	case "limited":
		w.Header().Set("Retry-After", "1")
		w.WriteHeader(http.StatusTooManyRequests)
	case "forbidden":
		out(w, http.StatusForbidden, map[string]string{"error": "not today"})
	case "not found":
		w.WriteHeader(http.StatusNotFound)
	case "half a body":
		whole := passed()
		for name, v := range whole.Header() {
			w.Header()[name] = v
		}
		w.Header().Del("Content-Length")
		w.WriteHeader(whole.Code)
		w.Write(whole.Body.Bytes()[:whole.Body.Len()/2])
	case "empty":
		passed()
	case "moved":
		http.Redirect(w, r, "/log-in-first", http.StatusFound)
	case "huge":
		passed()
		w.Header().Set("Content-Type", "application/json")
		io.WriteString(w, `{"of": "`)
		for range 5 << 10 {
			w.Write(bytes.Repeat([]byte("lantern "), 128))
		}
	case "stopped":
		n.stop()
		cut()
	case "stopped after":
		passed()
		n.stop()
		cut()
	}
}

// TestFaults: whatever happens to any request of any interface of the gallery, a version arrives whole and once, or the delivery is
// known to be unknown; and what was said to be sent is there.
func TestFaults(t *testing.T) {
	names := []string{}
	for name := range galleries() {
		if name != "certificate" && name != "device" { // which are putShops for this
			names = append(names, name)
		}
	}
	slices.Sort(names)
	keysOf(t, galleryKey)
	var cases, sent, unknown atomic.Int32
	t.Cleanup(func() { t.Logf("%d cases: %d sent, %d unknown", cases.Load(), sent.Load(), unknown.Load()) })
	for _, name := range names {
		most := requests(t, name)
		for at := 1; at <= most; at++ {
			for _, kind := range nuisances {
				if os.Getenv("MATRIX") == "" && (at*7+len(kind)+len(name))%9 != 0 && name+kind != "formgateway" {
					continue
				}
				cases.Add(1)
				t.Run(fmt.Sprintf("%s/%s at %d", name, kind, at), func(t *testing.T) {
					t.Parallel()
					if hit(t, name, kind, at) == rulebook.Unknown {
						unknown.Add(1)
					} else {
						sent.Add(1)
					}
				})
			}
		}
	}
}

const faultSize = 2_500_000

// A journey is what is done with one version at a shop, from the upload on.
type journey struct {
	name string
	s    shop
	c    *Courier
	d    *project.Destination
}

// begun is a journey to a shop behind a nuisance.
func begun(t *testing.T, name string, n *nuisance) *journey {
	t.Helper()
	s := galleries()[name]()
	n.shop = s
	c, d := gallery(t, name, s, func(http.Handler) *httptest.Server { return httptest.NewServer(n) }, galleryKey)
	return &journey{name, s, c, d}
}

// impatient has every step wait half a second at most.
func (j *journey) impatient() {
	for _, recipe := range j.d.Rules.All() {
		for i := range recipe.Steps {
			recipe.Steps[i].Limit = settings.Span(500 * time.Millisecond)
		}
	}
}

// stages are what comes after the upload.
func (j *journey) stages(t *testing.T) []func(ctx context.Context, l *logbook.Delivery) error {
	told := func(want string, status *Status, err error) error {
		if err != nil {
			return err
		}
		if status.State == rulebook.Public && !j.s.shown() {
			t.Errorf("it is said to be public, and the shop shows nothing")
		}
		if status.State != want && status.State != rulebook.Verifying && status.State != rulebook.Unknown {
			t.Errorf("state %s, want %s", status.State, want)
		}
		return nil
	}
	asked := func(ctx context.Context, l *logbook.Delivery) error {
		status, err := j.c.Ask(ctx, j.d, l, 5*time.Second)
		return told(rulebook.Draft, status, err)
	}
	published := func(ctx context.Context, l *logbook.Delivery) error {
		status, err := j.c.Publish(ctx, j.d, l)
		return told(rulebook.Public, status, err)
	}
	done := func(what Ability, detail any, want string) func(context.Context, *logbook.Delivery) error {
		return func(ctx context.Context, l *logbook.Delivery) error {
			status, err := j.c.Do(ctx, j.d, l, what, detail)
			return told(want, status, err)
		}
	}
	listed := func(ctx context.Context, l *logbook.Delivery) error {
		list, err := j.c.Versions(ctx, j.d)
		if err == nil && (len(list) == 0 || list[0].Version != "1") {
			t.Errorf("the list is said to be %v", list)
		}
		return err
	}
	type stage = func(context.Context, *logbook.Delivery) error
	switch j.name {
	case "resumable", "events":
		return []stage{asked}
	case "xml":
		return []stage{asked, listed}
	case "releases", "graphql":
		return []stage{published}
	case "busy":
		return []stage{published, listed}
	case "visibility":
		return []stage{
			done(Submit, nil, rulebook.InReview), done(Recall, nil, rulebook.Draft),
			done(Testers, []string{"ann@moor.example"}, rulebook.Draft), done(Stage, 10, rulebook.Draft),
			done(Schedule, time.Now().Add(time.Hour), rulebook.Scheduled),
		}
	case "page":
		contents := leaf(t, j.c, j.d, "one")
		return []stage{func(ctx context.Context, l *logbook.Delivery) error {
			_, err := j.c.Fill(ctx, j.d, contents, l, false)
			if s := j.s.(*pageShop); err == nil && (!strings.Contains(s.last(), `"pictures":[41]`) || len(s.boards) != 1) {
				t.Errorf("the page is said to be filled in, and holds %s, %v", s.last(), s.boards)
			}
			return err
		}}
	}
	return nil
}

// requests is how many a journey takes.
func requests(t *testing.T, name string) int {
	n := &nuisance{}
	j := begun(t, name, n)
	p, _ := noise(t, "1", faultSize)
	status, err := j.c.Send(context.Background(), j.d, p)
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	for i, stage := range j.stages(t) {
		if err := stage(context.Background(), status.Delivery); err != nil {
			t.Fatalf("%s, stage %d: %v", name, i, err)
		}
	}
	return min(n.count, 16)
}

// hit has one request of a journey go wrong, and goes on until it has ended. It returns the state of the delivery.
func hit(t *testing.T, name, kind string, at int) string {
	ctx, stop := context.WithCancel(context.Background())
	n := &nuisance{kind: kind, at: at, stop: stop}
	j := begun(t, name, n)
	if kind == "trickle" || kind == "silent" {
		j.impatient()
	}
	p, data := noise(t, "1", faultSize)
	sent := j.send(t, ctx, p, data)
	for i, stage := range j.stages(t) {
		for try := 0; sent.State != rulebook.Unknown; try++ {
			err := stage(ctx, sent)
			if ctx = context.Background(); err == nil {
				break
			}
			ours(t, err)
			if try == 3 {
				t.Errorf("stage %d never ended: %v", i, err)
				break
			}
		}
	}
	return sent.State
}

// ours has a test fail by an error that blames this machine.
func ours(t *testing.T, err error) {
	t.Helper()
	if fault.Of(err).Kind == fault.Here && !errors.Is(err, context.Canceled) {
		t.Errorf("an error of our own: %v", err)
	}
}

// send uploads until the upload has ended, the first time under ctx. What is said to be sent has arrived, whole and once.
func (j *journey) send(t *testing.T, ctx context.Context, p Parcel, data []byte) *logbook.Delivery {
	for try := 0; try < 4; try++ {
		if err := j.c.Fresh(j.d, p.Version, p.Fingerprint); err != nil {
			break
		}
		status, err := j.c.Send(ctx, j.d, p)
		ctx = context.Background() // another process
		if err == nil {
			got, versions := j.s.got()
			if !bytes.Equal(got, data) && j.name != "manifest" || versions != 1 {
				t.Fatalf("it is said to be sent (%s), and %d bytes of %d arrived, in %d versions", status.State, len(got), len(data), versions)
			}
			return status.Delivery
		}
		ours(t, err)
	}
	all, _, err := j.c.Book.Deliveries()
	if err != nil {
		t.Fatal(err)
	}
	if len(all) != 1 || all[0].State != rulebook.Unknown {
		t.Fatalf("it never ended: %+v", all)
	}
	if _, versions := j.s.got(); versions > 1 {
		t.Fatalf("%d versions were made", versions)
	}
	return all[0]
}

// TestMain has more cases run at once than there are processors, since they wait most of the time.
func TestMain(m *testing.M) {
	flag.Parse()
	if f := flag.Lookup("test.parallel"); f.Value.String() == f.DefValue {
		f.Value.Set("16")
	}
	os.Exit(m.Run())
}
