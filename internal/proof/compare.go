package proof

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"havvel/internal/finding"
	"havvel/internal/pack"
	"havvel/internal/trial"
)

// origins are those of a plan, by both of their names.
type origins []pack.Origin

// ofHanded is what a name in what is handed over comes from; of one that isn't there, the origin of the export's file of that name.
func (list origins) ofHanded(name string) pack.Origin {
	for _, o := range list {
		if o.Name == name {
			return o
		}
	}
	return list.ofExport(name)
}

// ofExport is the origin of a file of the export.
func (list origins) ofExport(file string) pack.Origin {
	for _, o := range list {
		if o.File == file {
			return o
		}
	}
	for _, o := range list { // a mistake in letters, or in the encoding's ending
		if strings.EqualFold(o.File, file) || o.File != "" && strings.TrimSuffix(o.File, path.Ext(o.File)) == file {
			return o
		}
	}
	return pack.Origin{File: file, Name: file}
}

// sides is what the two runs are called in findings.
type sides struct{ first, second string }

var ofExport = sides{"the export", "what is handed over"}

// compare says what is worse in the second run.
func compare(before, after *Run, list origins, names sides) *Proof {
	p := &Proof{Format: format, Answer: Proven, Findings: []finding.Finding{}, Export: before, Handed: after, names: names}
	p.requests(list)
	p.said(list)
	p.heard()
	p.loaded(list)
	p.steps()
	apart, told := p.picture()
	p.start(told, apart)
	if len(p.Findings) > 0 {
		p.Answer = Worse
	}
	return p
}

func (p *Proof) worse(f finding.Finding) { p.Findings = append(p.Findings, f) }

// start compares whether both start. told says that their pictures could be compared, apart that they differ.
func (p *Proof) start(told, apart bool) {
	switch before, after := p.Export, p.Handed; {
	case before.Answer == trial.No && after.Answer != trial.Yes:
		p.Answer, p.Why = Untold, p.names.first+" itself doesn't start: "+before.Why
	case before.Answer == trial.Yes && after.Answer == trial.No:
		f := finding.Finding{ID: "proof-start", Message: fmt.Sprintf("%s starts, and %s doesn't: %s", p.names.first, p.names.second, after.Why)}
		if len(p.Findings) > 0 {
			f.File, f.Line, f.Column = p.Findings[0].File, p.Findings[0].Line, p.Findings[0].Column
		}
		p.Findings = slices.Insert(p.Findings, 0, f)
	case before.Answer == trial.Yes && after.Answer == trial.Yes && !told:
		p.Answer, p.Why = Untold, "both start, and their first screens can't be compared"
	case after.Answer == trial.Yes, before.Answer == after.Answer && told && !apart:
	default:
		p.Answer, p.Why = Untold, "whether it starts can't be told: "+after.Why
	}
}

// by says which steps of packing changed one of some files; they are suspects.
func (p *Proof) by(files ...pack.Origin) string {
	var steps []string
	for _, o := range files {
		for _, s := range o.Steps {
			if s != "stamp" && !slices.Contains(steps, s) {
				steps = append(steps, s)
			}
		}
	}
	if len(steps) == 0 {
		return ""
	}
	p.suspects = append(p.suspects, steps...)
	return " (changed by: " + strings.Join(steps, ", ") + ")"
}

// requests compares what was asked for in vain.
func (p *Proof) requests(list origins) {
	known := map[string]bool{}
	for _, q := range p.Export.Failed {
		known[q.Path] = true
	}
	for _, q := range p.Handed.Failed {
		asked, asker := list.ofHanded(q.Path), list.ofHanded(q.By)
		if known[asked.File] || known[q.Path] {
			continue
		}
		f := finding.Finding{ID: "proof-request", File: asker.File, Line: q.Line, Column: q.Column}
		if q.By == "" {
			f.File, asker = "", pack.Origin{}
		}
		f.Message = fmt.Sprintf("%s is asked for, and fails (%s); in %s it doesn't%s", q.Path, q.Why, p.names.first, p.by(asked, asker))
		p.worse(f)
	}
}

// said compares exceptions, errors on the console, and what the browser forbade.
func (p *Proof) said(list origins) {
	known := map[string]bool{}
	for _, f := range p.Export.Said {
		known[f.ID+same(f.Message)] = true
	}
	for _, f := range p.Handed.Said {
		if known[f.ID+same(f.Message)] || withheld(f) {
			continue
		}
		o := pack.Origin{}
		if f.File != "" {
			o = list.ofHanded(f.File)
			f.File = o.File
		}
		f.ID, f.Level = strings.Replace(f.ID, "trial-", "proof-", 1), ""
		f.Message += "; " + p.names.first + " runs without it" + p.by(o)
		p.worse(f)
	}
}

// withheld reports a feature that the portal's frame doesn't pass on. It is the same for every build there, and a game that asks for it and
// goes on without is as good as the export; one that doesn't go on is found by what it shows. The trial tells it.
func withheld(f finding.Finding) bool {
	return f.ID == "trial-blocked" && strings.Contains(f.Message, "Permissions policy violation")
}

// heard compares calls and events.
func (p *Proof) heard() {
	for _, name := range p.Export.Heard {
		if !slices.Contains(p.Handed.Heard, name) && p.Handed.Answer == trial.Yes {
			p.worse(finding.Finding{ID: "proof-call", Message: fmt.Sprintf("%s has the %s, and %s doesn't", p.names.first, name, p.names.second)})
		}
	}
}

// loaded compares what came before the game had started, unless all of it is in one page.
func (p *Proof) loaded(list origins) {
	if len(p.Findings) > 0 || p.Handed.Answer != trial.Yes || (Handed{Origins: list}).onePage() {
		return
	}
	came := map[string]bool{}
	for _, name := range slices.Concat(p.Handed.Loaded, p.Handed.Later, paths(p.Handed.Failed)) {
		came[list.ofHanded(name).File] = true
	}
	for _, name := range p.Export.Loaded {
		o := list.ofExport(name)
		if o.Name != "" && o.File == name && !came[name] {
			p.worse(finding.Finding{
				ID: "proof-loaded", File: name, Message: p.names.first + " loads it before it starts, and " + p.names.second + " doesn't" + p.by(o),
			})
		}
	}
}

func paths(list []Asked) (names []string) {
	for _, q := range list {
		names = append(names, q.Path)
	}
	return names
}

// steps compares which steps of the trial failed.
func (p *Proof) steps() {
	for _, s := range p.Handed.Steps {
		if len(p.Export.Steps) == 0 {
			p.worse(finding.Finding{ID: "proof-step", Message: "the step " + s + "; in " + p.names.first + " it goes well"})
		}
	}
}

// mostApart is the share of places from which on two first screens are different. Both sides draw the same with the same random numbers;
// what moves doesn't count.
const mostApart = 0.04

// Bounds of what moves: a picture that lives in the export and stands still in what is handed over, or has nothing in common with it.
const (
	lives  = 0.1  // share of the window that changes again and again
	rests  = 0.02 // share of places that change at all, at most
	common = 0.7  // share of all places that may look different where most of them move
)

// differ says how two first screens differ; "" where they don't. told is false where they can't be compared.
func differ(before, after *trial.First, names sides) (words string, told bool) {
	if before == nil || after == nil {
		return "", false
	}
	if before.Lives >= lives && after.Moving() <= rests {
		return fmt.Sprintf("the picture of %s moves (in %.0f %% of its places), and that of %s stands still",
			names.first, 100*before.Lives, names.second), true
	}
	share, told := before.LooksApart(after)
	if told && share >= mostApart {
		return fmt.Sprintf("the first screen is another: %.0f %% of what stands still look different", 100*share), true
	}
	if share := before.AllApart(after); !told && share > common {
		return fmt.Sprintf("the first screen is another: %.0f %% of it look different", 100*share), true
	}
	return "", true
}

// picture compares the first screens; told is false where they can't be compared.
func (p *Proof) picture() (apart, told bool) {
	words, told := differ(p.Export.First, p.Handed.First, p.names)
	if words != "" {
		p.worse(finding.Finding{ID: "proof-picture", Message: words})
	}
	return words != "", told
}

// agreed is what comparisons come to. One that shows the second side as good as the first is enough. What seems worse must be found twice;
// where a second comparison sees nothing of it, a third decides whether anything can be said.
func agreed(compared func() (*Proof, error)) (*Proof, error) {
	first, err := compared()
	if err != nil || first.Answer == Proven {
		return first, err
	}
	second, err := compared()
	if err != nil {
		return nil, err
	}
	if second.Answer != Proven {
		return first.and(second), nil
	}
	third, err := compared()
	if err == nil && third.Answer != Proven {
		third.differs(first)
	}
	return third, err
}

// and is what two comparisons found of which neither is good: only what both found is worse. Where two runs of the first side look
// different, too, pictures tell nothing.
func (p *Proof) and(o *Proof) *Proof {
	if o.Answer != Worse {
		return o
	}
	words, _ := differ(p.Export.First, o.Export.First, p.names)
	both := slices.DeleteFunc(slices.Clone(o.Findings), func(f finding.Finding) bool {
		return f.ID == "proof-picture" && words != "" || !slices.ContainsFunc(p.Findings, func(other finding.Finding) bool {
			shown := func(id string) bool { return id == "proof-start" || id == "proof-picture" } // nothing to see may be either
			return f.ID == other.ID && same(f.Message) == same(other.Message) || shown(f.ID) && shown(other.ID)
		})
	})
	if len(both) == 0 {
		o.differs(p)
		return o
	}
	o.Findings = both
	return o
}

// differs notes that comparisons differed, so that nothing can be said.
func (p *Proof) differs(o *Proof) {
	why := o.Why
	for _, f := range append(p.Findings, o.Findings...) {
		why = f.Message
		break
	}
	p.Answer, p.Why, p.Findings = Untold, "runs differed: "+why, []finding.Finding{}
}
