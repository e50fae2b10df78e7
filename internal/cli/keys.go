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

	"havvel/internal/inwords"
	"havvel/internal/keys"
	"havvel/internal/project"
)

func (a *console) keys() *cobra.Command {
	return a.group(command{
		use:   "keys",
		short: "Set, list and forget the credentials of destinations",
		long: "A key is a destination's credentials: a token, a password, the passphrase of a private key, or a key pair as ID:SECRET. Keys " +
			"are kept in\n" +
			"a file that only you can read, each bound to the host that it was set for; they are never printed. An environment\n" +
			"variable that havvel.toml names takes precedence over a stored key, as on a build server.",
		example: "  havvel keys set brackwater\n  havvel keys list",
	}, a.keysSet(), a.keysList(), a.keysForget())
}

func (a *console) keysSet() *cobra.Command {
	return a.new(command{
		use:   "set DESTINATION [VALUE]",
		short: "Store the key of a destination",
		long: "Set asks for the key of a destination in havvel.toml, without showing it, and stores it. When standard input is not " +
			"a\nterminal, the key is its first line. VALUE names another secret that the destination's rulebook asks for; on a terminal\nset " +
			"asks for all that are missing.",
		example: "  havvel keys set brackwater\n  havvel keys set shed < key.txt",
		args:    cobra.RangeArgs(1, 2),
		run:     func(ctx context.Context, args []string) error { return a.runKeysSet(ctx, args[0], args[1:]...) },
	})
}

func (a *console) runKeysSet(ctx context.Context, name string, value ...string) error {
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
		return wrong("havvel keys", "%s is a folder of this machine, which needs no key", name)
	}
	secrets, err := secretsOf(d, value)
	if err != nil {
		return err
	}
	doc := keysJSON{Keys: []keyRow{}}
	for i, x := range secrets {
		if i > 0 && (a.asker() == nil || ctx.Err() != nil) {
			a.screen.Warn("%s needs %s, too: havvel keys set %s %s stores it", d.Name, x.value, d.Name, x.value)
			continue
		}
		text, err := a.secret(x.what)
		if err != nil {
			return err
		}
		now := time.Now().UTC().Truncate(time.Second)
		if err := keys.Open().Set(keys.Key{Name: x.keptAs, Host: d.Host(), Secret: text, Set: now}); err != nil {
			return err
		}
		doc.Keys = append(doc.Keys, keyRow{x.keptAs, d.Host(), now.Format(time.RFC3339)})
		a.screen.Line("the key for %s is stored; it is only ever sent to %s", x.keptAs, d.Host())
		if x.variable != "" && os.Getenv(x.variable) != "" {
			a.screen.Warn("the environment variable %s is set, too, and takes precedence", x.variable)
		}
	}
	a.answer(doc)
	a.screen.Next("havvel send --to %s --dry-run", d.Name)
	return nil
}

// A wantedSecret is one that a destination needs.
type wantedSecret struct{ value, what, keptAs, variable string }

// secretsOf are the key of a destination and what else it needs and was not stored, or the one value that was named.
func secretsOf(d *project.Destination, value []string) ([]wantedSecret, error) {
	var list []wantedSecret
	if len(value) == 0 {
		where := ""
		if d.Rules.Key.Where != "" {
			where = " (" + d.Rules.Key.Where + ")"
		}
		list = append(list, wantedSecret{"", "key for " + d.Name + where, d.Name, strings.TrimPrefix(d.Key, "env:")})
		missing, err := d.Missing()
		if err != nil {
			return nil, err
		}
		for _, v := range missing {
			value = append(value, v.Name)
		}
	}
	for _, name := range value {
		what, err := valueOf(d, name)
		if err != nil {
			return nil, err
		}
		list = append(list, wantedSecret{name, what, d.KeyOf(name), d.VariableOf(name)})
	}
	return list, nil
}

// valueOf says what a secret value of a destination is.
func valueOf(d *project.Destination, name string) (string, error) {
	var known []string
	for _, v := range d.Rules.Values {
		if v.Name == name && v.Secret {
			return fmt.Sprintf("%s for %s (%s)", name, d.Name, v.Says), nil
		}
		if v.Secret {
			known = append(known, v.Name)
		}
	}
	if len(known) == 0 {
		return "", wrong("havvel keys set", "%s has no secret beside its key", d.Name)
	}
	return "", wrong("havvel keys set", "%q is no secret of %s; %s", name, d.Name, inwords.There(known))
}

// longestKey is the longest key that is taken, in bytes.
const longestKey = 16 << 10

// secret asks for something secret on a terminal, or reads it from standard input.
func (a *console) secret(what string) (string, error) {
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
		return "", wrong("havvel", "no %s was given", what)
	}
	return line, nil
}

func (a *console) keysList() *cobra.Command {
	c := a.new(command{
		use:     "list",
		short:   "List stored keys",
		long:    "List names the destinations for which a key is stored, and the host that each belongs to. Keys are never printed.",
		example: "  havvel keys list\n  havvel keys list --json",
		args:    cobra.NoArgs,
		run:     func(context.Context, []string) error { return a.runKeysList() },
	})
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

func (a *console) runKeysList() error {
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
	a.answer(doc)
	if len(rows) == 0 {
		a.screen.Line("no key is stored")
		a.screen.Next("havvel keys set DESTINATION  (in the folder of your game)")
		return nil
	}
	a.screen.Table([]string{"destination", "only sent to", "set"}, rows)
	a.screen.Line("kept in %s", inwords.Near(ring.Path()))
	return nil
}

func (a *console) keysForget() *cobra.Command {
	c := a.new(command{
		use:     "forget DESTINATION",
		short:   "Remove a stored key",
		long:    "Forget removes the stored key of a destination, for all hosts that it was set for.",
		example: "  havvel keys forget brackwater\n  havvel keys forget shed --dry-run",
		args:    cobra.ExactArgs(1),
		run:     func(_ context.Context, args []string) error { return a.runKeysForget(args[0]) },
	})
	a.withDryRun(c, "say whether there is one, and keep it")
	return c
}

func (a *console) runKeysForget(name string) error {
	ring := keys.Open()
	list, err := ring.List()
	if err != nil {
		return err
	}
	doc := keysJSON{Keys: []keyRow{}}
	for _, k := range list {
		if k.Name == name {
			doc.Keys = append(doc.Keys, keyRow{k.Name, k.Host, k.Set.Format(time.RFC3339)})
		}
	}
	if len(doc.Keys) == 0 {
		return refused("no key is stored for %s", name).Then("havvel keys list shows those that are")
	}
	a.answer(doc)
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
