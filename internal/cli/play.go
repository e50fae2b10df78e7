package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/serve"
	"havvel/internal/settings"
)

// playFlags are what play takes.
type playFlags struct {
	as, slow string
	lan      bool
	port     int
}

func (a *console) play() *cobra.Command {
	var f playFlags
	c := a.new(command{
		use:   "play [EXPORT]",
		short: "Serve the build here as a portal would",
		long: "Play serves an export, or an archive, on this machine: over HTTP, with right types and headers, in a page with the windows " +
			"in which\n" +
			"players see it. With --as it is packed for a destination and served as that does, with stand-ins for its scripts; what the game\n" +
			"calls, and what goes wrong, appears here as it happens. When the export changes, the page loads it anew. Ctrl-C ends it.",
		example: "  havvel play\n  havvel play --as brackwater --lan",
		args:    cobra.MaximumNArgs(1),
		run:     func(ctx context.Context, args []string) error { return a.runPlay(ctx, args, f) },
	})
	c.Flags().StringVar(&f.as, "as", "", "pack it for this `destination`, and serve it as that does")
	c.Flags().BoolVar(&f.lan, "lan", false, "let others on the same network play, too, such as your phone")
	c.Flags().StringVar(&f.slow, "slow", "", "imitate a line of this `speed` in bytes a second, such as 500KB")
	a.withPort(c, &f.port, 0, 0, "`port` of the page (any that is free)")
	a.withEntry(c)
	c.RegisterFlagCompletionFunc("as", a.destinationNames)
	return c
}

func (a *console) runPlay(ctx context.Context, args []string, f playFlags) error {
	serveOften()
	config := serve.Config{LAN: f.lan, Port: f.port, Heard: a.heard()}
	if f.slow != "" {
		var speed settings.Size
		if err := speed.UnmarshalText([]byte(strings.TrimSuffix(f.slow, "/s"))); err != nil || speed <= 0 {
			return wrong("havvel play", "--slow is %q; write a speed such as 500KB", f.slow)
		}
		config.Slow = int64(speed)
	}
	b, d, mark, err := a.playable(ctx, args, f.as, "")
	if err != nil {
		return err
	}
	config.Build, config.Title = b, app.TitleOf(b)
	if d != nil {
		config.Rules = d.Rules
	}
	server, err := serve.Start(config)
	if err != nil {
		return err
	}
	defer server.Close()
	a.sayPlaying(server, b, d, f.lan)
	for {
		select {
		case <-ctx.Done():
			a.tell(map[string]string{"event": "ended"})
			a.screen.Line("")
			return nil
		case <-time.After(time.Second):
		}
		now, _, fresh, err := a.playable(ctx, args, f.as, mark)
		if err != nil || now == nil {
			continue // as while the engine is still writing
		}
		mark = fresh
		server.Replace(now)
		a.tell(map[string]string{"event": "changed"})
		a.screen.Line("%s  the export changed; the page loads it anew", clock())
	}
}

// playable is what is served: the export, or what would be packed of it. mark changes when the export does; nil is returned
// when it is still the one of before.
func (a *console) playable(
	ctx context.Context,
	args []string,
	as, before string,
) (b *export.Build, d *project.Destination, mark string, err error) {
	p, b, err := app.Open(ctx, args, a.entry, app.Known)
	if err != nil {
		return nil, nil, "", err
	}
	if mark = b.Fingerprint; mark == before {
		return nil, nil, mark, b.Close()
	}
	if b.Entry == nil {
		b.Close()
		return nil, nil, "", &export.Unreadable{
			Path:   b.Path,
			Reason: "there is no page in it that could be played",
			Next:   "name the folder or zip that the engine wrote",
		}
	}
	if as == "" {
		return b, nil, mark, nil
	}
	if p == nil {
		_, err := a.project()
		return nil, nil, "", err
	}
	list, err := p.Destinations([]string{as})
	if err != nil {
		return nil, nil, "", err
	}
	result, err := app.AsPacked(ctx, p, list[0], b, a.screen.Progress())
	return result, list[0], mark, err
}

func (a *console) sayPlaying(server *serve.Server, b *export.Build, d *project.Destination, lan bool) {
	s := a.screen
	as := "a plain host"
	if d != nil {
		as = d.Rules.Name
	}
	a.tell(map[string]string{"event": "listening", "page": server.Page, "game": server.Game})
	s.Line("%s as on %s: %s", inwords.Clean(app.TitleOf(b)), as, s.In(term.Strong, server.Page))
	s.Line("%s", s.In(term.Quiet, "the game alone: "+server.Game))
	if lan {
		a.code(server.Page)
		s.Line("")
		s.Line("%s", s.In(term.Quiet, "anybody on the same network who has this link can play, until Ctrl-C"))
		s.Line("%s", s.In(term.Quiet, "the browser warns once: nobody vouches for the certificate, which was made just now. Go on to the page"))
	}
	s.Next("open the link in a browser; what the game calls, and what goes wrong, appears here. Ctrl-C ends it")
}

func clock() string { return time.Now().Format("15:04:05") }

// playedJSON is one thing that the game said.
type playedJSON struct {
	Event     string `json:"event"`
	Name      string `json:"name,omitempty"`
	Arguments any    `json:"arguments,omitempty"`
	Detail    any    `json:"detail,omitempty"`
	Message   string `json:"message,omitempty"`
	File      string `json:"file,omitempty"`
	Line      int    `json:"line,omitempty"`
	Column    int    `json:"column,omitempty"`
}

// heard prints what the game says.
func (a *console) heard() func(serve.Event) {
	s := a.screen
	return func(e serve.Event) {
		a.tell(playedJSON{e.Kind, e.Name, e.Arguments, e.Detail, e.Message, e.File, e.Line, e.Column})
		at := s.In(term.Quiet, clock())
		switch e.Kind {
		case "call":
			s.Line("%s  %s", at, s.In(term.Good, inwords.Clean(e.Name+"("+argumentsOf(e.Arguments)+")")))
		case "event":
			s.Line("%s  %s", at, s.In(term.Quiet, inwords.Clean("event "+e.Name+detailOf(e.Detail))))
		case "missing":
			if e.Name != "favicon.ico" {
				s.Line("%s  %s", at, s.In(term.Careful, inwords.Clean("there is no file "+e.Name)))
			}
		case "error":
			place := ""
			if e.File != "" {
				place = fmt.Sprintf("  %s:%d:%d", shortFile(e.File), e.Line, e.Column)
			}
			s.Line("%s  %s", at, s.In(term.Bad, inwords.Clean(e.Message+place)))
		}
	}
}

// shortFile is the path of a file of the game, without the server's address.
func shortFile(address string) string {
	if _, rest, ok := strings.Cut(address, "://"); ok {
		_, address, _ = strings.Cut(rest, "/")
	}
	return address
}

// argumentsOf are the arguments of a call as they would stand in a script.
func argumentsOf(list json.RawMessage) string {
	return strings.TrimSuffix(strings.TrimPrefix(string(list), "["), "]")
}

// detailOf is what an event says besides its name.
func detailOf(detail json.RawMessage) string {
	var more map[string]any
	if json.Unmarshal(detail, &more) != nil {
		return ""
	}
	delete(more, "event")
	if len(more) == 0 {
		return ""
	}
	text, err := json.Marshal(more)
	if err != nil {
		return ""
	}
	return " " + string(text)
}
