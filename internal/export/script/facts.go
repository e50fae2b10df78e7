package script

import (
	"bytes"

	"github.com/tdewolff/parse/v2/js"

	"havvel/internal/export/link"
)

// facts are what a script says besides the files that it names.
type facts struct {
	script *Script
	source []byte
	first  []firstArgument

	callees []callee
}

// A firstArgument is that of a call by a dotted name.
type firstArgument struct {
	call  string
	value js.IExpr
}

// telling are identifiers whose use says something about what a game needs or does.
var telling = map[string]bool{
	"SharedArrayBuffer": true, "preventDefault": true, "oncontextmenu": true, "contextmenu": true, "margin": true,
	"serviceWorker": true, "overflow": true, "DecompressionStream": true, "viewport": true,
}

// Registers is kept in Words for a script that registers a service worker.
const Registers = "serviceWorker.register"

// Telling reports whether the use of a name is kept in Words.
func Telling(name string) bool { return telling[name] }

// events are texts with which a game says what happens in it, each with the event that carries it.
var events = map[string]bool{
	"game-event": true, "game-answer": true, "loading-begun": true, "loading-done": true, "play-begun": true, "play-stopped": true,
	"level-begun": true, "level-ended": true, "break-wanted": true, "reward-wanted": true, "statistic": true, "save": true, "load": true,
}

const (
	maxCallNames = 20_000
	maxArguments = 100 // of one call
)

// offset is where a piece of the source stands in it.
func (f *facts) offset(piece []byte) int { return offset(f.source, piece) }

func (f *facts) word(name []byte) {
	if len(name) >= 6 && telling[string(name)] {
		f.script.Words[string(name)] = true
	}
}

func (f *facts) text(l *js.LiteralExpr) { f.content(l.Data) }

func (f *facts) template(t *js.TemplateExpr) { f.content(t.Tail) }

// content looks at a text without unknown parts, quotes and all.
func (f *facts) content(quoted []byte) {
	if len(quoted) < 6 {
		return
	}
	inner := quoted[1 : len(quoted)-1]
	if len(inner) > 70 || bytes.HasPrefix(inner, []byte("sha")) {
		f.digests(inner)
	}
	if len(inner) > 20 {
		return
	}
	if telling[string(inner)] {
		f.script.Words[string(inner)] = true
	}
	if events[string(inner)] {
		if _, ok := f.script.Says[string(inner)]; !ok {
			f.script.Says[string(inner)] = f.offset(quoted) + 1
		}
	}
}

func (f *facts) digests(inner []byte) {
	if len(f.script.Digests) < link.MaxDigests && bytes.Contains(inner, []byte("sha")) {
		f.script.Digests = append(f.script.Digests, link.Digests(string(inner))...)
	}
}
