//go:build unix

package tests

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"havvel/internal/demo/game"
)

// TestRoundOfPages: a game of words and of several pages is heard in each of them: play begins at the first press, and what fails in the second
// page is told.
func TestRoundOfPages(t *testing.T) {
	ctx, _ := browser(t, 1000, 900)
	hv, project := shed(t)
	page := func(words, then string) []byte {
		return []byte("<!doctype html><meta charset=utf-8><title>Lane</title><h1>" + words + "</h1><button>Light it</button><script>" +
			`addEventListener("keydown", (e) => { if (e.key === "Enter") ` + then + ` });</script>`)
	}
	writeInto(t, project, game.Files{
		"pages/index.html": page("Tinderwick Lane", `location.href = "play.html";`), "pages/play.html": page("The lane is dark.", "null.lit();"),
		"pages/part.html": []byte("<p>a part</p>"),
	})
	hv("send", "--to", "shed", "--only", "build", "--no-proof", "--accept-errors", "pages").must(t, 0)
	opened := decode[struct{ ID, Link string }](t, hv("round", "open", "--json").must(t, 0))
	do(t, ctx, chromedp.Navigate(opened.Link+"#"+opened.ID), chromedp.Click("#allow"))
	type report struct {
		Started, Presses int
		Errors           []struct{ Message, File string }
	}
	eventually(t, "nothing is heard of the second page", func() (any, bool) {
		do(t, ctx, chromedp.KeyEvent(kb.Enter))
		r := decode[report](t, hv("round", "report", "--simulated", "--json").must(t, 0))
		return r, r.Started == 1 && r.Presses > 1 && len(r.Errors) == 1
	})
}
