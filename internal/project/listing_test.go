package project

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"havvel/internal/fault"
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

const head = "[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"0.4.0\"\nexport = \"web\"\n[to.brackwater]\nrulebook = " +
	"\"brackwater\"\n"

// TestListingMistakes: what is wrong in the listing is said in words that help.
func TestListingMistakes(t *testing.T) {
	for toml, says := range map[string]string{
		"[listing]\norientation = \"portrat\"": `listing.orientation is "portrat"; it can be any, ` +
			`portrait, landscape`,
		"[listing]\ndevices = [\"desktop\", \"watch\"]":                          `devices is "watch"; it can be desktop, tablet, phone`,
		"[listing]\ncontent = [\"horror\"]":                                      `content is "horror"`,
		"[listing]\nlanguages = [\"english!\"]":                                  `"english!", which is no language`,
		"[listing]\nprice = \"fixed\"":                                           "amount is missing",
		"[listing]\namount = \"3 Euro\"":                                         `write it like "3.00 EUR"`,
		"[listing]\nage = 99":                                                    "it is in years",
		"[listing]\nframe = [960, 0]":                                            "a width and a height",
		"[listing]\ncontact = \"moth\"":                                          "an e-mail address or a link",
		"[listing]\nvideo = \"javascript:alert(1)\"":                             "it must be a link",
		"[[listing.control]]\naction = \"Jump\"":                                 "at least one of keys, mouse, touch and gamepad",
		"[[listing.credit]]\npart = \"sound\"":                                   "listing.credit.name is missing",
		"[to.brackwater.listing]\nopens = \"popup\"":                             `to.brackwater.listing.opens is "popup"`,
		"[declarations]\ndeclare = [\"own-rights\"]":                             "version is missing",
		"[[picture]]\nfile = \"a.png\"":                                          "picture.roles is missing",
		"[[picture]]\nfile = \"a.png\"\nroles = [\"hero\"]":                      `roles is "hero"`,
		"[[picture]]\nfile = \"a.png\"\nroles = [\"cover\"]\nfocus = [50]":       "hundredths of width and height",
		"[[picture]]\nfile = \"a.png\"\nroles = [\"cover\"]\nsurround = \"red\"": `a colour such as "#10131c"`,
		"[[picture]]\nfile = \"a.png\"\nroles = [\"cover\"]\nonly = [\"shed\"]":  `picture.only is "shed"; it can be brackwater`,
		"[[picture]]\nfile = \"a.png\"\nrole = \"cover\"":                        `did you mean "roles"?`,
		"[listing]\ntaglin = \"x\"":                                              `did you mean "tagline"?`,
	} {
		_, err := found(t, head+toml+"\n")
		words := ""
		for _, f := range fault.All(err) {
			words += f.What + "\n" + f.Next + "\n"
			if f.Kind != fault.Usage || f.At.Line <= 7 {
				t.Errorf("%s: %v", toml, f)
			}
		}
		if !strings.Contains(words, says) {
			t.Errorf("%s: %v, want %q", toml, err, says)
		}
	}
}

// TestStates: what is declared for another version is not declared.
func TestStates(t *testing.T) {
	p, err := found(
		t,
		head+"[declarations]\nversion = \"0.4.0\"\ndeclare = [\"own-rights\"]\n[to.brackwater.declarations]\nversion = \"0.3.0\"\ndeclare = "+
			"[\"only-here\"]\n",
	)
	if err != nil {
		t.Fatal(err)
	}
	for version, want := range map[string]string{"0.4.0": "own-rights", "0.3.0": "only-here", "0.5.0": ""} {
		if list, stale := p.Declared(p.To["brackwater"], version); strings.Join(list, " ") != want || !stale {
			t.Errorf("%s: %v %v", version, list, stale)
		}
	}
}

// TestBlank: every line that start writes as a comment is right when its mark is taken away, and destinations can be added behind it.
func TestBlank(t *testing.T) {
	text, err := Blank(&Project{
		Game:     Game{Title: "Lane", Short: "lane", Version: "0.4.0", Export: "web"},
		Listing:  Listing{Tagline: "Light it.", Frame: [2]int{960, 540}, Controls: []Control{{Keys: []string{"Space", "←"}}}},
		Pictures: []Picture{{File: "web/icon.png", Roles: []string{"icon"}}},
	})
	if err != nil {
		t.Fatal(err)
	}
	p, err := found(t, string(text))
	if err != nil || p.Listing.Tagline != "Light it." || p.Listing.Frame[1] != 540 || len(p.Pictures) != 1 {
		t.Fatalf("%v\n%s", err, text)
	}
	awake := regexp.MustCompile(`(?m)^# (\[|[a-z]+ +=)`).ReplaceAllString(string(text), "$1")
	awake = strings.Replace(awake, `category    = ""`, `category = "Puzzle"`, 1)
	if p, err := found(t, awake); err != nil || len(p.Listing.Controls) != 1 || p.Listing.Description == "" || p.Listing.Category != "Puzzle" {
		t.Errorf("%v\n%s", err, awake)
	}
	more := map[string]*Destination{"brackwater": {Rulebook: "brackwater", Key: "env:A_KEY"}, "lane": {Address: "sftp://moth@lane.example/www"}}
	if shown, err := p.AddDestinations(more, true); err != nil || !strings.Contains(string(shown), "[to.lane]") {
		t.Errorf("%v\n%s", err, shown)
	}
	if _, err := p.AddDestinations(more, false); err != nil {
		t.Fatal(err)
	}
	p, err = Find(p.Folder)
	if err != nil || p.To["brackwater"].Key != "env:A_KEY" || p.To["lane"].SiteAddress() == nil || p.Listing.Tagline != "Light it." {
		t.Errorf("%v", err)
	}
	if _, err := p.AddDestinations(more, false); err == nil || !strings.Contains(err.Error(), "has [to.") {
		t.Errorf("the same again: %v", err)
	}
}

// TestEnvironment: a value that stands in an environment variable is taken from there, and told when it is not set.
func TestEnvironment(t *testing.T) {
	text := strings.Replace(head, "version = \"0.4.0\"", "version = \"env:LANE_VERSION\"", 1)
	if text == head {
		t.Fatal("the test is stale")
	}
	if _, err := found(t, text); err == nil || !strings.Contains(err.Error(), "LANE_VERSION, which is not set") {
		t.Errorf("%v", err)
	}
	t.Setenv("LANE_VERSION", "1.2.3")
	if p, err := found(t, text); err != nil || p.Game.Version != "1.2.3" {
		t.Errorf("%v", err)
	}
}

// TestAddPictures: what stands in the file stays as it is, and what would make it unreadable is not written.
func TestAddPictures(t *testing.T) {
	before := head + "\n# a comment that stays\n\n\n"
	p, err := found(t, before)
	if err != nil {
		t.Fatal(err)
	}
	if err := p.AddPictures([]Picture{{File: `page/"odd" \ name.png`, Roles: []string{"screenshot", "cover"}},
		{File: "b.webm", Roles: []string{"clip"}}}); err != nil {
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
