// Package trial runs a build in a real browser, as a destination shows it, and says what it saw: when the game started, how it
// fits, what it called, what went wrong. Serving is left to serve, what a portal wants to hear to hooks and its rulebook.
package trial

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"havvel/internal/browser"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/serve"
)

// Format is the version of a result as it is kept.
const Format = 1

// A Trial says what is run, and how.
type Trial struct {
	Build       *export.Build // as the destination would be handed it
	Fingerprint string        // of the export that it was made from
	Destination string
	Rules       *rulebook.Rulebook // nil for no destination in particular
	At          string             // the folder of the host that it is served from, with slashes around it; "" for one of its own
	Front       *serve.Front       // the page above the build that is opened, as at a site's root; nil for none
	Page, Game  string             // of a real host, in place of a server of ours: the page that is opened, and the game's folder; "" for none
	Steps       []Step             // what is done once the game has started
	Statistics  []project.Statistic
	Accepts     []finding.Accept
	Start       time.Duration        // the longest time to the first picture
	Sooner      func() time.Duration // a shorter limit, once it is known; 0 until then; nil for none
	Watch       time.Duration        // how long the game is watched once it started
	Browsers    []string             // paths of the browsers
	Quick       bool                 // only the first view
	Under       []string             // conditions under which the first view is tried, too
	Accepted    *Firsts              // first screens that are right; nil for none
	Public      *Firsts              // those of the version that is public; nil where they aren't known
	Only        []string             // names of views, of which at least one must be there; all when none is named
	Report      func(view string, done bool)
}

// A Result is what a trial saw.
type Result struct {
	Format      int               `json:"trial"`
	At          time.Time         `json:"at"`
	Destination string            `json:"destination"`
	Fingerprint string            `json:"fingerprint"`
	Browser     string            `json:"browser"`
	Views       []*View           `json:"views"`
	Findings    []finding.Finding `json:"findings"`
	Steps       []string          `json:"steps,omitempty"` // that were to be done

	where map[string][]string // views in which a finding was made, by its key
}

// Clean reports whether nothing that is required failed.
func (r *Result) Clean() bool { return finding.Errors(r.Findings) == 0 }

// A View is what was seen in one window.
type View struct {
	Name       string            `json:"name"`
	Width      int               `json:"width"` // CSS pixels
	Height     int               `json:"height"`
	Touch      bool              `json:"touch"`
	Browser    string            `json:"browser"`              // with its version
	Cannot     []string          `json:"cannot,omitempty"`     // what this browser can neither tell nor set
	Conditions []string          `json:"conditions,omitempty"` // what its players have, or lack
	Answer     Answer            `json:"answer"`               // whether it starts
	Why        string            `json:"why,omitempty"`        // not, or can't be told
	Started    bool              `json:"started"`
	StartMS    int               `json:"start_ms"`           // to the first picture
	Bytes      int64             `json:"start_bytes"`        // that came before it, or until it was given up
	Frames     float64           `json:"frames"`             // a second, after the start: the median of seconds
	Worst      float64           `json:"frames_worst"`       // of the second in which it drew least
	Renderer   string            `json:"renderer,omitempty"` // what draws WebGL
	Heap       int64             `json:"heap"`               // of scripts, bytes
	Wasm       int64             `json:"wasm"`               // memory of WebAssembly, bytes
	Lost       int               `json:"lost"`               // drawing contexts that were lost
	Memory     []Memory          `json:"memory"`             // over time
	Fit        Fit               `json:"fit"`
	Turned     *Fit              `json:"turned"` // after the window was turned
	Requests   []*Request        `json:"requests"`
	Heard      []serve.Event     `json:"heard"`
	Pictures   []Picture         `json:"pictures"`
	Problems   []finding.Finding `json:"-"`
	Sent       []Statistic       `json:"statistics"`
	Did        []Did             `json:"steps"` // the steps that were begun

	first   *First
	screens map[string]First // what named pictures look like
	began   time.Time
	shownMS int // when it could be seen first with nothing still loading
}

// A Statistic is what was sent under one name.
type Statistic struct {
	Name   string   `json:"name"`
	Values []string `json:"values"` // in the order in which they were sent
	// which one the portal keeps, as havvel.toml declares: highest, lowest, total or latest; "" when it doesn't
	Keeps string `json:"keeps"`
	Kept  string `json:"kept"` // that one
}

// Memory is what the game took at one time.
type Memory struct {
	MS       int   `json:"ms"`       // after the page was asked for
	Heap     int64 `json:"heap"`     // of scripts, bytes
	Wasm     int64 `json:"wasm"`     // of WebAssembly, bytes
	Graphics int64 `json:"graphics"` // of WebGL\'s textures and buffers, bytes, about
	Nodes    int   `json:"nodes"`    // elements of the page
}

// Did is how a step went.
type Did struct {
	MS     int    `json:"ms"`               // after the page was asked for, when it began
	Failed string `json:"failed,omitempty"` // why it did
}

// A Picture is what was to be seen at one time.
type Picture struct {
	Name string `json:"name"`
	MS   int    `json:"ms"` // after the page was asked for
	PNG  []byte `json:"png"`
}

// NoView says that a destination has no view of a name.
type NoView struct {
	Name  string
	Known []string
}

func (e *NoView) Error() string {
	return fmt.Sprintf("there is no view %q; %s", e.Name, inwords.There(e.Known))
}

// Fault tells it.
func (e *NoView) Fault() *fault.Error { return fault.Tell(e, fault.Usage, "") }

// views lists the windows of the trial.
func (t *Trial) views() ([]rulebook.View, error) {
	all := serve.Views(t.Rules)
	if t.Quick {
		all = all[:1]
	}
	if len(t.Only) == 0 {
		more, err := under(all, t.Under)
		return slices.Concat(all, more), err
	}
	var list []rulebook.View
	for _, v := range all {
		if slices.Contains(t.Only, v.Name) {
			list = append(list, v)
		}
	}
	if len(list) == 0 {
		var names []string
		for _, v := range all {
			names = append(names, v.Name)
		}
		return nil, &NoView{t.Only[0], names}
	}
	more, err := under(list, t.Under)
	return slices.Concat(list, more), err
}

// limit is the longest time to the first picture, as it is known now.
func (t *Trial) limit() time.Duration {
	if t.Sooner != nil {
		if d := t.Sooner(); d > 0 {
			return min(d, t.Start)
		}
	}
	return t.Start
}

// parallel is how many views are run at the same time: two at least, since they wait more than they work.
func parallel() int { return max(2, min(4, runtime.NumCPU())) }

// Run runs the build in each view of each browser. The error is *browser.Broken when a browser can't be started; views in which it crashed
// or hung can't be told. What goes wrong with the game is a finding.
func (t *Trial) Run(ctx context.Context) (*Result, error) {
	views, err := t.views()
	if err != nil {
		return nil, err
	}
	r := &Result{
		Format:      Format,
		At:          time.Now().UTC().Truncate(time.Second),
		Destination: t.Destination,
		Fingerprint: t.Fingerprint,
	}
	var names []string
	for _, program := range t.Browsers {
		seen, name, err := t.in(ctx, program, views)
		if err != nil {
			return nil, err
		}
		for _, v := range seen {
			v.Browser = name
			if len(t.Browsers) > 1 {
				name, _, _ := strings.Cut(name, "/")
				v.Name += " in " + name
			}
		}
		r.Views, names = append(r.Views, seen...), append(names, name)
	}
	r.Browser = strings.Join(names, ", ")
	for _, v := range r.Views {
		v.Sent = t.sent(v)
	}
	for _, s := range t.Steps {
		r.Steps = append(r.Steps, s.Line)
	}
	r.Findings, r.where = t.judge(r.Views)
	return r, nil
}

// in runs the build in each view of one browser.
func (t *Trial) in(ctx context.Context, program string, views []rulebook.View) ([]*View, string, error) {
	b, err := browser.Start(ctx, program)
	if err != nil {
		return nil, "", err
	}
	defer b.Close()
	list := make([]*View, len(views))
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(parallel())
	for i, v := range views {
		work.Go(func() error {
			t.tell(v.Name, false)
			seen, err := t.run(ctx, b, v)
			var gone *browser.Broken
			if errors.As(err, &gone) && ctx.Err() == nil {
				seen, err = t.again(ctx, program, v)
			}
			if errors.As(err, &gone) && ctx.Err() == nil {
				seen = t.unseen(v, gone)
			} else if err != nil {
				return fmt.Errorf("view %s: %w", v.Name, err)
			}
			list[i] = seen
			t.tell(v.Name, true)
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return nil, "", err
	}
	return list, b.Name(), nil
}

// again runs the build in a view that a browser failed in, in a browser of its own.
func (t *Trial) again(ctx context.Context, program string, v rulebook.View) (*View, error) {
	b, err := browser.Start(ctx, program)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	return t.run(ctx, b, v)
}

func viewOf(v rulebook.View) *View {
	return &View{Name: v.Name, Width: v.Size[0], Height: v.Size[1], Touch: v.Touch, Conditions: v.Conditions}
}

// unseen is a view in which the browser failed, which is never the game's fault.
func (t *Trial) unseen(v rulebook.View, why *browser.Broken) *View {
	seen := viewOf(v)
	seen.Answer, seen.Why = Untold, why.Error()
	seen.Problems = append(seen.Problems, finding.Finding{
		ID: "trial-untold", Message: "whether the game starts can't be told: " + why.Error(),
		Fix: "run the same command again, when the machine has less to do; if it happens again, name another browser with " + browser.Variable,
	})
	return seen
}

func (t *Trial) tell(view string, done bool) {
	if t.Report != nil {
		t.Report(view, done)
	}
}
