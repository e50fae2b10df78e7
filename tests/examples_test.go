//go:build unix

package tests

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
)

var (
	exampleBlock = regexp.MustCompile(`(?s)\nExamples:\n(.*?)\n\n`)
	innerCommand = regexp.MustCompile(`(?m)^  ([a-z]+) +[A-Z]`)
)

// examples are the lines under "Examples" in the help of a command and of those inside it.
func examples(t *testing.T, command ...string) (lines []string) {
	t.Helper()
	help := run(t, t.TempDir(), append(command, "--help")...).must(t, 0).out
	block := exampleBlock.FindStringSubmatch(help)
	if block == nil {
		t.Errorf("havvel %s --help has no examples", strings.Join(command, " "))
		return nil
	}
	for line := range strings.Lines(block[1]) {
		line, _, _ = strings.Cut(strings.TrimSpace(line), "  ") // after that, words about it
		lines = append(lines, line)
	}
	if len(lines) < 2 {
		t.Errorf("havvel %s --help has fewer than two examples", strings.Join(command, " "))
	}
	_, inner, _ := strings.Cut(help, "\nAvailable Commands:\n")
	if len(command) == 0 {
		_, inner, _ = strings.Cut(help, "\nTo begin:\n")
	}
	inner, _, _ = strings.Cut(inner, "\nFlags:\n")
	for _, m := range innerCommand.FindAllStringSubmatch(inner, -1) {
		if m[1] != "help" {
			lines = append(lines, examples(t, append(command, m[1])...)...)
		}
	}
	return lines
}

// tried runs examples of one kind of reader.
type tried struct {
	t    *testing.T
	left *left
	in   *terminal
	// what examples name that is of this world: an id, a host
	real *strings.Replacer
}

// left are the examples that are still to be run.
type left struct {
	mu    sync.Mutex
	lines map[string]bool
}

// take takes one, and reports whether it was there.
func (l *left) take(line string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	was := l.lines[line]
	delete(l.lines, line)
	return was
}

// example runs lines that help shows; all must end well.
func (x *tried) example(lines ...string) (last ending) {
	x.t.Helper()
	for _, line := range lines {
		if !x.left.take(line) {
			x.t.Errorf("no help has the example %q (any more)", line)
		}
		last = x.in.types(x.real.Replace(line), demo.PracticeKey)
		if last.code != 0 {
			x.t.Errorf("%s ends with %d\n%s%s", line, last.code, last.out, last.err)
		}
	}
	return last
}

// TestHelpExamples runs every example that any --help shows, in projects as its readers have them, in the order of their work.
func TestHelpExamples(t *testing.T) {
	t.Parallel()
	unraced(t)
	partner(t, "chromium")
	data, store := database(t), objectStore(t)
	bucket := strings.TrimSuffix(strings.TrimPrefix(store.address, "s3+http://"), "/tinderwick")
	all := &left{lines: map[string]bool{}}
	for _, line := range examples(t) {
		all.lines[line] = true
	}
	real := strings.NewReplacer(
		"https://api.brackwater.example",
		"http://127.0.0.1:7411",
		"postgres://host@db.example/shed",
		data.address,
		"s3://store.example/shed",
		"s3+http://"+bucket+"/shed",
		"/srv/shed",
		"shed",
		"~/.local/share/bash-completion/completions/",
		"",
		"~/.config/fish/completions/",
		"",
	)
	env := []string{
		"BRACKWATER_KEY=" + demo.PracticeKey,
		"OSIERFOLD_KEY=" + demo.PracticePair,
		"PGPASSWORD=" + guestPassword,
		"HAVVEL_FILES_KEY=moth:" + guestPassword,
	}
	t.Run("readers", func(t *testing.T) {
		for name, walk := range map[string]func(*tried){
			"tries": (*tried).build, "sends": (*tried).players, "plays": (*tried).rounds, "begins": (*tried).beginnings,
		} {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				walk(&tried{t: t, left: all, in: newTerminal(t, t.TempDir(), env...), real: real})
			})
		}
	})
	for line := range all.lines {
		t.Errorf("no test runs the example %q", line)
	}
}

// project gives the reader the demo's project, and a portal; with a playtest host, too.
func (x *tried) project(host bool) (world, project string) {
	x.t.Helper()
	world = x.t.TempDir()
	project = filepath.Join(world, "game")
	at := map[string]string{"brackwater": "http://127.0.0.1:7411"}
	if host {
		at["shed"] = "http://127.0.0.1:7440"
	}
	if err := demo.Write(project, at); err != nil {
		x.t.Fatal(err)
	}
	x.in = newTerminal(x.t, project, x.in.env...)
	return world, project
}

func (x *tried) build() {
	x.project(false)
	x.example(
		"havvel look export/web",
		"havvel look",
		"havvel look export/web --files",
		"havvel check",
		"havvel check export/web --to brackwater",
		"havvel check --explain link-case",
		"havvel hooks",
		"havvel hooks --to brackwater --json",
		"havvel pack --plan",
		"havvel pack --to brackwater --slim --out archives",
		"havvel pack --prove",
		"havvel listing",
		"havvel listing --show brackwater",
		"havvel play",
		"havvel play --as brackwater --lan",
	)
	x.in.ends()
	x.example(
		"havvel trial --to brackwater --view frame --watch 12s",
		"havvel trial --quick --browser firefox --as no-storage",
		"havvel trial",
		"havvel pictures",
		"havvel pictures --from-trial --to brackwater",
	)
}

func (x *tried) players() {
	defaultPorts.Lock()
	defer defaultPorts.Unlock()
	t := x.t
	world, project := x.project(false)
	web := httptest.NewServer(http.FileServer(http.Dir(filepath.Join(world, "site"))))
	defer web.Close()
	edit(t, project, "[[statistic]]", "[to.shed]\naddress = \"../site\"\npublic = \""+web.URL+"\"\n\n[[statistic]]")
	x.example("havvel standin --data portals", "havvel send --wait", "havvel publish", "havvel where", "havvel where --wait --to brackwater")
	old, err := os.ReadFile(filepath.Join(project, "packed", "brackwater-0.4.0.zip"))
	if err != nil {
		t.Fatal(err)
	}
	writeInto(t, project, game.Files{"old.zip": old})
	for name, data := range demo.Second() {
		writeInto(t, project, game.Files{demo.GoodExport + "/" + name: data})
	}
	edit(t, project, `"0.4.0"`, `"0.4.1"`)
	x.example("havvel compare", "havvel compare old.zip export/web --fail-over 5%", "havvel send --to brackwater --version 0.4.1")
	x.in.types("havvel send").must(t, 0, "sent 0.4.1 to shed")
	x.in.types("havvel where --wait").must(t, 0)
	x.example("havvel publish --to brackwater", "havvel compare 0.4.0 0.4.1 --to brackwater")
	x.in.types("havvel publish --to shed").must(t, 0)
	x.example("havvel back 0.4.0 --to shed")
	x.in.types("havvel back 0.4.1 --to shed").must(t, 0)
	x.example("havvel back", "havvel logbook", "havvel logbook --to brackwater --version 0.4.0")
	x.portals(project)
}

func (x *tried) portals(project string) {
	t := x.t
	description, err := os.ReadFile("../internal/rulebook/draft/testdata/builds.yaml")
	if err != nil {
		t.Fatal(err)
	}
	writeInto(t, project, game.Files{"openapi.yaml": description})
	x.example(
		"havvel rules new our-portal.toml --address https://api.brackwater.example",
		"havvel rules new rulebooks/quiet.toml --from openapi.yaml",
	)
	writeInto(
		t,
		project,
		game.Files{
			"our-portal.toml":      []byte(x.example("havvel rules show brackwater --toml").out),
			"rulebooks/quiet.toml": []byte(x.in.types("havvel rules show quillmarsh --toml").out),
		},
	)
	x.example(
		"havvel rules list",
		"havvel rules list --json",
		"havvel rules schema",
		"havvel rules schema --json",
		"havvel rules show brackwater",
		"havvel rules check our-portal.toml",
		"havvel rules check rulebooks/quiet.toml",
		"havvel rules try our-portal.toml --against http://127.0.0.1:7411",
		"havvel rules try our-portal.toml --against https://api.brackwater.example --publish",
	)
	x.in.types("havvel rules try our-portal.toml --against http://127.0.0.1:7411 --record").must(t, 0)
	x.example("havvel rules test", "havvel rules test our-portal.toml")
	x.in.ends()
	x.example("havvel standin brackwater --port 7411 --fault drop-upload --at 100KB")
	x.in.ends()
}

func (x *tried) rounds() {
	defaultPorts.Lock()
	defer defaultPorts.Unlock()
	t := x.t
	_, project := x.project(true)
	x.example("havvel host --data postgres://host@db.example/shed --files s3://store.example/shed")
	x.in.ends()
	x.example("havvel host token make moth", "havvel host token revoke moth", "havvel host --data shed")
	token := strings.Fields(x.example("havvel host token make moth --data shed").out)[0]
	writeInto(t, project, game.Files{
		"key.txt":             []byte(token + "\n"),
		"friends.txt":         []byte("Ada\nZoë\n"),
		"page/questions.toml": []byte("[[question]]\nask = \"Was it fun?\"\nkind = \"scale\"\n"),
	})
	x.example(
		"havvel keys set brackwater",
		"havvel keys set shed < key.txt",
		"havvel keys list",
		"havvel keys list --json",
		"havvel keys forget shed --dry-run",
		"havvel keys forget brackwater",
	)
	x.in.types("havvel send --to shed").must(t, 0)
	x.example("havvel round open --to shed --until 3d", "havvel round open --questions page/questions.toml --password", "havvel round list")
	var rounds struct{ Rounds []struct{ ID string } }
	if err := json.Unmarshal([]byte(x.example("havvel round list --json").out), &rounds); err != nil || len(rounds.Rounds) != 2 {
		t.Fatal(err, rounds)
	}
	x.real = strings.NewReplacer("4kq2m7", rounds.Rounds[1].ID[:6], "/srv/shed", "shed")
	x.example(
		"havvel round texts > page/de.toml",
		"havvel round open --texts page/de.toml",
		"havvel round extend --until 3d",
		"havvel round extend 4kq2m7 --until 12h",
		"havvel round pause",
		"havvel round pause --off",
		"havvel round report",
		"havvel round report --page report.html",
		"havvel round report --against 4kq2m7",
		"havvel round close 4kq2m7 --forget",
		"havvel round close",
		"havvel round open --until 3d --most 10",
		"havvel round open --invite friends.txt",
		"havvel round invited",
		"havvel round remind",
		"havvel round remind --json",
	)
	for _, line := range []string{
		"havvel host builds remove 4kq2m7 --data /srv/shed", "havvel host builds remove 4kq2m7 --data /srv/shed --json",
	} {
		x.in.types("havvel send --to shed --again").must(t, 0) // a build that no round has
		var builds struct {
			Builds []struct {
				ID, State string
				Rounds    int `json:"open_rounds"`
			}
		}
		if err := json.Unmarshal([]byte(x.in.types("havvel host builds --data shed --json").must(t, 0).out), &builds); err != nil || len(builds.Builds) == 0 {
			t.Fatal(err, builds)
		}
		for _, b := range builds.Builds {
			if b.State == "ready" && b.Rounds == 0 {
				x.real = strings.NewReplacer("4kq2m7", b.ID[:8], "/srv/shed", "shed")
			}
		}
		x.example(line)
	}
	x.example("havvel host builds --data /srv/shed", "havvel host builds --json")
	x.example(
		"havvel host token make build-server --data /srv/shed",
		"havvel host token list",
		"havvel host token list --json",
		"havvel host token revoke build-server --data /srv/shed",
		"havvel host token revoke moth --data shed",
	)
	x.in.ends()
}

func (x *tried) beginnings() {
	env, folder := x.in.env, x.in.folder
	own := x.t.TempDir()
	for name, data := range small() {
		writeInto(x.t, own, game.Files{"export/web/" + name: data})
	}
	x.in = newTerminal(x.t, own, env...)
	x.example("havvel start export/web --version 0.4.0", "havvel start --to brackwater")
	x.in = newTerminal(x.t, folder, env...)
	x.example(
		"havvel completion bash > ~/.local/share/bash-completion/completions/havvel",
		"havvel completion fish > ~/.config/fish/completions/havvel.fish",
		"havvel demo",
		"havvel demo --stay --dir try",
	)
	x.in.ends()
	x.example("havvel demo --round")
}
