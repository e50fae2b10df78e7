package serve

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/tls"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"log"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"havvel/internal/export"
	"havvel/internal/hosting"
	"havvel/internal/rulebook"
)

// Config says what a server shows, and to whom.
type Config struct {
	Build *export.Build
	Title string
	Rules *rulebook.Rulebook // of the portal that is imitated; nil for none
	Heard func(Event)        // is told what the game says, one at a time; may be nil
	Slow  int64              // bytes a second; 0 for no limit
	LAN   bool               // for others on the same network, too, under a path that can't be guessed
	Port  int                // of the page around the game; 0 for any that is free
	Front *Front             // a page above the build that its entry page is replaced by; nil for none
	At    string             // the folder of its host that the game is in, with slashes around it; "" for one that it doesn't expect

	Bare bool // the page around the game has nothing but the game's frame, as large as the window, and the game's pages are as they are
}

// A Front is a page that stands in a folder above the build's own, as at a site's root.
type Front struct {
	Page  []byte
	Under string // the build's folder, from the page's: "versions/0.4.0-8c1f0a77d2/"
	Index []byte // what stands beside the page under IndexName
}

// IndexName is the name under which a site says which version is current.
const IndexName = "havvel.json"

// A Server serves a game, and on another origin a page around it, as a portal has one. Close it in the end.
type Server struct {
	Page  string // address of the page around the game
	Game  string // address of the game alone: a folder of its host, as portals have it
	Front string // address of the page above it; "" for none

	game    *Game
	servers []*http.Server
	mu      sync.Mutex
	guests  map[chan []byte]bool
	stop    chan struct{}
	once    sync.Once
}

// plainRules stand in where no portal is imitated.
var plainRules = &rulebook.Rulebook{Name: "a plain host", Views: []rulebook.View{
	{Name: "frame", Size: [2]int{960, 540}}, {Name: "full window", Size: [2]int{1280, 720}},
	{Name: "phone portrait", Size: [2]int{390, 844}, Touch: true}, {Name: "phone landscape", Size: [2]int{844, 390}, Touch: true},
}}

// Views lists the windows in which a portal shows a game; for none, those that most have.
func Views(rules *rulebook.Rulebook) []rulebook.View {
	if rules == nil || len(rules.Views) == 0 {
		return plainRules.Views
	}
	return rules.Views
}

// Start starts a server. It serves until it is closed.
func Start(c Config) (*Server, error) {
	s := &Server{guests: map[chan []byte]bool{}, stop: make(chan struct{})}
	l, err := listen(c)
	if err != nil {
		return nil, err
	}
	folder := l.guard + "game/"
	if c.Build.Root() == folder { // in the folder that it expects to be in, its mistakes could not be seen
		folder = l.guard + "build/"
	}
	folder = cmp.Or(c.At, folder)
	s.Page = addressOf(l.scheme, l.around, l.pages, l.guard)
	top := folder
	if c.Front != nil {
		s.Front = addressOf(l.scheme, l.name, l.games, top)
		folder += c.Front.Under
	}
	s.Game = addressOf(l.scheme, l.name, l.games, folder)
	heard := c.Heard
	s.game = newGame(
		c.Build,
		Options{
			Rules:     c.Rules,
			Isolation: c.Rules != nil && c.Rules.Serves.Isolation || c.Rules == nil && c.Build.NeedsIsolation() != nil,
			Slow:      c.Slow,
			Plain:     c.Bare,
			Heard: func(e Event) {
				e.File = strings.TrimPrefix(e.File, s.Game)
				s.news("said", e)
				if heard != nil {
					heard(e)
				}
			},
		},
	)
	s.serve(l.games, s.games(c, top, folder))
	mux := http.NewServeMux()
	mux.HandleFunc("GET "+l.guard+"{$}", s.stage(c, l.guard))
	mux.HandleFunc("GET "+l.guard+"news", s.follow)
	s.serve(l.pages, mux)
	return s, nil
}

// games answers for the game's files, in a folder below the top.
func (s *Server) games(c Config, top, folder string) http.Handler {
	inside := http.StripPrefix(strings.TrimSuffix(folder, "/"), s.game)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch rest, in := strings.CutPrefix(r.URL.Path, top); {
		case in && c.Front != nil && (rest == "" || rest == export.EntryName):
			s.game.front(w, r, c.Front.Page, "text/html")
		case in && c.Front != nil && rest == IndexName:
			s.game.front(w, r, c.Front.Index, "application/json")
		case strings.HasPrefix(r.URL.Path, folder) || c.LAN: // strangers on the network are not told of
			inside.ServeHTTP(w, r)
		default:
			s.game.astray(w, r)
		}
	})
}

// listeners are where a server is reached: the page around the game, and the game, on ports of their own.
type listeners struct {
	pages, games net.Listener
	scheme       string
	name, around string // hosts of the game and of the page
	guard        string // folder of all that is there
}

func listen(c Config) (l *listeners, err error) {
	// The page is on another site than the game, as on a portal: cookies, storage and service workers are apart.
	l = &listeners{scheme: "http", name: "127.0.0.1", around: "localhost", guard: "/"}
	host := l.name
	if c.LAN { // only a secure page has all that games use, such as threads, sensors and the clipboard
		l.scheme, l.name, host = "https", ownAddress(), ""
		l.around, l.guard = l.name, "/"+strings.ToLower(rand.Text()[:16])+"/"
	}
	if l.pages, err = net.Listen("tcp", net.JoinHostPort(host, fmt.Sprint(c.Port))); err != nil {
		return nil, fmt.Errorf("starting the server: %w", err)
	}
	if l.games, err = net.Listen("tcp", net.JoinHostPort(host, "0")); err != nil {
		l.pages.Close()
		return nil, fmt.Errorf("starting the server: %w", err)
	}
	if !c.LAN {
		return l, nil
	}
	own, err := certificate(l.name)
	if err != nil {
		l.pages.Close()
		l.games.Close()
		return nil, err
	}
	secure := &tls.Config{Certificates: []tls.Certificate{own}}
	l.pages, l.games = tls.NewListener(l.pages, secure), tls.NewListener(l.games, secure)
	return l, nil
}

func addressOf(scheme, name string, l net.Listener, guard string) string {
	return fmt.Sprintf("%s://%s%s", scheme, net.JoinHostPort(name, fmt.Sprint(l.Addr().(*net.TCPAddr).Port)), guard)
}

// ownAddress is this machine's address on the network that leads outside, or the loopback's where there is none.
func ownAddress() string {
	c, err := net.Dial("udp", "192.0.2.1:9") // nothing is sent
	if err != nil {
		return "127.0.0.1"
	}
	defer c.Close()
	return c.LocalAddr().(*net.UDPAddr).IP.String()
}

func (s *Server) serve(l net.Listener, h http.Handler) {
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute, ErrorLog: log.New(io.Discard, "", 0)}
	s.servers = append(s.servers, server)
	go server.Serve(l) // ends with Close
}

// Replace serves another build from now on, and has open pages load it.
func (s *Server) Replace(b *export.Build) {
	s.game.Replace(b)
	s.news("changed", nil)
}

// Close ends the server.
func (s *Server) Close() {
	s.once.Do(func() { close(s.stop) })
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	for _, server := range s.servers {
		if err := server.Shutdown(ctx); errors.Is(err, context.DeadlineExceeded) {
			server.Close()
		}
	}
	s.game.Close()
}

//go:embed stage.html
var stagePage string

var stageTemplate = template.Must(template.New("stage").Parse(stagePage))

func (s *Server) stage(c Config, guard string) http.HandlerFunc {
	rules := c.Rules
	if rules == nil {
		rules = plainRules
	}
	data := map[string]any{
		"Title": c.Title, "Portal": rules.Name, "Views": Views(rules), "Game": s.Game, "News": guard + "news", "Bare": c.Bare,
		"Allow": strings.Join(
			rules.Frame.Allow,
			"; ",
		), "Sandboxed": len(rules.Frame.Sandbox) > 0, "Sandbox": strings.Join(rules.Frame.Sandbox, " "),
	}
	if c.LAN {
		if code, err := drawing(s.Page); err == nil { // an address that is too long has none
			data["Code"] = code
		}
	}
	if isolated := rules.Serves.Isolation; isolated {
		data["Allow"] = strings.Join(append(slices.Clone(rules.Frame.Allow), "cross-origin-isolated"), "; ")
	}
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		hosting.Host{Isolation: rules.Serves.Isolation}.Isolate(w.Header())
		stageTemplate.Execute(w, data) // an error here is a visitor who left
	}
}

// news tells all open pages something, as an event of the HTML standard's server-sent kind.
func (s *Server) news(kind string, what any) {
	data, err := json.Marshal(what)
	if err != nil {
		return
	}
	message := fmt.Appendf(nil, "event: %s\ndata: %s\n\n", kind, data)
	s.mu.Lock()
	defer s.mu.Unlock()
	for guest := range s.guests {
		select {
		case guest <- message:
		default: // a page that doesn't read
		}
	}
}

// follow keeps a page told.
func (s *Server) follow(w http.ResponseWriter, r *http.Request) {
	guest := make(chan []byte, 64)
	s.mu.Lock()
	s.guests[guest] = true
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.guests, guest)
	}()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	c := http.NewResponseController(w)
	c.Flush()
	for {
		select {
		case <-r.Context().Done():
			return
		case <-s.stop:
			return
		case m := <-guest:
			if _, err := w.Write(m); err != nil {
				return
			}
			c.Flush()
		}
	}
}
