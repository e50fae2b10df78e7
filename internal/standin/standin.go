// Package standin simulates portals, so that the whole way from an export to a public page can be
// walked, tested and practised on one machine. An arcade takes archives, verifies them in the
// background by code of its own, and shows what was released. It shares no code with check and pack:
// what they get wrong, it must find.
package standin

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Options say what an arcade is called and how it behaves.
type Options struct {
	Name       string            // as people say it
	Folder     string            // where it keeps its data; made when absent
	Token      string            // what lets uploaders in
	Scripts    map[string]string // what it serves under /sdk/, by name
	Wants      string            // the address of the script that every entry page must name
	Frame      [2]int            // the game's frame, in CSS pixels
	VerifyTime time.Duration     // how long verification takes at least
	Fault      Fault
}

// A Fault is a way to misbehave, for tests and for practice.
type Fault string

// The faults.
const (
	None        Fault = ""
	NeverFinish Fault = "never-finish" // verification never ends
	SlowUpload  Fault = "slow-upload"  // takes about 100 KB a second
	DropUpload  Fault = "drop-upload"  // breaks off in the middle of every upload
)

// Faults lists the words for faults.
func Faults() []string {
	return []string{string(NeverFinish), string(SlowUpload), string(DropUpload)}
}

// An Arcade is a simulated portal. It is safe for concurrent use.
type Arcade struct {
	options Options
	server  *http.Server
	address string
	work    sync.WaitGroup
	stop    context.CancelFunc
	done    context.Context

	mu    sync.Mutex
	state state
}

//go:embed pages
var pages embed.FS

// Start opens an arcade on a TCP address of this machine; port 0 takes a free one. Stop closes it.
func Start(address string, o Options) (*Arcade, error) {
	a := &Arcade{options: o}
	if err := os.MkdirAll(filepath.Join(o.Folder, "archives"), 0o755); err != nil {
		return nil, fmt.Errorf("making the folder of the stand-in %s: %w", o.Name, err)
	}
	if err := a.load(); err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("opening the stand-in %s on %s: %w", o.Name, address, err)
	}
	a.address = listener.Addr().String()
	a.done, a.stop = context.WithCancel(context.Background())
	a.server = &http.Server{Handler: a.routes(), ReadHeaderTimeout: 10 * time.Second}
	a.work.Go(func() {
		if err := a.server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			a.stop()
		}
	})
	for _, v := range a.unverified() {
		a.verifyLater(v)
	}
	return a, nil
}

// Address is where the arcade answers, with its scheme.
func (a *Arcade) Address() string { return "http://" + a.address }

// Stop closes the arcade. What it was told stays in its folder.
func (a *Arcade) Stop() {
	a.stop()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if a.server.Shutdown(ctx) != nil {
		a.server.Close()
	}
	a.work.Wait()
}

func (a *Arcade) routes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("PUT /api/games/{short}", a.owned(a.putGame))
	mux.HandleFunc("POST /api/games/{short}/versions", a.owned(a.newVersion))
	mux.HandleFunc("PUT /api/uploads/{id}", a.owned(a.upload))
	mux.HandleFunc("GET /api/versions/{id}", a.owned(a.showVersion))
	mux.HandleFunc("POST /api/versions/{id}/release", a.owned(a.release))
	mux.HandleFunc("GET /sdk/{script}", a.script)
	mux.HandleFunc("GET /{$}", a.front)
	mux.HandleFunc("GET /play/{short}", a.play)
	mux.HandleFunc("GET /draft/{secret}", a.draft)
	mux.HandleFunc("GET /files/{secret}/{path...}", a.file)
	mux.HandleFunc("GET /favicon.ico", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	return mux
}

// owned lets in whoever brings the token.
func (a *Arcade) owned(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !ok || subtle.ConstantTimeCompare([]byte(token), []byte(a.options.Token)) != 1 {
			refuse(w, http.StatusUnauthorized, "this token is not one of ours")
			return
		}
		next(w, r)
	}
}

func newID() string { return strings.ToLower(rand.Text()[:12]) }

var templates = template.Must(template.ParseFS(pages, "pages/*.html"))

// FreeAddress is an address on this machine that nobody listens on now.
func FreeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", fmt.Errorf("finding a free port: %w", err)
	}
	defer l.Close()
	return l.Addr().String(), nil
}
