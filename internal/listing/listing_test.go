package listing_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/demo"
	"havvel/internal/listing"
	"havvel/internal/project"
	"havvel/internal/rulebook"
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
			`everything in the game that some avoid|add it to declare under [declarations]`},
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
		for _, words := range []string{"Tinderwick Lane", "What to expect", "on a phone"} {
			if !strings.Contains(string(data), words) {
				t.Errorf("%s: no %q", name, words)
			}
		}
		if strings.Contains(string(data), "<script") {
			t.Errorf("%s: a script", name)
		}
	}
}

// TestPageLanguages: files beside the page's own and [listing.de] are its texts in other languages, with controls, headings and labels;
// what lacks is listed, and a portal with one language gets that one.
func TestPageLanguages(t *testing.T) {
	p := demoProject(t, replace(`languages   = ["en"]`, `languages   = ["en", "de-AT", "fr", "ar-EG"]`, "[[statistic]]",
		"[listing.de]\ntagline = \"Licht an!\"\nlabels = { lanterns = \"Laternen\" }\n"+
			"headings = { Controls = \"Steuerung\", Credits = \"Mitwirkende\", Action = \"Was\", Keys = \"Tasten\" }\n"+
			"[[listing.de.control]]\naction = \"Laterne drehen\"\nkeys = [\"Eingabe\"]\n\n[[statistic]]"),
		map[string]string{"page/description.de.md": "Die Lampen **gingen aus**.", "page/description.ar.md": "المصابيح **انطفأت**."})
	rules := *p.To["quillmarsh"].Rules
	rules.Fill = append(rules.Fill[:len(rules.Fill):len(rules.Fill)], rules.Fill[0])
	last := &rules.Fill[len(rules.Fill)-1]
	last.JSON = rulebook.Compiled(map[string]any{"texts": "{locales}"})
	rules.Leaderboards = &rulebook.Leaderboards{}
	p.To["quillmarsh"].Rules = &rules
	page := read(t, p, "quillmarsh")
	texts := map[string]string{}
	for _, l := range page.Others {
		for _, f := range l.Fields {
			texts[l.Language+" "+f.Name] = f.Text
		}
		for _, b := range l.Leaderboards {
			texts[l.Language+" "+b.Name] = b.Label
		}
	}
	for at, want := range map[string]string{
		"de tagline": "Licht an!", "de text": "## Steuerung\n\n| Was | Tasten |", "de lanterns": "Laternen", "ar-EG text": "**انطفأت**",
		"ar-EG title": "Tinderwick Lane",
	} {
		if !strings.Contains(texts[at], want) {
			t.Errorf("%s: %q", at, texts[at])
		}
	}
	if strings.Contains(texts["de text"], "went out") || !strings.Contains(texts["de text"], "## Mitwirkende") {
		t.Errorf("%q", texts["de text"])
	}
	said := fmt.Sprint(page.Problems)
	for _, want := range []string{"the game speaks French, its page doesn't", "in Arabic (Egypt) there is no tagline", "in German there is no news"} {
		if !strings.Contains(said, want) {
			t.Errorf("not said: %q in %s", want, said)
		}
	}

	rules.Page.Language = "de"
	page = read(t, p, "quillmarsh")
	if page.Language != "de" || page.Field("tagline").Text != "Licht an!" || !strings.Contains(page.Field("text").Text, "**gingen aus**") ||
		page.Field("kind").Text != "puzzle" || len(page.Others) > 0 {
		t.Errorf("%+v %+v", page.Field("tagline"), page.Field("text"))
	}
	if said := fmt.Sprint(page.Problems); !strings.Contains(said, "there is no news in that language, so yours in English is sent") {
		t.Error(said)
	}
	rules.Page.Language = "ja"
	if said := fmt.Sprint(read(t, p, "quillmarsh").Problems); !strings.Contains(said, "shows its page in Japanese; yours is in English") {
		t.Error(said)
	}
}

// TestHidden: characters that nobody sees are told in titles and taglines; joiners that a script needs are none.
func TestHidden(t *testing.T) {
	for text, want := range map[string]string{
		"Light \\u202Ethe lane": "a control of the writing direction (U+202E) as its character 7",
		"Light\\u200B it":       "an invisible character (U+200B)", "Light\\u00ADit": "an invisible character",
		"می\\u200Cخواهم": "", "👩‍👧‍👦 and 🏴\\U000E0067\\U000E0062\\U000E007F": "", "a\\u200Db": "joins nothing",
	} {
		p := demoProject(t, replace(tagline, `tagline = "`+text+`"`), nil)
		said := ""
		for _, x := range read(t, p, "quillmarsh").Problems {
			if x.Kind == listing.Hidden {
				said += x.Message
			}
		}
		if want == "" && said != "" || !strings.Contains(said, want) {
			t.Errorf("%q: %q, want %q", text, said, want)
		}
	}
}

// TestCutWithin: a text that is over the limit in its first paragraph keeps its beginning, marked up, and the preview shows where.
func TestCutWithin(t *testing.T) {
	p := demoProject(t, nil, map[string]string{"page/description.md": "# All\n\n" + strings.Repeat("The lamps of **Tinderwick Lane** went out. ", 300)})
	for _, name := range []string{"brackwater", "osierfold"} {
		d := p.To[name]
		rules := *d.Rules
		rules.Fields = slices.Clone(rules.Fields)
		for i := range rules.Fields {
			rules.Fields[i].Cut = true
		}
		d.Rules = &rules
		page := read(t, p, name)
		for _, f := range page.Fields {
			if !slices.Contains(f.From, "description") {
				continue
			}
			if f.Count > f.Limit || f.Count < f.Limit*9/10 || f.Rest == "" || !strings.HasSuffix(strings.TrimSuffix(f.Text, "</p>"), "went out.") {
				t.Errorf("%s: %d of %d, ends with %q", name, f.Count, f.Limit, f.Text[len(f.Text)-40:])
			}
		}
		data, err := listing.Preview(page, p.Game.Title, nil)
		if err != nil || !strings.Contains(string(data), "cut here") {
			t.Errorf("%s: the preview doesn't mark where, %v", name, err)
		}
	}
}
