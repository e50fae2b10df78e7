package serve

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"havvel/internal/export"
	"havvel/internal/export/web"
	"havvel/internal/hooks"
)

// listener hands on what the game says, one thing after another, and puts stand-ins in the place of the portal's scripts that the game
// loads by itself.
//
//go:embed listener.js
var listenerScript string

// listener is the script as it stands in a page, in one line, so that the lines of what follows stay what they are.
var listener = strings.NewReplacer("\n", " ", "\t", "", "HEARD", hooks.Heard, "EVENT", hooks.Event).Replace(listenerScript)

// page serves a page, with stand-ins in place of the portal's scripts, and with a script that hands on what the game says.
func (g *Game) page(w http.ResponseWriter, r *http.Request, f *export.File) {
	data, err := f.ReadAll(r.Context(), f.Bytes+1)
	if err != nil {
		http.Error(w, "the page can't be read", http.StatusInternalServerError)
		return
	}
	page, standIns := web.ReadPage(data), g.standIns(home(r)+own)
	for _, l := range slices.Backward(page.Links) { // from the end, so that offsets stay true
		if to, ok := standIns[address(l.Target)]; ok && l.Use == "script" && l.Whole() {
			data = slices.Concat(data[:l.Offset], []byte(to), data[l.Offset+l.Len:])
		}
	}
	if at := web.ReadPage(data).HeadStart; g.options.Heard != nil {
		data = slices.Concat(data[:at], before(home(r)+own, standIns, bytes.Contains(data, []byte("importmap"))), data[at:])
	}
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
}

// before is what stands before all else in a page. mapped says that the page has an import map of its own.
func before(ours string, standIns map[string]string, mapped bool) []byte {
	list, _ := json.Marshal(standIns) // a map of texts
	script := "<script>" + strings.NewReplacer("OWN", ours, "HOOKS", string(list)).Replace(listener) + "</script>"
	if len(standIns) > 0 && !mapped { // some browsers take one map only, and that is the game's
		script = `<script type="importmap">{"imports":` + string(list) + "}</script>" + script
	}
	return []byte(script)
}

// standIns are the places of the stand-ins of the portal's scripts, by the scripts' addresses.
func (g *Game) standIns(ours string) map[string]string {
	list := map[string]string{}
	if g.options.Rules != nil {
		for n, h := range g.options.Rules.Hooks {
			list[address(h.Script)] = fmt.Sprintf("%shook-%d.js", ours, n)
		}
	}
	return list
}

// address is that of a script without what it is asked with.
func address(script string) string {
	script, _, _ = strings.Cut(script, "#")
	script, _, _ = strings.Cut(script, "?")
	return script
}

// home is the path of the game's folder, with a slash at its end.
func home(r *http.Request) string {
	whole, _, _ := strings.Cut(r.RequestURI, "?")
	folder, ok := strings.CutSuffix(whole, r.URL.EscapedPath())
	if !ok || !strings.HasPrefix(folder, "/") {
		folder = ""
	}
	return folder + "/"
}

// hook serves the stand-in of one of the portal's scripts.
func (g *Game) hook(w http.ResponseWriter, name string) {
	var n int
	if _, err := fmt.Sscanf(name, own+"hook-%d.js", &n); err != nil || g.options.Rules == nil || n < 0 || n >= len(g.options.Rules.Hooks) {
		http.Error(w, "there is no such script", http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	io.WriteString(w, hooks.StandIn(g.options.Rules.Hooks[n], "")) // an error here is a visitor who left
}
