package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/atomicfile"
	"havvel/internal/inwords"
	"havvel/internal/rulebook"
	"havvel/internal/rulebook/draft"
)

func (a *console) rulesSchema() *cobra.Command {
	return a.new(command{
		use:   "schema",
		short: "The JSON Schema of rulebooks, for editors",
		long: "Schema prints the JSON Schema (2020-12) of rulebooks. Editors that know TOML complete and check by it, where the first line of\n" +
			"a rulebook names its file: #:schema ./rulebook.schema.json",
		example: "  havvel rules schema\n  havvel rules schema --json",
		args:    cobra.NoArgs,
		run: func(context.Context, []string) error {
			if a.answer(map[string]string{"schema": string(rulebook.Schema())}); a.json {
				return nil
			}
			_, err := a.out.Write(rulebook.Schema())
			return err
		},
	})
}

// newRules is what a new rulebook begins with.
type newRules struct {
	draft.Answers
	from string // an OpenAPI description
}

func (a *console) rulesNew() *cobra.Command {
	var n newRules
	c := a.new(command{
		use:   "new FILE",
		short: "Begin a rulebook of your own",
		long: "New writes a rulebook with a comment on everything that an upload needs, to be changed to what the portal wants. With\n" +
			"--from it takes what it can from the OpenAPI description of the portal's interface. On a terminal it asks for what no\n" +
			"flag says. The rulebook is without mistakes from the start, and havvel rules check says when a change made one.",
		example: "  havvel rules new our-portal.toml --address https://api.brackwater.example\n" +
			"  havvel rules new rulebooks/quiet.toml --from openapi.yaml",
		args: cobra.ExactArgs(1),
		run:  func(ctx context.Context, args []string) error { return a.runRulesNew(ctx, args[0], n) },
	})
	c.Flags().StringVar(&n.from, "from", "", "an OpenAPI `description` of the portal's interface: a file, as JSON or YAML")
	c.Flags().StringVar(&n.Name, "name", "", "the portal's `name` (from the file's)")
	c.Flags().StringVar(&n.Address, "address", "", "`where` the portal's interface is")
	c.Flags().StringVar(&n.HandOver, "hand-over", "", "`what` is handed over: zip (default), entry-apart, one-page or folder")
	c.Flags().StringVar(&n.LogIn, "log-in", "", "`how` the key travels: bearer (default), header, basic, digest, "+
		"client-credentials, device or none")
	c.Flags().StringVar(&n.Upload, "upload", "", "`how` a build travels: version-first (default), put, form or resumable")
	a.withDryRun(c, "print the rulebook, and write nothing")
	return c
}

func (a *console) runRulesNew(ctx context.Context, file string, n newRules) error {
	if !strings.HasSuffix(file, ".toml") {
		return wrong("havvel rules new", "%s is not the name of a rulebook's file, which ends in .toml", file)
	}
	if _, err := os.Stat(file); !a.dryRun && !errors.Is(err, fs.ErrNotExist) {
		return wrong("havvel rules new", "there is a %s already", file).Then("choose another name, or move it away first")
	}
	base := strings.TrimSuffix(filepath.Base(file), ".toml")
	n.Variable = strings.ToUpper(strings.NewReplacer("-", "_", ".", "_", " ", "_").Replace(base)) + "_KEY"
	text, found, err := a.drafted(ctx, n, strings.ToUpper(base[:1])+base[1:])
	if err != nil {
		return err
	}
	a.answer(newRulesJSON{file, string(text), found})
	if a.dryRun {
		a.screen.Line("%s", strings.TrimSpace(string(text)))
		return nil
	}
	if err := atomicfile.Bytes(file, text); err != nil {
		return fmt.Errorf("writing the rulebook: %w", err)
	}
	a.screen.Line("wrote %s", file)
	for _, f := range found {
		a.screen.Line("  %-9s %s %s", f.For, f.Method, inwords.Clean(f.Path))
	}
	if _, err := rulebook.Parse(file, text); err != nil {
		a.screen.Warn("some of it has to be changed first")
	}
	a.screen.Next("change it to what the portal wants, then: havvel rules check %s", file)
	return nil
}

// newRulesJSON is the document of havvel rules new.
type newRulesJSON struct {
	Rulebook string        `json:"rulebook"`
	Text     string        `json:"text"`
	Found    []draft.Found `json:"found"`
}

// drafted is the text of a new rulebook. What no flag says is asked on a terminal.
func (a *console) drafted(ctx context.Context, n newRules, name string) ([]byte, []draft.Found, error) {
	for _, x := range []struct {
		flag, value string
		of          []string
	}{{"--hand-over", n.HandOver, draft.HandOvers()}, {"--log-in", n.LogIn, draft.LogIns()}, {"--upload", n.Upload, draft.Uploads()}} {
		if x.value == "" {
			continue
		}
		if err := oneOf("havvel rules new", x.flag, x.value, x.of...); err != nil {
			return nil, nil, wrong("havvel rules new", "%w", err)
		}
	}
	if u, err := url.Parse(n.Address); n.Address != "" && (err != nil || u.Host == "") {
		return nil, nil, wrong("havvel rules new", "--address %s is no address, such as https://api.brackwater.example", n.Address)
	}
	if n.from != "" {
		return a.described(n)
	}
	if k := a.asker(); k != nil && !a.dryRun {
		if err := k.portal(ctx, name, &n.Answers); err != nil {
			return nil, nil, err
		}
	}
	n.Name, n.Address = cmp.Or(n.Name, name), cmp.Or(n.Address, "https://api.portal.example")
	n.HandOver, n.LogIn, n.Upload = cmp.Or(n.HandOver, "zip"), cmp.Or(n.LogIn, "bearer"), cmp.Or(n.Upload, "version-first")
	text, err := draft.Blank(n.Answers)
	return text, []draft.Found{}, err
}

// described is the text of a rulebook by an OpenAPI description.
func (a *console) described(n newRules) ([]byte, []draft.Found, error) {
	if n.Upload != "" {
		return nil, nil, wrong("havvel rules new", "--upload and --from can't be together: the description says how uploads go")
	}
	data, err := os.ReadFile(n.from)
	if err != nil {
		return nil, nil, wrong("havvel rules new", "--from: %w", err)
	}
	n.HandOver = cmp.Or(n.HandOver, "zip")
	text, found, err := draft.FromOpenAPI(data, n.Answers)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", n.from, err)
	}
	return text, found, nil
}

// portal asks for what has to be known of one.
func (k *asker) portal(ctx context.Context, name string, n *draft.Answers) error {
	for _, q := range []struct {
		words string
		of    []string
		into  *string
	}{
		{"The portal's name (Enter: " + name + "): ", nil, &n.Name},
		{"Where its interface is, such as https://api.brackwater.example (Enter: later): ", nil, &n.Address},
		{"What you hand over: " + strings.Join(draft.HandOvers(), ", ") + " (Enter: zip): ", draft.HandOvers(), &n.HandOver},
		{"How it takes your key: " + strings.Join(draft.LogIns(), ", ") + " (Enter: bearer): ", draft.LogIns(), &n.LogIn},
		{"How a build travels: " + strings.Join(draft.Uploads(), ", ") + " (Enter: version-first): ", draft.Uploads(), &n.Upload},
	} {
		if *q.into != "" {
			continue
		}
		if err := k.choose(ctx, q.words, q.of, q.into); err != nil {
			return err
		}
	}
	return nil
}
