package app

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"havvel/internal/atomicfile"
	"havvel/internal/browser"
	"havvel/internal/export"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/serve"
	"havvel/internal/trial"
)

// Trials are runs of a build, one for each destination; as JSON they are the document of havvel trial.
type Trials struct {
	List []*trial.Result `json:"trials"`
}

// A Trying is how a build is to be tried.
type Trying struct {
	Views        []string      // only these of the destination; none for all
	Quick        bool          // only the first view
	Under        []string      // conditions under which the first view is tried, too
	Browsers     []string      // names or programs; none for what the project says
	Watch, Start time.Duration // 0 for what the project says
	Accept       bool          // keep the first screens as the right ones
	Report       string        // file for the report; "" for a place in the project
	EachFile     bool          // several destinations: each has a file of its own
}

// The events of trials.
type (
	// Tries says where a build is tried.
	Tries struct{ Title, On string }
	// Tried says what was seen, and where the report is; "" for nowhere.
	Tried struct {
		Result *trial.Result
		Report string
	}
)

func (Tries) event() {}
func (Tried) event() {}

// Try runs a build as each destination shows it, or on a plain host where there is none, keeps the results, and writes their reports.
// Project may be nil.
func (k *Desk) Try(ctx context.Context, b *export.Build, browsers []string, how Trying) (*Trials, error) {
	if b.Entry == nil {
		return nil, noPage(b)
	}
	destinations := k.Destinations
	if len(destinations) == 0 {
		destinations = []*project.Destination{nil}
	}
	out := &Trials{}
	for _, d := range destinations {
		if len(destinations) > 1 && len(how.Views) > 0 && !hasView(d, how.Views) {
			continue // it is asked for at another
		}
		r, err := k.tryOne(ctx, d, b, browsers, how)
		if err != nil {
			return nil, err
		}
		out.List = append(out.List, r)
	}
	return out, nil
}

func noPage(b *export.Build) error {
	return &export.Unreadable{
		Path:   b.Path,
		Reason: "there is no page in it that could be tried",
		Next:   "name the folder or zip that the engine wrote",
	}
}

// hasView reports whether a destination has one of the views named.
func hasView(d *project.Destination, names []string) bool {
	return slices.ContainsFunc(serve.Views(d.Rules), func(v rulebook.View) bool { return slices.Contains(names, v.Name) })
}

func (k *Desk) tryOne(ctx context.Context, d *project.Destination, b *export.Build, browsers []string, how Trying) (*trial.Result, error) {
	t, err := k.trialOf(b, browsers, how)
	if err != nil {
		return nil, err
	}
	portal, on := "", "a plain host"
	if d != nil {
		if t.Build, err = AsPacked(ctx, k.Project, d, b, k.Report); err != nil {
			return nil, err
		}
		t.Destination, t.Rules, portal, on = d.Name, d.Rules, d.Rules.Name, d.Rules.Name
	}
	if k.Project != nil {
		if t.Accepted, err = trial.Accepted(k.Project.Folder, t.Destination); err != nil {
			return nil, err
		}
		if how.Accept {
			t.Accepted = nil
		} else if d != nil {
			t.Public = k.publicFirsts(d)
		}
	}
	k.Tell(Tries{TitleOf(b), on})
	k.Report.Begin("trying it on "+on, 0)
	r, err := t.Run(ctx)
	k.Report.End()
	if err != nil {
		return nil, err
	}
	if err := k.keepTrial(r, how.Accept); err != nil {
		return nil, err
	}
	path := k.reportPath(d, how)
	if path != "" {
		var page bytes.Buffer
		if err := r.Report(&page, TitleOf(b), portal); err != nil {
			return nil, err
		}
		if err := atomicfile.Bytes(path, page.Bytes()); err != nil {
			return nil, err
		}
	}
	k.Tell(Tried{r, path})
	return r, nil
}

// keepTrial keeps what a trial saw, where there is a project, and accepts its first screens where that is wanted.
func (k *Desk) keepTrial(r *trial.Result, accept bool) error {
	if k.Project == nil {
		return nil
	}
	if err := r.Keep(k.Project.Folder); err != nil || !accept {
		return err
	}
	return r.Accept(k.Project.Folder)
}

// trialOf is a trial as project and command line want it.
func (k *Desk) trialOf(b *export.Build, browsers []string, how Trying) (*trial.Trial, error) {
	t := &trial.Trial{
		Build: b, Fingerprint: b.Fingerprint, Browsers: browsers, Start: 20 * time.Second, Watch: 3 * time.Second,
		Only: how.Views, Quick: how.Quick, Under: how.Under,
	}
	if p := k.Project; p != nil {
		t.Statistics, t.Accepts = p.Statistics, accepts(p)
		if err := stepsOf(p, t); err != nil {
			return nil, err
		}
		if p.Trial.Start > 0 {
			t.Start = time.Duration(p.Trial.Start)
		}
		if p.Trial.Watch > 0 {
			t.Watch = time.Duration(p.Trial.Watch)
		}
	}
	if how.Start > 0 {
		t.Start = how.Start
	}
	if how.Watch > 0 {
		t.Watch = how.Watch
	}
	return t, nil
}

// publicFirsts are the first screens of the version that is public at a destination, where a trial saw it; nil otherwise.
func (k *Desk) publicFirsts(d *project.Destination) *trial.Firsts {
	list, _, err := k.Courier.Book.Deliveries()
	if err != nil {
		return nil // the commands that list deliveries tell why
	}
	for _, l := range slices.Backward(list) {
		if l.Destination == d.Name && l.State == "public" {
			if f := trial.FirstsOf(k.Project.Folder, d.Name, l.Fingerprint); f != nil {
				f.Version = l.Version
				return f
			}
			return nil
		}
	}
	return nil
}

// Browsers are the programs in which a build is tried: those that are asked for, or that the project names, or else the first there is.
func (k *Desk) Browsers(how Trying) ([]string, error) {
	names, by := how.Browsers, "--browser"
	if len(names) == 0 && k.Project != nil {
		names, by = k.Project.Trial.Browsers, "trial.browsers in havvel.toml"
	}
	if len(names) == 0 {
		names = []string{""}
	}
	var list []string
	for _, name := range names {
		path, err := browser.Find(name, by)
		if err != nil {
			return nil, err
		}
		list = append(list, path)
	}
	return list, nil
}

// stepsOf reads the steps that a project has its trials do.
func stepsOf(p *project.Project, t *trial.Trial) error {
	if p.Trial.StepsFile != "" && len(p.Trial.Steps) > 0 {
		return p.Problem("trial.steps_file", "trial.steps_file: there are steps in havvel.toml, too; take one of the two away")
	}
	for i, line := range p.Trial.Steps {
		s, err := trial.Parse(line)
		if err != nil {
			return p.Problem(fmt.Sprintf("trial.steps[%d]", i), "trial.steps: %w", err)
		}
		t.Steps = append(t.Steps, s)
	}
	if p.Trial.StepsFile == "" {
		return nil
	}
	data, err := os.ReadFile(filepath.Join(p.Folder, filepath.FromSlash(p.Trial.StepsFile)))
	if err != nil {
		return p.Problem("trial.steps_file", "trial.steps_file: %w", err)
	}
	n := 0
	for line := range strings.Lines(string(data)) {
		n++
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		s, err := trial.Parse(line)
		if err != nil {
			return p.Problem("trial.steps_file", "%s:%d: %w", p.Trial.StepsFile, n, err)
		}
		t.Steps = append(t.Steps, s)
	}
	return nil
}

// reportPath is where a report goes: where it was asked for, or into the project; without both nowhere.
func (k *Desk) reportPath(d *project.Destination, how Trying) string {
	p := k.Project
	switch {
	case how.Report == "" && p == nil:
		return ""
	case how.Report == "" && d == nil:
		return filepath.Join(p.Folder, ".havvel", "trials", "any.html")
	case how.Report == "":
		return filepath.Join(p.Folder, ".havvel", "trials", d.Name+".html")
	case d != nil && how.EachFile && len(p.To) > 1:
		return strings.TrimSuffix(how.Report, ".html") + "-" + d.Name + ".html"
	}
	return how.Report
}

// TitleOf is what a build calls itself: its page's title, or else where it is.
func TitleOf(b *export.Build) string {
	if b.Entry != nil && b.Entry.Page != nil && b.Entry.Page.Title != "" {
		return b.Entry.Page.Title
	}
	return b.Path
}
