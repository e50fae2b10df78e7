package tests

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"havvel/internal/demo/game"
)

// TestAccessible: the pages that testers and developers read have no mistake that axe-core finds. AXE names its script, which make matrix
// fetches.
func TestAccessible(t *testing.T) {
	script := os.Getenv("AXE")
	if script == "" {
		t.Skip("AXE names no axe.min.js; make matrix fetches it")
	}
	axe, err := os.ReadFile(script)
	if err != nil {
		t.Fatal(err)
	}
	hv, project := shed(t)
	hv("send", "--to", "shed", "--no-proof").must(t, 0)
	writeInto(t, project, game.Files{
		"q.toml": []byte("[[question]]\nask = \"Was it fun?\"\nkind = \"scale\"\n[[question]]\nask = \"What was odd?\"\nkind = \"text\"\n"),
	})
	link := roundLink.FindString(hv("round", "open", "--questions", "q.toml", "--record").must(t, 0).out)
	hv("round", "report", "--page", "round.html").must(t, 0)
	hv("listing", "--page").must(t, 0)
	pages := map[string]string{"tester": link + "#" + firstRound(t, hv)}
	for _, pattern := range []string{"*.html", ".havvel/page/*.html"} {
		found, _ := filepath.Glob(filepath.Join(project, filepath.FromSlash(pattern)))
		for _, f := range found {
			pages[filepath.Base(f)] = "file://" + f
		}
	}
	for name, address := range pages {
		for _, width := range []int64{390, 1280} {
			ctx, _ := browser(t, width, 900)
			for _, wrong := range audited(t, ctx, address, string(axe)) {
				t.Errorf("%s at %d: %s", name, width, wrong)
			}
		}
	}
}

// audited lists what axe-core finds on a page.
func audited(t *testing.T, ctx context.Context, address, axe string) (list []string) {
	t.Helper()
	if err := chromedp.Do(ctx, chromedp.Navigate(address)); err != nil {
		t.Fatal(err)
	}
	text, err := chromedp.Run(ctx, chromedp.Evaluate[string](axe+`;
		axe.run(document).then(r => JSON.stringify(r.violations.map(v => v.id + ": " + v.help + " " + v.nodes.map(n => n.target + " " + n.html.slice(0, 120)).join(" | "))))`,
		chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	if err := json.NewDecoder(strings.NewReader(text)).Decode(&list); err != nil {
		t.Fatal(err)
	}
	return list
}
