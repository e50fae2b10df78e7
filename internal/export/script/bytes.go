package script

import (
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2/js"

	"havvel/internal/export/encoding"
	"havvel/internal/export/link"
)

// loaded is what is loaded from addresses.
func (v *evaluator) loaded(addresses value) value {
	var out value
	for _, a := range v.spread(orUnknown(addresses)) {
		if a.what != isText {
			a = alternative{parts: []part{unknownPart}}
		}
		out = append(out, alternative{what: isLoaded, address: &a, when: a.when, weak: a.weak, entry: a.entry})
	}
	return out
}

// bytes are the alternatives that are the bytes of what was loaded.
func (v value) bytes() value {
	return slices.DeleteFunc(slices.Clone(v), func(a alternative) bool { return a.what != isLoaded })
}

// passing are methods that hand on what was loaded; wrapping are classes that do.
var (
	passing = map[string]bool{
		"then": true, "catch": true, "finally": true, "arrayBuffer": true, "blob": true, "bytes": true, "clone": true, "stream": true,
		"subarray":  true,
		"getReader": true, "read": true, "getWriter": true, "pipeThrough": true,
	}
	wrapping = map[string]bool{
		"Uint8Array": true, "Uint8ClampedArray": true, "Int8Array": true, "DataView": true, "Response": true, "Blob": true,
		"ReadableStream": true,
	}
)

// passed is what a method returns that hands on what was loaded.
func (v *evaluator) passed(d *js.DotExpr, list []js.Arg, in *frame) (value, bool) {
	x := v.value(d.X, in)
	switch dotName(d) {
	case "then":
		var all []value
		for _, f := range v.first(list, in) {
			if f.what == isFunction {
				stand := &js.Var{Data: []byte("settled"), Decl: js.LexicalDecl}
				v.known[stand] = x
				all = append(all, v.result(f, args{list: []js.Arg{{Value: stand}}}, in))
				delete(v.known, stand)
			}
		}
		return union(len(all) == 1, all...), len(all) > 0
	case "catch", "finally":
		return x, true
	case "pipeThrough":
		return nil, true // what comes out is looked at where it goes in
	}
	for _, a := range x {
		if a.what == isLoaded || a.what == isDecoder {
			return x, true
		}
	}
	return nil, false
}

// A give is a place where something is given to what may unpack it, or to what takes it as it is.
type give struct {
	value  js.IExpr
	callee js.IExpr // that unpacks; nil for what takes bytes as they are
	stream js.IExpr // or a stream that does
}

// plain are functions and methods that take bytes as they are, by the last part of their names; true for those of the bytes themselves.
var plain = map[string]bool{
	"json": true, "text": true, "formData": true,
	"parse": false, "decodeAudioData": false, "instantiate": false, "instantiateStreaming": false, "compile": false,
	"compileStreaming": false, "createImageBitmap": false, "createObjectURL": false,
}

// gives notes what a call is given that may be bytes.
func (w *walker) gives(e *js.CallExpr) {
	name, on := "", js.IExpr(nil)
	switch c := bare(e.X).(type) {
	case *js.DotExpr:
		name, on = dotName(c), c.X
	case *js.Var:
		name = string(c.Name())
	}
	var first js.IExpr
	if len(e.Args.List) > 0 {
		first = e.Args.List[0].Value
	}
	if on != nil && w.streams(name, on, first, e.Args.List) {
		return
	}
	switch own, known := plain[name]; {
	case known && !own && first != nil:
		w.given = append(w.given, give{value: first})
	case first != nil && name != "" && !isStream(name) && (len(w.decodes.formats) > 0 || w.foreign(e.X)):
		w.givesTo(e)
	}
}

// streams notes a call of a method that bytes go into or come from. It is false for another one.
func (w *walker) streams(name string, on, first js.IExpr, list []js.Arg) bool {
	own, known := plain[name]
	switch {
	case name == "open" && len(list) > 1:
		if v, ok := bare(on).(*js.Var); ok {
			v = resolved(v)
			w.opened[v] = append(w.opened[v], list[1].Value)
		}
	case isStream(name) && first != nil:
		w.given = append(w.given, give{value: on, stream: first})
	case name == "write" && first != nil:
		w.given = append(w.given, give{value: first, stream: on})
	case known && own && first == nil:
		w.given = append(w.given, give{value: on})
	default:
		return false
	}
	return true
}

func isStream(name string) bool { return name == "pipeThrough" || name == "pipeTo" }

// givesTo notes what a function of the script's own is given.
func (w *walker) givesTo(e *js.CallExpr) {
	for _, a := range e.Args.List[:min(2, len(e.Args.List))] {
		switch bare(a.Value).(type) {
		case *js.FuncDecl, *js.ArrowFunc, *js.LiteralExpr, *js.ObjectExpr, *js.BinaryExpr, *js.TemplateExpr:
			continue
		}
		w.given = append(w.given, give{value: a.Value, callee: e.X})
	}
}

// foreign reports whether a call is one of a function of another script whose name says that it unpacks something, or of another module.
func (w *walker) foreign(callee js.IExpr) bool {
	root := bare(callee)
	for {
		d, ok := root.(*js.DotExpr)
		if !ok {
			break
		}
		root = bare(d.X)
	}
	v, ok := root.(*js.Var)
	if !ok || resolved(v).Decl != js.NoDecl {
		return false
	}
	_, imported := w.imports[string(v.Name())]
	return imported || unpacks(dotted(callee))
}

// dotted is the dotted name of what is called, as far as it is one.
func dotted(callee js.IExpr) string {
	switch c := bare(callee).(type) {
	case *js.Var:
		return string(c.Name())
	case *js.DotExpr:
		return strings.TrimPrefix(dotted(c.X)+"."+dotName(c), ".")
	}
	return ""
}

// unpacks reports whether a name says that what is called by it unpacks something.
func unpacks(name string) bool {
	name = strings.ToLower(name)
	for _, part := range []string{"inflate", "unzip", "gunzip", "ungzip", "unzlib", "unpack", "decompress", "brotli"} {
		if strings.Contains(name, part) {
			return true
		}
	}
	return false
}

// readings works out what becomes of the bytes that the script loads, and notes it at its links.
func (r *reader) readings() {
	r.script.Decoders = r.walker.decodes.formats
	if len(r.walker.given) == 0 {
		return
	}
	places := r.placesOfLinks()
	inside := r.walker.decodes.closure(r.values.index)
	for _, g := range r.walker.given {
		read, any := r.reading(g, inside)
		if !any {
			continue
		}
		for _, a := range r.values.spread(r.values.value(g.value, nil)) {
			if a.what != isLoaded {
				continue
			}
			written := false
			for _, p := range a.address.parts {
				if p.length > 0 && p.text != "" {
					written = true
					for _, i := range places[p.at] {
						r.script.Links[i].Reading.Add(read)
					}
				}
			}
			if !written {
				r.script.Others.Add(read)
			}
		}
	}
}

// placesOfLinks are the links that stand at each place.
func (r *reader) placesOfLinks() map[int][]int {
	places := map[int][]int{}
	for i, l := range r.script.Links {
		places[l.Offset] = append(places[l.Offset], i)
		for _, p := range l.Pieces {
			if p.Len >= 0 && p.Offset != l.Offset {
				places[p.Offset] = append(places[p.Offset], i)
			}
		}
		for _, at := range l.Again {
			places[at] = append(places[at], i)
		}
	}
	return places
}

// reading says what is done with what is given; ok is false where nothing is known of it.
func (r *reader) reading(g give, inside map[js.INode]bool) (read link.Reading, ok bool) {
	switch {
	case g.stream != nil:
		for _, a := range r.values.value(g.stream, nil) {
			if a.what == isDecoder {
				read.Formats = append(read.Formats, streamed[a.name]...)
			}
		}
		return read, len(read.Formats) > 0
	case g.callee == nil:
		return link.Reading{Plain: true}, true
	}
	called := r.values.value(g.callee, nil)
	resolved := false
	for _, a := range called {
		switch {
		case a.what == isFunction:
			resolved = true
			if inside[a.node] {
				read.Formats = r.script.Decoders
			}
		case a.what == isText && len(a.parts) == 1 && a.parts[0].from != "":
			read.Given = append(read.Given, " "+a.parts[0].from)
		}
	}
	name := dotted(g.callee)
	if !resolved && len(read.Given) == 0 && unpacks(name) {
		if read.Formats = r.script.Decoders; len(read.Formats) == 0 {
			read.Given = append(read.Given, name)
		}
	}
	return read, len(read.Formats)+len(read.Given) > 0
}

// streamed are the formats by the names of the Compression standard, and all of them where the name is not known.
var streamed = map[string][]string{
	"gzip": {encoding.Gzip}, "deflate": {encoding.Zlib}, "deflate-raw": {encoding.Raw}, "brotli": {encoding.Brotli}, "br": {encoding.Brotli},
	"zstd": {encoding.Zstd}, "": {encoding.Gzip, encoding.Zlib, encoding.Raw, encoding.Brotli, encoding.Zstd},
}
