package testers

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"havvel/internal/browser"
)

// InBrowser plays for a while in a real browser, as somebody who presses keys: agrees, also to a clip, plays, answers, and leaves. The
// link is that for simulated testers.
func InBrowser(ctx context.Context, program, link string, seed uint64, length time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, length+time.Minute)
	defer cancel()
	b, err := browser.Start(ctx, program)
	if err != nil {
		return err
	}
	defer b.Close()
	tab, err := b.Open(ctx, browser.Window{Width: 960, Height: 720}, func(browser.Event) {})
	if err != nil {
		return err
	}
	defer tab.Close()
	random := rand.New(rand.NewPCG(seed, 7))
	p := &player{tab: tab}
	p.do(ctx, func() error { return tab.Go(ctx, link) }, 0)
	p.click(ctx, "#film")
	p.click(ctx, "#allow")
	p.do(ctx, func() error { return nil }, 3*time.Second)
	p.press(ctx, "Enter", 0)
	arrows := []string{"ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown"}
	for end := time.Now().Add(length); p.err == nil && time.Now().Before(end); {
		p.press(ctx, arrows[random.IntN(4)], time.Duration(120+random.IntN(250))*time.Millisecond)
		p.press(ctx, "Enter", time.Duration(200+random.IntN(400))*time.Millisecond)
	}
	answer := fmt.Sprintf(
		`document.querySelector("[name=q0][value='%d']").click(), document.querySelector("[name=q2]").value = "played by a program, in a `+
			`browser", document.querySelector("#form button").click()`,
		3+random.IntN(3),
	)
	p.do(ctx, func() error { return tab.Evaluate(ctx, "", answer, nil) }, 4*time.Second)
	p.do(ctx, func() error { return tab.Go(ctx, "about:blank") }, 0)
	if p.err != nil {
		return fmt.Errorf("playing in a browser: %w", p.err)
	}
	return nil
}

// A player does one thing after another, until one fails.
type player struct {
	tab browser.Tab
	err error
}

func (p *player) do(ctx context.Context, what func() error, after time.Duration) {
	if p.err == nil {
		p.err = what()
	}
	if p.err == nil {
		select {
		case <-ctx.Done():
			p.err = ctx.Err()
		case <-time.After(after):
		}
	}
}

// click presses what a selector names, as soon as it is there.
func (p *player) click(ctx context.Context, selector string) {
	for there := false; p.err == nil && !there; {
		p.do(ctx, func() error {
			err := p.tab.Evaluate(ctx, "", fmt.Sprintf("(e => e && (e.click(), true) || false)(document.querySelector(%q))", selector), &there)
			if err == browser.ErrGone {
				err = nil
			}
			return err
		}, 100*time.Millisecond)
	}
}

func (p *player) press(ctx context.Context, key string, after time.Duration) {
	p.do(ctx, func() error { return p.tab.Key(ctx, key, true) }, 20*time.Millisecond)
	p.do(ctx, func() error { return p.tab.Key(ctx, key, false) }, after)
}
