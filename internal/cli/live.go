package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"html"
	"os/exec"
	"runtime"
	"time"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/cli/term"
	"havvel/internal/deliver"
	"havvel/internal/inwords"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// withNotice adds the flag that names a command to be told of changes.
func (a *console) withNotice(c *cobra.Command) {
	c.Flags().
		StringVar(&a.onChange, "on-change", "",
			"run this `command` when a delivery's state changed, with the delivery as JSON on its standard input")
}

// noticeLimit is how long such a command may take.
const noticeLimit = time.Minute

// notice tells the user's command of a delivery. When that fails, it is said, and nothing else changes.
func (a *console) notice(ctx context.Context, st *deliver.Status) {
	if a.onChange == "" || a.dryRun || st == nil {
		return
	}
	data, err := json.Marshal(app.Told(st))
	if err == nil {
		ctx, stop := context.WithTimeout(ctx, noticeLimit)
		defer stop()
		shell, flag := "sh", "-c"
		if runtime.GOOS == "windows" {
			shell, flag = "cmd", "/c"
		}
		c := exec.CommandContext(ctx, shell, flag, a.onChange)
		c.Stdin, c.Stdout, c.Stderr = bytes.NewReader(append(data, '\n')), a.err, a.err
		err = c.Run()
	}
	if err != nil {
		a.screen.Warn("the command of --on-change failed: %v", err)
	}
}

// showLive prints what players get of a delivery.
func (a *console) showLive(e app.Looked) {
	s, d, seen := a.screen, e.At, e.Live
	if e.Err != nil {
		s.Warn("what players get could not be looked at: %v\n  havvel where --live --to %s looks again", e.Err, d.Name)
		return
	}
	if n := len(seen.Differences); n == 0 {
		files := inwords.Of(seen.Files, "1 file", fmt.Sprintf("%d files", seen.Files))
		s.Line("  %s", s.In(term.Good, fmt.Sprintf("looked at what players get: %s, %s, all as sent", files, settings.Size(seen.Bytes))))
		return
	} else {
		things := inwords.Of(n, "1 thing", fmt.Sprintf("%d things", n))
		s.Line("  %s", s.In(term.Bad, fmt.Sprintf("%s that players get from %s differ from what was sent:", things, d.Name)))
	}
	for i, x := range seen.Differences {
		if i == mostDifferences {
			s.Line("    and %d more; havvel where --live --json lists all", len(seen.Differences)-i)
			break
		}
		s.Paragraph(term.Plain, "    - ", "      ", inwords.Clean(x.File+": "+x.Says))
		s.Paragraph(term.Quiet, "      → ", "        ", x.Fix)
	}
}

// mostDifferences is how many differences are printed.
const mostDifferences = 8

// share prints lines that can be pasted, and the link as a code for phones.
func (a *console) share(p *project.Project, st *deliver.Status, password bool) {
	s := a.screen
	link := st.Link()
	if link == "" {
		s.Line("no link to %s on %s: %s (state: %s)", st.Version, st.Destination, app.NoLink(p.To[st.Destination]), st.State)
		return
	}
	s.Line("")
	s.Line("Play %s %s in your browser:", p.Game.Title, st.Version)
	s.Line("%s", inwords.Clean(link))
	if word := p.To[st.Destination].PagePassword(); password && word != "" {
		if p.To[st.Destination].SiteAddress() != nil {
			s.Line("User: %s", deliver.PagesUser)
		}
		s.Line("Password: %s", inwords.Clean(word))
	}
	if st.State != rulebook.Public {
		s.Line("It is not public: please don't pass the link on.")
	}
	a.code(link)
	if d := p.To[st.Destination]; d.SiteAddress() != nil && st.State == rulebook.Public {
		a.embed(p, d, link)
	}
}

// embed prints the code that puts a game on a site into another page.
func (a *console) embed(p *project.Project, d *project.Destination, link string) {
	size := p.ListingFor(d).Frame
	if size[0] == 0 || size[1] == 0 {
		size = [2]int{960, 540}
	}
	allow := "autoplay; fullscreen; gamepad; clipboard-write"
	if d.Isolation {
		allow += "; cross-origin-isolated"
	}
	a.screen.Line("\nTo show it in another page:")
	a.screen.Line(`<iframe src="%s" width="%d" height="%d" title="%s" allow="%s" style="border:0"></iframe>`,
		html.EscapeString(link), size[0], size[1], html.EscapeString(p.Game.Title), allow)
	if d.Isolation {
		a.screen.Line("That page has to send the isolation headers, too, or the game has no threads there.")
	}
}
