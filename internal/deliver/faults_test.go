package deliver

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"havvel/internal/fault"
	"havvel/internal/rulebook"
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
}

func (n *nuisance) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	n.mu.Lock()
	n.count++
	now := n.count == n.at
	n.mu.Unlock()
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
				if os.Getenv("MATRIX") == "" && (at*7+len(kind)+len(name))%9 != 0 {
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

// requests is how many an upload takes.
func requests(t *testing.T, name string) int {
	n := &nuisance{shop: galleries()[name]()}
	c, d := gallery(t, name, nil, func(http.Handler) *httptest.Server { return httptest.NewServer(n) }, galleryKey)
	p, _ := noise(t, "1", faultSize)
	if _, err := c.Send(context.Background(), d, p); err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	return min(n.count, 12)
}

// hit has one request of an upload go wrong, and runs the upload until it has ended. It returns the state of the delivery.
func hit(t *testing.T, name, kind string, at int) string {
	s := galleries()[name]()
	ctx, stop := context.WithCancel(context.Background())
	n := &nuisance{shop: s, kind: kind, at: at, stop: stop}
	c, d := gallery(t, name, s, func(http.Handler) *httptest.Server { return httptest.NewServer(n) }, galleryKey)
	p, data := noise(t, "1", faultSize)
	for try := 0; try < 4; try++ {
		if err := c.Fresh(d, p.Version, p.Fingerprint); err != nil {
			break
		}
		status, err := c.Send(ctx, d, p)
		ctx = context.Background() // another process
		if err == nil {
			got, versions := s.got()
			if !bytes.Equal(got, data) && name != "manifest" || versions != 1 {
				t.Fatalf("it is said to be sent (%s), and %d bytes of %d arrived, in %d versions", status.State, len(got), len(data), versions)
			}
			return status.State
		}
		if fault.Of(err).Kind == fault.Here && !errors.Is(err, context.Canceled) {
			t.Errorf("an error of our own: %v", err)
		}
	}
	all, _, err := c.Book.Deliveries()
	if err != nil {
		t.Fatal(err)
	}
	if len(all) != 1 || all[0].State != rulebook.Unknown {
		t.Fatalf("it never ended: %+v", all)
	}
	if _, versions := s.got(); versions > 1 {
		t.Fatalf("%d versions were made", versions)
	}
	return rulebook.Unknown
}
