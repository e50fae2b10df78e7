package cli

import (
	"context"
	"strings"

	"havvel/internal/app"
)

// runWhereServer prints the lines that a site's web server needs, and nothing else on standard output but comments in its language, so that
// they can be written into a file.
func (a *console) runWhereServer(ctx context.Context, k *app.Desk, f whereFlags) error {
	l, err := k.Server(ctx, f.server, f.password)
	if err != nil {
		return err
	}
	a.answer(l)
	s := a.screen
	s.Line("%s", strings.TrimRight(l.Lines, "\n"))
	if l.PasswordFile != "" {
		s.Line("\n# The file %s holds:\n# %s", l.PasswordFile, l.PasswordLine)
	}
	if len(l.Then) > 0 {
		s.Line("\n# Once that works, say so under [to.%s] in havvel.toml:\n# %s", l.Destination, strings.Join(l.Then, "\n# "))
	}
	return nil
}
