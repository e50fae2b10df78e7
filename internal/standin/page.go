package standin

import (
	"archive/zip"
	"io"
	"mime"
	"net"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
)

// A view is what a page of the arcade shows.
type view struct {
	Portal        string
	Game          game
	Version       string
	Draft         bool
	Source        string // of the game's frame
	Width, Height int
	Games         []card
	Locked        bool // it wants a password
	Wrong         bool
	Leaderboards  []*leaderboard
	Paper         paper
}

// A card is a game where players browse.
type card struct {
	game
	Paper paper
}

func (a *Portal) front(w http.ResponseWriter, _ *http.Request) {
	v := view{Portal: a.options.Name}
	a.mu.Lock()
	for _, g := range a.state.Games {
		if g.Live != "" {
			v.Games = append(v.Games, card{*g, a.paperOf(*g)})
		}
	}
	a.mu.Unlock()
	render(w, "front.html", v)
}

func (a *Portal) play(w http.ResponseWriter, r *http.Request) {
	g, ok := a.gameByShort(r.PathValue("short"))
	if !ok || g.Live == "" {
		http.Error(w, "There is no such game here.", http.StatusNotFound)
		return
	}
	v, _ := a.versionByID(g.Live)
	if v.State == some && !a.knows(r, v) {
		w.Header().Set("Cache-Control", "no-store")
		render(w, "locked.html", view{Portal: a.options.Name, Game: g, Locked: true, Wrong: r.Method == http.MethodPost})
		return
	}
	a.show(w, r, g, v)
}

func (a *Portal) draft(w http.ResponseWriter, r *http.Request) {
	v, ok := a.find(func(v *version) bool { return v.Secret == r.PathValue("secret") && v.State != awaiting })
	if !ok {
		http.Error(w, "There is no such draft.", http.StatusNotFound)
		return
	}
	g, _ := a.gameByShort(v.Game)
	a.show(w, r, g, v)
}

func (a *Portal) show(w http.ResponseWriter, r *http.Request, g game, v version) {
	w.Header().Set("Cache-Control", "no-store")
	if a.options.Isolation {
		w.Header().Set("Cross-Origin-Opener-Policy", "same-origin")
		w.Header().Set("Cross-Origin-Embedder-Policy", "require-corp")
	}
	render(w, "game.html", view{
		Portal: a.options.Name, Game: g, Version: v.Version, Draft: v.State != live && v.State != open && v.State != some &&
			v.State != showing, Leaderboards: seen(g.Leaderboards), Paper: a.paperOf(g),
		Source: "http://" + otherHost(r.Host) + "/files/" + v.Secret + "/index.html",
		Width:  a.options.Frame[0], Height: a.options.Frame[1],
	})
}

// seen are the leaderboards that are not hidden.
func seen(all []*leaderboard) []*leaderboard {
	var list []*leaderboard
	for _, b := range all {
		if !b.Hidden {
			list = append(list, b)
		}
	}
	return list
}

// otherHost names the same server by another name, so that the game runs on another origin than the
// page around it, as on a real portal.
func otherHost(host string) string {
	name, port, err := net.SplitHostPort(host)
	if err != nil {
		return host
	}
	if name == "localhost" {
		return net.JoinHostPort("127.0.0.1", port)
	}
	return net.JoinHostPort("localhost", port)
}

func render(w http.ResponseWriter, page string, v view) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	templates.ExecuteTemplate(w, page, v) // an error here is a visitor who left
}

func (a *Portal) script(w http.ResponseWriter, r *http.Request) {
	text, ok := a.options.Scripts[r.PathValue("script")]
	if !ok {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
	io.WriteString(w, text)
}

// contentTypes are those of what games have; the system's table differs from machine to machine.
var contentTypes = map[string]string{
	".js": "text/javascript; charset=utf-8", ".mjs": "text/javascript; charset=utf-8", ".wasm": "application/wasm",
	".html": "text/html; charset=utf-8", ".css": "text/css; charset=utf-8", ".json": "application/json", ".svg": "image/svg+xml",
	".png": "image/png", ".jpg": "image/jpeg", ".webp": "image/webp", ".ogg": "audio/ogg", ".mp3": "audio/mpeg", ".woff2": "font/woff2",
	".webmanifest": "application/manifest+json", ".gz": "application/gzip",
}

// file serves one file of a version straight from its archive.
func (a *Portal) file(w http.ResponseWriter, r *http.Request) {
	v, ok := a.find(func(v *version) bool {
		return v.Secret == r.PathValue("secret") && v.State != awaiting && v.State != arriving
	})
	if !ok {
		http.NotFound(w, r)
		return
	}
	name := r.PathValue("path")
	w.Header().Set("Cross-Origin-Resource-Policy", "cross-origin")
	if a.options.Isolation {
		w.Header().Set("Cross-Origin-Embedder-Policy", "require-corp")
	}
	if v.Entry != nil && name == "index.html" {
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Content-Type", contentTypes[".html"])
		if page, err := os.Open(a.partFile(v.ID, "entry")); err == nil {
			defer page.Close()
			io.Copy(w, page)
		}
		return
	}
	z, err := zip.OpenReader(a.archive(v.ID))
	if err != nil {
		http.NotFound(w, r)
		return
	}
	defer z.Close()
	for _, f := range z.File {
		if f.Name == name {
			a.serveEntry(w, f)
			return
		}
	}
	http.NotFound(w, r)
}

func (a *Portal) serveEntry(w http.ResponseWriter, f *zip.File) {
	r, err := f.Open()
	if err != nil {
		http.Error(w, "This file is damaged.", http.StatusInternalServerError)
		return
	}
	defer r.Close()
	name := f.Name
	for ending, encoding := range map[string]string{".gz": "gzip", ".br": "br"} {
		if inner, ok := strings.CutSuffix(name, ending); ok && slices.Contains(a.options.Encodings, encoding) {
			name = inner
			w.Header().Set("Content-Encoding", encoding)
		}
	}
	kind := contentTypes[strings.ToLower(path.Ext(name))]
	if kind == "" {
		kind = mime.TypeByExtension(path.Ext(name))
	}
	if kind == "" {
		kind = "application/octet-stream"
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Cache-Control", "no-store")
	io.Copy(w, r)
}
