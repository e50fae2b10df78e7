package script

import (
	"regexp"
	"strconv"
	"strings"

	"github.com/tdewolff/parse/v2/js"
)

// method is what a method of a text or list returns; ok is false for any other.
func (v *evaluator) method(d *js.DotExpr, list []js.Arg, in *frame) (out value, ok bool) {
	switch name := dotName(d); name {
	case "toString", "trim", "valueOf", "normalize", "toLocaleString", "flat", "reverse", "sort", "values", "toWellFormed", "filter", "bind":
		return v.value(d.X, in), true
	case "concat":
		x := v.text(d.X, in)
		if len(x) > 0 && x[0].what == isList {
			break
		}
		for _, a := range list {
			x = concat(x, v.text(a.Value, in))
		}
		return x, true
	case "join":
		return v.join(v.value(d.X, in), list, in)
	case "replace", "replaceAll":
		return v.replace(v.value(d.X, in), list, in, name == "replaceAll"), true
	case "slice", "substr", "substring":
		return v.cut(v.value(d.X, in), list, in, name)
	case "map", "flatMap":
		return v.mapped(v.value(d.X, in), list, in), true
	case "call":
		var all []value
		for _, a := range v.value(d.X, in) {
			if a.what == isFunction {
				all = append(all, v.result(a, args{list: list, skip: 1}, in))
			}
		}
		return union(len(all) == 1, all...), true
	case "apply":
		v.value(d.X, in)
		return union(false), true
	}
	return nil, false
}

func (v *evaluator) join(lists value, with []js.Arg, in *frame) (out value, ok bool) {
	between := known(",")
	if len(with) > 0 {
		between = v.text(with[0].Value, in)
	}
	for _, a := range lists {
		entries, ok := v.entries(a)
		if !ok || len(entries) > 50 {
			continue
		}
		x := known("")
		for i, e := range entries {
			if i > 0 {
				x = concat(x, between)
			}
			x = concat(x, v.asText(orUnknown(e)))
			v.steps -= len(x)
		}
		out = append(out, x...)
	}
	return out, len(out) > 0
}

func orUnknown(x value) value {
	if len(x) == 0 {
		return value{{parts: []part{unknownPart}}}
	}
	return x
}

// mapped is the list of what a function makes of the entries of another.
func (v *evaluator) mapped(lists value, with []js.Arg, in *frame) value {
	f := v.first(with, in)
	var out value
	for _, a := range lists {
		entries, ok := v.entries(a)
		if !ok || len(entries) > 500 {
			continue
		}
		items := make([]value, 0, len(entries))
		for _, e := range entries {
			var all []value
			for _, g := range f {
				if g.what == isFunction {
					stand := &js.Var{Data: []byte("entry"), Decl: js.LexicalDecl}
					v.known[stand] = e
					all = append(all, v.result(g, args{list: []js.Arg{{Value: stand}}}, nil))
				}
			}
			items = append(items, union(len(all) == 1, all...))
		}
		out = append(out, alternative{what: isList, items: items})
	}
	return out
}

// replace is what replacing a text with another leaves, where both are known.
func (v *evaluator) replace(x value, with []js.Arg, in *frame, all bool) value {
	if len(with) < 2 {
		return nil
	}
	pattern, global := patternOf(with[0].Value)
	all = all || global
	old, plain := v.value(with[0].Value, in).only()
	put, known := v.value(with[1].Value, in).only()
	var out value
	for _, a := range x {
		switch s, ok := a.plain(); {
		case len(a.parts) == 1 && a.parts[0].base != none && known:
			out = append(out, folderOf(a, put)...)
		case ok && known && plain:
			n := 1
			if all {
				n = -1
			}
			out = append(out, replaced(a, s, strings.Replace(s, old, put, n)))
		case ok && known && pattern != nil && !strings.Contains(put, "$"):
			out = append(out, replaced(a, s, substituted(pattern, s, put, all)))
		default:
			a.weak = true
			out = append(out, alternative{parts: []part{unknownPart}})
		}
	}
	return out
}

// patternOf is the pattern that an expression is, and whether it means all that it matches; nil for another one.
func patternOf(e js.IExpr) (pattern *regexp.Regexp, global bool) {
	l, _ := bare(e).(*js.LiteralExpr)
	if l == nil || l.TokenType != js.RegExpToken {
		return nil, false
	}
	end := strings.LastIndexByte(string(l.Data), '/')
	if end <= 0 {
		return nil, false
	}
	pattern, _ = regexp.Compile(string(l.Data[1:end])) // one that Go doesn't know is not followed
	return pattern, strings.Contains(string(l.Data[end:]), "g")
}

// substituted is a text with what a pattern matches replaced: the first time, or all.
func substituted(pattern *regexp.Regexp, s, put string, all bool) string {
	if all {
		return pattern.ReplaceAllString(s, put)
	}
	if at := pattern.FindStringIndex(s); at != nil {
		return s[:at[0]] + put + s[at[1]:]
	}
	return s
}

// replaced is an alternative with another text, which stands nowhere unless it is the same.
func replaced(a alternative, before, after string) alternative {
	if before == after {
		return a
	}
	p := part{text: after, at: a.parts[0].at, length: a.parts[0].length, known: true, fixed: true}
	a.parts = []part{p}
	return a
}

// folderOf is what is left of an address without its last part, with a text behind it.
func folderOf(a alternative, then string) value {
	p := a.parts[0]
	switch p.base {
	case page:
		p.base = pageFolder
	case here:
		p.base = hereFolder
	}
	a.parts = []part{p}
	return concat(value{a}, known(then))
}

// cut is a piece of a text. Of an address its folder is what remains.
func (v *evaluator) cut(x value, list []js.Arg, in *frame, name string) (out value, ok bool) {
	if len(list) == 0 {
		return x, true
	}
	c := cutting{ends: len(list) == 1, open: len(list) == 1, counts: name == "substr"}
	from, exact := number(v.value(list[0].Value, in))
	c.from = from
	if !c.open {
		c.to, c.ends = number(v.value(list[1].Value, in))
	}
	for _, a := range x {
		if a.what == isList {
			return nil, false
		}
		s, plain := a.plain()
		switch {
		case len(a.parts) >= 1 && a.parts[0].base != none && exact && from == 0:
			out = append(out, folderOf(alternative{parts: a.parts[:1], weak: a.weak}, "")...)
		case plain && exact && c.ends:
			if piece, ok := c.of(s); ok {
				out = append(out, replaced(a, s, piece))
			}
		default:
			out = append(out, alternative{parts: []part{unknownPart}})
		}
	}
	return out, true
}

// A cutting is which piece of a text is taken.
type cutting struct {
	from, to int
	open     bool // up to the end
	counts   bool // to is how many letters
	ends     bool // to is known
}

func (c cutting) of(s string) (piece string, ok bool) {
	from, to := c.from, c.to
	if from < 0 {
		from = max(0, len(s)+from)
	}
	switch {
	case c.open:
		to = len(s)
	case c.counts:
		to += from
	case to < 0:
		to += len(s)
	}
	if from > to || from > len(s) {
		return "", false
	}
	return s[from:min(to, len(s))], true
}

func number(x value) (int, bool) {
	s, ok := x.only()
	if !ok {
		return 0, false
	}
	n, err := strconv.Atoi(s)
	return n, err == nil
}

// resolve is a name relative to an address, as new URL(name, address) resolves it (WHATWG URL, section 4).
func resolve(names, bases value) value {
	var out value
	for _, n := range names {
		for _, b := range bases {
			when, ok := both(n.when, b.when)
			if ok && len(out) < maxAlternatives {
				r := resolvedFrom(n, b)
				r.when = when
				out = append(out, r)
			}
		}
	}
	return out
}

func resolvedFrom(n, b alternative) alternative {
	name, address := n.texts(), b.texts()
	first := name[0]
	if first.base != none || first.known && first.from == "" && strings.Contains(first.text, "://") {
		return n
	}
	begin := address[0]
	if begin.base != none && first.known && first.from == "" && strings.HasPrefix(first.text, "/") {
		begin, address = rootOf(begin), nil
	} else {
		begin, address = folderPart(begin, address)
	}
	parts := []part{begin}
	if len(address) > 1 {
		parts = append(parts, withoutName(address[1:])...)
	}
	return alternative{parts: append(parts, name...), weak: n.weak || b.weak, entry: n.entry || b.entry}
}

// rootOf is the root of the host of an address.
func rootOf(begin part) part {
	switch begin.base {
	case page, pageFolder, pageRoot:
		return part{length: -1, known: true, base: pageRoot}
	case here, hereFolder, hereRoot:
		return part{length: -1, known: true, base: hereRoot}
	}
	return begin
}

// folderPart is the first part of an address's folder, and the address, where more of it is known.
func folderPart(begin part, address []part) (part, []part) {
	switch {
	case begin.base == page:
		begin.base = pageFolder
	case begin.base == here:
		begin.base = hereFolder
	case begin.base == none && (!begin.known || len(address) == 1 && !strings.HasSuffix(begin.text, "/")):
		return unknownPart, nil
	}
	return begin, address
}

// withoutName cuts off what stands behind the last slash of an address.
func withoutName(rest []part) []part {
	out := append([]part(nil), rest...)
	last := &out[len(out)-1]
	if i := strings.LastIndexByte(last.text, '/'); last.known && i+1 < len(last.text) {
		last.text, last.fixed = last.text[:i+1], true
	}
	return out
}
