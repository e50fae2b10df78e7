package export

import (
	"slices"
	"strings"

	"havvel/internal/export/encoding"
	"havvel/internal/export/link"
	"havvel/internal/export/script"
)

// An Unpacker is who unpacks a compressed file before the game uses it.
type Unpacker string

// The unpackers.
const (
	ByHost   Unpacker = "host"    // with Content-Encoding, and so the browser
	ByGame   Unpacker = "game"    // a script of the game
	ByNobody Unpacker = "nobody"  // it is used as it is, and its name tells no host
	Untold   Unpacker = "unknown" // what is done with its bytes can't be followed
)

// Unpacker says who unpacks a compressed file, and where that is seen; l is nil where it only follows from the file's name.
func (b *Build) Unpacker(f *File) (who Unpacker, l *Link) {
	_, promised := encoding.Named(f.Path)
	by, taken := b.takers(f)
	others := b.others()
	switch {
	case by != nil:
		return ByGame, by
	case taken == nil && slices.Contains(others.Formats, f.Encoding) && !others.Plain:
		return ByGame, b.NamedBy(f)
	case taken != nil && promised != "":
		return ByHost, taken
	case taken != nil && taken.Certainty != link.Possible:
		return ByNobody, taken
	}
	return b.unpackerOf(f, promised)
}

// unpackerOf says who unpacks a file of which no link tells.
func (b *Build) unpackerOf(f *File, promised string) (who Unpacker, l *Link) {
	l = b.NamedBy(f)
	if promised == "" && opened[f.Kind] && !b.unpacks(f.Encoding) && l != nil {
		return ByNobody, l // what is no data is not unpacked by WebAssembly either
	}
	if who := b.sawUnpacked(f); who != "" {
		return who, l
	}
	if promised == "" || b.unpacks(f.Encoding) {
		return Untold, l
	}
	return ByHost, nil
}

// takers are the first link whose script unpacks a file, and else the first that takes it without unpacking anything.
func (b *Build) takers(f *File) (unpacks, taken *Link) {
	for _, i := range b.to[f] {
		l := &b.Links[i]
		if b.unpacked(l, f.Encoding) {
			return l, nil
		}
		if taken == nil && asItComes(l) {
			taken = l
		}
	}
	return nil, taken
}

// asItComes reports whether what asks for a file by a link unpacks nothing.
func asItComes(l *Link) bool {
	return l.Result == Compressed || l.Reading.Plain && len(l.Reading.Given) == 0 ||
		l.From.Script == nil && l.Certainty == link.Certain || taking[l.Use]
}

// sawUnpacked is who unpacked a file in a trial in which the game started: the one who did on that host.
func (b *Build) sawUnpacked(f *File) Unpacker {
	for _, s := range b.sights {
		switch {
		case s.Path != b.Inside(f) || !s.Worked:
		case s.Sent == "":
			return ByGame
		default:
			return ByHost
		}
	}
	return ""
}

// others says what the scripts that may run do with the bytes of files whose names they put together from what is not known.
func (b *Build) others() (r link.Reading) {
	for _, f := range b.Parts() {
		if s := f.scripts(); s != nil && b.reach[f] != Unreached {
			r.Add(s.Others)
		}
	}
	return r
}

// scripts are what the scripts of a file say: of a script, or of a page's own; nil for other files.
func (f *File) scripts() *script.Script {
	switch {
	case f.Script != nil:
		return f.Script
	case f.Page != nil:
		return f.Page.Inline
	}
	return nil
}

// taking are uses for which a browser takes a file as it comes.
var taking = map[string]bool{
	"script":   true,
	"style":    true,
	"picture":  true,
	"media":    true,
	"page":     true,
	"frame":    true,
	"icon":     true,
	"manifest": true,
}

// opened are kinds that the browser itself must be able to read.
var opened = map[Kind]bool{KindWasm: true, KindScript: true, KindStyle: true, KindPage: true}

// unpacked reports whether a script unpacks what a link leads to, by itself or with another one.
func (b *Build) unpacked(l *Link, format string) bool {
	if slices.Contains(l.Reading.Formats, format) {
		return true
	}
	for _, given := range l.Reading.Given {
		specifier, module := strings.CutPrefix(given, " ")
		if !module && b.unpacks(format) {
			return true
		}
		if module {
			for _, to := range b.modulesOf(l.From, specifier) {
				if canUnpack(to, format) {
					return true
				}
			}
		}
	}
	return false
}

// modulesOf are the files that an import of a file may mean.
func (b *Build) modulesOf(f *File, specifier string) []*File {
	var list []*File
	for _, l := range b.from[f] {
		if l.Import && l.Target == specifier && l.To != nil {
			list = append(list, l.To)
		}
	}
	for _, r := range b.Runners(f) {
		if to, ok := b.Mapped(f, specifier, r); ok && to != nil {
			list = append(list, to)
		}
	}
	return list
}

// unpacks reports whether a script that may run can unpack a format.
func (b *Build) unpacks(format string) bool {
	return slices.ContainsFunc(b.Parts(), func(f *File) bool { return b.reach[f] != Unreached && canUnpack(f, format) })
}

func canUnpack(f *File, format string) bool {
	s := f.scripts()
	return s != nil && (slices.Contains(s.Decoders, format) || s.Words["DecompressionStream"])
}

// A Form is what a host must be given of a file for players to get what the game expects.
type Form struct {
	Encoding string // that its bytes are to be in; "" for plain
	Name     string // that the file is to have
	Anew     bool   // its bytes are to be made anew, although they are in that encoding
	Fault    Fault  // what would happen without it; "" when the file is right as it is
}

// A Fault is what goes wrong with a compressed file on a host.
type Fault string

// The faults.
const (
	Unserved  Fault = "unserved"  // the host sends no Content-Encoding for it, and nothing else unpacks it
	Twice     Fault = "twice"     // the browser unpacks it, and then the game tries to
	Hidden    Fault = "hidden"    // it is used as it is
	Misnamed  Fault = "misnamed"  // it is not in the format that its name says
	Partial   Fault = "partial"   // browsers can't unpack all of it
	Undecided Fault = "undecided" // who unpacks it can't be told, and that matters
)

// Form says in which form a host must be given a file, if it sends Content-Encoding for names of these formats.
func (b *Build) Form(f *File, serves []string) Form {
	plain, promised := encoding.Named(f.Path)
	asIs := Form{Encoding: f.Encoding, Name: f.Path}
	served := slices.Contains(serves, promised)
	twin := b.byPath[plain]
	switch {
	case f.Encoding == "" && (promised == "" || f.Bytes == 0 || !served):
		return asIs // a host that doesn't serve it doesn't look at the name
	case f.Encoding == "":
		return best(f, plain, promised, serves, Misnamed)
	case twin != nil && twin != f && twin.Content() == f.Content() && len(b.to[f]) == 0:
		if served {
			return asIs
		}
		return Form{Name: plain, Fault: Unserved} // the other one is loaded
	case slices.ContainsFunc(b.to[f], func(i int) bool { return b.Links[i].Result == Compressed }):
		return Form{Name: plain, Fault: Unserved} // asked for by this name, which a host without negotiation has no file of
	}
	return b.formFor(f, plain, promised, serves)
}

// best is the form in which a host that serves some formats can send a file.
func best(f *File, plain, promised string, serves []string, fault Fault) Form {
	if f.Page == nil {
		for _, e := range []string{promised, encoding.Brotli, encoding.Gzip} {
			if e != "" && slices.Contains(serves, e) {
				return Form{Encoding: e, Name: plain + encoding.Ending(e), Fault: fault}
			}
		}
	}
	return Form{Name: plain, Fault: fault}
}

// formFor is the form of a compressed file, by who unpacks it.
func (b *Build) formFor(f *File, plain, promised string, serves []string) Form {
	asIs := Form{Encoding: f.Encoding, Name: f.Path}
	served := slices.Contains(serves, promised)
	switch who, _ := b.Unpacker(f); who {
	case ByGame:
		if promised != "" && served {
			return Form{Encoding: f.Encoding, Name: plain + "-" + strings.TrimPrefix(f.Path, plain+".") + ".bin", Fault: Twice}
		}
	case ByNobody:
		return Form{Name: f.Path, Fault: Hidden}
	case Untold:
		if promised != "" {
			asIs.Fault = Undecided // it comes either as it is or unpacked, and the game wants one of them
		}
	case ByHost:
		switch {
		case promised != f.Encoding:
			return best(f, plain, promised, serves, Misnamed)
		case !served:
			return best(f, plain, promised, serves, Unserved)
		case f.Unfit != "":
			return Form{Encoding: f.Encoding, Name: f.Path, Anew: true, Fault: Partial}
		}
	}
	return asIs
}
