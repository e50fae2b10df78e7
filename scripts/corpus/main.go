// Command corpus builds exports of many libraries and bundlers outside the repository, packs each, and runs both sides in a browser.
// It prints a table, and writes it to docs/corpus.md when it is asked to.
package main

import (
	"archive/zip"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"havvel/internal/browser"
	"havvel/internal/export"
	"havvel/internal/proof"
)

func main() {
	home := flag.String("at", filepath.Join(os.TempDir(), "havvel-corpus"), "the folder that holds the corpus")
	program := flag.String("havvel", "./havvel", "the program")
	only := flag.String("only", "", "exports whose names hold this")
	portals := flag.Bool("portals", false, "pack for each shipped rulebook, too")
	doc := flag.String("doc", "", "write the table to this file")
	flag.Parse()
	if err := run(*home, *program, *only, *doc, *portals); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// A row is how one export fared.
type row struct {
	name, outcome string // as well, worse, refused, can't tell
	said          []string
	alarms        []string // findings that the run of the export shows to be false
	missed        []string // what failed in the packed game without a word
}

func run(home, program, only, doc string, portals bool) error {
	ctx := context.Background()
	seen, err := browser.Find("", "")
	if err != nil {
		return err
	}
	if program, err = filepath.Abs(program); err != nil {
		return err
	}
	folders, err := filepath.Glob(filepath.Join(home, "exports", "*"))
	if err != nil {
		return err
	}
	var rows []row
	for _, folder := range folders {
		name := filepath.Base(folder)
		if !strings.Contains(name, only) {
			continue
		}
		to := []string{""}
		if portals {
			to = append(to, "brackwater", "quillmarsh", "osierfold", "shed")
		}
		before, err := untouched(ctx, seen, folder)
		if err != nil {
			return fmt.Errorf("running %s: %w", name, err)
		}
		for _, d := range to {
			r := row{name: name}
			if d != "" {
				r.name += " → " + d
			}
			if err := r.try(ctx, seen, program, folder, d, before); err != nil { // the browser's fault, or the machine's
				r.outcome, r.said = "can't tell", []string{err.Error()}
			}
			rows = append(rows, r)
			fmt.Println(r.line())
		}
	}
	text := table(rows)
	fmt.Print("\n" + text)
	if doc != "" {
		return os.WriteFile(doc, []byte(page(text, rows)), 0o644)
	}
	return nil
}

// untouched runs an export at the place where it expects to be.
func untouched(ctx context.Context, seen, folder string) (*proof.Run, error) {
	b, err := export.Read(ctx, folder)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	root := b.Root()
	for _, place := range []string{"/lane/"} { // an export whose page doesn't show it says so by its name
		if strings.HasSuffix(folder, "-lane") {
			root = place
		}
	}
	return proof.Play(ctx, seen, proof.Side{Folder: folder, At: root})
}

// try packs an export for one destination and runs what comes out.
func (r *row) try(ctx context.Context, seen, program, folder, destination string, before *proof.Run) error {
	work, err := os.MkdirTemp("", "corpus-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	r.check(program, folder, destination, before)
	if err := project(work, folder, destination); err != nil {
		return err
	}
	pack := exec.CommandContext(ctx, program, "pack", "--json")
	pack.Dir = work
	var refused strings.Builder
	pack.Stderr = &refused
	out, err := pack.Output()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return err
	}
	var answer struct {
		Archives []struct {
			Path     string
			HandOver string `json:"hand_over"`
			Parts    []struct{ Path string }
		}
	}
	if err != nil || json.Unmarshal(out, &answer) != nil || len(answer.Archives) == 0 {
		r.outcome = "refused"
		r.said = []string{strings.Join(strings.Fields(refused.String()+string(out)), " ")}
		return nil
	}
	zipped := filepath.Join(work, answer.Archives[0].Path)
	for _, part := range answer.Archives[0].Parts { // the page and the rest, which the portal joins again
		if strings.HasSuffix(part.Path, ".zip") {
			if err := unzip(filepath.Join(work, part.Path), zipped); err != nil {
				return err
			}
		}
	}
	game := filepath.Join(work, "game")
	if err := unzip(zipped, game); err != nil {
		if err := os.CopyFS(game, os.DirFS(zipped)); err != nil {
			return err
		}
	}
	after, err := proof.Play(ctx, seen, proof.Side{Folder: game, At: "/play/7/", Allow: hooks})
	if err != nil {
		return err
	}
	if r.said = proof.Worse(before, after); len(r.said) > 0 { // perhaps the machine was busy: once more
		if after, err = proof.Play(ctx, seen, proof.Side{Folder: game, At: "/play/7/", Allow: hooks}); err != nil {
			return err
		}
		r.said = proof.Worse(before, after)
	}
	r.outcome = "as well"
	if len(r.said) > 0 {
		r.outcome = "worse"
		r.missed = r.said
	}
	return nil
}

// hooks are addresses of the shipped portals' scripts, which a plain host doesn't have.
var hooks = []string{"/sdk/brackwater-1.js"}

// project writes a project for one destination: a portal, or a plain host where there is none.
func project(work, folder, destination string) error {
	to := fmt.Sprintf("[to.%s]\nrulebook = %q\n", destination, destination)
	if destination == "shed" { // your own host
		to += "address = \"http://127.0.0.1:7431\"\n"
	}
	if destination == "" {
		to = fmt.Sprintf("[to.plain]\naddress = %q\n", filepath.Join(work, "site"))
	}
	text := fmt.Sprintf("[game]\ntitle = \"Tinderwick Lane\"\nshort = \"tinderwick-lane\"\nversion = \"1.0.0\"\nexport = %q\n\n%s", folder, to)
	return os.WriteFile(filepath.Join(work, "havvel.toml"), []byte(text), 0o644)
}

// check compares what check says with what the run of the export showed.
func (r *row) check(program, folder, destination string, before *proof.Run) {
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
	clean := len(before.Failed) == 0 && len(before.Errors) == 0 && before.Drawn
	for _, f := range answer.Findings {
		links := strings.HasPrefix(f.ID, "link-") && f.ID != "link-absolute" && f.ID != "link-foreign"
		if clean && (f.Level == "error" && f.ID != "link-absolute" || f.Level == "warning" && links) {
			r.alarms = append(r.alarms, fmt.Sprintf("%s %s: %s: %s", f.Level, f.ID, f.File, f.Message))
		}
	}
}

func (r *row) line() string {
	s := fmt.Sprintf("%-34s %-9s %s", r.name, r.outcome, strings.Join(r.said, "; "))
	for _, a := range r.alarms {
		s += "\n    false: " + a
	}
	return s
}

func unzip(file, to string) error {
	z, err := zip.OpenReader(file)
	if err != nil {
		return err
	}
	defer z.Close()
	for _, e := range z.File {
		at := filepath.Join(to, filepath.FromSlash(e.Name))
		if strings.HasSuffix(e.Name, "/") {
			continue
		}
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		r, err := e.Open()
		if err != nil {
			return err
		}
		data, err := io.ReadAll(r)
		if err != nil {
			return err
		}
		if err := os.WriteFile(at, data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func table(rows []row) string {
	count := map[string]int{}
	errors, warnings, missed := 0, 0, 0
	for _, r := range rows {
		count[r.outcome]++
		for _, a := range r.alarms {
			if strings.HasPrefix(a, "error") {
				errors++
			} else {
				warnings++
			}
		}
		missed += min(1, len(r.missed))
	}
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"| exports | ran as well | worse | refused | false errors | false warnings | missed failures |\n|---|---|---|---|---|---|---|\n",
	)
	fmt.Fprintf(
		&b,
		"| %d | %d | %d | %d | %d | %d | %d |\n",
		len(rows),
		count["as well"],
		count["worse"],
		count["refused"],
		errors,
		warnings,
		missed,
	)
	return b.String()
}

func page(text string, rows []row) string {
	var b strings.Builder
	b.WriteString(
		"# The corpus\n\n`make corpus` builds these exports from libraries and bundlers of the npm registry and Debian, packs each, and runs\n" +
			"the export and what was packed side by side in a browser: the export at the place that it expects, the other below a\n" +
			"folder. This is the last table.\n\n" + text + "\n",
	)
	sort.SliceStable(rows, func(i, j int) bool { return rows[i].outcome > rows[j].outcome })
	b.WriteString("| export | outcome | |\n|---|---|---|\n")
	for _, r := range rows {
		fmt.Fprintf(&b, "| %s | %s | %s |\n", r.name, r.outcome, strings.Join(slices.Concat(r.said, r.alarms), "; "))
	}
	return b.String()
}
