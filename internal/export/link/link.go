// Package link says what a link is: one place in a page, stylesheet, script or data file that names another file, as far as
// it is known, and where each part of the name stands.
package link

import (
	"slices"
	"strings"
)

// A Link is one place that names another file or address.
type Link struct {
	Target       string // with character references and escapes resolved; stars stand for parts that are not known
	Use          string // what it is for: script, style, picture, media, page, icon, manifest, preload, frame, data, socket
	Line, Column int    // of the target, from 1; columns count bytes
	Offset, Len  int    // of the target in the file, in bytes; of a target that is put together, of its last part that is written down
	Certainty    Certainty
	Base         Base
	Worker       bool    // names a script that runs apart from the page
	Import       bool    // names a module, so a relative one begins with a dot
	Mapped       bool    // stands in an import map, so only what imports the name loads it
	Default      bool    // what holds it may hold something else by the time it is used
	Lookup       bool    // one of the entries of a table that is looked up by a key which is not known
	Pieces       []Piece // what the target is put together from; nil when the place holds all of it
	Quote        byte    // the letter that encloses it in a script, where the place holds all of it; 0 elsewhere
	Again        []int   // offsets of more places in the file where the same whole text stands
	Guessed      bool    // the form that it ends with is chosen by what the browser says of itself, such as its name
	Integrity    string  // the hashes that the file must have one of, as an integrity attribute says
	Reading      Reading // what a script does with the bytes that it loads
}

// A Reading says what a script does with the bytes of a file that it loads, as far as they could be followed.
type Reading struct {
	Plain   bool     // something takes them that unpacks nothing: a JSON parser, the browser's own decoders
	Formats []string // of export/encoding that it unpacks them from
	Given   []string // functions of other scripts that get them: dotted names of the page, or a module's specifier with a space before it
}

// A Piece is a part of a target. Its texts, one after the other, are the target.
type Piece struct {
	Text        string // Star when it is not known
	Offset, Len int    // where it is written down, in bytes; a Len of -1 when it is nowhere
	Kept        bool   // it is used for something else, too, so that changing it would change that
	Quote       byte   // the letter that encloses it in a script: ' " or `; 0 elsewhere
	Root        bool   // it is the host's root, as location.origin says it; its text is empty
	From        string // the module that it is imported from, while that is not looked up; Text is then the name of the export
}

// Star stands for a part of a target that is not known.
const Star = "*"

// Written reports whether the piece stands somewhere and so can be changed.
func (p Piece) Written() bool { return p.Len >= 0 && !p.Kept }

// Certainty is how sure it is that a place names a file that the game loads.
type Certainty int

// The certainties.
const (
	Certain  Certainty = iota // by the language: an element, an import
	Likely                    // by what is done with it: it reaches a call that loads files
	Possible                  // a text that could be a file's name
	Seen                      // a browser asked for it in a trial
)

// String is the certainty in one word.
func (c Certainty) String() string { return [...]string{"certain", "likely", "possible", "seen"}[c] }

// Sure reports whether the game names a file there beyond doubt.
func (c Certainty) Sure() bool { return c == Certain || c == Seen }

// Base is what a target is relative to.
type Base int

// The bases.
const (
	OfPage   Base = iota // the page that it stands in, or that runs the script; in a worker, the worker's own script
	OfFile               // the file that it stands in
	OfAny                // not known
	OfOrigin             // the host's root
)

// An Edit puts a text in the place of Len bytes.
type Edit struct {
	Offset, Len int
	Text        string
	From        string // as in Piece: the module that it must be made in; "" for the link's own file
}

// pageFolder is what stands in the place of the property "origin" of location, so that it is the page's folder.
const pageFolder = `href.replace(/[^/?#]*(?:[?#].*)?$/,"")`

// Rewritten returns the edits after which the link names target, which may hold the link's stars. ok is false where that can't be
// written with certainty.
func (l Link) Rewritten(target string) (edits []Edit, ok bool) {
	if len(l.Pieces) == 0 {
		if !plain(target, l.Target) {
			return nil, false
		}
		for _, at := range append([]int{l.Offset}, l.Again...) {
			edits = append(edits, Edit{Offset: at, Len: l.Len, Text: target})
		}
		return edits, true
	}
	if root := l.Pieces[0]; root.Root && !strings.HasPrefix(target, "/") {
		if root.Len < 0 {
			return nil, false
		}
		rest := l
		rest.Pieces = l.Pieces[1:]
		edits, ok = rest.Rewritten(target)
		return append(edits, Edit{Offset: root.Offset, Len: root.Len, Text: pageFolder}), ok
	}
	first, last, rest := l.differing(target)
	changed := l.Pieces[first:last]
	changed = slices.DeleteFunc(slices.Clone(changed), func(p Piece) bool { return p.Text == "" })
	if len(changed) != 1 || !changed[0].Written() || !plain(rest, changed[0].Text) {
		return nil, false // other names may begin with one of several pieces
	}
	p := changed[0]
	return []Edit{{Offset: p.Offset, Len: p.Len, Text: rest, From: p.From}}, true
}

// differing finds the pieces that must change, and the text that takes their place. What is new between two pieces goes with the one
// behind it.
func (l Link) differing(target string) (first, last int, rest string) {
	rest, last = target, len(l.Pieces)
	for first < last && strings.HasPrefix(rest, l.Pieces[first].Text) {
		rest = rest[len(l.Pieces[first].Text):]
		first++
	}
	for last > first && strings.HasSuffix(rest, l.Pieces[last-1].Text) {
		rest = rest[:len(rest)-len(l.Pieces[last-1].Text)]
		last--
	}
	if first == last && rest != "" && first < len(l.Pieces) {
		rest, last = rest+l.Pieces[first].Text, first+1
	}
	return first, last, rest
}

// plain reports whether a text can stand in a page, a script and a stylesheet alike; what stood there before, can.
func plain(text, before string) bool {
	for _, c := range text {
		if strings.ContainsRune("\"'`<>&\\ ()$", c) && !strings.ContainsRune(before, c) {
			return false
		}
	}
	return true
}

// Whole reports whether one place holds all of the target.
func (l Link) Whole() bool { return l.Pieces == nil }

// Repeat notes another place where the same text stands.
func (l *Link) Repeat(o Link) {
	if l.Target == o.Target && l.Pieces == nil && o.Pieces == nil && o.Len == l.Len && len(l.Again) < maxAgain {
		l.Again = append(l.Again, o.Offset)
	}
}

const maxAgain = 1000 // places of one text

// Shift moves all places of the link by so many bytes.
func (l *Link) Shift(by int) {
	l.Offset += by
	l.Again = slices.Clone(l.Again)
	for i := range l.Again {
		l.Again[i] += by
	}
	l.Pieces = slices.Clone(l.Pieces)
	for i := range l.Pieces {
		if l.Pieces[i].Len >= 0 {
			l.Pieces[i].Offset += by
		}
	}
}

// Add takes over what another reading says.
func (r *Reading) Add(o Reading) {
	r.Plain = r.Plain || o.Plain
	for _, f := range o.Formats {
		if !slices.Contains(r.Formats, f) {
			r.Formats = append(r.Formats, f)
		}
	}
	for _, g := range o.Given {
		if !slices.Contains(r.Given, g) {
			r.Given = append(r.Given, g)
		}
	}
}
