// Package script reads scripts as values: it parses one, finds the calls and properties through which it loads files, and works out
// what reaches them, each part with the place where it stands.
package script

import (
	"bytes"
	"cmp"
	"maps"
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"

	"havvel/internal/export/link"
)

// A Script is what a script says of itself.
type Script struct {
	Links     []link.Link
	Bare      []link.Link         // imports by a name that is no address; an import map says what it stands for
	Fragments []Fragment          // markup, styles and data that the script holds as texts
	Exports   map[string][]Pieces // texts that other modules import, by name
	Calls     map[string]int      // functions called by a dotted name on a global, such as Portal.ready; value: offset of the first
	Uses      map[string]int      // globals that it hands on instead, by dotted name: what is done with them is not known; value: likewise
	Args      map[string][]string // texts that are the first argument of such calls
	Words     map[string]bool     // identifiers that say something about what a game needs or does
	Says      map[string]int      // texts that name an event of the game; value: offset of the first
	Digests   []link.Digest       // that it gives for files that it loads
	Decoders  []string            // compressed formats that code in it can unpack
	Others    link.Reading        // what is done with the bytes of files whose names are not known
	Unparsed  string              // why it was read by its tokens alone; "" when it was parsed
	Module    bool                // has imports or exports
}

// Pieces are a text, part by part.
type Pieces []link.Piece

// A Fragment is a text that is itself a page, a style, a script or JSON, by As: "html", "css", "script" or "json"; "markup" is a page
// that may be put into the page.
type Fragment struct {
	As     string
	Pieces Pieces
}

// Holds adds what another script that this one holds says of itself, beside its links; place is where one of the other's offsets is here.
func (s *Script) Holds(o *Script, place func(offset int) int) {
	for _, m := range []struct{ mine, theirs map[string]int }{{s.Calls, o.Calls}, {s.Uses, o.Uses}, {s.Says, o.Says}} {
		for name, offset := range m.theirs {
			if _, ok := m.mine[name]; !ok {
				m.mine[name] = place(offset)
			}
		}
	}
	for name, args := range o.Args {
		s.Args[name] = append(s.Args[name], args...)
	}
	maps.Copy(s.Words, o.Words)
}

// LargestTree is the largest script that is parsed, in bytes. A tree takes about 20 times as much as its script.
const LargestTree = 4 << 20

// New returns a script that says nothing.
func New() *Script {
	return &Script{
		Calls: map[string]int{}, Uses: map[string]int{}, Args: map[string][]string{}, Words: map[string]bool{}, Says: map[string]int{},
	}
}

// Read reads a script. It never fails: one that can't be parsed is read by its tokens, and says so in Unparsed.
//
// Between the length and the capacity of data it may write.
func Read(data []byte) *Script {
	s := New()
	if len(data) > LargestTree {
		s.Unparsed = "it is too large"
		readTokens(s, data)
		return s
	}
	input := parse.NewInputBytes(data)
	defer input.Restore()
	tree, err := js.Parse(input, js.Options{})
	if err != nil {
		s.Unparsed = reason(err)
		input.Restore()
		readTokens(s, data)
		return s
	}
	r := &reader{script: s, lines: link.NewLines(data), seen: map[seen]int{}, used: map[int]bool{}}
	r.read(tree, input.Bytes())
	return s
}

// reason is the parser's first line.
func reason(err error) string {
	text, _, _ := strings.Cut(err.Error(), "\n")
	return text
}

// A reader turns the tree of a script into what the script says.
type reader struct {
	script *Script
	lines  link.Lines
	walker *walker
	values *evaluator
	seen   map[seen]int // links, by what they say; value: their place in Links
	used   map[int]bool // offsets of texts that reach a sink

	guessed map[int]bool // offsets of texts that are chosen by what the browser says of itself
}

type seen struct {
	target, use string
	offset      int
	base        link.Base
}

// within does work with at most so many steps of those that are left, and returns what is left then.
func (r *reader) within(left, most int, work func()) int {
	begun := max(0, min(left, most))
	r.values.steps = begun
	work()
	return left - (begun - r.values.steps)
}

// Steps of work that are done for one script, by what for.
const (
	stepsLoad    = 3000 // for one sink
	stepsText    = 500  // for one text that reaches none
	stepsOver    = 5000 // more than that, for what is cheap
	stepsLoads   = 60_000
	stepsTexts   = 25_000
	stepsOthers  = 10_000
	bytesPerStep = 128 // of the script, for one more
)

func (r *reader) read(tree *js.AST, source []byte) {
	x := newIndex(len(source))
	f := &facts{script: r.script, source: source}
	r.walker = &walker{index: x, facts: f, decodes: newDecoding(source)}
	r.values = &evaluator{index: x, source: source, known: map[any]value{}, active: map[any]int{}}
	r.walker.module(tree, r)
	r.guessed = r.walker.guessing()
	left := stepsLoads + len(source)/bytesPerStep
	for _, last := range []bool{false, true} { // addresses that reach no other sink come last
		for _, l := range slices.Backward(r.walker.loads) { // what a bundler puts last is the game
			if (l.sink == address) == last {
				left = r.within(left, stepsLoad, func() { r.load(l) })
			}
		}
	}
	left = stepsTexts + len(source)/bytesPerStep
	for _, t := range slices.Backward(r.walker.texts) {
		left = r.within(left, stepsText, func() { r.text(t) })
	}
	r.values.steps = stepsOthers + len(source)/bytesPerStep
	r.callees(f)
	r.values.steps = stepsOthers
	for _, a := range f.first {
		r.argument(a)
	}
	r.values.steps = stepsOthers
	r.readings()
	r.values.steps = stepsOthers
	r.exports()
	r.values.steps = stepsOthers
	r.keep()
	slices.SortStableFunc(r.script.Links, func(a, b link.Link) int { return cmp.Compare(a.Offset, b.Offset) })
}

// argument notes the texts that a call by a dotted name is given first.
func (r *reader) argument(a firstArgument) {
	switch bare(a.value).(type) {
	case *js.FuncDecl, *js.ArrowFunc, *js.ObjectExpr, *js.ArrayExpr:
		return
	}
	for _, alt := range r.values.value(a.value, nil) {
		if args := r.script.Args[a.call]; alt.what == isText && len(args) < maxArguments {
			if l := r.pieces(alt); l.written && len(l.target) <= link.MaxTarget {
				r.script.Args[a.call] = append(args, l.target)
			}
		}
	}
}

// keep marks the pieces of links that are used as something else, too.
func (r *reader) keep() {
	rooted := slices.ContainsFunc(r.script.Links, func(l link.Link) bool { return strings.HasPrefix(l.Target, "/") })
	if !rooted || len(r.walker.kept) == 0 && !r.walker.keyed {
		return
	}
	kept := map[int]bool{}
	r.lookedUp(kept)
	for _, e := range r.walker.kept {
		for _, a := range r.values.value(e, nil) {
			for _, p := range a.parts {
				if p.length >= 0 {
					kept[p.at] = true
				}
			}
		}
	}
	list := r.script.Links[:0]
	for _, l := range r.script.Links {
		if markKept(&l, kept) {
			list = append(list, l)
		}
	}
	r.script.Links = list
}

// markKept marks the pieces of a link that stand at some places. It is false for what only looks like a link.
func markKept(l *link.Link, kept map[int]bool) bool {
	if l.Pieces == nil && kept[l.Offset] {
		if l.Certainty == link.Possible && strings.HasPrefix(l.Target, "/") {
			return false
		}
		l.Pieces = []link.Piece{{Text: l.Target, Offset: l.Offset, Len: l.Len, Kept: true}}
	}
	for i := range l.Pieces {
		p := &l.Pieces[i]
		p.Kept = p.Kept || p.Len >= 0 && kept[p.Offset]
	}
	return true
}

// lookedUp notes the texts that are keys of tables whose keys begin with a slash: these stay as they are.
func (r *reader) lookedUp(kept map[int]bool) {
	if !r.walker.keyed {
		return
	}
	for _, e := range r.walker.lookups {
		own := map[int]bool{} // a key that is looked up by itself changes with itself
		rooted := false
		for _, k := range r.values.keys(r.values.value(e.X, nil)) {
			own[k.parts[0].at] = k.parts[0].length >= 0
			rooted = rooted || strings.HasPrefix(k.parts[0].text, "/")
		}
		if !rooted {
			continue
		}
		for _, a := range r.values.value(e.Y, nil) {
			for _, p := range a.parts {
				if p.length >= 0 && !own[p.at] {
					kept[p.at] = true
				}
			}
		}
	}
}

func (r *reader) exports() {
	for name, e := range r.walker.exports {
		r.export(name, r.values.value(e, nil), 0)
	}
}

// export notes the texts that are exported under a name: the value itself, properties of it, and what it returns.
func (r *reader) export(name string, x value, depth int) {
	for _, a := range x {
		switch {
		case len(r.script.Exports[name]) > 20 || depth > 2:
		case a.what == isFunction:
			r.export(name+"()", r.values.asText(r.values.result(a, args{}, nil)), depth+1)
		case a.what == isObject:
			r.exportObject(name, a, depth)
		case a.what == isText:
			if l := r.pieces(a); l.written && l.base == link.OfPage && len(l.target) <= link.MaxTarget {
				if r.script.Exports == nil {
					r.script.Exports = map[string][]Pieces{}
				}
				r.script.Exports[name] = append(r.script.Exports[name], l.list)
			}
		}
	}
}

func (r *reader) exportObject(name string, a alternative, depth int) {
	switch o := a.node.(type) {
	case *js.ObjectExpr:
		for i := range o.List {
			if key, ok := nameOf(&o.List[i]); ok {
				r.export(name+"."+key, r.values.value(o.List[i].Value, a.frame), depth+1)
			}
		}
	case *js.ClassDecl:
		for i := range o.List {
			if c := &o.List[i]; c.Static && c.Init != nil && c.Name.Private == nil {
				if key, ok := propertyName(&c.Name.PropertyName); ok {
					r.export(name+"."+key, r.values.value(c.Init, nil), depth+1)
				}
			}
		}
	}
}

// isBare reports whether a specifier is a name that an import map must explain.
func isBare(text string) bool {
	inline := strings.HasPrefix(text, "data:") || strings.HasPrefix(text, "blob:")
	return text != "" && !link.IsRelative(text) && !inline && !strings.Contains(text, link.Star)
}

// offset is where a piece of the source stands.
func (r *reader) offset(piece []byte) int { return offset(r.values.source, piece) }

// static notes what an import or export statement names.
func (r *reader) static(literal []byte) {
	if len(literal) < 2 {
		return
	}
	l := link.Link{Target: unquoted(literal), Use: "script", Base: link.OfFile, Import: true}
	l.Offset, l.Len = r.offset(literal)+1, len(literal)-2
	l.Line, l.Column = r.lines.Place(l.Offset)
	switch {
	case isBare(l.Target) && len(r.script.Bare) < link.MaxLinks:
		r.script.Bare = append(r.script.Bare, l)
	case link.IsRelative(l.Target) && len(r.script.Links) < link.MaxLinks:
		r.script.Links = append(r.script.Links, l)
	}
}

// module walks through a script, and notes what it imports and exports.
func (w *walker) module(tree *js.AST, r *reader) {
	w.static = r.static
	w.scope = &tree.Scope
	w.exports = map[string]js.IExpr{}
	w.statementList(tree.List)
	r.script.Module = w.isModule
}

func (w *walker) imported(s *js.ImportStmt) {
	w.isModule = true
	w.static(s.Module)
	from := unquoted(s.Module)
	if s.Default != nil {
		w.imports[string(s.Default)] = imported{from, "default"}
	}
	for _, a := range s.List {
		name := a.Name
		if name == nil {
			name = a.Binding
		}
		if a.Binding != nil {
			w.imports[string(a.Binding)] = imported{from, string(bytes.Trim(name, `"'`))}
		}
	}
}

func (w *walker) exported(s *js.ExportStmt) {
	w.isModule = true
	if s.Module != nil {
		w.static(s.Module)
		return
	}
	if s.Decl != nil {
		w.exportedDeclaration(s.Decl)
		if s.Default {
			w.exports["default"] = s.Decl
		}
		return
	}
	for _, a := range s.List {
		local := a.Name
		if local == nil {
			local = a.Binding
		}
		for _, v := range w.scope.Declared {
			if local != nil && bytes.Equal(v.Data, local) {
				w.exports[string(a.Binding)] = v
			}
		}
	}
}

func (w *walker) exportedDeclaration(d js.IExpr) {
	switch d := d.(type) {
	case *js.VarDecl:
		w.declaration(d)
		for _, b := range d.List {
			if v, ok := b.Binding.(*js.Var); ok {
				w.exports[string(v.Name())] = v
			}
		}
	case *js.FuncDecl:
		w.statement(d)
		if d.Name != nil {
			w.exports[string(d.Name.Name())] = d
		}
	case *js.ClassDecl:
		w.statement(d)
		if d.Name != nil {
			w.exports[string(d.Name.Name())] = d
		}
	default:
		w.walk(d, false)
	}
}
