package rulebook

import (
	"strings"
	"testing"
)

const bare = "format = \"havvel-rulebook/2\"\nname = \"Reedhouse\"\n[archive]\nhand_over = \"zip\"\n"

// TestPageMistakes: what someone who describes a page gets wrong is said in words that help.
func TestPageMistakes(t *testing.T) {
	for toml, says := range map[string]string{
		"[[field]]\nname = \"Title\"\nfrom = [\"title\"]": "it must be in small letters",
		"[[field]]\nname = \"title\"":                     "field.from is missing",
		"[[field]]\nname = \"title\"\nfrom = [\"name\"]":  `from is "name"`,
		"[[field]]\nname = \"title\"\nfrom = [\"title\"]\nform = \"rtf\"": `form is "rtf"; it can be plain, html, ` +
			`bbcode, markdown`,
		"[[field]]\nname = \"title\"\nfrom = [\"title\"]\ncounts = \"words\"":                     "it can be points, units, letters, bytes",
		"[[field]]\nname = \"a\"\nfrom = [\"title\"]\n[[field]]\nname = \"a\"\nfrom = [\"tags\"]": "and so is another field's",
		"[page]\ncolumn = [\"footer\"]":                                                    `page.column is "footer"`,
		"[[picture]]\nname = \"a\"\nrole = \"cover\"":                                      "picture needs size, least or ratio",
		"[[picture]]\nname = \"a\"\nrole = \"hero\"\nsize = [1, 1]":                        `role is "hero"`,
		"[[picture]]\nname = \"a\"\nrole = \"cover\"\nsize = [99999, 1]":                   "of up to 8192 pixels",
		"[[picture]]\nname = \"a\"\nrole = \"cover\"\nratio = \"wide\"":                    `write it like "16:9"`,
		"[[picture]]\nname = \"a\"\nrole = \"cover\"\nsize = [1, 1]\nformats = [\"tiff\"]": "it can be png, jpeg",
		"[[picture]]\nname = \"a\"\nrole = \"screenshot\"\nsize = [1, 1]\ncount = [5, 2]":  "the fewest first",
		"[leaderboards]\nkeeps = [\"best\"]":                                               `leaderboards.keeps is "best"`,
		"[[declaration]]\nname = \"rights\"":                                               "declaration.says is missing",
		"[[final]]\nwhat = \"page\"\nsays = \"x\"":                                         `final.what is "page"`,
		"[[fill]]\nstep = \"a\"\nmethod = \"PUT\"\naddress = \"{address}/{field.titel}\"\nexpect = [200]\n[[field]]\nname = \"title\"\nfrom " +
			"= [\"title\"]": "unknown field titel",
		"[[fill]]\nstep = \"a\"\nmethod = \"PUT\"\naddress = \"{address}/{picture.name}\"\nexpect = [200]": "goes through the pictures by " +
			"each = \"picture in pictures\"",
		"[[fill]]\nstep = \"a\"\nmethod = \"PUT\"\naddress = \"{address}\"\nfile = \"entry\"\nexpect = [200]": "{entry} is not known there",
	} {
		_, err := Parse("own.toml", []byte(bare+toml+"\n"))
		if !strings.Contains(said(err), says) {
			t.Errorf("%s: %v, want %q", toml, err, says)
		}
	}
}

func TestWanted(t *testing.T) {
	for _, c := range []struct {
		p            Picture
		fewest, most int
		shape        float64
		takes        string
	}{
		{Picture{Role: "cover", Size: [2]int{640, 360}, Required: true}, 1, 1, 640. / 360, "png jpeg"},
		{Picture{Role: "screenshot", Least: [2]int{640, 360}, Count: [2]int{2, 5}}, 2, 5, 0, "png jpeg"},
		{Picture{Role: "banner", Ratio: "16:9"}, 0, 1, 16. / 9, "png jpeg"},
		{Picture{Role: "clip", Size: [2]int{480, 270}}, 0, 1, 480. / 270, "webm"},
		{Picture{Role: "clip", Size: [2]int{480, 270}, Formats: []string{"gif"}}, 0, 1, 480. / 270, "gif"},
	} {
		if c.p.Fewest() != c.fewest || c.p.Most() != c.most || c.p.Shape() != c.shape || strings.Join(c.p.Takes(), " ") != c.takes {
			t.Errorf("%+v: %d to %d, %v, %v", c.p, c.p.Fewest(), c.p.Most(), c.p.Shape(), c.p.Takes())
		}
	}
}
