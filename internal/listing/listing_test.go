package listing_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/demo"
	"havvel/internal/listing"
	"havvel/internal/project"
)

var update = flag.Bool("update", false, "write the golden files anew")

// demoProject is the demo's project with all portals, its project file changed.
func demoProject(t *testing.T, change func(toml string) string, files map[string]string) *project.Project {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "project")
	addresses, err := demo.Addresses("127.0.0.1:7411")
	if err != nil {
		t.Fatal(err)
	}
	if err := demo.Write(folder, addresses); err != nil {
		t.Fatal(err)
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if change != nil {
		path := filepath.Join(folder, project.Name)
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(change(string(data))), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	p, err := project.Find(folder)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func read(t *testing.T, p *project.Project, destination string) *listing.Page {
	t.Helper()
	page, err := listing.Read(p, p.To[destination], p.Game.Version)
	if err != nil {
		t.Fatal(err)
	}
	return page
}

// TestGolden renders the demo's page for each portal, from one source.
func TestGolden(t *testing.T) {
	p := demoProject(t, nil, nil)
	for name := range p.To {
		page := read(t, p, name)
		var b strings.Builder
		for _, f := range page.Fields {
			fmt.Fprintf(&b, "== %s (%s, %d of %d)\n%s\n", f.Name, f.Form, f.Count, f.Limit, f.Text)
		}
		for _, x := range page.Leaderboards {
			fmt.Fprintf(&b, "== leaderboard %+v\n", x)
		}
		for _, d := range page.Declarations {
			fmt.Fprintf(&b, "== declaration %+v\n", d)
		}
		for _, problem := range page.Problems {
			fmt.Fprintf(&b, "== problem %+v\n", problem)
		}
		file := filepath.Join("testdata", name+".golden")
		if *update {
			if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if b.String() != string(want) {
			t.Errorf(
				"%s is not as its golden file (go test ./internal/listing -update writes it anew):\n%s",
				name,
				strings.Join(listing.Diff(string(want), b.String()), "\n"),
			)
		}
	}
}

// replace changes a text of the project file, which must be there.
func replace(pairs ...string) func(string) string {
	return func(toml string) string {
		for i := 0; i < len(pairs); i += 2 {
			if !strings.Contains(toml, pairs[i]) {
				panic("the test is stale: " + pairs[i])
			}
			toml = strings.Replace(toml, pairs[i], pairs[i+1], 1)
		}
		return toml
	}
}

const tagline = `tagline     = "Press a lantern, and its neighbours turn too: light the whole lane."`

// TestProblems spoils the page in one way each, and looks for what is said, of which line.
func TestProblems(t *testing.T) {
	for name, c := range map[string]struct {
		at     string
		change func(string) string
		kind   listing.Kind
		says   string // of message and fix
	}{
		"missing": {"brackwater", replace(tagline, ""), listing.Missing, "the page has no tagline|write listing.tagline"},
		"long": {"osierfold", replace(tagline, `tagline = "`+strings.Repeat("light ", 16)+`"`), listing.Long,
			"tagline has 96 characters; 90 are the most|shorten it by 6"},
		"emoji as letters": {"osierfold", replace(tagline, `tagline = "`+strings.Repeat("👩‍👧‍👦", 91)+`"`), listing.Long,
			"tagline has 91 characters; 90 are the most"},
		"category": {"brackwater", replace(`"Puzzle"`, `"Puzzles"`), listing.Word,
			`"Puzzles" is not a category that Brackwater knows|did you mean "Puzzle"`},
		"category, cased": {"quillmarsh", replace(`"Puzzle"`, `"Arcad"`), listing.Word, `did you mean "arcade"`},
		"too many tags": {"brackwater", replace(`"relaxing"`, `"relaxing", "night", "moth"`), listing.Shortened,
			"takes 5 tags; left out: single-player|most important ones first"},
		"order": {"brackwater", replace(`tags        = ["puzzle"`, `tags = ["walking", "puzzle"`), listing.Order,
			"the first 3 where players browse: logic, puzzle, relaxing; the first one here, walking"},
		"script": {"brackwater", replace(`"page/description.md"`, `"page/evil.md"`), listing.Lost, "holds HTML, which is left out"},
		"leaderboard": {"brackwater", replace(`keeps = "highest"`, `keeps = "latest"`), listing.NoLeaderboard,
			"no leaderboard that keeps the latest value|highest, lowest, total"},
		"old declaration": {"brackwater", replace("[declarations]\nversion = \"0.4.0\"", "[declarations]\nversion = \"0.3.0\""),
			listing.Undeclared, "hold the rights|another version; if it still holds, write version = \"0.4.0\""},
		"no declaration": {"osierfold", replace(`, "content-told"`, ""), listing.Undeclared,
			`everything in the game that some avoid|what is so, add to states under [declarations]`},
		"short text": {"osierfold", replace(`"page/description.md"`, `"page/short.md"`), listing.Short,
			"text has 14 characters; at least 100"},
	} {
		t.Run(name, func(t *testing.T) {
			p := demoProject(
				t,
				c.change,
				map[string]string{
					"page/evil.md":  "Good <script>alert(1)</script> words " + strings.Repeat("and more of them ", 10),
					"page/short.md": "Light it up, x",
				},
			)
			var found []listing.Problem
			for _, problem := range read(t, p, c.at).Problems {
				if problem.Kind == c.kind {
					found = append(found, problem)
				}
			}
			if len(found) == 0 {
				t.Fatalf("nothing of that kind: %+v", read(t, p, c.at).Problems)
			}
			for words := range strings.SplitSeq(c.says, "|") {
				if !strings.Contains(found[0].Message+" "+found[0].Fix, words) {
					t.Errorf("does not say %q: %+v", words, found[0])
				}
			}
			if found[0].Line == 0 {
				t.Errorf("no line: %+v", found[0])
			}
		})
	}
}

// TestOverride: what is said for one destination holds there alone, and what it doesn't say stays.
func TestOverride(t *testing.T) {
	p := demoProject(t, func(toml string) string {
		return toml + "\n[to.brackwater.listing]\ntagline = \"Only here.\"\ncontent = [\"fear\"]\nunfinished = false\nage = 6\n"
	}, nil)
	b, q := read(t, p, "brackwater"), read(t, p, "quillmarsh")
	if b.Field("tagline").Text != "Only here." || b.Field("warnings").Text != "fear" || b.Field("age").Text != "6" ||
		b.Field("category").Text != "Puzzle" {
		t.Errorf("%+v %+v", b.Field("tagline"), b.Field("warnings"))
	}
	if q.Field("tagline").Text == "Only here." || q.Field("unfinished").Text != "true" {
		t.Errorf("%+v", q.Field("tagline"))
	}
	if line := p.Line("brackwater", "listing.tagline"); line < 100 {
		t.Errorf("the line of the one that counts: %d", line)
	}
}

// TestNews: a portal gets what is new in the version that is sent, and nothing when nothing is written of it.
func TestNews(t *testing.T) {
	p := demoProject(
		t,
		nil,
		map[string]string{"page/news.md": "# News\n\n## 0.4.0 (1 May)\nLamps.\n### More\nWicks.\n\n## 0.10.0\nTen.\n## v0.3\nOld.\n"},
	)
	for version, want := range map[string]string{"0.4.0": "Lamps.\n\n### More\n\nWicks.", "0.10.0": "Ten.", "0.3": "Old.", "0.1.0": ""} {
		page, err := listing.Read(p, p.To["quillmarsh"], version)
		if err != nil {
			t.Fatal(err)
		}
		if got := page.Field("news").Text; got != want {
			t.Errorf("%s: %q, want %q", version, got, want)
		}
	}
}

// TestPreview: the page holds what the portal would show, and nothing that runs.
func TestPreview(t *testing.T) {
	p := demoProject(t, replace(tagline, `tagline = "<script>alert(1)</script>"`), nil)
	for name := range p.To {
		data, err := listing.Preview(read(t, p, name), p.Game.Title, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, words := range []string{"Tinderwick Lane", "What to expect", "On a phone"} {
			if !strings.Contains(string(data), words) {
				t.Errorf("%s: no %q", name, words)
			}
		}
		if strings.Contains(string(data), "<script") {
			t.Errorf("%s: a script", name)
		}
	}
}
