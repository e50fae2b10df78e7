package tests

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

var listed = regexp.MustCompile(`(?m)^  ([a-z]+) +[A-Z]`)

// commands are all commands that do something, by the words that call them.
func commands(t *testing.T, words ...string) (list [][]string) {
	help := run(t, t.TempDir(), append(words, "--help")...).must(t, 0).out
	_, inner, found := strings.Cut(help, "\nAvailable Commands:\n")
	if len(words) == 0 {
		_, inner, found = strings.Cut(help, "\nTo begin:\n")
	}
	if !found {
		return [][]string{words}
	}
	inner, _, _ = strings.Cut(inner, "\nFlags:\n")
	for _, m := range listed.FindAllStringSubmatch(inner, -1) {
		if m[1] != "help" {
			list = append(list, commands(t, append(slices.Clone(words), m[1])...)...)
		}
	}
	if len(words) > 0 && words[0] == "host" && len(words) == 1 {
		list = append(list, words)
	}
	return list
}

// given are the arguments that commands need.
var given = map[string][]string{
	"compare": {
		"export/web",
		"export/web",
	}, "keys set": {"quillmarsh"}, "keys forget": {"quillmarsh"}, "rules show": {"quillmarsh"}, "rules check": {"own.toml"},
	"rules try": {"own.toml"}, "host token make": {"moth"}, "host token revoke": {"moth"}, "completion": {"bash"}, "host": {"--data", "host"},
}

type failure struct {
	Kind, Message, Next, File string
	Line, Column              int
}

// TestAnswers: every command answers in words and in JSON, ends with the same code in both, and with --json prints JSON alone, in which
// each failure has its kind, and the place where there is one.
func TestAnswers(t *testing.T) {
	t.Parallel()
	all := commands(t)
	if len(all) < 30 {
		t.Fatalf("only %d commands: %v", len(all), all)
	}
	const good = "[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"1\"\nexport = \"export/web\"\n[to.quillmarsh]\nrulebook = " +
		"\"quillmarsh\"\naddress = \"http://127.0.0.1:9\"\n"
	export := game.Files{}
	for name, data := range small() {
		export["export/web/"+name] = data
	}
	rules := game.Files{"own.toml": []byte(smallRules)}
	with := func(more ...game.Files) game.Files {
		files := game.Files{}
		for _, m := range append(more, export, rules) {
			for name, data := range m {
				files[name] = data
			}
		}
		return files
	}
	if v := decode[struct{ Version string }](t, run(t, t.TempDir(), "--version", "--json").must(t, 0)); v.Version == "" {
		t.Error("--version --json names no version")
	}
	codes := map[string]int{"no": 1, "usage": 2, "here": 3, "unreachable": 4}
	for name, w := range map[string]struct {
		files game.Files
		env   []string
		flags []string
	}{
		"a wrong flag":       {with(game.Files{"havvel.toml": []byte(good)}), nil, []string{"--no-such-flag"}},
		"an empty folder":    {game.Files{"a.txt": nil}, nil, nil},
		"a mistaken project": {with(game.Files{"havvel.toml": []byte(strings.Replace(good, "short", "shrt", 1) + "plant = 3\n")}), nil, nil},
		"no key":             {with(game.Files{"havvel.toml": []byte(good)}), []string{"QUILLMARSH_KEY="}, nil},
		"nobody there":       {with(game.Files{"havvel.toml": []byte(good)}), []string{"QUILLMARSH_KEY=a.b"}, nil},
		"a dry run":          {with(game.Files{"havvel.toml": []byte(good)}), []string{"QUILLMARSH_KEY=a.b"}, []string{"--dry-run"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			kinds := map[string]int{}
			for _, words := range all {
				command := strings.Join(words, " ")
				if endless := slices.Contains([]string{"play", "host", "standin", "demo"}, command); endless && w.flags == nil &&
					(command != "play" || name != "an empty folder") {
					continue
				}
				args := slices.Concat(words, given[command], w.flags)
				if command == "trial" {
					args = append(args, "--watch", "100ms")
				}
				env := append([]string{"HAVVEL_BROWSER=/none", "XDG_CONFIG_HOME=" + t.TempDir()}, w.env...)
				text := runWith(t, write(t, w.files), env, args...)
				data := runWith(t, write(t, w.files), env, append(args, "--json")...)
				if text.code != data.code {
					t.Errorf("%s ends with %d in words, and with %d in JSON\n%s%s\n%s", command, text.code, data.code, text.out, text.err, data.out)
				}
				var doc struct{ Failures []failure }
				d := json.NewDecoder(strings.NewReader(data.out))
				for n := 0; n == 0 || d.More(); n++ {
					if err := d.Decode(&doc); err != nil {
						t.Errorf("%s --json: %v\n%s", command, err, data.out)
						break
					}
				}
				if data.code > 1 && len(doc.Failures) == 0 {
					t.Errorf("%s --json ends with %d, and says no failure:\n%s", command, data.code, data.out)
				}
				for i, f := range doc.Failures {
					kinds[f.Kind]++
					if codes[f.Kind] == 0 || f.Message == "" || i == 0 && len(doc.Failures) == 1 && codes[f.Kind] != data.code {
						t.Errorf("%s: %d %+v", command, data.code, f)
					}
					if first, _, _ := strings.Cut(f.Message, "\n"); !strings.Contains(text.err, first[:min(len(first), 30)]) {
						t.Errorf("%s says %q in JSON only:\n%s", command, f.Message, text.err)
					}
					if name == "a mistaken project" && f.File == "havvel.toml" && (f.Line == 0 || f.Column == 0) {
						t.Errorf("%s: no place: %+v", command, f)
					}
				}
				if strings.Contains(text.err, "reflect.") || strings.Contains(text.err, "goroutine") {
					t.Errorf("%s: %s", command, text.err)
				}
			}
			t.Log(fmt.Sprint(kinds))
		})
	}
}
