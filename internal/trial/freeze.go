package trial

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"havvel/internal/browser"
	"havvel/internal/finding"
	"havvel/internal/settings"
)

// fell reports whether the game's page crashed. Where it had started, that is a finding of its own.
func (r *viewer) fell(ctx context.Context) bool {
	if _, _, crashed := r.watch.work(r.seen.began); !crashed || ctx.Err() != nil {
		return false
	}
	f := finding.Finding{
		ID: "trial-freeze", Message: "the page crashed after the start; most often it took more memory than the browser gives" + r.had(),
		Fix: "havvel look shows what takes memory; watch what grows while you play",
	}
	if !r.seen.Started {
		f.ID, f.Message = "trial-start", "the page crashed; most often it took more memory than the browser gives"
	}
	r.seen.Problems = append(r.seen.Problems, f)
	return true
}

// had says how much memory the game had when it was asked last.
func (r *viewer) had() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	n := len(r.seen.Memory)
	if n == 0 || r.seen.Memory[n-1].Heap == 0 {
		return ""
	}
	m := r.seen.Memory[n-1]
	return fmt.Sprintf("; it had %s of scripts' objects and %s of WebAssembly", settings.Size(m.Heap), settings.Size(m.Wasm))
}

// froze reports whether an error comes from a game that had started, and then kept its page from answering. Where the machine gave the
// browser too little time to know, that is said, and it is no error.
func (r *viewer) froze(ctx context.Context, err error) bool {
	if !errors.Is(err, browser.ErrNoAnswer) || !r.seen.Started || ctx.Err() != nil {
		return false
	}
	f := finding.Finding{
		ID: "trial-freeze", Message: "the game froze after its start: the page no longer answers",
		Fix: "look for a loop there that never ends",
	}
	wall, own := r.pulse.since(r.lastAnswer())
	if _, err := r.ask(ctx); err == nil {
		f.Level = finding.Warning
		f.Message = "the page didn't answer for a while after the game's start, and then did; whether the game stood still can't be told"
		f.Fix = "run the same command again, when the machine has less to do"
	} else if own < wall/2 {
		f.Level = finding.Warning
		f.Message = "the page stopped answering after the game's start; this machine was busy, so whether the game froze can't be told"
		f.Fix = "run the same command again, when the machine has less to do"
	}
	r.running(ctx, &f)
	f.Message += r.had()
	r.seen.Problems = append(r.seen.Problems, f)
	return true
}

func (r *viewer) lastAnswer() mark {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.answered
}

// running adds which script runs, where the browser tells.
func (r *viewer) running(ctx context.Context, f *finding.Finding) {
	stack, err := r.tab.Running(ctx)
	if err != nil || len(stack) == 0 {
		return // there is no more to say
	}
	at := r.watch.place(stack)
	f.File, f.Line, f.Column = at.File, at.Line, at.Column
	var calls []string
	for _, p := range stack[:min(len(stack), 6)] {
		name := p.Function
		if name == "" {
			name = "a function without a name"
		}
		file, _ := r.watch.inside(p.Address)
		calls = append(calls, fmt.Sprintf("%s (%s:%d)", name, file, p.Line))
	}
	f.Message += "; a script runs: " + strings.Join(calls, ", called by ")
}
