package script

import (
	"bytes"
	"regexp"
	"strings"

	"github.com/tdewolff/parse/v2/js"

	"havvel/internal/export/encoding"
)

// A decoding finds the code of a script that unpacks compressed formats: whatever it is called, each has tables and numbers of its own.
type decoding struct {
	formats []string // that the script can unpack
	tables  bool     // it has code of its own that does
	holder  *js.Var  // whose value is being read
	vars    map[*js.Var]bool
	core    map[*function]bool
}

// signs are what only code that unpacks a format has in it: the order of code lengths (RFC 1951, section 3.2.7), the largest insert length
// of brotli (RFC 7932, section 5), the magic number of zstd (RFC 8878, section 3.1.1).
var signs = []struct {
	text    *regexp.Regexp
	numbers []string
	formats []string
}{
	{regexp.MustCompile(`16,\s*17,\s*18,\s*0,\s*8,\s*7,\s*9,\s*6,`), nil, []string{encoding.Gzip, encoding.Zlib, encoding.Raw}},
	{regexp.MustCompile(`\b22594\b`), []string{"22594"}, []string{encoding.Brotli}},
	{
		regexp.MustCompile(`\b(4247762216|47205080|3126568|(?i:0xfd2fb528|0x2fb528))\b`),
		[]string{"4247762216", "47205080", "3126568", "0xfd2fb528", "0x2fb528"}, []string{encoding.Zstd},
	},
}

// lengths is the beginning of the order of code lengths.
var lengths = []string{"16", "17", "18", "0", "8", "7", "9", "6"}

func newDecoding(source []byte) decoding {
	d := decoding{vars: map[*js.Var]bool{}, core: map[*function]bool{}}
	for _, s := range signs {
		if s.text.Match(source) {
			d.formats, d.tables = append(d.formats, s.formats...), true
		}
	}
	return d
}

// meets notes where a variable is used, in all functions around it.
func (d *decoding) meets(w *walker, e *js.Var) {
	if !d.tables {
		return
	}
	for _, f := range w.into {
		f.uses = append(f.uses, resolved(e))
	}
}

func (d *decoding) number(w *walker, e *js.LiteralExpr) {
	if !d.tables || !js.IsNumeric(e.TokenType) {
		return
	}
	for _, s := range signs {
		for _, n := range s.numbers {
			if strings.EqualFold(n, string(e.Data)) {
				d.mark(w)
			}
		}
	}
}

func (d *decoding) table(w *walker, e *js.ArrayExpr) {
	if !d.tables || len(e.List) < len(lengths) {
		return
	}
	for i, n := range lengths {
		if l, ok := e.List[i].Value.(*js.LiteralExpr); !ok || !bytes.Equal(l.Data, []byte(n)) {
			return
		}
	}
	d.mark(w)
}

// mark notes that something that unpacks stands here.
func (d *decoding) mark(w *walker) {
	switch {
	case d.holder != nil:
		d.vars[resolved(d.holder)] = true
	case w.inner != nil:
		d.core[w.inner] = true
	}
}

// closure is all functions that unpack something, or call such.
func (d *decoding) closure(x *index) map[js.INode]bool {
	inside := map[js.INode]bool{}
	for f := range d.core {
		inside[f.node] = true
		d.holds(f)
	}
	for more := d.tables; more; {
		more = false
		for n, f := range x.functions {
			if inside[n] {
				continue
			}
			for _, v := range f.uses {
				if d.vars[v] {
					inside[n], more = true, true
					d.holds(f)
					break
				}
			}
		}
	}
	return inside
}

// holds notes that calling what holds the function unpacks something.
func (d *decoding) holds(f *function) {
	for _, v := range f.vars {
		d.vars[v] = true
	}
}
