package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/cli/term"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// help explains commands, and the keys of the files that people write.
func (a *console) help(root *cobra.Command) *cobra.Command {
	return a.new(command{
		use:   "help [COMMAND | toml [KEY] | rulebook [KEY]]",
		short: "Explain a command, or a key of havvel.toml or of a rulebook",
		long: "Help prints the page of a command. With toml it lists the keys of havvel.toml, and explains the one that you name; with\n" +
			"rulebook it does so for rulebooks. With --json the two print a JSON Schema (2020-12), with which editors complete and check.",
		example: "  havvel help send\n  havvel help toml listing.tagline",
		args:    cobra.ArbitraryArgs,
		run:     func(_ context.Context, args []string) error { return a.runHelp(root, args) },
	})
}

func (a *console) runHelp(root *cobra.Command, args []string) error {
	files := map[string]struct {
		name   string
		schema []byte
	}{"toml": {project.Name, project.Schema()}, "rulebook": {"a rulebook", rulebook.Schema()}}
	if len(args) > 0 {
		if f, ok := files[args[0]]; ok {
			return a.helpKeys(args[0], f.name, f.schema, args[1:])
		}
	}
	c, rest, err := root.Find(args)
	if err != nil || len(rest) > 0 {
		return noCommand(c, append(rest, args...))
	}
	c.InitDefaultHelpFlag()
	return c.Help()
}

// A keySchema is as much of JSON Schema as ours have.
type keySchema struct {
	Description string                `json:"description"`
	Type        string                `json:"type"`
	Ref         string                `json:"$ref"`
	Properties  map[string]*keySchema `json:"properties"`
	Items       *keySchema            `json:"items"`
	Additional  json.RawMessage       `json:"additionalProperties"`
	Patterns    map[string]*keySchema `json:"patternProperties"`
	Defs        map[string]*keySchema `json:"$defs"`
}

func (a *console) helpKeys(topic, file string, schema []byte, args []string) error {
	if a.json {
		a.answer(json.RawMessage(schema))
		return nil
	}
	var root keySchema
	if err := json.Unmarshal(schema, &root); err != nil {
		return err
	}
	at, path, says := &root, "", ""
	for _, arg := range args {
		for name := range strings.SplitSeq(strings.NewReplacer("[", "", "]", "").Replace(arg), ".") {
			if name == "" || name == "NAME" {
				continue
			}
			table := at.table(&root)
			next := table[name]
			if next == nil && (project.Translations{}).Takes(name) {
				next = table["LANGUAGE"]
			}
			if next == nil && table["*"] != nil { // a name of the developer's own
				at = table["*"]
				continue
			}
			if next == nil {
				e := wrong("havvel help", "%s has no key %s", file, strings.TrimPrefix(path+"."+name, "."))
				if near := settings.Nearest(name, slices.Collect(maps.Keys(table))); near != "" {
					return e.Then("did you mean %s?", strings.TrimPrefix(path+"."+near, "."))
				}
				return e.Then("havvel help %s %s", topic, path)
			}
			at, path, says = next, strings.TrimPrefix(path+"."+name, "."), next.Description
		}
	}
	a.showKeys(topic, file, path, says, at, &root)
	return nil
}

func (a *console) showKeys(topic, file, path, says string, at, root *keySchema) {
	s := a.screen
	table := at.table(root)
	if own := table["*"]; own != nil {
		table = own.table(root)
	}
	switch {
	case path == "":
		s.Line("%s", s.In(term.Strong, "The keys of "+file))
	default:
		s.Line("%s  %s", s.In(term.Strong, path), s.In(term.Quiet, at.words(root)))
		s.Paragraph(term.Plain, "  ", "  ", upper(says)+".")
	}
	if len(table) == 0 {
		return
	}
	var rows [][]string
	for _, name := range slices.Sorted(maps.Keys(table)) {
		text, _, _ := strings.Cut(table[name].Description, ";")
		rows = append(rows, []string{name, table[name].words(root), text})
	}
	s.Line("")
	s.Table([]string{"key", "", "what it says"}, rows)
	first := slices.Sorted(maps.Keys(table))[0]
	s.Next("havvel help %s %s  (more about one)", topic, strings.TrimPrefix(path+"."+first, "."))
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// table are the keys below one; "*" stands for names of the developer's own.
func (k *keySchema) table(root *keySchema) map[string]*keySchema {
	switch {
	case k.Ref != "":
		return root.Defs[strings.TrimPrefix(k.Ref, "#/$defs/")].table(root)
	case k.Items != nil:
		return k.Items.table(root)
	case k.Properties == nil && len(k.Additional) > 0 && k.Additional[0] == '{':
		var own keySchema
		if json.Unmarshal(k.Additional, &own) == nil && own.Ref != "" {
			return map[string]*keySchema{"*": &own}
		}
	}
	all := maps.Clone(k.Properties)
	for _, own := range k.Patterns {
		all["LANGUAGE"] = own
	}
	return all
}

// words say what a key takes.
func (k *keySchema) words(root *keySchema) string {
	switch {
	case k.Ref != "":
		return "table"
	case k.Type == "array" && k.Items != nil && k.Items.Ref != "":
		return "tables"
	case k.Type == "array":
		return "list"
	case k.Type == "object":
		return "table"
	case k.Type == "string":
		return "text"
	case k.Type == "boolean":
		return "true or false"
	case k.Type == "integer" || k.Type == "number":
		return "number"
	}
	return fmt.Sprint(k.Type)
}
