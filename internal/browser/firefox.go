package browser

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sync"
	"time"
)

// firefox is Firefox. What pages can find out about the machine is a setting of the whole browser, so each kind of window has its own.
type firefox struct {
	path  string
	shown bool

	mu   sync.Mutex
	kept map[string]*gecko // by their settings
	name string
}

// gecko is one running Firefox.
type gecko struct {
	*bidi
	program *exec.Cmd
	ended   chan struct{}
	profile string
	screen  func() // ends the screen that it has
}

func startFirefox(_ context.Context, path string, shown bool) (*firefox, error) {
	return &firefox{path: path, shown: shown, kept: map[string]*gecko{}}, nil
}

func (f *firefox) Name() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.name
}

func (f *firefox) Close() {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, g := range f.kept {
		g.close()
	}
	clear(f.kept)
}

// quietly are settings of a browser that asks for nothing by itself, and draws without a graphics card. A frame of another site stays in
// the process of the page around it, so that a press reaches what is under it.
const quietly = `user_pref("app.update.enabled", false);
user_pref("app.normandy.enabled", false);
user_pref("browser.shell.checkDefaultBrowser", false);
user_pref("browser.startup.homepage_override.mstone", "ignore");
user_pref("browser.aboutwelcome.enabled", false);
user_pref("datareporting.policy.dataSubmissionEnabled", false);
user_pref("datareporting.healthreport.uploadEnabled", false);
user_pref("extensions.update.enabled", false);
user_pref("network.captive-portal-service.enabled", false);
user_pref("network.connectivity-service.enabled", false);
user_pref("toolkit.telemetry.enabled", false);
user_pref("webgl.force-enabled", true);
user_pref("fission.autostart", false);
`

// settings are those that a window wants.
func (w *Window) settings() string {
	s := quietly
	if w.Touch {
		s += "user_pref(\"dom.w3c_touch_events.enabled\", 1);\nuser_pref(\"dom.w3c_touch_events.legacy_apis.enabled\", true);\n" +
			"user_pref(\"ui.primaryPointerCapabilities\", 1);\n" +
			"user_pref(\"ui.allPointerCapabilities\", 1);\n"
	}
	if w.Dark {
		s += "user_pref(\"ui.systemUsesDarkTheme\", 1);\nuser_pref(\"layout.css.prefers-color-scheme.content-override\", 0);\n"
	}
	if w.Still {
		s += "user_pref(\"ui.prefersReducedMotion\", 1);\n"
	}
	return s
}

// gecko is one with the settings that a window wants, started where there is none.
func (f *firefox) gecko(ctx context.Context, w Window) (*gecko, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	settings := w.settings()
	if g := f.kept[settings]; g != nil {
		select {
		case <-g.over: // it ended; its windows were told
		default:
			return g, nil
		}
		g.close()
	}
	g, err := launch(ctx, f.path, settings, f.shown)
	if err != nil {
		return nil, err
	}
	var about struct {
		Capabilities struct{ BrowserName, BrowserVersion string }
	}
	wanted := map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{
		"acceptInsecureCerts": true, "unhandledPromptBehavior": map[string]string{"default": "ignore"},
	}}}
	if err := g.callFor(ctx, openLimit, "session.new", wanted, &about); err != nil {
		g.close()
		return nil, err
	}
	f.name = "Firefox/" + about.Capabilities.BrowserVersion
	f.kept[settings] = g
	return g, nil
}

var listening = regexp.MustCompile(`WebDriver BiDi listening on (ws://\S+)`)

// launch starts the program, and waits until it listens.
func launch(ctx context.Context, path, settings string, shown bool) (*gecko, error) {
	profile, err := os.MkdirTemp("", "havvel-firefox-*")
	if err != nil {
		return nil, err
	}
	g := &gecko{profile: profile, ended: make(chan struct{})}
	if err := os.WriteFile(filepath.Join(profile, "user.js"), []byte(settings), 0o600); err != nil {
		os.RemoveAll(profile)
		return nil, err
	}
	g.program = exec.Command(path, "--no-remote", "--remote-debugging-port=0", "--profile", profile)
	g.program.Env = append(os.Environ(), "MOZ_CRASHREPORTER_DISABLE=1")
	g.screen = func() {}
	if !shown {
		g.program.Args = append(g.program.Args, "--headless")
		var screen string
		if screen, g.screen = ownScreen(ctx); screen != "" {
			g.program.Env = append(g.program.Env, "DISPLAY="+screen)
		}
	}
	words, err := g.program.StderrPipe()
	if err == nil {
		err = g.program.Start()
	}
	if err != nil {
		g.screen()
		os.RemoveAll(profile)
		return nil, err
	}
	letGo := leash(g.program.Process)
	address := make(chan string, 1)
	go func() {
		defer close(g.ended)
		for lines := bufio.NewScanner(words); lines.Scan(); {
			if m := listening.FindStringSubmatch(lines.Text()); m != nil {
				address <- m[1]
				break
			}
		}
		io.Copy(io.Discard, words)
		g.program.Wait()
		letGo()
	}()
	late := time.NewTimer(openLimit)
	defer late.Stop()
	select {
	case at := <-address:
		if g.bidi, err = dialBidi(ctx, at); err == nil {
			return g, nil
		}
	case <-g.ended:
		err = errors.New("it ended at once")
	case <-late.C:
		err = fmt.Errorf("%w: it did not say within %s that it listens", ErrNoAnswer, openLimit)
	case <-ctx.Done():
		err = ctx.Err()
	}
	g.close()
	return nil, err
}

// close ends the program, kindly at first, and takes its profile away.
func (g *gecko) close() {
	if g.bidi != nil {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		g.call(ctx, "browser.close", nil, nil) // one that doesn't hear is ended below
		cancel()
	}
	select {
	case <-g.ended:
	case <-time.After(2 * time.Second):
		g.program.Process.Kill()
		<-g.ended
	}
	if g.bidi != nil {
		g.line.CloseNow()
	}
	g.screen()
	for end := time.Now().Add(2 * time.Second); os.RemoveAll(g.profile) != nil && time.Now().Before(end); {
		time.Sleep(50 * time.Millisecond) // until its last process is gone
	}
}
