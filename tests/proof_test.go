package tests

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"havvel/internal/demo"
)

// proofOf is what pack --json says of the proof of its only archive.
type proofOf struct {
	Archives []struct {
		Path  string
		Proof *struct {
			Answer, Why, Browser, View, Report string
			Without                            []string
		}
	}
}

// TestProof: what runs as well as the export is proven and sent, what runs worse is neither written nor sent, and who wants a proof gets
// one or an error.
func TestProof(t *testing.T) {
	t.Parallel()
	partner(t, "chromium")
	_, folder := portal(t, nil)
	to := []string{"--to", "brackwater"}
	on := []string{"HAVVEL_PROOF=", "BRACKWATER_KEY=" + demo.PracticeKey}
	files := filepath.Join(folder, "export", "web")

	t.Log("as well")
	run(t, folder, append([]string{"pack", "--prove"}, to...)...).must(t, 0, "proven: it runs as well as your export")
	again := decode[proofOf](t, run(t, folder, append([]string{"pack", "--json"}, to...)...).must(t, 0))
	if p := again.Archives[0].Proof; p == nil || p.Answer != "proven" || p.Browser == "" || p.View != "frame" {
		t.Errorf("pack does not say again that it is proven: %+v", p)
	}

	t.Log("no browser")
	nowhere := append([]string{"PATH=" + t.TempDir()}, on...)
	edit(t, folder, "[[statistic]]", "[proof]\nrequired = true\n\n[[statistic]]")
	runWith(t, folder, nowhere, append([]string{"send"}, to...)...).must(t, 3, "neither Chromium nor Firefox")
	edit(t, folder, "required = true", "required = false")
	runWith(t, folder, nowhere, append([]string{"send", "--wait"}, to...)...).must(t, 0, "not proven: there is neither Chromium nor Firefox", "sent 0.4.0")

	t.Log("sent by default with a proof")
	runWith(t, folder, on, append([]string{"send", "--again", "--wait", "--json"}, to...)...).must(t, 0, `"proof": "proven"`)
	runWith(t, folder, on, append([]string{"where", "--json"}, to...)...).must(t, 0, `"proof": "proven"`)

	t.Log("worse: a file that a script names in parts stays behind")
	script, err := os.ReadFile(filepath.Join(files, "loader.js"))
	if err != nil {
		t.Fatal(err)
	}
	asks := "const ending = ['js', 'on'].join('');\nfetch('levels/one.' + ending).then((r) => r.json()).then((l) => { window.level = l.lanterns.length; });\n"
	writeInto(t, files, map[string][]byte{"loader.js": append([]byte(asks), script...), "levels/one.json": []byte(`{"lanterns": [1, 2]}`)})
	edit(t, folder, "[[statistic]]", "[pack]\nleave_out = [\"levels/\"]\n\n[[statistic]]")
	archive := filepath.Join(folder, "packed", "brackwater-0.5.0.zip")
	worse := run(t, folder, append([]string{"pack", "--prove", "--version", "0.5.0"}, to...)...).must(t, 1, "runs worse than your export",
		"loader.js:2", "levels/one.json is asked for, and fails", "--without leave-out")
	if _, err := os.Stat(archive); err == nil {
		t.Error("the archive was written")
	}
	if page, err := os.ReadFile(filepath.Join(folder, ".havvel", "proofs", "brackwater.html")); err != nil || !strings.Contains(string(page), "levels/one.json") {
		t.Errorf("no page shows both sides (%v)\n%s", err, worse.out)
	}
	runWith(t, folder, on, append([]string{"send", "--version", "0.5.0"}, to...)...).must(t, 1, "runs worse than your export")
	runWith(t, folder, on, append([]string{"where", "--json"}, to...)...).must(t, 0, `"version": "0.4.0"`)
	runWith(t, folder, on, append([]string{"send", "--no-proof", "--version", "0.5.0"}, to...)...).must(t, 0, "sent 0.5.0")
}

// TestTrialLive: what players get from a portal and from a site runs in the same way as what was sent, or it is said that it doesn't.
func TestTrialLive(t *testing.T) {
	t.Parallel()
	partner(t, "chromium")
	_, folder := portal(t, nil)
	site := t.TempDir()
	hides := atomic.Bool{}
	files := http.FileServer(http.Dir(site))
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if hides.Load() && strings.HasSuffix(r.URL.Path, ".wasm") {
			http.Error(w, "not for you", http.StatusForbidden)
			return
		}
		files.ServeHTTP(w, r)
	}))
	defer web.Close()
	edit(t, folder, "[[statistic]]", fmt.Sprintf("[to.site]\naddress = %q\npublic = %q\n\n[[statistic]]", site, web.URL))
	run(t, folder, "trial", "--live", "site").must(t, 1, "nothing was sent to site yet")
	run(t, folder, "send", "--to", "site", "--to", "brackwater", "--wait").must(t, 0)
	run(t, folder, "publish", "--to", "site", "--to", "brackwater").must(t, 0)
	for _, name := range []string{"site", "brackwater"} {
		run(t, folder, "trial", "--live", name).must(t, 0, "proven: it runs there as well as what was sent runs here")
	}
	hides.Store(true)
	run(t, folder, "trial", "--live", "site").must(t, 1, "it runs worse there", "rules.wasm: it could not be loaded: the host",
		"rules.wasm is asked for, and fails (the host answers 403 Forbidden)", "in what was sent it doesn't")
	edit(t, folder, "export/web", "export/script")
	run(t, folder, "trial", "--live", "site").must(t, 1, "was made of another export")
}
