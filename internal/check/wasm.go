package check

import (
	"fmt"
	"strings"

	"havvel/internal/export"
	"havvel/internal/export/wasm"
	"havvel/internal/finding"
	"havvel/internal/settings"
)

var wasmChecks = []*Check{
	{
		ID:    "wasm-broken",
		Title: "A WebAssembly module is damaged",
		Level: finding.Error,
		Text: "The module ends too early, or is not one at all. The browser refuses it and the game stops on its loading bar. Most often a " +
			"copy or " +
			"download broke off, or a program took the file for a text and changed its bytes. Export the game again.",
		Before: "game.wasm, of which the end is missing",
		After:  "game.wasm, whole",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Kind == export.KindWasm && f.Damage != "" {
					p.report(finding.Finding{File: f.Path, Message: f.Damage, Fix: "export the game again"})
				}
				if low := strings.ToLower(f.Path); f.Kind != export.KindWasm &&
					(strings.HasSuffix(low, ".wasm") || strings.HasSuffix(low, ".wasm.gz") || strings.HasSuffix(low, ".wasm.br")) {
					p.report(
						finding.Finding{File: f.Path, Message: "its name is that of a WebAssembly module, but it is none", Fix: "export the game again"},
					)
				}
			}
		},
	},
	{
		ID:    "wasm-isolation",
		Title: "The game uses threads, and the host doesn't isolate its page",
		Level: finding.Error,
		Text: "A memory that is shared between threads is given only to pages that are served with the headers Cross-Origin-Opener-Policy and " +
			"Cross-Origin-Embedder-Policy. Without them the module can't start. Turn threads off in the engine's export settings, unless " +
			"the portal sends these headers.",
		Before: "a module with shared memory, on a portal that sends no isolation headers",
		After:  "the same game, exported without threads",
		Run: func(p *Pass) {
			f := p.Build.NeedsIsolation()
			if f == nil || p.Rules != nil && p.Rules.Serves.Isolation {
				return
			}
			if p.Rules == nil {
				p.report(
					finding.Finding{
						Level:   finding.Warning,
						File:    f.Path,
						Message: "it uses threads, so the page must be served with cross-origin isolation headers; many hosts don't send them",
						Fix:     "turn threads off in the engine's export settings, or choose a host that sends these headers",
					},
				)
				return
			}
			p.report(
				finding.Finding{
					File: f.Path,
					Message: fmt.Sprintf(
						"it uses threads, which need cross-origin isolation headers, and %s doesn't send them; the game can't start there",
						p.Rules.Name,
					),
					Fix: "turn threads off in the engine's export settings and export again",
				},
			)
		},
	},
	{
		ID:    "wasm-debug",
		Title: "WebAssembly carries names or debug information",
		Level: finding.Warning,
		Text: "Names of functions and debug information are for developers. They can be half of the module, and every player downloads " +
			"them. Export " +
			"a release build, without debug information.",
		Before: "game.wasm of 60 MB, 25 MB of them debug information",
		After:  "game.wasm of 35 MB",
		Run: func(p *Pass) {
			for _, f := range p.Build.Parts() {
				if f.Wasm != nil && f.Wasm.NameBytes > 200_000 {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: fmt.Sprintf("%s of it are names and debug information that players don't need", settings.Size(f.Wasm.NameBytes)),
							Fix:     "export a release build, without debug information",
						},
					)
				}
			}
		},
	},
	{
		ID:    "wasm-new",
		Title: "WebAssembly uses what not every browser has",
		Level: finding.Note,
		Text: "The module uses parts of WebAssembly that came late. Browsers that are a few years old, and some phones, can't run it. If " +
			"your players " +
			"have such devices, turn these parts off in the engine's export settings.",
		Before: "a module with 64-bit memory",
		After:  "a module with 32-bit memory",
		Run: func(p *Pass) {
			late := map[wasm.Feature]bool{
				wasm.Memory64:    true,
				wasm.RelaxedSIMD: true,
				wasm.GC:          true,
				wasm.MultiMemory: true,
				wasm.TailCalls:   true,
				wasm.Exceptions:  true,
			}
			for _, f := range p.Build.Parts() {
				if f.Wasm == nil {
					continue
				}
				var names []string
				for _, x := range f.Wasm.Features {
					if late[x] {
						names = append(names, string(x))
					}
				}
				if len(names) > 0 {
					p.report(
						finding.Finding{
							File:    f.Path,
							Message: "it uses " + strings.Join(names, ", ") + ", which browsers of a few years ago can't run",
							Fix:     "turn them off in the engine's export settings if your players have such browsers",
						},
					)
				}
			}
		},
	},
}
