package web

import (
	"path"
	"strings"

	"github.com/tdewolff/parse/v2/js"
)

// loaders are functions that load the file that is their first argument.
var loaders = map[string]string{
	"fetch": "data", "importScripts": "script", "Worker": "script", "SharedWorker": "script", "Audio": "media", "Request": "data",
	"register": "script", "addModule": "script", "FontFace": "style", "getScript": "script", "WebSocket": "socket", "EventSource": "socket",
}

// workers are those of them that run a script apart from the page: what it names is relative to itself.
var workers = map[string]bool{"Worker": true, "SharedWorker": true, "importScripts": true, "register": true, "addModule": true}

// name says what a text is as the name of a file, by what stands before it.
func (r *scriptReader) name(v *joined, text string) (Link, bool) {
	c := v.context
	pathLike := looksLikePath(text) || text != star && isFolder(strings.TrimSuffix(text, star))
	switch {
	case text == "" || text == star || len(text) > maxTarget:
		return Link{}, false
	case v.imported():
		return Link{Use: "script", Certainty: Certain, Module: true}, isRelative(text)
	case c[0].kind == js.OpenParenToken && c[1].kind == js.ImportToken:
		return Link{Use: "script", Certainty: certain(text), Module: true}, isRelative(text)
	case v.isURL() && c[3].kind == js.OpenParenToken && workers[string(c[4].text)]:
		return Link{Use: "script", Certainty: likely(text), Module: true, Worker: true}, pathLike
	case v.isURL():
		return Link{Use: "data", Certainty: likely(text), Module: true}, pathLike
	case c[0].kind == js.OpenParenToken && loaders[string(c[1].text)] != "":
		return Link{Use: loaders[string(c[1].text)], Certainty: likely(text), Worker: workers[string(c[1].text)]}, pathLike || isAddress(text) || strings.Contains(text, star)
	case c[0].kind == js.CommaToken && c[1].kind == js.StringToken && c[2].kind == js.OpenParenToken && string(c[3].text) == "open":
		return Link{Use: "data", Certainty: likely(text)}, pathLike || isAddress(text) || strings.Contains(text, star)
	case v.goes() && (strings.HasSuffix(text, ".html") || strings.HasSuffix(text, ".htm")):
		return Link{Use: "page", Certainty: likely(text)}, true
	}
	return Link{Use: "data", Certainty: Possible}, pathLike && !isAddress(text)
}

// goes reports whether a text may be where the window goes: location = "…", location.href = "…", location.assign("…").
func (v *joined) goes() bool {
	c := v.context
	switch string(c[1].text) {
	case "location":
		return c[0].kind == js.EqToken
	case "href":
		return c[0].kind == js.EqToken && string(c[3].text) == "location"
	case "assign", "replace":
		return c[0].kind == js.OpenParenToken && string(c[3].text) == "location"
	}
	return false
}

// imported reports whether a text is what an import or export statement names.
func (v *joined) imported() bool {
	return string(v.context[0].text) == "from" && v.context[1].kind != js.DotToken || v.context[0].kind == js.ImportToken
}

func certain(text string) Certainty {
	if strings.Contains(text, star) {
		return Possible
	}
	return Certain
}

// likely is how sure the argument of a loader is. That of a folder is what other names are added to.
func likely(text string) Certainty {
	if strings.Contains(text, star) || strings.HasSuffix(text, "/") && !isAddress(text) {
		return Possible
	}
	return Likely
}

// beside looks at what follows a name in new URL(name, …): it is relative to the script, to the page, or to something that is not known.
func (r *scriptReader) beside(t token) {
	switch {
	case r.aside == nil || t.kind == js.CommaToken || t.kind == js.AddToken || t.kind == js.StringToken && len(t.text) == 2: // "" + import.meta.url
	case t.kind == js.CloseParenToken: // an address by itself
		r.aside = nil
	case t.kind == js.ImportToken:
		r.aside = nil
	case pageBases[string(t.text)]:
		r.aside.Module = false
		r.aside = nil
	default:
		r.aside.Target, r.aside.Certainty, r.aside.Whole, r.aside.Module = star+r.aside.Target, Possible, false, false
		r.aside = nil
	}
}

// pageBases begin expressions whose value is the address of the page.
var pageBases = map[string]bool{"document": true, "location": true, "window": true, "self": true, "globalThis": true}

// isURL reports whether a text is the first argument of new URL.
func (v *joined) isURL() bool {
	return v.context[0].kind == js.OpenParenToken && string(v.context[1].text) == "URL" && v.context[2].kind == js.NewToken
}

func isRelative(text string) bool {
	return strings.HasPrefix(text, "./") || strings.HasPrefix(text, "../") || strings.HasPrefix(text, "/") || isAddress(text)
}

func isAddress(text string) bool {
	return strings.HasPrefix(text, "http://") || strings.HasPrefix(text, "https://") || strings.HasPrefix(text, "//") || strings.HasPrefix(text, "ws://") || strings.HasPrefix(text, "wss://")
}

// isFolder reports whether a text could be the name of a folder, to be put before that of a file.
func isFolder(text string) bool {
	return len(text) > 2 && strings.HasSuffix(text, "/") && !strings.ContainsAny(text, " <>{}()|=;,:\n")
}

// looksLikePath reports whether a text could be the name of a file: it ends in a dot and a few letters.
func looksLikePath(text string) bool {
	if end := strings.IndexAny(text, "?#"); end > 0 {
		text = text[:end]
	}
	ending := path.Ext(text)
	if len(ending) < 2 || len(ending) > 12 || len(ending) == len(text) || strings.ContainsAny(text, "<>{}()|=;,\n\r\t\"") {
		return false
	}
	letter := false
	for _, c := range ending[1:] {
		switch {
		case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z':
			letter = true
		case c >= '0' && c <= '9' || c == '_' || c == '-':
		default:
			return false
		}
	}
	return letter
}

// rooted is the host's root, where a bundler may put names of the game's parts behind it; the word shows that it does.
type rooted struct {
	link Link
	word string
}

// ahead is what bundlers call loading parts ahead, and resolved what some of them find the addresses of these with: beside the script that
// names them, where others take them from the page.
const (
	ahead    = "modulepreload"
	resolved = "import.meta.resolve"
)

// pathKey is the property in which a bundler keeps the path of all parts.
const pathKey = "p"

// rootedParts notes a function that only puts what it is given behind the host's root: (x) { return "/" + x }. With it, parts are loaded
// ahead.
func (r *scriptReader) rootedParts() {
	if r.last(2).kind == js.AddToken && r.last(4).kind == js.ReturnToken && r.last(5).kind == js.OpenBraceToken &&
		r.last(6).kind == js.CloseParenToken && string(r.last(7).text) == string(r.last(1).text) && r.last(8).kind == js.OpenParenToken {
		r.root(r.last(3), ahead)
	}
}

// rootedPath notes where the path of all parts is said: x.p = "/", where texts are put behind x.p, too.
func (r *scriptReader) rootedPath() {
	if r.last(2).kind == js.EqToken && string(r.last(3).text) == pathKey && r.last(4).kind == js.DotToken && js.IsIdentifier(r.last(5).kind) {
		r.root(r.last(1), string(r.last(5).text)+"."+pathKey)
	}
}

func (r *scriptReader) root(t token, word string) {
	text, at := unquoted(t)
	if t.kind == js.StringToken && strings.HasPrefix(text, "/") && strings.HasSuffix(text, "/") && len(text) == len(t.text)-2 && len(r.roots) < maxAgain {
		l := Link{Target: text, Use: "data", Certainty: Likely, Offset: at, Len: len(text), Whole: true}
		l.Line, l.Column = r.lines.place(at)
		r.roots = append(r.roots, rooted{l, word})
	}
}
