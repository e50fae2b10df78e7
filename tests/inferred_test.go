package tests

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// TestInferred: a game that says nothing to anybody makes a portal's calls, in their order and with its values, by what pack's adapter finds
// out; without that, a call that the portal requires is an error.
func TestInferred(t *testing.T) {
	t.Parallel()
	partner(t, "chromium")
	folder := t.TempDir()
	if err := os.CopyFS(filepath.Join(folder, "lane"), os.DirFS("../internal/proof/testdata/lane")); err != nil {
		t.Fatal(err)
	}
	portal := "format = \"havvel-rulebook/2\"\nname = \"Brackwater\"\naddress = \"http://127.0.0.1:7431\"\n[archive]\nhand_over = \"zip\"\n" +
		"[[view]]\nname = \"frame\"\nsize = [960, 540]\n" +
		"[[hook]]\nname = \"SDK\"\nscript = \"https://portal.example/sdk.js\"\nplace = \"head-start\"\nrequired = true\nplant = true\nwhy = \"keeps scores\"\n"
	for _, c := range [][2]string{{"ready", "loading-done"}, {"begin", "play-begun"}, {"stop", "play-stopped"}} {
		portal += "[[hook.call]]\ncall = \"Portal." + c[0] + "\"\nevent = \"" + c[1] + "\"\nrequired = true\n"
	}
	portal += "[[hook.call]]\ncall = \"Portal.score\"\nevent = \"statistic\"\narguments = [\"{name}\", \"{value}\"]\n"
	project := "[game]\ntitle = \"Tinderwick Lane\"\nshort = \"lane\"\nversion = \"1.0.0\"\nexport = \"lane\"\n[to.brackwater]\nrulebook = \"portal.toml\"\n" +
		"[trial]\nsteps = [\"tap 50% 50%\", \"wait 1500ms\", \"tap 50% 50%\", \"wait 1500ms\", \"hide for 500ms\"]\n"
	writeInto(t, folder, game.Files{"portal.toml": []byte(portal), "havvel.toml": []byte(project)})
	run(t, folder, "check").must(t, 1, "no script calls Portal.ready, which Brackwater wants", `"play-begun"`)
	run(t, folder, "pack").must(t, 1, "hook-uncalled")

	said := project + "[hooks]\ninfer = [\"loading-done\", \"play-begun\", \"play-stopped\"]\n[[statistic]]\nname = \"lanterns\"\nkeeps = \"highest\"\nglobal = \"lane.lit\"\n"
	writeInto(t, folder, game.Files{"havvel.toml": []byte(said)})
	run(t, folder, "check").must(t, 0, "Portal.begin is inferred")
	run(t, folder, "hooks").must(t, 0, "inferred")
	run(t, folder, "pack", "--prove").must(t, 0, "what infers events in index.html", "proven", "inferred: loading-done after")
	r := decode[struct {
		Trials []struct {
			Views []struct {
				Heard []struct{ Kind, Name string }
				Steps []struct{ Failed string }
			}
		}
	}](t, run(t, folder, "trial", "--json").must(t, 0))
	var calls []string
	for _, e := range r.Trials[0].Views[0].Heard {
		if e.Kind == "call" {
			calls = append(calls, strings.TrimPrefix(e.Name, "Portal."))
		}
	}
	if i := slices.Index(calls, "score"); i < 0 || !slices.Equal(slices.DeleteFunc(slices.Clone(calls), func(c string) bool { return c == "score" }),
		[]string{"ready", "begin", "stop"}) {
		t.Errorf("heard %v; steps %+v", calls, r.Trials[0].Views[0].Steps)
	}

	t.Log("what is inferred is no evidence of a start")
	stuck := t.TempDir()
	if err := os.CopyFS(filepath.Join(stuck, "lane"), os.DirFS("../internal/trial/testdata/games/timer-stands-at-90")); err != nil {
		t.Fatal(err)
	}
	writeInto(t, stuck, game.Files{"portal.toml": []byte(portal), "havvel.toml": []byte(said)})
	if e := run(t, stuck, "trial", "--quick", "--start", "8s", "--json"); strings.Contains(e.out, `"answer": "yes"`) || !strings.Contains(e.out, `"answer"`) {
		t.Errorf("a game that stands at its loading bar is said to start:\n%s%s", e.out[:min(len(e.out), 900)], e.err)
	}

	one := strings.Replace(said, "\"play-begun\", ", "", 1) // a wrong guess is switched off
	writeInto(t, folder, game.Files{"havvel.toml": []byte(one)})
	os.RemoveAll(filepath.Join(folder, ".havvel", "trials")) // where it was heard
	run(t, folder, "check").must(t, 1, "no script calls Portal.begin")
	writeInto(t, folder, game.Files{"havvel.toml": []byte(strings.Replace(said, "loading-done", "loading-dome", 1))})
	run(t, folder, "check").must(t, 2, "hooks.infer", "loading-done")
}
