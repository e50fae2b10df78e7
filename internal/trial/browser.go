package trial

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"slices"

	"havvel/internal/fault"

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

// Fault tells it.
func (e *NoBrowser) Fault() *fault.Error {
	return fault.Tell(e, fault.Here, cmp.Or(advice[runtime.GOOS], advice["linux"]))
}

// Broken says that the browser failed, and not the game.
type Broken struct{ Cause error }

func (e *Broken) Error() string { return "the browser crashed or hung: " + e.Cause.Error() }
func (e *Broken) Unwrap() error { return e.Cause }

// Fault tells it.
func (e *Broken) Fault() *fault.Error {
	return fault.Tell(e, fault.Here, "run the same command again; if it happens again, name another browser with HAVVEL_BROWSER")
}

// FindBrowser returns the path of a Chromium: the one that HAVVEL_BROWSER names, one in PATH, or one where this system installs them.
func FindBrowser() (string, error) {
	if named := os.Getenv(Variable); named != "" {
		path, err := exec.LookPath(named)
		if err != nil {
			return "", &NoBrowser{named}
		}
		return path, nil
	}
	for _, place := range slices.Concat(programs, installed[runtime.GOOS]) {
		if path, err := exec.LookPath(os.ExpandEnv(place)); err == nil {
			return path, nil
		}
	}
	return "", &NoBrowser{}
}

// programs are names under which browsers that are built on Chromium are in PATH.
var programs = []string{"chromium", "chromium-browser", "google-chrome", "google-chrome-stable", "chrome", "microsoft-edge", "msedge"}

// installed is where systems put them, with variables of the environment.
var installed = map[string][]string{
	"windows": {
		`${ProgramFiles}\Chromium\Application\chrome.exe`, `${LocalAppData}\Chromium\Application\chrome.exe`,
		`${ProgramFiles}\Google\Chrome\Application\chrome.exe`, `${ProgramFiles(x86)}\Google\Chrome\Application\chrome.exe`,
		`${LocalAppData}\Google\Chrome\Application\chrome.exe`,
		`${ProgramFiles(x86)}\Microsoft\Edge\Application\msedge.exe`, `${ProgramFiles}\Microsoft\Edge\Application\msedge.exe`,
	},
	"darwin": {
		"/Applications/Chromium.app/Contents/MacOS/Chromium", "${HOME}/Applications/Chromium.app/Contents/MacOS/Chromium",
		"/Applications/Google Chrome.app/Contents/MacOS/Google Chrome", "${HOME}/Applications/Google Chrome.app/Contents/MacOS/Google Chrome",
		"/Applications/Microsoft Edge.app/Contents/MacOS/Microsoft Edge",
	},
}

// advice says how a browser comes onto a system.
var advice = map[string]string{
	"linux":   "install Chromium (Debian: apt install chromium), or name a browser with " + Variable,
	"windows": "install Edge, Chrome or Chromium, or name one: set " + Variable + "=C:\\path\\to\\browser.exe",
	"darwin":  "install Chrome, Chromium or Edge in Applications, or name one with " + Variable,
}

// Window opens a window of a browser of its own. listen hears what the browser tells; done ends the browser.
func Window(ctx context.Context, browser string, listen func(any)) (inside context.Context, done func()) {
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(browser),
		chromedp.Flag("disable-quic", true),
		// The game's frame stays in the process of the page around it, so that one window tells everything.
		chromedp.Flag(
			"disable-features",
			"Translate,BlinkGenPropertyTrees,SitePerProcess,IsolateOrigins,IsolateSandboxedIframes",
		),
		chromedp.Flag("disable-site-isolation-trials", true),
		chromedp.Flag(
			"disable-component-update",
			true,
		),
		// Without a graphics card, drawing in few steps is quicker, most of all on a busy machine.
		chromedp.Flag("disable-gpu-rasterization", true),
		chromedp.Flag("disable-gpu-compositing", true),
		chromedp.Flag("disable-accelerated-2d-canvas", true),
		chromedp.Flag("autoplay-policy", "no-user-gesture-required"),
		chromedp.Flag("enable-precise-memory-info", true),
	)
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
