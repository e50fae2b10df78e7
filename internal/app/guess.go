package app

import (
	"bytes"
	"cmp"
	"io"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/html"

	"havvel/internal/export"
	"havvel/internal/inwords"
	"havvel/internal/project"
)

// A Guess is what an export lets suppose about the game's page.
type Guess struct {
	Title, Tagline string
	Icon           string // inside the export; "" for none
	Frame          [2]int
	Keys           []string // that its scripts listen to
}

// mostRead is how much of a page or script is looked at, in bytes.
const mostRead = 4 << 20

// GuessFrom looks at the entry page and the scripts of a build.
func GuessFrom(b *export.Build) Guess {
	var g Guess
	if b.Entry == nil {
		return g
	}
	g.Title = b.Entry.Page.Title
	g.fromPage(b.Entry)
	if w, h := b.Entry.Page.CanvasWidth, b.Entry.Page.CanvasHeight; w >= 200 && h >= 200 && w <= 4000 && h <= 4000 {
		g.Frame = [2]int{w, h}
	}
	seen := map[string]bool{}
	for _, f := range b.Parts() {
		if f.Page != nil || strings.HasSuffix(strings.ToLower(f.Path), ".js") || strings.HasSuffix(strings.ToLower(f.Path), ".mjs") {
			keysIn(contentOf(f), seen)
		}
	}
	if g.Keys = slices.Sorted(maps.Keys(seen)); len(g.Keys) > mostKeys { // a table of all keys that there are
		g.Keys = nil
	}
	g.Title, g.Tagline = inwords.Clean(g.Title), inwords.Clean(g.Tagline)
	return g
}

func contentOf(f *export.File) []byte {
	r, err := f.Open()
	if err != nil {
		return nil
	}
	defer r.Close()
	data, _ := io.ReadAll(io.LimitReader(r, mostRead)) // what can't be read says nothing
	return data
}

// fromPage takes what a page's head says of it.
func (g *Guess) fromPage(f *export.File) {
	said := map[string]string{}
	z := html.NewTokenizer(bytes.NewReader(contentOf(f)))
	for kind := z.Next(); kind != html.ErrorToken; kind = z.Next() {
		t := z.Token()
		if kind != html.StartTagToken && kind != html.SelfClosingTagToken {
			continue
		}
		a := map[string]string{}
		for _, x := range t.Attr {
			a[x.Key] = strings.TrimSpace(x.Val)
		}
		switch {
		case t.Data == "meta":
			name := strings.ToLower(cmp.Or(a["name"], a["property"]))
			said[name] = cmp.Or(said[name], a["content"])
		case t.Data == "link" && strings.Contains(strings.ToLower(a["rel"]), "icon") && picture.MatchString(a["href"]):
			if to := path.Join(path.Dir(f.Path), a["href"]); !strings.Contains(a["href"], ":") && !strings.HasPrefix(to, "..") {
				g.Icon = cmp.Or(g.Icon, to)
			}
		}
	}
	g.Title = cmp.Or(said["og:title"], g.Title)
	g.Tagline = cmp.Or(said["og:description"], said["description"])
	if len(g.Tagline) > 200 {
		g.Tagline = ""
	}
}

var picture = regexp.MustCompile(`(?i)\.(png|webp|jpe?g|gif)$`)

const mostKeys = 14

// keyName are names of keys as scripts write them (UI Events, section 5).
var keyName = regexp.MustCompile(`["'\x60](Arrow(?:Left|Right|Up|Down)|Key[A-Z]|Digit[0-9]|Space|Enter|Escape|Tab|` +
	`(?:Shift|Control)(?:Left|Right)?| )["'\x60]`)

// keysIn finds the keys that a script listens to.
func keysIn(script []byte, into map[string]bool) {
	if !bytes.Contains(script, []byte("keydown")) && !bytes.Contains(script, []byte("keyup")) {
		return
	}
	for _, m := range keyName.FindAllSubmatch(script, -1) {
		into[printed(string(m[1]))] = true
	}
}

// printed is a key as it is printed on a keyboard.
func printed(name string) string {
	switch {
	case name == " ":
		return "Space"
	case strings.HasPrefix(name, "Key"), strings.HasPrefix(name, "Digit"):
		return name[len(name)-1:]
	case strings.HasPrefix(name, "Arrow"):
		return map[string]string{"ArrowLeft": "←", "ArrowRight": "→", "ArrowUp": "↑", "ArrowDown": "↓"}[name]
	}
	return strings.TrimSuffix(strings.TrimSuffix(strings.Replace(name, "Escape", "Esc", 1), "Left"), "Right")
}

// into fills what a project doesn't say yet.
func (g Guess) into(p *project.Project) {
	p.Game.Title = cmp.Or(p.Game.Title, g.Title)
	p.Listing.Tagline = cmp.Or(p.Listing.Tagline, g.Tagline)
	if p.Listing.Frame[0] == 0 {
		p.Listing.Frame = g.Frame
	}
	if info := path.Ext(p.Game.Export); g.Icon != "" && info != ".zip" && info != ".html" {
		p.Pictures = append(p.Pictures, project.Picture{File: path.Join(p.Game.Export, g.Icon), Roles: []string{"icon"}})
	}
	if len(g.Keys) > 0 {
		p.Listing.Controls = append(p.Listing.Controls, project.Control{Keys: g.Keys})
	}
}
