package trial

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"

	"github.com/chromedp/chromedp"
)

// Variable names the environment variable that names the browser.
const Variable = "HAVVEL_BROWSER"

// NoBrowser says that there is no browser to run a build in.
type NoBrowser struct{ Named string }

func (e *NoBrowser) Error() string {
	if e.Named != "" {
		return fmt.Sprintf("%s names %s, and there is no such program", Variable, e.Named)
	}
	return "there is no Chromium on this machine, in which a trial runs the game"
}

// Broken says that the browser failed, and not the game.
type Broken struct{ Cause error }

func (e *Broken) Error() string { return "the browser crashed or hung: " + e.Cause.Error() }
func (e *Broken) Unwrap() error { return e.Cause }

// FindBrowser returns the path of a Chromium: the one that HAVVEL_BROWSER names, or one in PATH.
func FindBrowser() (string, error) {
	if named := os.Getenv(Variable); named != "" {
		path, err := exec.LookPath(named)
		if err != nil {
			return "", &NoBrowser{named}
		}
		return path, nil
	}
	for _, name := range []string{"chromium", "chromium-browser", "chrome"} {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", &NoBrowser{}
}

// Window opens a window of a browser of its own. listen hears what the browser tells; done ends the browser.
func Window(ctx context.Context, browser string, listen func(any)) (inside context.Context, done func()) {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(browser),
		chromedp.Flag("disable-quic", true),
		// The game's frame stays in the process of the page around it, so that one window tells everything.
		chromedp.Flag("disable-features", "Translate,BlinkGenPropertyTrees,SitePerProcess,IsolateOrigins,IsolateSandboxedIframes"), chromedp.Flag("disable-site-isolation-trials", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("autoplay-policy", "no-user-gesture-required"), chromedp.Flag("enable-precise-memory-info", true))
	if os.Geteuid() == 0 {
		options = append(options, chromedp.NoSandbox) // a browser refuses to run as root with it
	}
	ctx, stop := chromedp.NewExecAllocator(ctx, options...)
	inside, end := chromedp.NewContext(ctx, chromedp.WithListener(listen))
	return inside, func() {
		end()
		stop()
	}
}

// broken tells a failure of the browser from a wish to stop.
func broken(ctx context.Context, err error) error {
	if err == nil || errors.Is(ctx.Err(), context.Canceled) {
		return ctx.Err()
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		err = errors.New("it did not answer in time")
	}
	return &Broken{err}
}
