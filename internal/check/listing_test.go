package check

import (
	"strings"
	"testing"

	"havvel/internal/finding"
	"havvel/internal/listing"
	"havvel/internal/pictures"
)

// TestUnwritten: a page of which nothing is written yet is one note, and not a dozen warnings; once it is begun, all that is
// missing is named.
func TestUnwritten(t *testing.T) {
	p := PageFacts{
		Texts: []listing.Problem{
			{
				Kind:    listing.Missing,
				Message: "the page has no tagline",
				Fix:     "write it",
			}, {Kind: listing.Missing, Message: "the page has no age", Fix: "write it"},
			{
				Kind:    listing.Undeclared,
				Message: "own-rights (it is yours)",
				Fix:     "state it",
			}, {Kind: listing.Undeclared, Message: "no-advertising (there is none)", Fix: "state it"},
		},
		Pictures: []pictures.Problem{{Kind: pictures.Missing, Message: "there is no cover of 640x360", Fix: "add one"}},
	}
	s := Subject{Destination: "arcade", Rules: arcade, Page: p}
	if got := RunPage(s); len(got) != 1 || got[0].Level != finding.Note ||
		!strings.Contains(got[0].Message, "it wants 2 texts or options, 1 kind of picture and 2 declarations") {
		t.Errorf("not begun: %+v", got)
	}
	s.Page.Begun = true
	var words []string
	for _, f := range RunPage(s) {
		words = append(words, string(f.Level)+" "+f.ID+": "+f.Message)
	}
	want := []string{
		"warning listing-missing: the page on Arcade still lacks: tagline, age", "warning declaration-missing: Arcade asks for what is not " +
			"declared: own-rights (it is yours); no-advertising (there is none)",
		"warning picture-missing: there is no cover of 640x360",
	}
	if strings.Join(words, "\n") != strings.Join(want, "\n") {
		t.Errorf("begun:\n%s\nwant\n%s", strings.Join(words, "\n"), strings.Join(want, "\n"))
	}
	s.Page = PageFacts{Begun: true}
	if got := RunPage(s); len(got) != 0 {
		t.Errorf("complete: %+v", got)
	}
	s.Page = PageFacts{Begun: true, Texts: p.Texts[:1]}
	s.Accepts = []finding.Accept{{ID: "listing-missing", Reason: "the portal takes it from elsewhere"}}
	if got := RunPage(s); len(got) != 1 || got[0].Accepted == "" || got[0].Fix != "write it" {
		t.Errorf("accepted: %+v", got)
	}
}

// TestEvidence: what is declared is compared with the hosts that the game loads from, but for those that the portal allows.
func TestEvidence(t *testing.T) {
	for script, want := range map[string]string{
		`fetch("https://ads.example/show.json")`:                              "ads.example",
		`fetch("https://sdk.example/a.json")`:                                 "",
		`svg("http://www.w3.org/2000/svg")`:                                   "",
		`fetch("https://a.example/1"); fetch("https://a.example/2?key=hide")`: "a.example",
	} {
		files := good()
		files["game.js"] += script
		for _, declared := range [][]string{{"no-advertising"}, {"own-rights"}} {
			s := Subject{
				Build:       build(t, files),
				Destination: "arcade",
				Rules:       arcade,
				Plants:      true,
				Page:        PageFacts{Begun: true, Declared: declared},
			}
			got := ""
			for _, f := range Run(s) {
				if f.ID == "declaration-doubtful" {
					_, got, _ = strings.Cut(f.Message, "other hosts: ")
				}
			}
			if expect := map[bool]string{true: want}[declared[0] == "no-advertising"]; got != expect {
				t.Errorf("%s, declared %v: %q, want %q", script, declared, got, expect)
			}
		}
	}
}
