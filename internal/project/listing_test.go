package project

import (
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"havvel/internal/settings"
)

// found writes a project file and reads it.
func found(t *testing.T, toml string) (*Project, error) {
	t.Helper()
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, Name), []byte(toml), 0o644); err != nil {
		t.Fatal(err)
	}
	return Find(folder)
}

const head = "[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"0.4.0\"\nexport = \"web\"\n[to.brackwater]\nrulebook = \"brackwater\"\n"

// TestListingMistakes: what is wrong in the listing is said in words that help.
func TestListingMistakes(t *testing.T) {
	for toml, says := range map[string]string{
		"[listing]\norientation = \"portrait\"":                                  `listing.orientation is "portrait"; it can be any, upright, sideways`,
		"[listing]\ndevices = [\"desk\", \"watch\"]":                             `devices is "watch"; it can be desk, tablet, phone`,
		"[listing]\ncontent = [\"horror\"]":                                      `content is "horror"`,
		"[listing]\nlanguages = [\"english!\"]":                                  `"english!", which is no language`,
		"[listing]\nprice = \"fixed\"":                                           "amount is missing",
		"[listing]\namount = \"3 Euro\"":                                         `write it like "3.00 EUR"`,
		"[listing]\nage = 99":                                                    "it is in years",
		"[listing]\nframe = [960, 0]":                                            "a width and a height",
		"[listing]\ncontact = \"moth\"":                                          "an e-mail address or a link",
		"[listing]\nvideo = \"javascript:alert(1)\"":                             "it must be a link",
		"[[listing.control]]\naction = \"Jump\"":                                 "at least one of keys, mouse, touch and gamepad",
		"[[listing.credit]]\npart = \"sound\"":                                   "credit number 1 needs a name",
		"[to.brackwater.listing]\nopens = \"popup\"":                             `to.brackwater.listing.opens is "popup"`,
		"[declares]\nstates = [\"own-rights\"]":                                  "version is missing",
		"[[picture]]\nfile = \"a.png\"":                                          "roles that say what it is for",
		"[[picture]]\nfile = \"a.png\"\nroles = [\"hero\"]":                      `roles is "hero"`,
		"[[picture]]\nfile = \"a.png\"\nroles = [\"cover\"]\nfocus = [50]":       "hundredths of width and height",
		"[[picture]]\nfile = \"a.png\"\nroles = [\"cover\"]\nsurround = \"red\"": `a colour such as "#10131c"`,
		"[[picture]]\nfile = \"a.png\"\nroles = [\"cover\"]\nonly = [\"shed\"]":  `"shed", which is no destination`,
		"[[picture]]\nfile = \"a.png\"\nrole = \"cover\"":                        `did you mean "roles"?`,
		"[listing]\ntaglin = \"x\"":                                              `did you mean "tagline"?`,
	} {
		_, err := found(t, head+toml+"\n")
		var problem *settings.Problem
		if !errors.As(err, &problem) || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %q", toml, err, says)
		}
	}
}

// TestStates: what is stated for another version is not stated.
func TestStates(t *testing.T) {
	p, err := found(t, head+"[declares]\nversion = \"0.4.0\"\nstates = [\"own-rights\"]\n[to.brackwater.declares]\nversion = \"0.3.0\"\nstates = [\"only-here\"]\n")
	if err != nil {
		t.Fatal(err)
	}
	for version, want := range map[string]string{"0.4.0": "own-rights", "0.3.0": "only-here", "0.5.0": ""} {
		if list, stale := p.States(p.To["brackwater"], version); strings.Join(list, " ") != want || !stale {
			t.Errorf("%s: %v %v", version, list, stale)
		}
	}
}

// TestBlank: every line that start writes as a comment is right when its mark is taken away.
func TestBlank(t *testing.T) {
	text, err := Blank(&Project{
		Game: Game{Title: "Lane", Short: "lane", Version: "0.4.0", Export: "web"}, To: map[string]*Destination{"brackwater": {Rulebook: "brackwater", Key: "env:A_KEY"}},
		Listing: Listing{Tagline: "Light it."},
	})
	if err != nil {
		t.Fatal(err)
	}
	p, err := found(t, string(text))
	if err != nil || p.Listing.Tagline != "Light it." {
		t.Fatalf("%v\n%s", err, text)
	}
	awake := regexp.MustCompile(`(?m)^# (\[|[a-z]+ +=)`).ReplaceAllString(string(text), "$1")
	awake = strings.NewReplacer(`category    = ""`, `category = "Puzzle"`, `contact     = ""`, `contact = "moth@shed.example"`).Replace(awake)
	p, err = found(t, awake)
	if err != nil || len(p.Listing.Controls) != 1 || len(p.Statistics) != 1 || len(p.Pictures) != 1 || p.Declares == nil || p.Declares.Version != "0.4.0" || len(p.Trial.Steps) != 2 || p.Listing.Unfinished == nil {
		t.Errorf("%v\n%s", err, awake)
	}
}

// TestAddPictures: what stands in the file stays as it is, and what would make it unreadable is not written.
func TestAddPictures(t *testing.T) {
	before := head + "\n# a comment that stays\n\n\n"
	p, err := found(t, before)
	if err != nil {
		t.Fatal(err)
	}
	if err := p.AddPictures([]Picture{{File: `page/"odd" \ name.png`, Roles: []string{"screenshot", "cover"}}, {File: "b.webm", Roles: []string{"clip"}}}); err != nil {
		t.Fatal(err)
	}
	after, err := Find(p.Folder)
	if err != nil || len(after.Pictures) != 2 || after.Pictures[0].File != `page/"odd" \ name.png` || len(after.Pictures[0].Roles) != 2 {
		t.Fatalf("%+v %v", after, err)
	}
	data, err := os.ReadFile(filepath.Join(p.Folder, Name))
	if err != nil || !strings.HasPrefix(string(data), strings.TrimRight(before, "\n")) {
		t.Errorf("%v\n%s", err, data)
	}
	if err := p.AddPictures([]Picture{{File: "a.png", Roles: []string{"nothing"}}}); err == nil {
		t.Error("a role that there is not was written")
	}
	if again, err := os.ReadFile(filepath.Join(p.Folder, Name)); err != nil || string(again) != string(data) {
		t.Error("the file was changed all the same")
	}
}
