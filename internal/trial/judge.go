package trial

import (
	"cmp"
	"fmt"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strings"

	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/hosting"
	"havvel/internal/rulebook"
	"havvel/internal/serve"
)

// judge brings what was seen in all views together: the same problem in several views is one finding. It also tells in which views, by the
// finding's key.
func (t *Trial) judge(views []*View) ([]finding.Finding, map[string][]string) {
	type place struct {
		id, file, message string
		line              int
	}
	seenIn := map[place][]string{}
	first := map[place]finding.Finding{}
	var order []place
	for _, v := range views {
		for _, f := range slices.Concat(
			t.problems(v), t.requests(v), t.fit(v), t.calls(v), t.statistics(v), t.changed(v), t.growth(v), t.bursts(v),
		) {
			p := place{f.ID, f.File, f.Message, f.Line}
			if _, ok := first[p]; !ok {
				first[p] = f
				order = append(order, p)
			}
			if !slices.Contains(seenIn[p], v.Name) {
				seenIn[p] = append(seenIn[p], v.Name)
			}
		}
	}
	findings, policy, where := []finding.Finding{}, t.policy(), map[string][]string{}
	for _, p := range order {
		f := first[p]
		if f.Level == "" {
			f.Level = kindOf(f.ID).Level
		}
		if in := seenIn[p]; len(in) < len(views) {
			f.Message += " (in " + strings.Join(in, ", ") + ")"
		}
		where[key(f)] = seenIn[p]
		f.Destination = t.Destination
		f.Level = policy.Level(f.ID, f.Level)
		findings = append(findings, f)
	}
	slices.SortStableFunc(findings, func(a, b finding.Finding) int {
		return cmp.Or(cmp.Compare(a.ID, b.ID), cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line))
	})
	policy.Settle(findings)
	return findings, where
}

// unreached is how scripts are told that a request failed, in Chromium and Firefox.
var unreached = regexp.MustCompile(`Failed to fetch|NetworkError when attempting to fetch|Load failed`)

// problems are those that came up while it ran. A trial reaches no other host, so where a game asks one and nothing catches that this
// fails, and the game goes on, that is what players see who are offline or have an ad blocker.
func (t *Trial) problems(v *View) []finding.Finding {
	other := slices.IndexFunc(v.Requests, func(r *Request) bool { return r.Foreign && r.Status == 0 })
	if v.Answer != Yes || other < 0 {
		return v.Problems
	}
	list := slices.Clone(v.Problems)
	for i, f := range list {
		if f.ID == "trial-exception" && unreached.MatchString(f.Message) {
			list[i].Level = finding.Warning
			list[i].Message = "nothing catches that " + v.Requests[other].Path + " can't be reached, as here: " +
				strings.TrimPrefix(f.Message, "an exception that nothing catches: ")
			list[i].Fix = "catch it: players who are offline, or have an ad blocker, get the same"
		}
	}
	return list
}

// key tells one finding from others.
func key(f finding.Finding) string {
	return fmt.Sprintf("%s %s:%d %s", f.ID, f.File, f.Line, f.Message)
}

// requests judges what the game asked for.
func (t *Trial) requests(v *View) []finding.Finding {
	var list []finding.Finding
	for _, r := range v.Requests {
		f := t.request(r)
		if f.ID == "" {
			continue
		}
		if f.ID == "trial-missing" && f.Level == "" && t.spares(v, r) {
			f.Level, f.Message = finding.Warning, f.Message+"; it starts without it"
			f.Fix = "if players miss something, put the file into the export"
		}
		list = append(list, f)
	}
	return list
}

// spares reports whether a game does without what it asked for: it started, nothing was thrown, and no file of that name was ever there, in
// another folder or in other letters.
func (t *Trial) spares(v *View, r *Request) bool {
	thrown := slices.ContainsFunc(v.Problems, func(f finding.Finding) bool { return f.ID == "trial-exception" })
	return v.Answer == Yes && r.Status == http.StatusNotFound && !thrown && !slices.ContainsFunc(t.Build.Files, func(f *export.File) bool {
		return strings.EqualFold(path.Base(f.Path), path.Base(r.Path))
	})
}

// request judges a request; the finding has no ID where nothing is wrong with it.
func (t *Trial) request(r *Request) finding.Finding {
	f := finding.Finding{File: r.Path}
	switch {
	case r.Foreign && t.policy().Allows(r.Path), t.Hook(r.Path):
	case r.Foreign:
		f.ID, f.File = "trial-foreign", ""
		f.Message, f.Fix = r.abroad()
	case r.sends && r.Status >= 400:
		f.ID, f.Level, f.Message = "trial-missing", finding.Warning, "the game sends something there, and it isn't taken: "+r.Refused()
		f.Fix = "a portal's host only serves files: send it to a host of your own, or leave it out"
	case r.Status == 404:
		f.ID, f.Message, f.Fix = "trial-missing", "the game asks for it, and it is not there", "put the file into the export, or take the "+
			"name away"
		if strings.HasPrefix(r.Path, "/") {
			f.Message, f.Fix = "the game asks for it at the host's root; a portal serves the game from a folder",
				`set the base path to "./" in the engine's or bundler's export settings`
		}
	case r.Status >= 400:
		f.ID, f.Message = "trial-missing", "it could not be loaded: "+r.Refused()
		f.Fix = "look what this host refuses, by name, type or size"
	case r.Failed != "" && r.Failed != "net::ERR_ABORTED":
		f.ID, f.Message, f.Fix = "trial-missing", "it could not be loaded: "+r.Failed, "export again, and look whether the file is whole"
	case r.Status == 200:
		t.form(r, &f)
	}
	if f.ID == "trial-missing" && ornamental(r) {
		f.Level = finding.Warning
	}
	return f
}

// abroad says what a game wants of another host, and what to do about it.
func (r *Request) abroad() (message, fix string) {
	if r.sends || r.Kind == "WebSocket" || r.Kind == "EventSource" {
		return "the game talks to " + r.Path, "ask the portal whether it lets games do that; the game must also run when nothing answers there"
	}
	return "the game asks " + r.Path + " for something", "put what it needs into the build, or leave it out"
}

// Refused says how a host refused a request with a status of 400 or more.
func (r *Request) Refused() string {
	if r.Status == http.StatusNotFound && !r.sends {
		return "it is not there"
	}
	return strings.TrimSpace(fmt.Sprintf("the host answers %d %s", r.Status, http.StatusText(r.Status)))
}

// form judges the form in which a file came.
func (t *Trial) form(r *Request, f *finding.Finding) {
	packed := strings.HasSuffix(r.Path, ".br") || strings.HasSuffix(r.Path, ".gz")
	switch {
	case r.Encoding == "" && packed && !t.unpacked(r.Path):
		f.ID, f.Message, f.Fix = "trial-encoding", "it came compressed, and without the header that says so", "set compression to none in "+
			"the engine's export settings, or let havvel pack recode it"
	case wrongType(t, r):
		f.ID, f.Message, f.Fix = "trial-type", fmt.Sprintf("it came as %s, since its name does not say what it is", r.Type),
			"give it the ending of its kind, such as .wasm or .js"
	}
}

// ornamental reports whether a game may do without what was asked for.
func ornamental(r *Request) bool { return r.Kind == "Image" || r.Kind == "Media" || r.Kind == "Font" }

// Hook reports whether a path is that of a portal's script.
func (t *Trial) Hook(path string) bool {
	return t.Rules != nil && slices.ContainsFunc(t.Rules.Hooks, func(h rulebook.Hook) bool { return h.Script == path })
}

func (t *Trial) policy() finding.Policy { return finding.Policy{Rules: t.Rules, Accepts: t.Accepts} }

// unpacked reports whether the game may unpack a file by itself.
func (t *Trial) unpacked(path string) bool {
	f := t.Build.File(t.Build.Base + path)
	if f == nil || f.Encoding == "" {
		return false
	}
	who, _ := t.Build.Unpacker(f)
	return who != export.ByHost
}

// wrongType reports whether the browser refuses a file for the type that its name gave it.
func wrongType(t *Trial, r *Request) bool {
	f := t.Build.File(t.Build.Base + r.Path)
	if f == nil {
		return false
	}
	unpacked := f.Encoding != "" && r.Encoding == "" // by the game, which then gives the bytes no type
	if f.Wasm != nil && !unpacked && r.Type != "application/wasm" {
		return true
	}
	// A script may import data; where it may not, the browser says so.
	data := r.Type != "application/octet-stream" && strings.HasPrefix(hosting.TypeOf(r.Path), r.Type)
	return r.Kind == "Script" && !strings.Contains(r.Type, "javascript") && !data
}

// fit judges how the game meets the window.
func (t *Trial) fit(v *View) []finding.Finding {
	if !v.Started {
		return nil
	}
	list := v.Fit.judge("")
	if v.Turned != nil && len(list) == 0 {
		list = v.Turned.judge(", after the window was turned or made narrower")
		for i := range list {
			list[i].Level = finding.Warning // not every portal's window changes
		}
	}
	if !v.Fit.Canvas {
		return list
	}
	say := func(id, message, fix string) {
		list = append(list, finding.Finding{ID: id, Message: message, Fix: fix})
	}
	if v.Fit.Covers < 0.5 {
		say("trial-bars", fmt.Sprintf("the game covers %.0f %% of the window", 100*v.Fit.Covers), "let it take more of the window, or accept it")
	}
	if v.Fit.Sharp > 2.5 {
		say(
			"trial-oversize",
			fmt.Sprintf("the canvas has %.1f times the screen's pixels along a side; nobody sees them, and they cost memory and time", v.Fit.Sharp),
			"give the canvas as many pixels as the screen has there",
		)
	}
	if v.Fit.Sharp > 0 && v.Fit.Sharp < 0.4 {
		say(
			"trial-blurred",
			fmt.Sprintf("the canvas has %.0f %% of the screen's pixels along a side", 100*v.Fit.Sharp),
			"give the canvas as many pixels as the screen has there",
		)
	}
	return list
}

// judge says what is wrong in one window; when is said of each finding.
func (f Fit) judge(when string) (list []finding.Finding) {
	if f.Overflow {
		list = append(list, finding.Finding{
			ID: "trial-overflow", Message: "the page is larger than the window and can be scrolled" + when,
			Fix: "set body { margin: 0; overflow: hidden } and let the canvas take the window's size",
		})
	}
	if f.Canvas && f.Outside > 0.02 {
		list = append(list, finding.Finding{
			ID: "trial-outside", Message: fmt.Sprintf("%.0f %% of the canvas lie outside of the window%s", 100*f.Outside, when),
			Fix: "let the canvas take the window's size: canvas = \"fit\" under [front] in havvel.toml does it",
		})
	}
	if f.Stretched > 0.02 {
		list = append(list, finding.Finding{
			ID: "trial-stretched", Message: fmt.Sprintf("the picture is stretched by %.0f %%%s", 100*f.Stretched, when),
			Fix: "keep the ratio: canvas = \"fit\" under [front] in havvel.toml does it",
		})
	}
	return list
}

// calls judges what the portal wants to hear.
func (t *Trial) calls(v *View) []finding.Finding {
	var list []finding.Finding
	if t.Rules == nil || !v.Started || v.under("portal-blocked") {
		return nil
	}
	for _, h := range t.Rules.Hooks {
		for _, c := range h.Calls {
			at := firstOf(v.Heard, "call", c.Call)
			switch {
			case at < 0 && c.Required:
				list = append(list, t.unheard(c))
			case at < 0:
			case c.Event == "loading-done" && v.shownMS > 0 && v.Heard[at].At > float64(v.shownMS+3000):
				list = append(
					list,
					finding.Finding{
						ID:      "trial-late",
						Message: fmt.Sprintf("%s came %.0fs after the game's first picture", c.Call, (v.Heard[at].At-float64(v.shownMS))/1000),
						Fix:     "call it as soon as the title is there",
					},
				)
			default:
				list = append(list, t.order(v, c, at)...)
			}
		}
	}
	return list
}

// unheard is the finding for a call that the portal requires and nobody made.
func (t *Trial) unheard(c rulebook.Call) finding.Finding {
	f := finding.Finding{
		ID:      "trial-call",
		Message: fmt.Sprintf("%s was not heard, which %s requires", c.Call, t.Rules.Name),
		Fix:     fmt.Sprintf("call it in the game, or send the event %q (havvel hooks shows how)", c.Event),
	}
	if c.Event != "loading-begun" && c.Event != "loading-done" && len(t.Steps) == 0 {
		f.Level, f.Fix = finding.Note, "write steps under [trial] in havvel.toml that play up to it"
	}
	return f
}

// order judges whether a call came after what must come before it.
func (t *Trial) order(v *View, c rulebook.Call, at int) []finding.Finding {
	for _, event := range c.After {
		before := -1
		for _, h := range t.Rules.Hooks {
			for _, o := range h.At(event) {
				if i := firstOf(v.Heard, "call", o.Call); i >= 0 && (before < 0 || i < before) {
					before = i
				}
			}
		}
		if before < 0 || before > at {
			return []finding.Finding{
				{
					ID:      "trial-order",
					Message: fmt.Sprintf("%s came before the call of %s", c.Call, event),
					Fix:     "make the calls in the order in which the player comes to them",
				},
			}
		}
	}
	return nil
}

func firstOf(events []serve.Event, kind, name string) int {
	return slices.IndexFunc(events, func(e serve.Event) bool { return e.Kind == kind && e.Name == name })
}

func (r *viewer) host() string {
	if r.trial.Rules != nil {
		return r.trial.Rules.Name
	}
	return "this host"
}
