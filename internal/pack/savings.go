package pack

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"havvel/internal/export"
	"havvel/internal/finding"
)

// A Saving is a way to make what is handed over smaller.
type Saving struct {
	Name  string `json:"name"`  // slim, smallest, recode, unused, duplicates or largest
	Bytes int64  `json:"bytes"` // how much smaller, before the archive compresses; for the largest files, what they have
	How   string `json:"how"`
	About bool   `json:"about"` // it is an estimate
}

// Words is the saving in words.
func (s Saving) Words() string {
	about := ""
	if s.About {
		about = "about "
	}
	if s.Name == "largest" {
		return fmt.Sprintf("%s%s are in the largest files", about, size(s.Bytes))
	}
	return fmt.Sprintf("%s%s less by %s", about, size(s.Bytes), s.Name)
}

// savings lists what would bring an archive under the destination's limit, the most first; none when it is not too large.
func (p *Plan) savings(findings []finding.Finding) []Saving {
	if !slices.ContainsFunc(findings, func(f finding.Finding) bool { return f.ID == "weight-archive" && f.Level == finding.Error }) {
		return nil
	}
	list := []Saving{p.slimmer(), p.smaller(), p.recoded(), p.unused(), p.duplicates()}
	list = slices.DeleteFunc(list, func(s Saving) bool { return s.Bytes <= 0 })
	slices.SortStableFunc(list, func(a, b Saving) int { return cmp.Compare(b.Bytes, a.Bytes) })
	return append(list, p.largest())
}

// smaller estimates what is gained by taking the time to make the archive as small as can be.
func (p *Plan) smaller() Saving {
	if p.to.Smallest || p.HandOver() == "folder" {
		return Saving{}
	}
	return Saving{Name: "smallest", Bytes: p.result.Bytes / 100, How: "havvel pack --smallest takes a few times as long, once", About: true}
}

// slimmer makes the plan once more, with files made smaller.
func (p *Plan) slimmer() Saving {
	to := p.to
	if to.Slim {
		return Saving{}
	}
	to.Slim = true
	other, err := p.cache.Plan(context.Background(), p.build, to)
	if err != nil {
		return Saving{}
	}
	return Saving{
		Name:  "slim",
		Bytes: p.result.Bytes - other.result.Bytes,
		How:   "havvel pack --slim makes pictures, sounds and texts smaller without loss",
	}
}

// recoded estimates, by a sample of each file, what brotli leaves of files where the destination serves it.
func (p *Plan) recoded() Saving {
	if p.to.Rules == nil || p.to.Encode != "" || !slices.Contains(p.to.Rules.Serves.Encodings, "br") {
		return Saving{}
	}
	var gain float64
	for _, f := range p.result.Parts() {
		if f.Encoding != "" || f.Kind != export.KindWasm && f.Kind != export.KindData || f.Bytes < leastEncoded {
			continue
		}
		sample, err := readSome(f, 512<<10)
		if err != nil {
			continue
		}
		zip, err1 := encoded(sample, "gzip")
		br, err2 := encoded(sample, "br")
		if err1 == nil && err2 == nil {
			gain += float64(len(zip)-len(br)) / float64(len(sample)) * float64(f.Bytes)
		}
	}
	return Saving{
		Name:  "recode",
		Bytes: int64(gain),
		About: true,
		How:   fmt.Sprintf("encode = \"br\" under [to.%s] in havvel.toml: %s serves brotli", p.to.Destination, p.to.Rules.Name),
	}
}

func readSome(f *export.File, most int64) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, most))
}

func (p *Plan) unused() Saving {
	var bytes int64
	var names []string
	for _, f := range p.result.Unlinked() {
		if f.Path != StampName {
			bytes += f.Bytes
			names = append(names, f.Path)
		}
	}
	return Saving{
		Name:  "unused",
		Bytes: bytes,
		How:   fmt.Sprintf("nothing is known to load %s; name what the game doesn't need under leave_out in havvel.toml", few(names)),
	}
}

func (p *Plan) duplicates() Saving {
	var bytes int64
	var names []string
	for _, same := range p.result.Duplicates() {
		bytes += same[0].Bytes * int64(len(same)-1)
		names = append(names, same[1].Path)
	}
	return Saving{
		Name:  "duplicates",
		Bytes: bytes,
		How:   few(names) + " " + verb(len(names), "has", "have") + " the content of another file; let both links lead to one",
	}
}

func (p *Plan) largest() Saving {
	parts := slices.Clone(p.result.Parts())
	slices.SortStableFunc(parts, func(a, b *export.File) int { return cmp.Compare(b.Bytes, a.Bytes) })
	s := Saving{Name: "largest"}
	var names []string
	for _, f := range parts[:min(3, len(parts))] {
		s.Bytes += f.Bytes
		names = append(names, fmt.Sprintf("%s (%s)", f.Path, size(f.Bytes)))
	}
	s.How = strings.Join(names, ", ")
	return s
}

// few names the first of many.
func few(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:3], ", "), len(names)-3)
	}
	return strings.Join(names, ", ")
}
