package tests

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// someGames are those that every run of the tests tries, the first two also in Firefox; make matrix tries all, in both browsers.
var someGames = []string{
	"title-waits-for-key", "bar-then-exception", "moving", "page-at-rest", "data-missing", "spinner-for-ever", "late-start", "vector-waits-for-a-press",
	"freezes-after-its-start", "depth-lacks-its-data", "page-of-links", "shadow-button", "asks-another-host",
}

var wanted = regexp.MustCompile(`<!-- (.*?) -->`)

// A knownGame is one whose behaviour stands in its page: yes, no with words of the cause, or that it is anything but yes; and which error
// is named, too.
type knownGame struct{ name, folder string }

// knownGames are ours, and with CORPUS those that scripts/corpus built from libraries.
func knownGames(t *testing.T) []knownGame {
	folders := []string{"../internal/trial/testdata/games"}
	if corpus := os.Getenv("CORPUS"); corpus != "" {
		folders = append(folders, filepath.Join(corpus, "known"))
	}
	var list []knownGame
	for _, folder := range folders {
		entries, err := os.ReadDir(folder)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			at, err := filepath.Abs(filepath.Join(folder, e.Name()))
			if err != nil {
				t.Fatal(err)
			}
			list = append(list, knownGame{e.Name(), at})
		}
	}
	if len(list) < 100 {
		t.Fatalf("%d games", len(list))
	}
	return list
}

// TestGames tries games of known behaviour. With BUSY=n, so many loops keep the machine busy beside them.
func TestGames(t *testing.T) {
	partner(t, "chromium")
	partner(t, "firefox-esr")
	busy, _ := strconv.Atoi(os.Getenv("BUSY"))
	if busy == 0 {
		t.Parallel()
	}
	defer keepBusy(busy)()
	most := 0.1 // share that can't be told
	if busy > 0 {
		most = 0.3
	}
	for i, browser := range []string{"chromium", "firefox"} {
		var all, untold atomic.Int32
		t.Run(browser, func(t *testing.T) {
			for _, g := range knownGames(t) {
				at := slices.Index(someGames, g.name)
				if os.Getenv("MATRIX") == "" && (at < 0 || i == 1 && at > 1) {
					continue
				}
				t.Run(g.name, func(t *testing.T) {
					t.Parallel()
					all.Add(1)
					if tryGame(t, g, browser) {
						untold.Add(1)
					}
				})
			}
		})
		share := float64(untold.Load()) / float64(max(1, all.Load()))
		t.Logf("%s: %d games, of which %d can't be told", browser, all.Load(), untold.Load())
		if os.Getenv("MATRIX") != "" && share > most {
			t.Errorf("%s: %.0f %% can't be told", browser, 100*share)
		}
	}
}

// tryGame tries one game, and reports whether it can't be told whether it starts, though it does or doesn't.
func tryGame(t *testing.T, g knownGame, browser string) (untold bool) {
	page, err := os.ReadFile(filepath.Join(g.folder, "index.html"))
	if err != nil {
		t.Fatal(err)
	}
	answer, detail, _ := strings.Cut(wanted.FindStringSubmatch(string(page))[1], ": ")
	args := []string{"trial", g.folder, "--view", "frame", "--start", "10s", "--watch", "3s", "--browser", browser, "--json"}
	if browser == "chromium" { // which shows windows of phones as phones do
		args = append(args, "--view", "phone portrait")
	}
	r := trialOf(t, run(t, t.TempDir(), args...))
	for _, v := range r.Views {
		switch {
		case v.Answer == "can't tell" && answer != "not yes":
			t.Logf("in %s it can't be told: %s", v.Name, v.Why) // said, and no harm done
			untold = true
		case answer == "not yes" && v.Answer != "yes", v.Answer == answer && (answer == "yes" || strings.Contains(v.Why, detail)):
		default:
			t.Errorf("in %s the answer is %s (%s), want %s %s", v.Name, v.Answer, v.Why, answer, detail)
		}
	}
	for _, f := range r.Findings {
		if f.Level == "error" && answer == "yes" && detail != "error "+f.ID {
			t.Errorf("a game that runs has an error: %s: %s", f.ID, f.Message)
		}
	}
	return untold
}

// TestSteady: no yes becomes a no, or back, in 20 runs of games of each kind on a busy machine.
func TestSteady(t *testing.T) {
	if os.Getenv("MATRIX") == "" {
		t.Skip("skipped: it takes an hour (make matrix)")
	}
	partner(t, "chromium")
	partner(t, "firefox-esr")
	runs := 20
	if n, err := strconv.Atoi(os.Getenv("RUNS")); err == nil {
		runs = n
	}
	defer keepBusy(2)()
	for _, browser := range []string{"chromium", "firefox"} {
		t.Run(browser, func(t *testing.T) { steady(t, browser, runs) })
	}
}

func steady(t *testing.T, browser string, runs int) {
	for _, name := range []string{
		"moving", "depth-moves", "page-waits-for-a-press", "flat-throws-after-its-bar", "vector-lacks-its-data", "timer-stands-at-90",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			folder, err := filepath.Abs(filepath.Join("../internal/trial/testdata/games", name))
			if err != nil {
				t.Fatal(err)
			}
			answers := map[string]int{}
			for range runs {
				e := run(t, t.TempDir(), "trial", folder, "--view", "frame", "--start", "10s", "--watch", "1s", "--browser", browser, "--json")
				answers[trialOf(t, e).Views[0].Answer]++
			}
			t.Log(answers)
			if answers["yes"] > 0 && answers["no"] > 0 {
				t.Errorf("the answers are %v", answers)
			}
		})
	}
}

// keepBusy has so many loops run beside the tests, until it is called off.
func keepBusy(loops int) (stop func()) {
	done := make(chan struct{})
	for range loops {
		go func() {
			for stop := false; !stop; {
				for range 1_000_000 {
				}
				select {
				case <-done:
					stop = true
				case <-time.After(0):
				}
			}
		}()
	}
	return func() { close(done) }
}
