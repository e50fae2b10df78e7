// Package playhost is a host for versions that testers play: it takes builds over HTTP, verifies and unpacks them by its own
// reading, keeps every file once by its content, and serves them on an origin of their own. How a version gets there is left to
// deliver and the rulebook that ships for it.
package playhost

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"havvel/internal/filecache"
	"havvel/internal/playhost/files"
)

// Options say where a host keeps its data, and how it is reached.
type Options struct {
	Data        string         // folder for its data, made when absent, or postgres://…, which several hosts share
	Files       string         // folder for its files, or s3://HOST/BUCKET; default: that of Data
	FilesKey    string         // ID:SECRET, which lets into the bucket
	Control     string         // TCP address of the interface for owners, such as "127.0.0.1:7440"; port 0 takes a free one
	Games       string         // TCP address on which games are served; another origin than Control
	ControlURL  string         // how Control is reached from outside, such as "https://shed.example"; default: made of Control
	GamesURL    string         // likewise
	Certificate string         // file with the certificate chain (PEM), where the host speaks TLS itself
	Key         string         // file with its key
	Proxies     []netip.Prefix // of proxies before it, whose word on a visitor's address is believed
	Webhooks    []string       // beginnings of addresses that rounds may tell; none by default
	Quota       int64          // bytes that one owner may keep; 0 for any
	Keep        time.Duration  // the longest that is kept what came back of a round, after its end; default: 90 days
	Drain       time.Duration  // how long it goes on after Stop
	Log         *slog.Logger
	Now         func() time.Time
}

// A Host is a running host. It is safe for concurrent use.
type Host struct {
	options   Options
	data      *database
	files     files.Store
	work      sync.WaitGroup
	servers   []*http.Server
	builds    buildCache
	rounds    playings
	gamesHost string          // of games' addresses, with the star where each has its own
	unpacking chan struct{}   // visitors for whom files are unpacked now
	held      filecache.Cache // small files, by their *servedFile
	writes    locks           // uploads that a request writes to
	comparing chan struct{}   // passwords that are compared now
	limits    limits
	counts    counts
	running   context.Context // until it ends: what goes on beside requests
	ended     context.CancelFunc
	ending    atomic.Bool
}

// Open opens the data of a host without serving it, for commands on the host's machine. Close closes it.
func Open(o Options) (*Host, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Keep <= 0 {
		o.Keep = 90 * 24 * time.Hour
	}
	if o.Files == "" {
		if shared(o.Data) {
			return nil, errors.New("data on a server are for several hosts, so the files must be where all of them reach them: say where")
		}
		o.Files = o.Data
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	store, err := files.Open(ctx, o.Files, o.FilesKey)
	if err != nil {
		return nil, err
	}
	if !shared(o.Data) {
		if err := os.MkdirAll(o.Data, 0o750); err != nil {
			return nil, fmt.Errorf("making the host's folder: %w", err)
		}
	}
	data, err := openDatabase(o.Data)
	if err != nil {
		return nil, err
	}
	return &Host{options: o, data: data, files: store, comparing: make(chan struct{}, 2),
		unpacking: make(chan struct{}, mostUnpacking)}, nil
}

// Close closes the data.
func (h *Host) Close() error { return h.data.close() }

// Start opens a host and serves it. Stop ends it.
func Start(o Options) (*Host, error) {
	h, err := Open(o)
	if err != nil {
		return nil, err
	}
	control, err := h.listen(&h.options.Control, &h.options.ControlURL)
	if err != nil {
		return nil, errors.Join(err, h.Close())
	}
	games, err := h.listen(&h.options.Games, &h.options.GamesURL)
	if err != nil {
		return nil, errors.Join(err, control.Close(), h.Close())
	}
	if _, after, ok := strings.Cut(h.options.GamesURL, "://"); ok {
		h.gamesHost, _, _ = strings.Cut(after, "/")
	}
	if err := h.resume(context.Background()); err != nil {
		return nil, errors.Join(err, control.Close(), games.Close(), h.Close())
	}
	ctx, ended := context.WithCancel(context.Background())
	h.running, h.ended = ctx, ended
	h.work.Go(func() { h.sweeps(ctx) })
	h.serve(control, h.logged(h.controlRoutes()))
	h.serve(games, h.gameRoutes()) // without a line for each file that a browser loads
	return h, nil
}

// listen opens an address, and fills in where it is reached.
func (h *Host) listen(address, url *string) (net.Listener, error) {
	on, err := net.Listen("tcp", *address)
	if err != nil {
		return nil, fmt.Errorf("opening the host on %s: %w", *address, err)
	}
	*address = on.Addr().String()
	l, scheme := net.Listener(patient{on}), "http://"
	if h.options.Certificate != "" {
		renewed := &certificate{file: h.options.Certificate, key: h.options.Key}
		if _, err := renewed.get(nil); err != nil {
			l.Close()
			return nil, fmt.Errorf("reading the certificate: %w", err)
		}
		l, scheme = tls.NewListener(l, &tls.Config{
			GetCertificate: renewed.get, NextProtos: []string{"h2", "http/1.1"}, MinVersion: tls.VersionTLS12,
		}), "https://"
	}
	if *url == "" {
		*url = scheme + *address
	}
	*url = strings.TrimRight(*url, "/")
	return l, nil
}

func (h *Host) serve(l net.Listener, routes http.Handler) {
	s := &http.Server{
		Handler: routes, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: mostHeader,
		ErrorLog: log.New(errorLog{h}, "", 0),
	}
	h.servers = append(h.servers, s)
	h.work.Go(func() {
		if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			h.options.Log.Error("serving ended", "error", err)
		}
	})
}

// secure reports whether owners and testers reach the host over TLS.
func (o *Options) secure() bool { return strings.HasPrefix(o.ControlURL, "https://") }

// ControlURL and GamesURL are where the host is reached.
func (h *Host) ControlURL() string { return h.options.ControlURL }

// GamesURL is where games are served.
func (h *Host) GamesURL() string { return h.options.GamesURL }

// gamesAt is the origin of the game under a secret.
func (h *Host) gamesAt(secret string) string {
	return strings.Replace(h.options.GamesURL, "*", secret, 1)
}

// Stop says that it ends to those who ask for its health, and goes on for as long as the options say, so that a proxy sends nobody here any
// more. Then it lets requests end that are under way, for a while, and closes everything.
func (h *Host) Stop(patience time.Duration) error {
	h.ending.Store(true)
	time.Sleep(h.options.Drain)
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	for _, s := range h.servers {
		if s.Shutdown(ctx) != nil {
			s.Close()
		}
	}
	h.ended()
	h.work.Wait()
	return h.Close()
}

func (h *Host) controlRoutes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /api/builds", h.owned(h.announce))
	mux.HandleFunc("GET /api/builds", h.owned(h.listBuilds))
	mux.HandleFunc("GET /api/builds/{id}", h.owned(h.showBuild))
	mux.HandleFunc("POST /api/builds/{id}/upload", h.owned(h.beginUpload))
	mux.HandleFunc("HEAD /api/builds/{id}/bytes", h.owned(h.uploadOffset))
	mux.HandleFunc("PATCH /api/builds/{id}/bytes", h.owned(h.appendUpload))
	mux.HandleFunc("POST /api/rounds", h.owned(h.openRound))
	mux.HandleFunc("GET /api/rounds", h.owned(h.listRounds))
	mux.HandleFunc("POST /api/rounds/{id}/close", h.owned(h.closeRound))
	mux.HandleFunc("GET /api/rounds/{id}/events", h.owned(h.exportRound))
	mux.HandleFunc("POST /api/rounds/{id}/forget", h.owned(h.forgetRound))
	mux.HandleFunc("GET /api/rounds/{id}/invitations", h.owned(h.listInvitations))
	mux.HandleFunc("POST /api/rounds/{id}/pause", h.owned(h.pauseRound))
	mux.HandleFunc("POST /api/rounds/{id}/extend", h.owned(h.extendRound))
	mux.HandleFunc("PUT /api/rounds/{id}/report", h.owned(h.shareReport))
	mux.HandleFunc("DELETE /api/rounds/{id}/report", h.owned(h.unshareReport))
	mux.HandleFunc("GET /api/rounds/{id}/clips/{session}", h.owned(h.showClip))
	mux.HandleFunc("GET /healthz", h.health)
	mux.HandleFunc("GET /metrics", h.owned(h.metrics))
	mux.HandleFunc("GET /s/{secret}", h.sharedReport)
	mux.HandleFunc("GET /r/{secret}", h.testerPage)
	mux.HandleFunc("POST /r/{secret}", h.enterRound)
	mux.HandleFunc("POST /r/{secret}/sessions", h.beginSession)
	mux.HandleFunc("POST /r/{secret}/sessions/{id}/events", h.takeEvents)
	mux.HandleFunc("PUT /r/{secret}/sessions/{id}/clip/{n}", h.takeClip)
	mux.HandleFunc("DELETE /r/{secret}/sessions/{id}", h.forgetSession)
	return h.guarded(mux)
}

// Games on the same domain can have browsers send cookies to the interface: as many as a browser keeps of a domain still get through, and
// browsers are asked to drop them.
const (
	mostHeader  = 1 << 20
	mostCookies = 8 << 10
)

// guarded sets headers that every page and answer of the interface has.
func (h *Host) guarded(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		head := w.Header()
		cookies := 0
		for _, c := range r.Header["Cookie"] {
			cookies += len(c)
		}
		if cookies > mostCookies {
			head.Set("Clear-Site-Data", `"cookies"`)
		}
		if h.options.secure() {
			head.Set("Strict-Transport-Security", "max-age=31536000")
		}
		r.Body = &patientBody{r.Body, http.NewResponseController(w)}
		head.Set("X-Content-Type-Options", "nosniff")
		head.Set("Referrer-Policy", "no-referrer")
		head.Set("X-Frame-Options", "DENY")
		head.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
		next.ServeHTTP(w, r)
	})
}

// logged writes a line for each request. It holds no address of a visitor and no secret of a link.
func (h *Host) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := h.options.Now()
		seen := &watched{ResponseWriter: w, status: http.StatusOK}
		next.ServeHTTP(seen, r)
		if r.Pattern != "" {
			h.counts.request(r.Pattern, seen.status, h.options.Now().Sub(began))
			h.options.Log.Info(
				"request",
				"pattern",
				r.Pattern,
				"status",
				seen.status,
				"bytes",
				seen.bytes,
				"ms",
				h.options.Now().Sub(began).Milliseconds(),
			)
		}
	})
}

// watched counts what is answered.
type watched struct {
	http.ResponseWriter
	status int
	bytes  int64
}

func (w *watched) WriteHeader(status int) { w.status = status; w.ResponseWriter.WriteHeader(status) }

func (w *watched) Write(p []byte) (int, error) {
	n, err := w.ResponseWriter.Write(p)
	w.bytes += int64(n)
	return n, err
}

// ReadFrom keeps the way from file to socket open, on which bytes are not copied.
func (w *watched) ReadFrom(r io.Reader) (int64, error) {
	n, err := io.Copy(w.ResponseWriter, r)
	w.bytes += n
	return n, err
}

// Unwrap lets http.ResponseController find what is inside.
func (w *watched) Unwrap() http.ResponseWriter { return w.ResponseWriter }

func (h *Host) health(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 5*time.Second)
	defer cancel()
	if h.ending.Load() {
		h.refuse(w, http.StatusServiceUnavailable, "the host is ending")
		return
	}
	if err := h.data.ping(ctx); err != nil {
		h.refuse(w, http.StatusServiceUnavailable, "the data can't be reached")
		return
	}
	if _, err := h.files.Size(ctx, "health"); err != nil && !errors.Is(err, fs.ErrNotExist) {
		h.refuse(w, http.StatusServiceUnavailable, "the files can't be reached")
		return
	}
	answer(w, http.StatusOK, map[string]string{"health": "good"})
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v) // an error here is a client who left
}

func (h *Host) refuse(w http.ResponseWriter, status int, words string) {
	answer(w, status, map[string]string{"error": words})
}

// fail answers what went wrong on our side, and writes it into the log.
func (h *Host) fail(w http.ResponseWriter, err error) {
	var no *refusal
	if errors.As(err, &no) {
		h.refuse(w, no.status, no.words)
		return
	}
	if errors.Is(err, context.Canceled) {
		return // the visitor left
	}
	h.options.Log.Error("request failed", "error", h.withoutAddresses(err.Error()))
	if full(err) {
		h.refuse(w, http.StatusInsufficientStorage, "the host's disk is full; what was sent so far stays, and goes on when there is room")
		return
	}
	h.refuse(w, http.StatusInternalServerError, "something failed on the host; its log says what")
}

// A refusal says no in words for the owner.
type refusal struct {
	status int
	words  string
}

func (e *refusal) Error() string { return e.words }

// newID is an id that can't be guessed.
func newID() string { return strings.ToLower(rand.Text()) }
