package trial

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"havvel/internal/browser"
)

// soon is how long is waited for what is expected, where a step doesn't say.
const soon = 3 * time.Second

var withinLine = regexp.MustCompile(`^(.+?)(?: up to (\d+)%)?(?: within (\S+))?$`)

// wanted splits what is expected from how much and how long.
func wanted(rest, example string) (what, share string, within time.Duration, err error) {
	m := withinLine.FindStringSubmatch(rest)
	if m == nil {
		return "", "", 0, errors.New("write what: " + example)
	}
	within = soon
	if m[3] != "" {
		within, err = upToAMinute(m[3])
	}
	return m[1], m[2], within, err
}

// expectText waits for words in the game's page; what is drawn on a canvas is no text.
func expectText(rest string) (func(context.Context, *viewer) error, error) {
	words, _, within, err := wanted(rest, "expect text Night two within 5s")
	return func(ctx context.Context, v *viewer) error {
		return v.await(ctx, within, fmt.Sprintf("the text %q", words), func() (bool, error) {
			var text string
			err := v.tab.Evaluate(ctx, v.watch.frame(), `window.havvelWords ? havvelWords().replace(/\s+/g, " ") : ""`, &text)
			if errors.Is(err, browser.ErrGone) {
				return false, nil // it went while it was asked
			}
			return strings.Contains(text, words), err
		})
	}, err
}

// expectValue waits until an expression of the game's page has a value, which is written as JSON or as a text.
func expectValue(rest string) (func(context.Context, *viewer) error, error) {
	both, _, within, err := wanted(rest, "expect value lantern.lit is 3")
	expression, value, ok := strings.Cut(both, " is ")
	if !ok {
		return nil, errors.New("write which, and what it must be: expect value lantern.lit is 3")
	}
	return func(ctx context.Context, v *viewer) error {
		last := "nothing"
		what := fmt.Sprintf("%s is %s", expression, value)
		err := v.await(ctx, within, what, func() (bool, error) {
			var now string
			code := "(() => { try { const v = (" + expression + "); return typeof v === 'string' ? v : String(JSON.stringify(v)); } " +
				"catch (e) { return String(e); } })()"
			err := v.tab.Evaluate(ctx, v.watch.frame(), code, &now)
			if errors.Is(err, browser.ErrGone) {
				return false, nil
			}
			if err != nil { // it is no expression
				last = err.Error()
				return false, ctx.Err()
			}
			last = now
			return now == value || same(now, value), nil
		})
		if lost, ok := err.(*unmet); ok {
			return &unmet{fmt.Sprintf("%s; it was %.80s", lost.words, last)}
		}
		return err
	}, err
}

// same reports whether two JSON texts stand for the same number, list or object.
func same(a, b string) bool {
	var x, y any
	if json.Unmarshal([]byte(a), &x) != nil || json.Unmarshal([]byte(b), &y) != nil {
		return false
	}
	return fmt.Sprint(x) == fmt.Sprint(y)
}

// expectPicture waits until the window looks as it did when a picture of that name was accepted.
func expectPicture(rest string) (func(context.Context, *viewer) error, error) {
	name, share, within, err := wanted(rest, "expect picture first night up to 20% within 5s")
	most := mostApart
	if share != "" {
		n, _ := strconv.Atoi(share) // a few digits
		most = float64(n) / 100
	}
	return func(ctx context.Context, v *viewer) error {
		before, has := v.trial.accepted(v.view.Name, name)
		if !has {
			v.note(fmt.Sprintf("nothing was compared with the picture %q, since none was accepted; havvel trial --accept keeps what is there", name))
			_, err := v.named(ctx, name)
			return err
		}
		apart := 1.0
		err := v.await(ctx, within, fmt.Sprintf("the picture %q", name), func() (bool, error) {
			p, err := v.tab.Picture(ctx)
			if err != nil {
				return false, err
			}
			now, ok := screenOf(p, &v.sight)
			if !ok {
				return false, nil
			}
			var enough bool
			apart, enough = now.differs(&before)
			return !enough || apart <= most, nil
		})
		if lost, ok := err.(*unmet); ok {
			return &unmet{fmt.Sprintf("%s: %.0f %% of what stands still look different", lost.words, 100*apart)}
		}
		if err == nil {
			_, err = v.named(ctx, name)
		}
		return err
	}, err
}

// accepted is what was accepted of a view under a name.
func (t *Trial) accepted(view, name string) (First, bool) {
	if t.Accepted == nil {
		return First{}, false
	}
	f, has := t.Accepted.Views[view+"/"+name]
	return f, has
}

// named takes a picture under a name, and keeps what it looks like from afar, to be accepted.
func (v *viewer) named(ctx context.Context, name string) ([]byte, error) {
	p, err := v.picture(ctx, name)
	if err != nil {
		return nil, err
	}
	if f, ok := screenOf(p, &v.sight); ok {
		if v.seen.screens == nil {
			v.seen.screens = map[string]First{}
		}
		v.seen.screens[name] = f
	}
	return p, nil
}
