package testers

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"havvel/internal/trial"
)

// InBrowser plays for a while in a real browser, as somebody who presses keys: agrees, also to a clip, plays, answers, and leaves. The page
// itself notes that a program drives the browser.
func InBrowser(ctx context.Context, browser, link string, seed uint64, length time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, length+time.Minute)
	defer cancel()
	inside, done := trial.Window(ctx, browser, func(any) {})
	defer done()
	random := rand.New(rand.NewPCG(seed, 7))
	err := chromedp.Do(
		inside,
		chromedp.EmulateViewport(960, 720),
		chromedp.Navigate(link),
		chromedp.Click("#film"),
		chromedp.Click("#allow"),
		chromedp.Sleep(3*time.Second),
		chromedp.KeyEvent(kb.Enter),
	)
	arrows := []string{kb.ArrowLeft, kb.ArrowRight, kb.ArrowUp, kb.ArrowDown}
	for end := time.Now().Add(length); err == nil && time.Now().Before(end); {
		err = chromedp.Do(
			inside,
			chromedp.KeyEvent(arrows[random.IntN(4)]),
			chromedp.Sleep(time.Duration(120+random.IntN(250))*time.Millisecond),
			chromedp.KeyEvent(kb.Enter),
			chromedp.Sleep(time.Duration(200+random.IntN(400))*time.Millisecond),
		)
	}
	if err == nil {
		answer := fmt.Sprintf(
			`document.querySelector("[name=q0][value='%d']").click(); document.querySelector("[name=q2]").value = "played by a program, in a `+
				`browser"; document.querySelector("#form button").click()`,
			3+random.IntN(3),
		)
		err = chromedp.Do(inside, chromedp.Evaluate[chromedp.Void](answer), chromedp.Sleep(4*time.Second), chromedp.Navigate("about:blank"))
	}
	if err != nil {
		return fmt.Errorf("playing in a browser: %w", err)
	}
	return nil
}
