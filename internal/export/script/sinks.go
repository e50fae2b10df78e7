package script

import (
	"strings"

	"havvel/internal/export/link"
)

// A sink is a call or property through which a script loads a file. To know another one, add a line here.
type sink struct {
	name   string // of a global function or class; with a dot before it, of a method; with an equals sign behind it, of a property that is set
	on     string // what a method or property must be one of: the last name before the dot; "" for anything
	arg    int    // which argument names the file, from 0; -1 for all of them; -2 for the entries of a list that is the first one
	needs  string // what the argument before it must be: a method of HTTP, or the name of an attribute
	use    string
	sure   link.Certainty
	base   link.Base
	worker bool
	as     string // what the text is when it is no address: "css", "html"
}

var sinks = []sink{
	{name: "fetch", use: "data", sure: link.Likely},
	{name: "Request", use: "data", sure: link.Likely},
	{name: "Worker", use: "script", sure: link.Likely, worker: true},
	{name: "SharedWorker", use: "script", sure: link.Likely, worker: true},
	{name: "importScripts", arg: -1, use: "script", sure: link.Likely},
	{name: "Blob", arg: -2, as: "script"},
	{name: "eval", as: "script"},
	{name: "Function", arg: -1, as: "script"},
	{name: "Audio", use: "media", sure: link.Likely},
	{name: "WebSocket", use: "socket", sure: link.Likely},
	{name: "EventSource", use: "socket", sure: link.Likely},
	{name: "FontFace", arg: 1, use: "picture", sure: link.Likely, as: "css"},
	{name: ".open", arg: 1, needs: "GET POST HEAD PUT", use: "data", sure: link.Likely},
	{name: ".open", on: "window", use: "page", sure: link.Likely},
	{name: ".addModule", use: "script", sure: link.Likely, worker: true},
	{name: ".register", on: "serviceWorker", use: "script", sure: link.Likely, worker: true},
	{name: "scope=", on: "serviceWorker", use: "page", sure: link.Likely},
	{name: ".sendBeacon", use: "socket", sure: link.Likely},
	{name: ".addAll", arg: -2, use: "data", sure: link.Likely},
	{name: ".assign", on: "location", use: "page", sure: link.Likely},
	{name: ".replace", on: "location", use: "page", sure: link.Likely},
	{name: ".insertAdjacentHTML", arg: 1, as: "html"},
	{name: ".write", on: "document", as: "html"},
	{name: ".writeln", on: "document", as: "html"},
	{name: ".createContextualFragment", as: "html"},
	{name: ".setProperty", arg: 1, as: "css"},
	{name: ".insertRule", as: "css"},
	{name: ".replaceSync", as: "css"},
	{name: ".createTextNode", as: "css"},
	{name: "textContent=", as: "css"},
	{name: ".setAttribute", arg: 1, needs: "src href poster", use: "element", sure: link.Likely},
	{name: ".setAttribute", arg: 1, needs: "style", as: "css"},
	{name: ".getScript", use: "script", sure: link.Likely},
	{name: ".getJSON", use: "data", sure: link.Likely},
	{name: "src=", use: "element", sure: link.Likely},
	{name: "poster=", use: "picture", sure: link.Likely},
	{name: "href=", use: "element", sure: link.Likely},
	{name: "location=", use: "page", sure: link.Likely},
	{name: "innerHTML=", as: "html"},
	{name: "outerHTML=", as: "html"},
	{name: "srcdoc=", as: "html"},
	{name: "cssText=", as: "css"},
	{name: "background=", as: "css"},
	{name: "backgroundImage=", as: "css"},
	{name: "borderImage=", as: "css"},
	{name: "cursor=", as: "css"},
	{name: "maskImage=", as: "css"},
	{name: "listStyleImage=", as: "css"},
}

// elements says what the src or href of an element is for.
var elements = map[string]string{
	"script": "script", "img": "picture", "image": "picture", "audio": "media", "video": "media", "source": "media", "track": "media",
	"iframe": "frame", "embed": "frame",
	"link": "preload", "a": "page", "area": "page", "location": "page",
}

// byName finds the sinks of a name.
var byName = func() map[string][]*sink {
	m := map[string][]*sink{}
	for i := range sinks {
		m[sinks[i].name] = append(m[sinks[i].name], &sinks[i])
	}
	return m
}()

// takes reports whether a sink is meant where the text before the name of the file is this one.
func (s *sink) takes(before string) bool {
	for word := range strings.FieldsSeq(s.needs) {
		if strings.EqualFold(word, before) {
			return true
		}
	}
	return s.needs == ""
}
