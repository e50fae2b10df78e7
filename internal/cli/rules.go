package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/fault"
	"havvel/internal/inwords"
	"havvel/internal/pictures"
	"havvel/internal/rulebook"
)

func (a *console) rules() *cobra.Command {
	return a.group(command{
		use:   "rules",
		short: "List, show, begin, check and try rulebooks",
		long: "A rulebook says what one portal accepts and how to talk to it. Some ship with havvel; a portal that it doesn't know\nonly " +
			"needs a rulebook that you write: havvel rules new begins one, and havvel help rulebook explains its keys.",
		example: "  havvel rules list\n  havvel rules show brackwater",
	}, a.rulesList(), a.rulesShow(), a.rulesNew(), a.rulesCheck(), a.rulesTry(), a.rulesTest(), a.rulesSchema())
}

func (a *console) rulesList() *cobra.Command {
	c := a.new(command{
		use:     "list",
		short:   "The rulebooks that ship with havvel",
		long:    "List names the rulebooks that ship with havvel, as destinations in havvel.toml name them.",
		example: "  havvel rules list\n  havvel rules list --json",
		args:    cobra.NoArgs,
		run:     func(context.Context, []string) error { return a.runRulesList() },
	})
	return c
}

type rulesJSON struct {
	Rulebooks []rulesRow `json:"rulebooks"`
}

type rulesRow struct {
	Rulebook string `json:"rulebook"`
	Name     string `json:"name"`
	About    string `json:"about"`
	HandOver string `json:"hand_over"`
	Limit    int64  `json:"limit"`
	Sends    bool   `json:"sends"`
}

func rowOf(name string, r *rulebook.Rulebook) rulesRow {
	return rulesRow{name, r.Name, r.About, r.Archive.HandOver, int64(r.Archive.Limit), len(r.Send) > 0}
}

func (a *console) runRulesList() error {
	doc := rulesJSON{Rulebooks: []rulesRow{}}
	for _, name := range rulebook.Names() {
		r, err := rulebook.Find(name, ".")
		if err != nil {
			return err
		}
		doc.Rulebooks = append(doc.Rulebooks, rowOf(name, r))
	}
	a.answer(doc)
	for _, r := range doc.Rulebooks {
		a.screen.Line("%s", a.screen.In(term.Strong, r.Rulebook))
		a.screen.Paragraph(term.Plain, "  ", "  ", r.About)
	}
	a.screen.Next("havvel rules show %s  (what it asks for)", doc.Rulebooks[0].Rulebook)
	return nil
}

func (a *console) rulesShow() *cobra.Command {
	var whole bool
	c := a.new(command{
		use:   "show NAME",
		short: "What a rulebook asks for",
		long: "Show says in words what a portal asks for. NAME is a rulebook that ships, or a file ending in .toml. With --toml it " +
			"prints\nthe rulebook as it is written, to begin your own from.",
		example: "  havvel rules show brackwater\n  havvel rules show brackwater --toml",
		args:    cobra.ExactArgs(1),
		run:     func(_ context.Context, args []string) error { return a.runRulesShow(args[0], whole) },
	})
	c.Flags().BoolVar(&whole, "toml", false, "print the rulebook as it is written")
	c.ValidArgs = rulebook.Names()
	return c
}

func (a *console) runRulesShow(name string, whole bool) error {
	if whole {
		read := rulebook.Source
		if strings.HasSuffix(name, ".toml") {
			read = os.ReadFile
		}
		text, err := read(name)
		if err != nil {
			return wrong("havvel rules show", "%w", err)
		}
		if a.answer(map[string]string{"rulebook": name, "text": string(text)}); a.json {
			return nil
		}
		_, err = a.out.Write(text)
		return err
	}
	r, err := findRules(name)
	if err != nil {
		return err
	}
	a.answer(rulesJSON{[]rulesRow{rowOf(name, r)}})
	a.showRules(r)
	a.screen.Next("havvel start --to %s  (in the folder of your game)", name)
	return nil
}

// findRules reads a rulebook; a name that there is not is wrong usage.
func findRules(name string) (*rulebook.Rulebook, error) {
	r, err := rulebook.Find(name, ".")
	if err != nil && fault.Of(err).At.File == "" {
		err = wrong("havvel rules", "%w", err)
	}
	return r, err
}

func (a *console) showRules(r *rulebook.Rulebook) {
	s := a.screen
	s.Line("%s", s.In(term.Strong, inwords.Clean(r.Name)))
	if r.About != "" {
		s.Paragraph(term.Plain, "  ", "  ", inwords.Clean(r.About))
	}
	s.Line("")
	rows := [][]string{{"handed over as", handOvers[r.Archive.HandOver]}}
	add := func(what string, has bool, words string) {
		if has {
			rows = append(rows, []string{what, inwords.Clean(words)})
		}
	}
	add("archive", r.Archive.Limit > 0, "up to "+r.Archive.Limit.String())
	add("a single file", r.Archive.FileLimit > 0, "up to "+r.Archive.FileLimit.String())
	add("files", r.Archive.Files > 0, fmt.Sprintf("up to %d", r.Archive.Files))
	add("before the start", r.Limits.Start > 0, "up to "+r.Limits.Start.String())
	encodings := "none: export without compression"
	if len(r.Serves.Encodings) > 0 {
		encodings = strings.Join(r.Serves.Encodings, ", ")
	}
	add("compressed files", true, encodings)
	threads := "can't run: it sends no isolation headers"
	if r.Serves.Isolation {
		threads = "can run: it sends isolation headers"
	}
	add("threads", true, threads)
	for _, v := range r.Views {
		touched := ""
		if v.Touch {
			touched = ", touched"
		}
		add("view "+v.Name, true, fmt.Sprintf("%d by %d%s", v.Size[0], v.Size[1], touched))
	}
	for _, h := range r.Hooks {
		add("script", true, h.Script+hookWords(h))
	}
	add("texts", len(r.Fields) > 0, fmt.Sprintf("%d fields, of which %s must be there", len(r.Fields), inwords.List(requiredFields(r))))
	for _, p := range r.Pictures {
		add("picture "+p.Name, true, pictures.Describe(p))
	}
	add("leaderboards", r.Leaderboards != nil, "made of statistics")
	for _, d := range r.Declarations {
		add("declaration "+d.Name, true, d.Says)
	}
	for _, f := range r.Finals {
		add("for good", true, f.Says)
	}
	add("key", r.Key.Variable != "", fmt.Sprintf("in %s; you find it here: %s", r.Key.Variable, r.Key.Where))
	sends := "by hand: its rulebook has no recipe yet"
	if len(r.Send) > 0 {
		sends = "by havvel send, in " + inwords.Of(len(r.Send), "one step", fmt.Sprintf("%d steps", len(r.Send)))
	}
	add("uploaded", true, sends)
	s.Table(nil, rows)
	s.Line("")
}

func requiredFields(r *rulebook.Rulebook) []string {
	names := []string{}
	for _, f := range r.Fields {
		if f.Required {
			names = append(names, f.Name)
		}
	}
	return names
}

var handOvers = map[string]string{
	"zip": "one zip, entry page at its root", "entry-apart": "the entry page, and a zip of the rest", "one-page": "one HTML page",
	"folder": "a folder",
}

func hookWords(h rulebook.Hook) string {
	words := ", optional"
	if h.Required {
		words = ", required"
	}
	if h.Plant {
		words += "; havvel pack plants it"
	}
	if must := h.Wanted(true); len(must) > 0 {
		words += "; the game must call " + inwords.List(must)
	}
	return words
}

func (a *console) rulesCheck() *cobra.Command {
	return a.new(command{
		use:     "check FILE",
		short:   "Find mistakes in a rulebook of your own",
		long:    "Check reads a rulebook that you wrote, and says what is wrong in it: with line, column, and the nearest key that is known.",
		example: "  havvel rules check our-portal.toml\n  havvel rules check rulebooks/quiet.toml",
		args:    cobra.ExactArgs(1),
		run:     func(_ context.Context, args []string) error { return a.runRulesCheck(args[0]) },
	})
}

func (a *console) runRulesCheck(file string) error {
	if !strings.HasSuffix(file, ".toml") {
		return wrong("havvel rules check", "%s is not the name of a rulebook's file, which ends in .toml", file)
	}
	r, err := findRules(file)
	if err != nil {
		return err
	}
	a.answer(rulesJSON{[]rulesRow{rowOf(file, r)}})
	a.showRules(r)
	a.screen.Line("%s", a.screen.In(term.Good, "no mistakes"))
	a.screen.Next("havvel start --to %s  (adds it to havvel.toml)", file)
	return nil
}
