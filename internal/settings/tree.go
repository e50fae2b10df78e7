package settings

import (
	"fmt"

	"github.com/pelletier/go-toml/v2/unstable"
)

// A node is a value of a TOML file.
type node struct {
	kind   kind
	offset int    // where it is written; of a table that only its keys make, where the first of them is
	text   string // of a scalar: its text, or as it is written
	list   []*node
	keys   []string // of a table, in the order of the file
	table  map[string]*node
	at     map[string]int // where its keys are written
}

type kind string

const (
	isText   kind = "a text"
	isNumber kind = "a number"
	isFloat  kind = "a number with a fraction"
	isBool   kind = "true or false"
	isDate   kind = "a date or time"
	isList   kind = "a list"
	isTable  kind = "a table"
)

// tree reads the file, which is known to be TOML.
func (d *Document) tree() *node {
	var p unstable.Parser
	p.Reset(d.data)
	root := newTable(0)
	current := root
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.Table:
			current = root.open(e.Key(), false)
		case unstable.ArrayTable:
			current = root.open(e.Key(), true)
		case unstable.KeyValue:
			current.put(e)
		}
	}
	d.place("", root)
	return root
}

func newTable(offset int) *node {
	return &node{kind: isTable, offset: offset, table: map[string]*node{}, at: map[string]int{}}
}

// open goes to the table of a header, and makes it where it is new; more adds an element to a list of tables.
func (n *node) open(key unstable.Iterator, more bool) *node {
	for key.Next() {
		word, offset := string(key.Node().Data), int(key.Node().Raw.Offset)
		last := key.IsLast()
		next := n.table[word]
		switch {
		case next == nil && last && more:
			next = &node{kind: isList, offset: offset}
			n.set(word, offset, next)
		case next == nil:
			next = newTable(offset)
			n.set(word, offset, next)
		}
		if next.kind == isList {
			if last && more {
				next.list = append(next.list, newTable(offset))
			}
			next = next.list[len(next.list)-1]
		}
		n = next
	}
	return n
}

func (n *node) set(word string, offset int, value *node) {
	if n.table[word] == nil {
		n.keys = append(n.keys, word)
	}
	n.table[word], n.at[word] = value, offset
}

// put adds a key, which may have dots, and its value.
func (n *node) put(e *unstable.Node) {
	for key := e.Key(); key.Next(); {
		word, offset := string(key.Node().Data), int(key.Node().Raw.Offset)
		if key.IsLast() {
			n.set(word, offset, valueOf(e.Value(), offset))
			return
		}
		if n.table[word] == nil {
			n.set(word, offset, newTable(offset))
		}
		n = n.table[word]
	}
}

// valueOf reads a value; at is the place of one that the parser gives none.
func valueOf(e *unstable.Node, at int) *node {
	if e.Raw.Length > 0 {
		at = int(e.Raw.Offset)
	}
	n := &node{offset: at, text: string(e.Data)}
	switch e.Kind {
	case unstable.String:
		n.kind = isText
	case unstable.Integer:
		n.kind = isNumber
	case unstable.Float:
		n.kind = isFloat
	case unstable.Bool:
		n.kind = isBool
	case unstable.Array:
		n.kind = isList
		for it := e.Children(); it.Next(); {
			if it.Node().Kind != unstable.Comment {
				n.list = append(n.list, valueOf(it.Node(), at))
			}
		}
	case unstable.InlineTable:
		n = newTable(at)
		for it := e.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				n.put(it.Node())
			}
		}
	default:
		n.kind = isDate
	}
	return n
}

// place notes where everything is.
func (d *Document) place(path string, n *node) {
	d.places[path] = n.offset
	if n.kind == isText {
		d.texts[n.text] = true
	}
	if n.kind == isText && drivePath.Match(d.data[n.offset:min(n.offset+5, len(d.data))]) {
		d.wrong(n.offset, "%s is a path with backslashes", path).Then("%s", slashes)
	}
	for i, inner := range n.list {
		d.place(fmt.Sprintf("%s[%d]", path, i), inner)
	}
	for _, key := range n.keys {
		d.place(join(path, key), n.table[key])
	}
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}
