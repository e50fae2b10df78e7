package browser

import (
	"cmp"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"slices"

	"havvel/internal/fault"
)

// Variable is the environment variable that names the browser.
const Variable = "HAVVEL_BROWSER"

// NoBrowser says that there is no browser to run a build in.
type NoBrowser struct {
	Named string // the program that was named; "" for none
	By    string // what named it
}

func (e *NoBrowser) Error() string {
	if e.Named != "" {
		return fmt.Sprintf("%s names %s, and there is no such browser", e.By, e.Named)
	}
	return "there is neither Chromium nor Firefox on this machine, in which a trial runs the game"
}

// Fault tells it.
func (e *NoBrowser) Fault() *fault.Error {
	return fault.Tell(e, fault.Here, cmp.Or(advice[runtime.GOOS], advice["linux"]))
}

// Find returns the path of a browser. A name is chromium, firefox, or a program; by is what named it. Without a name it is what Variable
// names, or else a Chromium in PATH or where this system installs them, or else a Firefox.
func Find(name, by string) (string, error) {
	if name == "" {
		name, by = os.Getenv(Variable), Variable
	}
	switch name {
	case "chromium":
		return first(chromiums, name, by)
	case "firefox":
		return first(firefoxes, name, by)
	case "":
		if path, err := first(chromiums, "", ""); err == nil {
			return path, nil
		}
		return first(firefoxes, "", "")
	}
	path, err := exec.LookPath(name)
	if err != nil {
		return "", &NoBrowser{name, by}
	}
	return path, nil
}

// first is the first program there is, of names in PATH and places where systems install them, with variables of the environment.
func first(places map[string][]string, name, by string) (string, error) {
	for _, place := range slices.Concat(places[""], places[runtime.GOOS]) {
		if path, err := exec.LookPath(os.ExpandEnv(place)); err == nil {
			return path, nil
		}
	}
	return "", &NoBrowser{name, by}
}

// chromiums are browsers that are built on Chromium, by system.
var chromiums = map[string][]string{
	"": {"chromium", "chromium-browser", "google-chrome", "google-chrome-stable", "chrome", "microsoft-edge", "msedge"},
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

// firefoxes are Firefoxes, by system.
var firefoxes = map[string][]string{
	"":        {"firefox", "firefox-esr"},
	"windows": {`${ProgramFiles}\Mozilla Firefox\firefox.exe`, `${ProgramFiles(x86)}\Mozilla Firefox\firefox.exe`},
	"darwin":  {"/Applications/Firefox.app/Contents/MacOS/firefox", "${HOME}/Applications/Firefox.app/Contents/MacOS/firefox"},
}

// advice says how a browser comes onto a system.
var advice = map[string]string{
	"linux":   "install Chromium (Debian: apt install chromium), or name a browser with " + Variable,
	"windows": "install Edge, Chrome or Chromium, or name one: set " + Variable + "=C:\\path\\to\\browser.exe",
	"darwin":  "install Chrome, Chromium or Edge in Applications, or name one with " + Variable,
}
