// Package proof runs an export and what is handed over in its place side by side in a real browser, and says what is worse, where, and
// which step of packing did it. Running a build is trial's business, what a host sends hosting's.
package proof

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/hosting"
	"havvel/internal/pack"
	"havvel/internal/rulebook"
	"havvel/internal/serve"
	"havvel/internal/trial"
)

// An Answer says whether what is handed over runs as well as the export.
type Answer string

// The answers.
const (
	Proven Answer = "proven"
	Untold Answer = "not proven"
	Worse  Answer = "worse"
)

// A Proof is what a comparison came to.
type Proof struct {
	Format   int               `json:"proof"`
	Answer   Answer            `json:"answer"`
	Why      string            `json:"why"`      // it is not proven; "" where it is, or where it is worse
	Findings []finding.Finding `json:"findings"` // what is worse
	Without  []string          `json:"without"`  // steps of packing; without them it runs as well
	Browser  string            `json:"browser"`  // with its version
	View     string            `json:"view"`     // in which both ran
	Export   *Run              `json:"export"`
	Handed   *Run              `json:"handed"`

	AtRoot bool   `json:"at_root"` // it was run with its page at a site's root
	Lower  string `json:"lower"`   // why it wasn't, though its host could have that; "" where it was, or its host can't

	names    sides
	suspects []string // steps of packing that changed what suffers
}

// A Case is what is to be proven.
type Case struct {
	Export      *export.Build
	Handed      Handed
	Destination string
	Rules       *rulebook.Rulebook // of the destination; nil for none in particular
	Hooks       []rulebook.Hook    // scripts of the project's portals, which the export may name, too
	Steps       []trial.Step
	Accepts     []finding.Accept
	Program     string // of the browser
	Release     string // of Havvel
	Place       string // on its host, where the export expects to be; "" for what its page shows

	// Replan plans again without some more steps of packing; nil where none can be left out.
	Replan func(ctx context.Context, without []string) (Handed, error)
	// Front is the page at the site's root for what is handed over; nil where its page stays beside its files.
	Front *serve.Front
}

// Handed is what is handed over.
type Handed struct {
	Build   *export.Build
	Origins []pack.Origin // of its files
	Steps   []string      // of packing that were taken, and can be left out
}

// Of is what a plan hands over.
func Of(p *pack.Plan) Handed { return Handed{p.Result(), p.Origins(), p.Taken()} }

// onePage reports whether it is one page that holds all files.
func (h Handed) onePage() bool {
	return slices.ContainsFunc(h.Origins, func(o pack.Origin) bool { return slices.Contains(o.Steps, "one-page") })
}

// Prove runs both sides; what is handed over with its page at the site's root, where the case has one. If that is not as good as the
// export, it runs with its page beside its files, too, and that counts.
func (s *Store) Prove(ctx context.Context, c Case) (*Proof, error) {
	if c.Front == nil {
		return s.prove(ctx, c)
	}
	above := c
	above.Replan = nil
	high, err := s.prove(ctx, above)
	if err != nil || high.Answer == Proven {
		return high, err
	}
	c.Front = nil
	low, err := s.prove(ctx, c)
	if err == nil && (high.Answer == Worse || low.Answer == Proven) {
		low.Lower = high.because()
	}
	return low, err
}

// because says why it isn't proven.
func (p *Proof) because() string {
	if len(p.Findings) > 0 {
		return p.Findings[0].Message
	}
	return p.Why
}

// prove runs both sides. Where the second seems worse, both run again, and only what is worse each time counts. The error says what is
// wrong with the machine or its browser, or is the context's.
func (s *Store) prove(ctx context.Context, c Case) (*Proof, error) {
	handed := c.handed(c.Handed)
	key := s.key(ctx, &c, c.untouched(), handed)
	if p := s.proof(key); p != nil {
		return p, nil
	}
	anew := false
	p, err := agreed(func() (*Proof, error) {
		before, after, err := s.both(ctx, &c, handed, anew)
		if err != nil {
			return nil, err
		}
		anew = true
		return compare(before, after, c.Handed.Origins, ofExport), nil
	})
	if err != nil {
		return nil, err
	}
	p.View, p.Browser, p.AtRoot = handed.view.Name, p.Handed.Browser, c.Front != nil
	if p.Answer == Worse && c.Replan != nil {
		if p.Without, err = s.halve(ctx, &c, p); err != nil {
			return nil, err
		}
	}
	p.settle(&c)
	return p, s.keep(key, p)
}

// A side is one of the two builds, as it is run.
type side struct {
	trial *trial.Trial
	view  rulebook.View
}

// limits of a run: a game that takes longer can't be told.
const (
	startLimit = 20e9 // nanoseconds
	watchLimit = 2e9
)

// View is the one in which a destination's game is proven.
func View(rules *rulebook.Rulebook) rulebook.View { return serve.Views(rules)[0] }

func (c *Case) view() rulebook.View { return View(c.Rules) }

func (c *Case) handed(h Handed) side {
	rules := c.Rules
	if rules == nil {
		rules = c.plain()
	}
	return side{&trial.Trial{
		Build: h.Build, Rules: rules, Destination: c.Destination, Steps: c.Steps, Accepts: c.Accepts, Start: startLimit, Watch: watchLimit,
		Front: c.Front,
	}, c.view()}
}

// untouched is the export as it runs at best: on a host that sends everything as it should be, at the place that it expects, in a frame
// that allows all, and with the portals' scripts.
func (c *Case) untouched() side {
	return side{&trial.Trial{
		Build: c.Export, Rules: c.plain(), Steps: c.Steps, At: cmp.Or(c.Place, c.Export.Root()), Start: startLimit, Watch: watchLimit,
	}, c.view()}
}

// plain is a host that has all that the export needs.
func (c *Case) plain() *rulebook.Rulebook {
	return &rulebook.Rulebook{
		Name: "a plain host", Hooks: c.Hooks,
		Serves: rulebook.Serves{Encodings: hosting.Any.Encodings, Isolation: c.Export.NeedsIsolation() != nil, CORS: true},
		Frame: rulebook.Frame{Allow: []string{
			"autoplay", "fullscreen", "gamepad", "clipboard-read", "clipboard-write", "accelerometer", "gyroscope", "magnetometer", "microphone",
			"camera", "midi", "screen-wake-lock", "web-share", "xr-spatial-tracking",
		}},
	}
}

// both runs the export and what is handed over, at the same time. An export that was run before in the same way is not run again, unless
// it must be.
func (s *Store) both(ctx context.Context, c *Case, handed side, anew bool) (before, after *Run, err error) {
	var started atomic.Int64 // milliseconds to the start of the export, once that is known
	handed.trial.Sooner = func() time.Duration { return waited(int(started.Load())) }
	work, ctx := errgroup.WithContext(ctx)
	work.Go(func() (err error) {
		if before, err = s.export(ctx, c, anew); err == nil {
			started.Store(int64(before.StartMS))
		}
		return err
	})
	work.Go(func() (err error) {
		after, err = s.run(ctx, handed, c.Program)
		return err
	})
	return before, after, work.Wait()
}

// waited is how long one waits for what is handed over, where the export took so many milliseconds to start; 0 where it did not, or isn't
// known to.
func waited(ms int) time.Duration {
	if ms == 0 {
		return 0
	}
	return 4*time.Second + 2*time.Duration(ms)*time.Millisecond
}

// halve looks for the fewest steps of packing without which it runs as well; none where leaving all of them out doesn't help.
func (s *Store) halve(ctx context.Context, c *Case, p *Proof) ([]string, error) {
	passes := func(without []string) (bool, error) {
		other, err := c.Replan(ctx, without)
		if err != nil {
			return false, ctx.Err() // it can't be packed without them
		}
		one := c.handed(other)
		one.trial.Sooner = func() time.Duration { return waited(p.Export.StartMS) }
		after, err := s.run(ctx, one, c.Program)
		if err != nil {
			return false, err
		}
		return compare(p.Export, after, other.Origins, ofExport).Answer == Proven, nil
	}
	suspects := c.Handed.Steps
	if len(suspects) == 0 {
		return nil, nil
	}
	for _, name := range p.suspected(suspects) {
		if ok, err := passes([]string{name}); err != nil || ok {
			return []string{name}, err
		}
	}
	if ok, err := passes(suspects); err != nil || !ok {
		return nil, err
	}
	for len(suspects) > 1 {
		half := len(suspects) / 2
		first, rest := suspects[:half], suspects[half:]
		if ok, err := passes(first); err != nil {
			return nil, err
		} else if ok {
			suspects = first
			continue
		}
		if ok, err := passes(rest); err != nil {
			return nil, err
		} else if !ok {
			break // it takes both
		}
		suspects = rest
	}
	return suspects, nil
}

// suspected are the steps that changed what suffers, among those that can be left out; at most two.
func (p *Proof) suspected(steps []string) []string {
	list := slices.DeleteFunc(slices.Clone(steps), func(name string) bool { return !slices.Contains(p.suspects, name) })
	return list[:min(len(list), 2)]
}

// mistake is what to do about what Havvel spoiled.
const mistake = "this is a mistake in Havvel, not in the game: hand over the export as the engine wrote it, and tell us"

// settle says what to do about each finding.
func (p *Proof) settle(c *Case) {
	fix := mistake
	switch {
	case len(p.Without) > 0:
		fix = fmt.Sprintf("without %s it runs as well as the export: havvel pack --prove --without %s",
			strings.Join(p.Without, " and "), strings.Join(p.Without, " --without "))
	case !c.Handed.onePage() && c.Rules != nil:
		fix = "leaving out what packing changes doesn't help, so it comes from how " + c.Rules.Name +
			" shows games: its frame's sandbox, whom it lets read files, isolation, or the encodings that it serves"
	}
	for i := range p.Findings {
		f := &p.Findings[i]
		f.Level, f.Destination, f.Fix = finding.Error, c.Destination, fix
	}
	finding.Policy{Rules: c.Rules, Accepts: c.Accepts}.Settle(p.Findings)
	if p.Answer == Worse && !slices.ContainsFunc(p.Findings, func(f finding.Finding) bool { return f.Accepted == "" }) {
		p.Answer, p.Why = Untold, "what is worse was accepted"
	}
}
