package pack

import (
	"context"
	"fmt"
	"slices"

	"havvel/internal/export"
	"havvel/internal/export/encoding"
	"havvel/internal/hosting"
)

// recode gives files that were compressed before a form that the destination can serve, and a name that says so. Plain
// files are compressed where the developer asked for it.
func recode(_ context.Context, p *Plan) error {
	for _, it := range slices.Clone(p.Items) {
		f := it.From
		if f == nil {
			continue
		}
		form, why := p.wanted(f)
		if f.Damage != "" && form.Encoding != f.Encoding {
			return p.cannot(it, form.Encoding, fmt.Errorf("it is damaged: %s", f.Damage))
		}
		if form.Fault == export.Undecided {
			p.note("recode", 0, "it would be right for one and wrong for the other; havvel trial sees whether the game starts",
				"%s stays as it is: whether the game or the host unpacks it can't be told", f.Path)
		}
		if form.Name != f.Path {
			if err := p.rename(it, form, why); err != nil {
				return err
			}
			continue
		}
		if form.Encoding != f.Encoding || form.Anew {
			p.note("recode", 0, why, "%s is %s", f.Path, map[bool]string{true: "unpacked", false: "compressed again"}[form.Encoding == ""])
			it.encoding, it.anew = form.Encoding, form.Anew
		}
	}
	return nil
}

// rename gives a file another form under another name, which links to it follow.
func (p *Plan) rename(it *Item, form export.Form, why string) error {
	f := it.From
	name := p.build.Inside(&export.File{Path: form.Name})
	err := p.build.Followed(f, form.Name)
	twin := p.named(name)
	if twin == it {
		twin = nil
	}
	switch {
	case twin != nil && (twin.From == nil || twin.From.Content() != f.Content()):
		return p.cannot(it, form.Encoding, fmt.Errorf("%s is there too, and holds something else", name))
	case twin != nil && err != nil && len(p.build.NamesOf(f)) > 0:
		return p.cannot(it, form.Encoding, err)
	case twin != nil: // the same content is there in the wanted form: links to this one lead to the other
		p.note("recode", -it.Size(), why, "%s is left out, since %s is there", f.Path, twin.From.Path)
		p.drop(it)
		p.of[f] = twin
	case err != nil && f.Encoding == "" && form.Fault == "":
		p.note("recode", 0, err.Error(), "%s stays as it is", f.Path)
	case err != nil:
		return p.cannot(it, form.Encoding, err)
	default:
		p.note("recode", 0, why, "%s becomes %s", f.Path, name)
		it.Name, it.encoding = name, form.Encoding
		p.renamed[it] = "it becomes " + name
	}
	return nil
}

// leastEncoded is the smallest file that is worth compressing before, in bytes.
const leastEncoded = 10_000

// wanted is the form that a file shall have, and why.
func (p *Plan) wanted(f *export.File) (form export.Form, why string) {
	plain, promised := encoding.Named(f.Path)
	if format, ok := p.asked(f, promised); ok {
		return export.Form{Encoding: format, Name: plain + encoding.Ending(format)}, "havvel.toml says encode = " + p.to.Encode
	}
	serves := hosting.Any.Encodings
	to := "a host"
	if p.to.Rules != nil {
		serves, to = p.to.Rules.Serves.Encodings, p.to.Rules.Name
	}
	form = p.build.Form(f, serves)
	switch form.Fault {
	case export.Unserved:
		why = fmt.Sprintf("%s can't serve %s", to, encoding.Title(f.Encoding))
	case export.Twice:
		why = fmt.Sprintf("%s has browsers unpack it by its name, and the game unpacks it itself", to)
	case export.Hidden:
		why = "it is used as it comes, and its name tells no host that it is compressed"
	case export.Misnamed:
		why = fmt.Sprintf("its name says %s, and it isn't", encoding.Title(promised))
	case export.Partial:
		why = f.Unfit
	}
	return form, why
}

// asked is the format that the developer asked for, where a file can have it.
func (p *Plan) asked(f *export.File, promised string) (format string, ok bool) {
	format = map[string]string{"plain": "", "gzip": encoding.Gzip, "br": encoding.Brotli}[p.to.Encode]
	switch {
	case f.Encoding == "" && promised == "":
		return format, format != "" && f.Bytes >= leastEncoded && (f.Kind == export.KindWasm || f.Kind == export.KindData)
	case p.to.Encode == "" || promised == "" || f.Encoding == "" || f.Damage != "":
		return "", false
	}
	who, _ := p.build.Unpacker(f)
	return format, who != export.ByGame && format != f.Encoding
}

func (p *Plan) cannot(it *Item, want string, err error) error {
	form := encoding.Title(want)
	if want == "" {
		form = "not compressed"
	}
	return unfollowed(
		it.From.Path,
		0,
		0,
		"it can't become %s: %w",
		form,
		err,
	).Then("set compression to none in the engine's export settings and export again")
}
