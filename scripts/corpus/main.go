// Command corpus builds exports of many libraries and bundlers outside the repository, packs each, and runs both sides in a browser.
// It prints a table, and writes it to docs/corpus.md when it is asked to.
package main

import (
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"havvel/internal/app"
	"havvel/internal/browser"
	"havvel/internal/deliver/site/root"
	"havvel/internal/export"
	"havvel/internal/pack"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/proof"
	"havvel/internal/trial"
)

func main() {
	home := flag.String("at", filepath.Join(os.TempDir(), "havvel-corpus"), "the folder that holds the corpus")
	program := flag.String("havvel", "./havvel", "the program")
	only := flag.String("only", "", "exports whose names match this (a regular expression)")
	handed := flag.String("forms", "", "forms whose names hold this")
	portals := flag.Bool("portals", false, "pack for each shipped rulebook, too")
	in := flag.String("browser", "", "the browser: chromium, firefox, or a program")
	doc := flag.String("doc", "", "write the table to this file")
	flag.Parse()
	c := corpus{program: *program, forms: forms()}
	if *portals {
		for _, name := range []string{"brackwater", "quillmarsh", "osierfold", "shed"} {
			c.forms = append(c.forms, form{name, "rulebook = " + strconv.Quote(name) + "\naddress = \"http://127.0.0.1:7431\"\n", ""})
		}
	}
	c.forms = slices.DeleteFunc(c.forms, func(f form) bool { return !strings.Contains(f.name, *handed) })
	if err := c.run(*home, *only, *in, *doc); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// A form is one way of handing over.
type form struct{ name, destination, rulebook string }

// forms are the ways in which every export is handed over. Those that need a rulebook have one that says nothing else.
func forms() []form {
	rules := func(handOver, more string) string {
		return "format = \"havvel-rulebook/2\"\nname = \"a host\"\naddress = \"http://127.0.0.1:7431\"\n\n[archive]\nhand_over = \"" + handOver + "\"\n" + more
	}
	return []form{
		{"packed", "", rules("zip", "\n[serves]\nencodings = [\"gzip\", \"br\"]\nisolation = true\n")},
		{"one page", "", rules("one-page", "")},
		{"one page, sandboxed", "", rules("one-page", "\n[frame]\nsandbox = [\"allow-scripts\"]\n")},
		{"at a site's root", "address = \"./public\"\nserves = [\"gzip\", \"br\"]\nisolation = true\n", ""},
		{"entry apart", "", rules("entry-apart", "\n[serves]\nencodings = [\"gzip\", \"br\"]\nisolation = true\n")},
	}
}

// A corpus is run, form by form.
type corpus struct {
	program, browser string
	forms            []form
}

// A row is how one export fared.
type row struct {
	name   string
	cells  []cell   // one for each form
	alarms []string // findings that the run of the export shows to be false
}

// A cell is how an export fared in one form.
type cell struct {
	outcome, why string
	slower       float64 // time to the start as a share of the export's; 0 where one isn't known
}

func (c corpus) run(home, only, in, doc string) (err error) {
	ctx := context.Background()
	if c.browser, err = browser.Find(in, "-browser"); err != nil {
		return err
	}
	if c.program, err = filepath.Abs(c.program); err != nil {
		return err
	}
	names, err := regexp.Compile(only)
	if err != nil {
		return fmt.Errorf("-only: %w", err)
	}
	folders, err := filepath.Glob(filepath.Join(home, "exports", "*"))
	if err != nil {
		return err
	}
	var rows []row
	for _, folder := range folders {
		if !names.MatchString(filepath.Base(folder)) {
			continue
		}
		r, err := c.try(ctx, folder)
		if err != nil {
			return fmt.Errorf("trying %s: %w", filepath.Base(folder), err)
		}
		rows = append(rows, r)
		fmt.Println(r.line())
	}
	text := c.table(rows)
	fmt.Print("\n" + text)
	if doc != "" {
		return os.WriteFile(doc, []byte(c.page(text, rows)), 0o644)
	}
	return nil
}

// try packs an export in each form, and has what comes out proven.
func (c corpus) try(ctx context.Context, folder string) (row, error) {
	r := row{name: filepath.Base(folder)}
	work, err := os.MkdirTemp("", "corpus-")
	if err != nil {
		return r, err
	}
	defer os.RemoveAll(work)
	p, err := c.project(work, folder)
	if err != nil {
		return r, err
	}
	b, err := export.Read(ctx, folder)
	if err != nil {
		return r, err
	}
	defer b.Close()
	cache, err := pack.Open(filepath.Join(work, "cache"))
	if err != nil {
		return r, err
	}
	defer cache.Close()
	store := proof.In(filepath.Join(work, "proofs"))
	var before *proof.Run
	for i := range c.forms {
		d := p.To[fmt.Sprintf("form-%d", i)]
		one, run := c.prove(ctx, store, cache, p, d, b, folder)
		if before != nil { // the export ran beside another form, not beside this one
			one.slower = 0
		}
		r.cells = append(r.cells, one)
		if run != nil {
			before = run
		}
	}
	if before != nil {
		r.check(c.program, folder, before)
	}
	return r, nil
}

// prove packs an export for one destination, and compares. run is what the export did.
func (c corpus) prove(
	ctx context.Context, store *proof.Store, cache *pack.Cache, p *project.Project, d *project.Destination, b *export.Build, folder string,
) (one cell, run *proof.Run) {
	to, err := app.Wanted(p, d, b, "1.0.0", app.Choices{})
	if err != nil {
		return cell{outcome: "refused", why: err.Error()}, nil
	}
	plan, err := cache.Plan(ctx, b, to)
	if err == nil {
		_, err = plan.Write(ctx, filepath.Join(p.Folder, "packed", d.Name), progress.None)
	}
	if err != nil {
		return cell{outcome: "refused", why: err.Error()}, nil
	}
	place := "" // an export whose page doesn't show where it expects to be says so by its name
	if strings.HasSuffix(folder, "-lane") && b.Root() == "/" {
		place = "/lane/"
	}
	front, err := app.Front(ctx, d, plan)
	if err != nil {
		return cell{outcome: "can't tell", why: err.Error()}, nil
	}
	seen, err := store.Prove(ctx, proof.Case{
		Front:  front,
		Export: b, Handed: proof.Of(plan), Destination: d.Name, Rules: d.Rules, Hooks: d.Rules.Hooks, Program: c.browser, Place: place,
	})
	if err != nil {
		return cell{outcome: "can't tell", why: err.Error()}, nil // the browser's fault, or the machine's
	}
	one = cell{outcome: map[proof.Answer]string{proof.Proven: "as well", proof.Worse: "worse"}[seen.Answer], why: seen.Why}
	one.slower = slowdown(seen.Export, seen.Handed)
	if one.outcome == "" {
		one.outcome = "can't tell"
	}
	if one.outcome == "as well" && d.SiteAddress() != nil && !seen.AtRoot {
		one.outcome, one.why = "in its folder", cmp.Or(seen.Lower, root.Unfit(plan.Result()))
	}
	if len(seen.Findings) > 0 {
		one.why = seen.Findings[0].Message
	}
	return one, seen.Export
}

// project writes a project with a destination for each form.
func (c corpus) project(work, folder string) (*project.Project, error) {
	text := fmt.Sprintf("[game]\ntitle = \"Tinderwick Lane\"\nshort = \"tinderwick-lane\"\nversion = \"1.0.0\"\nexport = %q\n", folder)
	for i, f := range c.forms {
		name := fmt.Sprintf("form-%d", i)
		text += fmt.Sprintf("\n[to.%s]\n%s", name, f.destination)
		if f.rulebook == "" {
			continue
		}
		file := filepath.Join(work, "rulebooks", name+".toml")
		text += fmt.Sprintf("rulebook = %q\n", file)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(file, []byte(f.rulebook), 0o644); err != nil {
			return nil, err
		}
	}
	if err := os.WriteFile(filepath.Join(work, "havvel.toml"), []byte(text), 0o644); err != nil {
		return nil, err
	}
	p, err := project.Find(work)
	if err == nil {
		_, err = p.Destinations(nil) // reads the rulebooks
	}
	return p, err
}

// check compares what check says with what the run of the export showed.
func (r *row) check(program, folder string, before *proof.Run) {
	look := exec.Command(program, "check", folder, "--json")
	cache := filepath.Join(os.TempDir(), "havvel-corpus-cache", fmt.Sprint(os.Getpid())) // of this program, and no other
	look.Env = append(os.Environ(), "XDG_CACHE_HOME="+cache)
	out, _ := look.Output() // it exits with 1 where it finds errors
	var answer struct {
		Findings []struct{ ID, Level, File, Message string }
	}
	if json.Unmarshal(out, &answer) != nil {
		r.alarms = append(r.alarms, "check said nothing that can be read")
		return
	}
	clean := len(before.Failed) == 0 && len(before.Said) == 0 && before.Answer != trial.No
	for _, f := range answer.Findings {
		links := strings.HasPrefix(f.ID, "link-") && f.ID != "link-absolute" && f.ID != "link-foreign"
		if clean && (f.Level == "error" && f.ID != "link-absolute" || f.Level == "warning" && links) {
			r.alarms = append(r.alarms, fmt.Sprintf("%s %s: %s: %s", f.Level, f.ID, f.File, f.Message))
		}
	}
}

func (r *row) line() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%-34s", r.name)
	for _, c := range r.cells {
		fmt.Fprintf(&b, " %-10s", c.outcome)
	}
	for i, c := range r.cells {
		if c.why != "" {
			fmt.Fprintf(&b, "\n    %d %s: %s", i+1, c.outcome, c.why)
		}
	}
	for _, a := range r.alarms {
		b.WriteString("\n    false: " + a)
	}
	return b.String()
}

// outcomes are all there are, the good one first.
var outcomes = []string{"as well", "in its folder", "worse", "refused", "can't tell"}

func (c corpus) table(rows []row) string {
	var b strings.Builder
	b.WriteString("| handed over | " + strings.Join(outcomes, " | ") + " | time to the start |\n|---|" + strings.Repeat("---|", len(outcomes)+1) + "\n")
	for i, f := range c.forms {
		count := map[string]int{}
		for _, r := range rows {
			count[r.cells[i].outcome]++
		}
		fmt.Fprintf(&b, "| %s |", f.name)
		for _, o := range outcomes {
			fmt.Fprintf(&b, " %d |", count[o])
		}
		b.WriteString(" " + slower(rows, i) + " |\n")
	}
	errors, warnings := 0, 0
	for _, r := range rows {
		for _, a := range r.alarms {
			if strings.HasPrefix(a, "error") {
				errors++
			} else {
				warnings++
			}
		}
	}
	fmt.Fprintf(&b, "\n%d exports. Of what havvel check says, the runs show %d errors and %d warnings to be false.\n", len(rows), errors, warnings)
	return b.String()
}

func slowdown(export, handed *proof.Run) float64 {
	if export == nil || handed == nil || export.StartMS == 0 {
		return 0
	}
	return float64(handed.StartMS) / float64(export.StartMS)
}

// slower says how much longer a form takes to start than the export beside it: the median, and what nine in ten stay under.
func slower(rows []row, form int) string {
	var list []float64
	for _, r := range rows {
		if s := r.cells[form].slower; s > 0 {
			list = append(list, s)
		}
	}
	if len(list) == 0 {
		return ""
	}
	slices.Sort(list)
	return fmt.Sprintf("%.2f (90 %%: %.2f)", list[len(list)/2], list[len(list)*9/10])
}

func (c corpus) page(text string, rows []row) string {
	var b strings.Builder
	b.WriteString(
		"# The corpus\n\n`make corpus` builds these exports from libraries and bundlers of the npm registry and Debian, packs each in several\n" +
			"forms, and proves it: the export at the place that it expects, what was packed below a folder, side by side in a browser.\n" +
			"This is the last table.\n\n" + text + "\n",
	)
	b.WriteString("| export |")
	for _, f := range c.forms {
		b.WriteString(" " + f.name + " |")
	}
	b.WriteString(" why |\n|---|" + strings.Repeat("---|", len(c.forms)+1) + "\n")
	for _, r := range rows {
		fmt.Fprintf(&b, "| %s |", r.name)
		var why []string
		for i, one := range r.cells {
			fmt.Fprintf(&b, " %s |", one.outcome)
			if one.why != "" {
				why = append(why, c.forms[i].name+": "+one.why)
			}
		}
		fmt.Fprintf(&b, " %s |\n", strings.Join(strings.Fields(strings.ReplaceAll(strings.Join(slices.Concat(why, r.alarms), "; "), "|", "/")), " "))
	}
	return b.String()
}
