package standin

import (
	"io"
	"net/http"
	"time"
)

// A Fault is a way to misbehave, for tests and for practice.
type Fault string

// The faults.
const (
	None          Fault = ""
	NeverFinish   Fault = "never-finish"   // verification never ends
	SlowUpload    Fault = "slow-upload"    // takes about 100 KB a second
	DropUpload    Fault = "drop-upload"    // breaks off in the middle of every upload
	DropOnce      Fault = "drop-once"      // breaks off in the middle of the first upload
	Busy          Fault = "busy"           // answers 429 to every first request of its kind
	ErrorOnce     Fault = "error-once"     // answers 500 to every first request of its kind
	WrongChecksum Fault = "wrong-checksum" // says of the first upload that it arrived damaged
	TokenExpired  Fault = "token-expired"  // log-ins are good for two requests, and other keys have expired
)

// Faults lists the words for faults.
func Faults() []string {
	return []string{
		string(NeverFinish),
		string(SlowUpload),
		string(DropUpload),
		string(DropOnce),
		string(Busy),
		string(ErrorOnce),
		string(WrongChecksum),
		string(TokenExpired),
	}
}

// uploads are bodies from this many bytes on.
const uploads = 16 << 10

// faulty makes a portal as bad as it was told to be.
func (a *Portal) faulty(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kind := r.Method + " " + r.URL.Path
		api := r.Header.Get("Authorization") != "" || r.Method != http.MethodGet
		switch a.options.Fault {
		case Busy:
			if api && a.first(kind) {
				w.Header().Set("Retry-After", "1")
				refuse(w, http.StatusTooManyRequests, "too many at once; try again in a second")
				return
			}
		case ErrorOnce:
			if api && (r.Method == http.MethodPut || r.Method == http.MethodGet || r.Method == http.MethodPatch) && a.first(kind) {
				refuse(w, http.StatusInternalServerError, "something broke on our side; try again later")
				return
			}
		case TokenExpired:
			if a.options.Kind != Pages && api {
				refuse(w, http.StatusUnauthorized, "this key has expired; make a new one")
				return
			}
		}
		if r.ContentLength >= uploads {
			r.Body = struct {
				io.Reader
				io.Closer
			}{a.misbehave(r.Body, r.ContentLength, kind), r.Body}
		}
		next.ServeHTTP(w, r)
	})
}

// first reports whether something happens for the first time.
func (a *Portal) first(what string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.struck[what] {
		return false
	}
	a.struck[what] = true
	return true
}

// misbehave makes reading an upload as bad as the portal was told to be.
func (a *Portal) misbehave(body io.Reader, length int64, kind string) io.Reader {
	at := a.options.FaultAt
	if at == 0 {
		at = length / 2
	}
	switch {
	case a.options.Fault == SlowUpload:
		return &slow{body, a.done.Done()}
	case a.options.Fault == DropUpload && at < length, a.options.Fault == DropOnce && a.first("upload "+kind):
		return &drop{io.LimitReader(body, at)}
	}
	return body
}

type slow struct {
	r    io.Reader
	stop <-chan struct{}
}

func (s *slow) Read(p []byte) (int, error) {
	select {
	case <-time.After(100 * time.Millisecond):
	case <-s.stop:
	}
	return s.r.Read(p[:min(len(p), 10_000)])
}

type drop struct{ r io.Reader }

func (d *drop) Read(p []byte) (int, error) {
	n, err := d.r.Read(p)
	if err != nil {
		panic(http.ErrAbortHandler) // cuts the connection without an answer
	}
	return n, nil
}
