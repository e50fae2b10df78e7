package proof

import (
	"cmp"
	"context"
	"regexp"
	"slices"
	"strings"

	"havvel/internal/export"
	"havvel/internal/finding"
	"havvel/internal/trial"
)

// A Run is what one side did.
type Run struct {
	Browser string            `json:"browser"` // with its version
	Answer  trial.Answer      `json:"answer"`  // whether it starts
	Why     string            `json:"why,omitempty"`
	StartMS int               `json:"start_ms"`
	Failed  []Asked           `json:"failed,omitempty"` // what was asked for in vain
	Loaded  []string          `json:"loaded,omitempty"` // files of the game that came before it had started, by path
	Later   []string          `json:"later,omitempty"`  // files that came after that
	Said    []finding.Finding `json:"said,omitempty"`   // exceptions, errors on the console, what the browser forbade
	Heard   []string          `json:"heard,omitempty"`  // calls and events, each once
	Steps   []string          `json:"steps,omitempty"`  // those that failed, with why

	Inferred []Inferred     `json:"inferred,omitempty"` // events that pack's adapter found out, in their order
	Picture  []byte         `json:"picture,omitempty"`
	First    *trial.First   `json:"first,omitempty"`  // what that looks like from afar
	Sights   []export.Sight `json:"sights,omitempty"` // what the run shows of the build's links
}

// An Inferred event is one that pack's adapter found out and sent.
type Inferred struct {
	Event string `json:"event"`
	MS    int    `json:"after_ms"` // since the page began, when it was sent first
}

// Asked is a request that failed.
type Asked struct {
	Path   string `json:"path"` // inside the game's folder where it leads there, or the whole address
	Why    string `json:"why"`
	By     string `json:"by,omitempty"` // the file that asked
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

func (s side) run(ctx context.Context, program string) (*Run, error) {
	v, err := s.trial.Beside(ctx, program, s.view)
	if err != nil {
		return nil, err
	}
	return runOf(v, s.trial), nil
}

// runOf takes from a view what can be compared.
func runOf(v *trial.View, t *trial.Trial) *Run {
	r := &Run{Browser: v.Browser, Answer: v.Answer, Why: v.Why, StartMS: v.StartMS, First: v.First()}
	r.Sights = (&trial.Result{Views: []*trial.View{v}}).Sights()
	for _, q := range v.Requests {
		r.asked(q, v.StartMS, t)
	}
	for _, f := range v.Problems {
		if t.Page != "" && f.File == "" {
			continue // perhaps of the page around the game
		}
		switch f.ID {
		case "trial-exception", "trial-console", "trial-blocked", "trial-dialog", "trial-away", "trial-freeze":
			r.Said = append(r.Said, f)
		}
	}
	for _, e := range v.Heard {
		if name := e.Kind + " " + e.Name; !slices.Contains(r.Heard, name) {
			r.Heard = append(r.Heard, name)
			if e.Kind == "event" && e.Inferred() {
				r.Inferred = append(r.Inferred, Inferred{e.Name, int(e.At)})
			}
		}
	}
	for i, d := range v.Did {
		if d.Failed != "" {
			r.Steps = append(r.Steps, t.Steps[min(i, len(t.Steps)-1)].Line+": "+d.Failed)
		}
	}
	for _, p := range v.Pictures {
		if p.Name == "start" || r.Picture == nil {
			r.Picture = p.PNG
		}
	}
	return r
}

// asked notes a request, by how it ended, and by whether the game had started then.
func (r *Run) asked(q *trial.Request, started int, t *trial.Trial) {
	path := inside(q.Path, t)
	portals := t.Page != "" && (q.Foreign || strings.HasPrefix(q.Path, "/")) || t.Hook(q.Path)
	givenUp := q.Failed == "net::ERR_ABORTED" || q.Failed == "NS_BINDING_ABORTED"
	switch {
	case portals:
	case q.Status >= 400 || q.Failed != "" && !givenUp:
		r.Failed = append(r.Failed, Asked{path, cmp.Or(q.Failed, q.Refused()), q.By, q.Line, q.Column})
	case q.Foreign || q.EndMS <= 0:
	case started > 0 && q.StartMS > float64(started):
		r.Later = append(r.Later, path)
	case !slices.Contains(r.Loaded, path):
		r.Loaded = append(r.Loaded, path)
	}
}

// inside is where a path leads in the game's folder, also one that starts at the host's root where the game expects to be.
func inside(path string, t *trial.Trial) string {
	if !strings.HasPrefix(path, "/") || t.Build == nil {
		return path
	}
	if rest, ok := strings.CutPrefix(path, t.Build.Root()); ok {
		return rest
	}
	return path[1:]
}

var (
	addresses = regexp.MustCompile(`(?i)\b(?:https?|blob|data|held):[^\s"'<>)]+`)
	numbers   = regexp.MustCompile(`\d+`)
)

// same is a message without what differs from run to run, and from host to host: addresses, and numbers.
func same(message string) string {
	return numbers.ReplaceAllString(addresses.ReplaceAllStringFunc(message, func(a string) string {
		a, _, _ = strings.Cut(a, "?")
		return a[strings.LastIndexByte(a, '/')+1:]
	}), "0")
}
