package tests

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// someGames are those that every run of the tests tries; make matrix tries all.
var someGames = []string{"moving", "title-waits-for-key", "page-at-rest", "bar-then-exception", "data-missing", "spinner-for-ever", "late-start"}

var wanted = regexp.MustCompile(`<!-- (.*?) -->`)

// TestGames tries games of known behaviour. What must be said of each stands in its page: yes, no with words of the cause, or that it is
// anything but yes; and which errors are named, too.
func TestGames(t *testing.T) {
	partner(t, "chromium")
	folder, err := filepath.Abs("../internal/trial/testdata/games")
	if err != nil {
		t.Fatal(err)
	}
	games, err := os.ReadDir(folder)
	if err != nil || len(games) < 20 {
		t.Fatalf("%d games: %v", len(games), err)
	}
	for _, g := range games {
		if os.Getenv("MATRIX") == "" && !slices.Contains(someGames, g.Name()) {
			continue
		}
		t.Run(g.Name(), func(t *testing.T) {
			t.Parallel()
			page, err := os.ReadFile(filepath.Join(folder, g.Name(), "index.html"))
			if err != nil {
				t.Fatal(err)
			}
			answer, detail, _ := strings.Cut(wanted.FindStringSubmatch(string(page))[1], ": ")
			e := run(t, t.TempDir(), "trial", filepath.Join(folder, g.Name()), "--view", "frame", "--start", "10s", "--json")
			r := decode[struct {
				Trials []struct {
					Views []struct {
						Name, Answer, Why string
					}
					Findings []struct{ ID, Level, Message string }
				}
			}](t, e).Trials[0]
			for _, v := range r.Views {
				switch {
				case v.Answer == "can't tell" && answer == "yes":
					t.Logf("in %s it can't be told: %s", v.Name, v.Why) // said, and no harm done
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
		})
	}
}
