package check

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"havvel/internal/finding"
)

func TestGoodBuild(t *testing.T) {
	for _, packed := range []bool{false, true} {
		if f := Run(Subject{Build: build(t, good()), Destination: "arcade", Rules: arcade, Packed: packed, Plants: true}); len(f) > 0 {
			t.Errorf("packed %v: %+v", packed, f)
		}
	}
}

// TestCatalogue spoils the good build in one way for each check.
func TestCatalogue(t *testing.T) {
	for _, c := range Catalogue() {
		t.Run(c.ID, func(t *testing.T) {
			how, ok := flawed[c.ID]
			if !ok {
				t.Fatal("no flawed build for this check")
			}
			files := good()
			how.spoil(files)
			var got []string
			s := Subject{Build: build(t, files), Destination: "arcade", Rules: arcade, Plants: true}
			if s.Page = pageOf(c.ID); strings.HasPrefix(c.ID, "fresh") {
				s.Page = PageFacts{}
			}
			if set := history[c.ID]; set != nil {
				set(&s)
			}
			for _, f := range Run(s) {
				if f.ID == c.ID {
					got = append(got, place(f))
					if f.Message == "" || f.Fix == "" || f.Destination != "arcade" {
						t.Errorf("says too little: %+v", f)
					}
				}
			}
			if !slices.Equal(got, how.want) {
				t.Errorf("found %q, want %q", got, how.want)
			}
			for _, text := range []string{c.Title, c.Text, c.Before, c.After} {
				if text == "" {
					t.Error("a text is missing")
				}
			}
		})
	}
}

func place(f finding.Finding) string {
	if f.Line == 0 {
		return fmt.Sprintf("%s %s", f.Level, f.File)
	}
	return fmt.Sprintf("%s %s:%d", f.Level, f.File, f.Line)
}

// TestFixed: what pack fixes is a note when pack is used, and only then.
func TestFixed(t *testing.T) {
	for _, id := range []string{"entry-nested", "entry-name", "hook-absent", "leftover-junk", "link-case", "link-absolute",
		"encoding-unserved"} {
		files := good()
		flawed[id].spoil(files)
		if id == "encoding-unserved" {
			files["game.js"] += `fetch("lane.pack.br")`
		}
		b := build(t, files)
		for _, f := range Run(Subject{Build: b, Destination: "arcade", Rules: arcade, Packed: true, Plants: true}) {
			if f.ID == id && (f.Level != finding.Note || f.FixedBy != "pack") {
				t.Errorf("%s when packed: %+v", id, f)
			}
		}
	}
	files := good()
	move(files, "web/")
	files["readme.md"] = "hello"
	files["web/index.html"] = strings.Replace(files["web/index.html"], "<head>", `<head><base href="./">`, 1)
	if f := Run(Subject{Build: build(t, files), Destination: "arcade", Rules: arcade, Packed: true, Plants: true}); len(f) != 1 ||
		f[0].ID != "entry-nested" ||
		f[0].Level != finding.Error {
		t.Errorf("a page with a base of its own, which can't be lifted: %+v", f)
	}
	flawed["encoding-unserved"].spoil(files)
	for _, f := range Run(Subject{Build: build(t, files), Destination: "arcade", Rules: arcade, Packed: true, Plants: true,
		Without: []string{"recode"}}) {
		if f.ID == "encoding-unserved" && f.Level != finding.Error {
			t.Errorf("a step that pack must not take: %+v", f)
		}
	}
}

// TestLevels: a rulebook may raise or lower a level, but not that of what pack fixes.
func TestLevels(t *testing.T) {
	strict := *arcade
	strict.Levels = map[string]string{"page-no-title": "error", "hook-absent": "error"}
	files := good()
	flawed["page-no-title"].spoil(files)
	flawed["hook-absent"].spoil(files)
	levels := map[string]finding.Level{}
	for _, f := range Run(Subject{Build: build(t, files), Destination: "arcade", Rules: &strict, Packed: true, Plants: true}) {
		levels[f.ID] = f.Level
	}
	if levels["page-no-title"] != finding.Error || levels["hook-absent"] != finding.Note {
		t.Errorf("%v", levels)
	}
}

func TestAccepts(t *testing.T) {
	files := good()
	flawed["link-missing"].spoil(files)
	b := build(t, files)
	findings := Run(Subject{Build: b, Accepts: []finding.Accept{{ID: "link-missing", File: "*.html", Reason: "made at run time"}}})
	if finding.Errors(findings) != 1 { // the one in game.js
		t.Errorf("%+v", findings)
	}
	if n := finding.Errors(Run(Subject{Build: b, Accepts: []finding.Accept{{ID: "link-missing", File: "old.html", Reason: "r"}}})); n != 2 {
		t.Errorf("%d errors", n)
	}
}
