// Package standin simulates portals, so that the whole way from an export to a public page can be
// walked, tested and practised on one machine. There are three kinds, which differ as real portals do: an arcade that verifies
// by itself, an open host of pages, and a desk where people accept or refuse. They share no code with check and pack: what
// those get wrong, they must find.
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

// A Kind is a kind of portal.
type Kind string

// The kinds.
const (
	Arcade Kind = "arcade" // resumable uploads, verified by a program; leaderboards
	Pages  Kind = "pages"  // log-in by form, uploads as parts of a form; hidden, for some, or open
	Desk   Kind = "desk"   // entry page and rest to signed addresses; people accept or refuse
)

// Options say what a portal is called and how it behaves.
type Options struct {
	Kind       Kind
	Name       string            // as people say it
	Folder     string            // where it keeps its data; made when absent
	Token      string            // of uploaders
	Scripts    map[string]string // what it serves under /sdk/, by name
	Wants      string            // the address of the script that every entry page must name
	Encodings  []string          // that it sends with Content-Encoding
	Isolation  bool              // whether it sends cross-origin isolation headers
	Frame      [2]int            // the game's frame, in CSS pixels
	Page       PageRules
	VerifyTime time.Duration // how long verification takes at least
	Fault      Fault
	FaultAt    int64 // bytes of an upload after which a fault strikes; 0 for the middle
}

// A Portal is a simulated portal. It is safe for concurrent use.
type Portal struct {
	options Options
	server  *http.Server
	address string
	secret  []byte // signs addresses
	work    sync.WaitGroup
	stop    context.CancelFunc
	done    context.Context

	mu     sync.Mutex
	state  state
	passes map[string]int // log-ins, and how many requests they are still good for
	struck map[string]bool
}

//go:embed pages
var pages embed.FS

// Start opens a portal on a TCP address of this machine; port 0 takes a free one. Stop closes it.
func Start(address string, o Options) (*Portal, error) {
	a := &Portal{options: o, secret: []byte(rand.Text()), passes: map[string]int{}, struck: map[string]bool{}}
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
	a.server = &http.Server{Handler: a.faulty(a.routes()), ReadHeaderTimeout: 10 * time.Second}
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
func (a *Portal) Address() string { return "http://" + a.address }

// Stop closes the arcade. What it was told stays in its folder.
func (a *Portal) Stop() {
	a.stop()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if a.server.Shutdown(ctx) != nil {
		a.server.Close()
	}
	a.work.Wait()
}

func (a *Portal) routes() http.Handler {
	mux := http.NewServeMux()
	switch a.options.Kind {
	case Pages:
		a.pagesRoutes(mux)
	case Desk:
		a.deskRoutes(mux)
	default:
		a.arcadeRoutes(mux)
	}
	a.paperRoutes(mux)
	mux.HandleFunc("GET /sdk/{script}", a.script)
	mux.HandleFunc("GET /{$}", a.front)
	mux.HandleFunc("GET /play/{short}", a.play)
	mux.HandleFunc("POST /play/{short}", a.play)
	mux.HandleFunc("GET /draft/{secret}", a.draft)
	mux.HandleFunc("GET /files/{secret}/{path...}", a.file)
	mux.HandleFunc("GET /favicon.ico", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	return mux
}

// owned lets in clients with the token.
func (a *Portal) owned(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !ok || !same(token, a.options.Token) {
			refuse(w, http.StatusUnauthorized, "this token is not one of ours")
			return
		}
		next(w, r)
	}
}

func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

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
