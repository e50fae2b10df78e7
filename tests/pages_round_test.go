//go:build unix

package tests

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"havvel/internal/demo/game"
)

// joined is a tester's window in a new round of an export.
func joined(t *testing.T, ctx context.Context, hv func(args ...string) ending, export string) {
	t.Helper()
	hv("send", "--to", "shed", "--only", "build", "--no-proof", "--accept-errors", export).must(t, 0)
	opened := decode[struct{ ID, Link string }](t, hv("round", "open", "--json").must(t, 0))
	do(t, ctx, chromedp.Navigate(opened.Link+"#"+opened.ID), chromedp.Click("#allow"))
}

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
	joined(t, ctx, hv, "pages")
	eventually(t, "nothing is heard of the second page", func() (any, bool) {
		do(t, ctx, chromedp.KeyEvent(kb.Enter))
		r := reported(t, hv)
		return r, r.Started == 1 && r.Presses > 1 && len(r.Errors) == 1
	})
}

// TestLastPresses: what a tester pressed just before the tab was closed counts.
func TestLastPresses(t *testing.T) {
	ctx, _ := browser(t, 1000, 900)
	hv, project := shed(t)
	writeInto(t, project, game.Files{"one/index.html": []byte("<!doctype html><meta charset=utf-8><title>Lane</title><h1>Lane</h1><button>Light it</button>")})
	joined(t, ctx, hv, "one")
	pressed := 0
	eventually(t, "no press is heard", func() (any, bool) {
		do(t, ctx, chromedp.KeyEvent(kb.Enter))
		pressed++
		return nil, reported(t, hv).Presses > 0
	})
	for range 5 {
		do(t, ctx, chromedp.KeyEvent(kb.Enter))
	}
	do(t, ctx, chromedp.Navigate("about:blank"))
	eventually(t, "the last presses are lost", func() (any, bool) {
		n := reported(t, hv).Presses
		return n, n >= 5 && n <= pressed+5
	})
}

// TestRoundOfFrames: a game that runs in a frame of its own page is heard, too: that it is shown, its presses and what fails.
func TestRoundOfFrames(t *testing.T) {
	ctx, _ := browser(t, 1000, 900)
	hv, project := shed(t)
	writeInto(t, project, game.Files{
		"framed/index.html":     []byte(`<!doctype html><meta charset=utf-8><title>Lane</title><iframe src="lane/play.html" width=600 height=300 ></iframe>`),
		"framed/lane/play.html": []byte(`<!doctype html><meta charset=utf-8><canvas width=500 height=200></canvas><script>addEventListener("pointerdown", () => null.lit());</script>`),
	})
	joined(t, ctx, hv, "framed")
	eventually(t, "nothing is heard of the frame", func() (any, bool) {
		do(t, ctx, chromedp.MouseClickXY(400, 300))
		r := reported(t, hv)
		return r, r.Started == 1 && r.Presses > 0 && len(r.Errors) == 1
	})
}
