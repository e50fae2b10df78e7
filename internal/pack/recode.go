package pack

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"havvel/internal/export"
)

// recode gives files that were compressed before a form that the destination can serve, and a name that says so. Plain
// files are compressed where the developer asked for it.
func recode(_ context.Context, p *Plan) error {
	for _, it := range slices.Clone(p.Items) {
		f := it.From
		want, why := p.wanted(it)
		if f == nil || want == f.Encoding {
			continue
		}
		if f.Damage != "" {
			return p.cannot(it, want, fmt.Errorf("it is damaged: %s", f.Damage))
		}
		name := plainName(it.Name, f) + endings[want]
		if twin := p.named(name); twin != nil && twin != it {
			// The same content is there in the wanted form: links to this one lead to the other.
			if err := p.build.Followed(f, p.build.Base+name); err != nil && len(p.build.NamesOf(f)) > 0 {
				return p.cannot(it, want, err)
			}
			p.note("recode", -it.Size(), why, "%s is left out, since %s is there", f.Path, twin.From.Path)
			p.drop(it)
			p.of[f] = twin
			continue
		}
		if err := p.build.Followed(f, p.build.Base+name); err != nil {
			if f.Encoding == "" {
				p.note("recode", 0, err.Error(), "%s stays as it is", f.Path)
				continue
			}
			return p.cannot(it, want, err)
		}
		p.note("recode", 0, why, "%s becomes %s", f.Path, name)
		it.Name, it.encoding = name, want
		p.renamed[it] = "it becomes " + name
	}
	return nil
}

// endings are those of names of files in an encoding.
var endings = map[string]string{"gzip": ".gz", "br": ".br"}

// plainName is the name that a file has without its encoding.
func plainName(name string, f *export.File) string {
	if f.Encoding == "" {
		return name
	}
	for _, ending := range []string{".gz", ".gzip", ".br"} {
		if strings.HasSuffix(strings.ToLower(name), ending) {
			return name[:len(name)-len(ending)]
		}
	}
	return name
}

// leastEncoded is the smallest file that is worth compressing before, in bytes.
const leastEncoded = 10_000

// wanted is the encoding that an item shall have, and why.
func (p *Plan) wanted(it *Item) (encoding, why string) {
	f := it.From
	if f == nil {
		return "", ""
	}
	named := f.Encoding != "" && plainName(it.Name, f) != it.Name
	switch {
	case f.Encoding == "" && (p.to.Encode == "gzip" || p.to.Encode == "br") && f.Bytes >= leastEncoded && (f.Kind == export.KindWasm || f.Kind == export.KindData):
		return p.to.Encode, "havvel.toml says encode = " + p.to.Encode
	case !named:
		return f.Encoding, "" // under another name a host serves it as it is, and the game unpacks it itself
	case p.to.Encode == "plain":
		return "", "havvel.toml says encode = plain"
	case p.to.Encode != "":
		return p.to.Encode, "havvel.toml says encode = " + p.to.Encode
	case p.to.Rules == nil || slices.Contains(p.to.Rules.Serves.Encodings, f.Encoding) || unpacksItself(p.build, f):
		return f.Encoding, ""
	case f.Page == nil && slices.Contains(p.to.Rules.Serves.Encodings, "br"):
		encoding = "br"
	case f.Page == nil && slices.Contains(p.to.Rules.Serves.Encodings, "gzip"):
		encoding = "gzip"
	}
	return encoding, fmt.Sprintf("%s can't serve %s", p.to.Rules.Name, said[f.Encoding])
}

var said = map[string]string{"": "plain", "gzip": "gzip", "br": "brotli"}

// unpacksItself reports whether the game may unpack such a file by itself, so that it must stay as it is.
func unpacksItself(b *export.Build, f *export.File) bool {
	if f.Encoding != "gzip" {
		return false
	}
	return slices.ContainsFunc(b.Parts(), func(o *export.File) bool {
		return o.Script != nil && o.Script.Words["DecompressionStream"] || o.Page != nil && o.Page.Inline.Words["DecompressionStream"]
	})
}

func (p *Plan) cannot(it *Item, want string, err error) error {
	form := said[want]
	if want == "" {
		form = "not compressed"
	}
	return &Unfollowed{File: it.From.Path, Reason: fmt.Sprintf("it can't become %s: %v; set compression to none in the engine's export settings and export again", form, err)}
}
