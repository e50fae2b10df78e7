package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"havvel/internal/app"
	"havvel/internal/check"
	"havvel/internal/cli/term"
	"havvel/internal/deliver/site"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/proof"
	"havvel/internal/round"
	"havvel/internal/rulebook"
	"havvel/internal/trial"
)

var update = flag.Bool("update", false, "write the reference pages anew")

const generated = "<!-- This page is made from the code by `make docs`; change it there. -->\n\n"

// TestReference fails when a reference page in docs does not say what the code says.
func TestReference(t *testing.T) {
	for _, page := range []struct {
		file string
		make func(old string) string
	}{
		{"checks.md", checksPage},
		{"exit-codes.md", exitCodesPage},
		{"commands.md", commandsPage},
		{"formats/project.md", func(old string) string { return withKeys(old, project.Project{}) }},
		{"formats/rulebook.md", func(old string) string { return withKeys(old, rulebook.Rulebook{}) }},
	} {
		file := filepath.Join("..", "..", "docs", filepath.FromSlash(page.file))
		old, err := os.ReadFile(file)
		if err != nil && !*update {
			t.Error(err)
			continue
		}
		fresh := page.make(string(old))
		if fresh == string(old) {
			continue
		}
		if !*update {
			t.Errorf("docs/%s is stale; run make docs", page.file)
		} else if err := os.WriteFile(file, []byte(fresh), 0o644); err != nil {
			t.Error(err)
		}
	}
}

func checksPage(string) string {
	var b strings.Builder
	b.WriteString("# Checks\n\n" + generated)
	b.WriteString(
		"What `havvel check` looks for. An error is certain: the build would not work, or be refused. A finding that\n`havvel pack` fixes " +
			"by itself is a note when the build goes out by `pack`.\n\n| id | level | what it finds |\n|---|---|---|\n",
	)
	for _, c := range check.Catalogue() {
		fmt.Fprintf(&b, "| [%s](#%s) | %s | %s |\n", c.ID, c.ID, c.Level, c.Title)
	}
	b.WriteString("\n`havvel trial` finds these, by running the game:\n\n| id | level | what it finds |\n|---|---|---|\n")
	for _, c := range trial.Kinds() {
		fmt.Fprintf(&b, "| [%s](#%s) | %s | %s |\n", c.ID, c.ID, c.Level, c.Title)
	}
	b.WriteString("\n`havvel pack --prove` and `havvel send` find these, by running the export and what is handed over side by side:\n\n" +
		"| id | level | what it finds |\n|---|---|---|\n")
	for _, c := range proof.Kinds() {
		fmt.Fprintf(&b, "| [%s](#%s) | %s | %s |\n", c.ID, c.ID, c.Level, c.Title)
	}
	for _, c := range slices.Concat(check.Catalogue(), trial.Kinds(), proof.Kinds()) {
		fmt.Fprintf(&b, "\n## %s\n\n%s. Level: %s.\n\n%s\n\n- before: `%s`\n- after: `%s`\n", c.ID, c.Title, c.Level, c.Text, c.Before, c.After)
	}
	return b.String()
}

func exitCodesPage(string) string {
	var b strings.Builder
	b.WriteString("# Exit codes\n\n" + generated)
	b.WriteString("Every command ends with one of these, so that a script knows what to do.\n\n| code | meaning | when |\n|---|---|---|\n")
	for _, c := range exitCodes() {
		fmt.Fprintf(&b, "| %d | %s | %s |\n", c.Code, c.Meaning, c.When)
	}
	return b.String()
}

func commandsPage(string) string {
	var b strings.Builder
	b.WriteString("# Commands\n\n" + generated + "What `--help` says of every command.\n")
	a := &console{out: &b, err: &b, screen: term.New(&b, &b)}
	root := a.root()
	for _, c := range root.Commands() {
		if c.GroupID == "" {
			continue
		}
		writeHelp(&b, c)
	}
	return b.String()
}

// writeHelp writes the help of a command and of those inside it.
func writeHelp(b *strings.Builder, c *cobra.Command) {
	fmt.Fprintf(b, "\n## %s\n\n```text\n", c.CommandPath())
	c.SetOut(b)
	c.InitDefaultHelpFlag()
	c.Help()
	b.WriteString("```\n")
	for _, inner := range c.Commands() {
		writeHelp(b, inner)
	}
}

var keysPart = regexp.MustCompile(`(?s)<!-- keys.*?<!-- /keys -->`)

// withKeys replaces the table of keys in a page whose rest is written by hand.
func withKeys(old string, v any) string {
	var b strings.Builder
	b.WriteString("<!-- keys: made from the code by `make docs`; change them there. -->\n\n| key | takes | what it says |\n|---|---|---|\n")
	for _, k := range settingsKeys(v) {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", k.Path, k.Type, strings.ReplaceAll(k.Doc, "|", `\|`))
	}
	b.WriteString("\n<!-- /keys -->")
	return keysPart.ReplaceAllLiteralString(old, b.String())
}

var example = regexp.MustCompile("(?s)```(?:toml|json)\n(.*?)```")

// TestFormatExamples reads the examples on the format pages with the code that reads such files.
func TestFormatExamples(t *testing.T) {
	for file, reads := range map[string][]func(data []byte) error{
		"project.md":  {readProject(t)},
		"rulebook.md": {func(data []byte) error { _, err := rulebook.Parse("example", data); return err }},
		"logbook.md":  {readLogbook(t)},
		"site.md":     {strictly[site.Index], strictly[site.Index], strictly[site.Contents]},
		"round.md":    {readRound, readTexts(t), readQuestions(t)},
		"json.md":     {strictly[checkJSON]},
	} {
		page, err := os.ReadFile(filepath.Join("..", "..", "docs", "formats", file))
		if err != nil {
			t.Fatal(err)
		}
		examples := example.FindAllSubmatch(page, -1)
		if len(examples) < len(reads) {
			t.Errorf("docs/formats/%s has %d examples of %d", file, len(examples), len(reads))
		}
		for i, e := range examples {
			if err := reads[min(i, len(reads)-1)](e[1]); err != nil {
				t.Errorf("example %d in docs/formats/%s: %v", i+1, file, err)
			}
		}
	}
	pages, err := filepath.Glob(filepath.Join("..", "..", "docs", "formats", "*.md"))
	if err != nil || len(pages) != 6 {
		t.Errorf("there are %d format pages, and 6 are read here (%v)", len(pages), err)
	}
}

// strictly reads JSON that has no keys but those of a type.
func strictly[T any](data []byte) error {
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	var v T
	return d.Decode(&v)
}

func readProject(t *testing.T) func([]byte) error {
	return func(data []byte) error {
		folder := t.TempDir()
		if err := os.WriteFile(filepath.Join(folder, project.Name), data, 0o644); err != nil {
			return err
		}
		_, err := project.Find(folder)
		return err
	}
}

func readLogbook(t *testing.T) func([]byte) error {
	return func(data []byte) error {
		folder := t.TempDir()
		if err := os.MkdirAll(filepath.Join(folder, ".havvel"), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, ".havvel", "logbook.jsonl"), data, 0o644); err != nil {
			return err
		}
		list, unread, err := logbook.Open(folder).Deliveries()
		if err == nil && (unread > 0 || len(list) != 1 || list[0].State != rulebook.Public) {
			err = fmt.Errorf("%d deliveries, %d lines are unread", len(list), unread)
		}
		return err
	}
}

func readRound(data []byte) error {
	events := 0
	err := round.Read(context.Background(), bytes.NewReader(data), func(s *round.Session) error {
		events += len(s.Events)
		return nil
	})
	if err == nil && events != bytes.Count(data, []byte("\n"))-1 {
		err = fmt.Errorf("%d events are read", events)
	}
	return err
}

func readTexts(t *testing.T) func(data []byte) error {
	return func(data []byte) error {
		file := filepath.Join(t.TempDir(), "de.toml")
		if err := os.WriteFile(file, data, 0o644); err != nil {
			return err
		}
		_, err := app.Translations([]string{file})
		return err
	}
}

func readQuestions(t *testing.T) func([]byte) error {
	return func(data []byte) error {
		file := filepath.Join(t.TempDir(), "questions.toml")
		if err := os.WriteFile(file, data, 0o644); err != nil {
			return err
		}
		list, err := app.Questions(file)
		if err == nil && len(list) == 0 {
			err = errors.New("there is no question")
		}
		return err
	}
}
