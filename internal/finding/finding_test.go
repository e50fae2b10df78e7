package finding

import (
	"testing"

	"havvel/internal/rulebook"
)

func TestPolicy(t *testing.T) {
	p := Policy{
		Rules:   &rulebook.Rulebook{Allow: []string{"scores.example", "assets.example:8443"}, Levels: map[string]string{"page-margin": "error"}},
		Accepts: []Accept{{"link-missing", "old/*.html", "kept for a link"}, {"page-margin", "", "wanted"}},
	}
	list := []Finding{
		{ID: "a", Level: Note},
		{ID: "link-missing", Level: Warning, File: "old/a.html"},
		{ID: "link-missing", Level: Error, File: "index.html"},
		{ID: "page-margin", Level: p.Level("page-margin", Note)},
	}
	p.Settle(list)
	if list[0].File != "index.html" || list[1].ID != "page-margin" || list[1].Accepted != "wanted" || list[2].Accepted == "" ||
		list[3].Level != Note ||
		Errors(list) != 1 {
		t.Errorf("%+v", list)
	}
	for address, want := range map[string]bool{
		"https://scores.example/top": true, "https://Scores.example:444/top": true, "https://assets.example:8443/a": true,
		"https://assets.example/a": false, "https://other.example/": false,
	} {
		if p.Allows(address) != want {
			t.Errorf("%s: %v", address, !want)
		}
	}
}
