package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	xterm "golang.org/x/term"

	"havvel/internal/cli/term"
	"havvel/internal/keys"
)

func (a *app) keys() *cobra.Command {
	return a.group(command{
		use:   "keys",
		short: "Set, list and forget what destinations need to let us in",
		long: "A key is what lets us in: a token, a password, the passphrase of a key file, or a key pair as ID:SECRET. Keys are kept in\n" +
			"a file that only you can read, each bound to the host that it was set for; they are never printed. An environment\n" +
			"variable that havvel.toml names goes before a stored key, as on a build server.",
		example: "  havvel keys set brackwater\n  havvel keys list",
	}, a.keysSet(), a.keysList(), a.keysForget())
}

func (a *app) keysSet() *cobra.Command {
	return a.new(command{
		use:     "set DESTINATION",
		short:   "Store the key of a destination",
		long:    "Set asks for the key of a destination in havvel.toml, without showing it, and stores it. When standard input is not a\nterminal, the key is its first line.",
		example: "  havvel keys set brackwater\n  havvel keys set shed < key.txt",
		args:    cobra.ExactArgs(1),
		run:     func(_ context.Context, args []string) error { return a.runKeysSet(args[0]) },
	})
}

func (a *app) runKeysSet(name string) error {
	p, err := a.project()
	if err != nil {
		return err
	}
	list, err := p.Destinations([]string{name})
	if err != nil {
		return err
	}
	d := list[0]
	if d.Host() == "" {
		return &usage{fmt.Sprintf("%s is a folder of this machine, which needs no key", name), "havvel keys"}
	}
	where := ""
	if d.Rules.Key.Where != "" {
		where = " (" + d.Rules.Key.Where + ")"
	}
	secret, err := a.secret("key for " + d.Name + where)
	if err != nil {
		return err
	}
	ring := keys.Open()
	if err := ring.Set(keys.Key{Name: d.Name, Host: d.Host(), Secret: secret, Set: time.Now().UTC().Truncate(time.Second)}); err != nil {
		return err
	}
	a.screen.Line("the key for %s is stored; it is told to %s only", d.Name, d.Host())
	if variable, ok := strings.CutPrefix(d.Key, "env:"); ok && os.Getenv(variable) != "" {
		a.screen.Warn("the environment variable %s is set, too, and goes before it", variable)
	}
	a.screen.Next("havvel send --to %s --dry-run", d.Name)
	return nil
}

// longestKey is the longest key that is taken, in bytes.
const longestKey = 16 << 10

// secret asks for something secret on a terminal, or reads it from standard input.
func (a *app) secret(what string) (string, error) {
	var line string
	if f, ok := a.in.(*os.File); ok && xterm.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(a.err, "%s, which is not shown: ", what)
		data, err := xterm.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		if err != nil {
			return "", fmt.Errorf("reading the %s: %w", what, err)
		}
		line = string(data)
	} else {
		text, err := bufio.NewReader(io.LimitReader(a.in, longestKey)).ReadString('\n')
		if err != nil && err != io.EOF {
			return "", fmt.Errorf("reading the %s: %w", what, err)
		}
		line = text
	}
	if line = strings.TrimSpace(line); line == "" {
		return "", &usage{"no " + what + " came", "havvel"}
	}
	return line, nil
}

func (a *app) keysList() *cobra.Command {
	c := a.new(command{
		use:     "list",
		short:   "Which keys are stored",
		long:    "List names the destinations for which a key is stored, and the host that each belongs to. Keys are never printed.",
		example: "  havvel keys list\n  havvel keys list --json",
		args:    cobra.NoArgs,
		run:     func(context.Context, []string) error { return a.runKeysList() },
	})
	a.withJSON(c)
	return c
}

type keysJSON struct {
	Keys []keyRow `json:"keys"`
}

type keyRow struct {
	Destination string `json:"destination"`
	Host        string `json:"host"`
	Set         string `json:"set"`
}

func (a *app) runKeysList() error {
	ring := keys.Open()
	list, err := ring.List()
	if err != nil {
		return err
	}
	doc := keysJSON{Keys: []keyRow{}}
	var rows [][]string
	for _, k := range list {
		doc.Keys = append(doc.Keys, keyRow{k.Name, k.Host, k.Set.Format(time.RFC3339)})
		rows = append(rows, []string{k.Name, k.Host, k.Set.Local().Format("2 Jan 2006")})
	}
	if a.json {
		return a.screen.JSON(doc)
	}
	if len(rows) == 0 {
		a.screen.Line("no key is stored")
		a.screen.Next("havvel keys set DESTINATION  (in the folder of your game)")
		return nil
	}
	a.screen.Table([]string{"destination", "told to", "set"}, rows)
	a.screen.Line("kept in %s", term.Near(ring.Path()))
	return nil
}

func (a *app) keysForget() *cobra.Command {
	c := a.new(command{
		use:     "forget DESTINATION",
		short:   "Take a stored key away",
		long:    "Forget takes the stored key of a destination away, for all hosts that it was set for.",
		example: "  havvel keys forget brackwater\n  havvel keys forget shed --dry-run",
		args:    cobra.ExactArgs(1),
		run:     func(_ context.Context, args []string) error { return a.runKeysForget(args[0]) },
	})
	a.withDryRun(c, "say whether there is one, and keep it")
	return c
}

func (a *app) runKeysForget(name string) error {
	ring := keys.Open()
	list, err := ring.List()
	if err != nil {
		return err
	}
	n := 0
	for _, k := range list {
		if k.Name == name {
			n++
		}
	}
	if n == 0 {
		return &notReady{fmt.Sprintf("no key is stored for %s\n  havvel keys list shows those that are", name)}
	}
	if a.dryRun {
		a.screen.Line("the key for %s would be forgotten", name)
		return nil
	}
	if _, err := ring.Forget(name); err != nil {
		return err
	}
	a.screen.Line("the key for %s is forgotten", name)
	return nil
}
