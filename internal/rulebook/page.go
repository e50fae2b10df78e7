package rulebook

import (
	"fmt"
	"slices"
	"strings"

	"havvel/internal/settings"
)

// Page says how the portal's page of a game is arranged.
type Page struct {
	Column []string `toml:"column" doc:"what is there from top to bottom: frame, cover, banner, screenshots, clip, boards, or a field's name"`
	Side   []string `toml:"side" doc:"what is beside that on a wide screen, and below it on a phone"`
	Ground string   `toml:"ground" doc:"the page's colour, as in CSS"`
	Ink    string   `toml:"ink" doc:"the colour of its text"`
}

// A Field is one field of the game's page.
type Field struct {
	Name     string            `toml:"name" doc:"the portal's name of it; steps use it as {field.NAME}"`
	From     []string          `toml:"from" doc:"what it is filled from: keys of [listing], or title, short, studio, version, controls, credits; texts of several stand one below the other"`
	Form     string            `toml:"form" doc:"what marks up its text: plain, html, bbcode or markdown; plain unless said"`
	Controls string            `toml:"controls" doc:"how controls are shown: table, list or caps; list unless said"`
	Limit    int               `toml:"limit" doc:"the longest text, or the most words of a list"`
	Least    int               `toml:"least" doc:"the shortest text, or the fewest words of a list"`
	Counts   string            `toml:"counts" doc:"how the portal counts a text's length: points (code points of Unicode), units (of UTF-16, as scripts do), letters (as people see them) or bytes; points unless said"`
	Cut      bool              `toml:"cut" doc:"whether what is too long may be cut, at the end of a word or paragraph"`
	Required bool              `toml:"required" doc:"whether the page is incomplete without it"`
	OneOf    []string          `toml:"one_of" doc:"the only values that it takes"`
	Words    map[string]string `toml:"words" doc:"our word = the portal's"`
	Sorted   bool              `toml:"sorted" doc:"whether the portal shows a list in alphabetical order, whatever order it was given in"`
	Shown    int               `toml:"shown" doc:"how many words of a list are shown where players browse"`
}

// A Picture is one kind of picture on the game's page.
type Picture struct {
	Name     string        `toml:"name" doc:"the portal's name of it"`
	Role     string        `toml:"role" doc:"what it is for: cover, icon, banner, background, screenshot, backdrop or clip"`
	Size     [2]int        `toml:"size" doc:"its exact width and height in pixels, or"`
	Least    [2]int        `toml:"least" doc:"its least width and height, or the width and height of a clip that is recorded"`
	Ratio    string        `toml:"ratio" doc:"its shape, as in \"16:9\", where only that is given"`
	Formats  []string      `toml:"formats" doc:"the formats that are taken: png, jpeg, gif, webm; png and jpeg unless said"`
	Limit    settings.Size `toml:"limit" doc:"the heaviest"`
	Count    [2]int        `toml:"count" doc:"the fewest and the most; [0, 1] unless said. With fewest 1 or more, the page is incomplete without"`
	Opaque   bool          `toml:"opaque" doc:"whether transparency is lost there"`
	Tiles    bool          `toml:"tiles" doc:"whether it is repeated, so that its edges must fit together"`
	Seconds  int           `toml:"seconds" doc:"the longest clip"`
	Required bool          `toml:"required" doc:"whether the page is incomplete without it; the same as a count that begins with 1"`
}

// Boards says which score boards a portal makes of statistics.
type Boards struct {
	Keeps []string          `toml:"keeps" doc:"which values it can keep: highest, lowest, total, latest"`
	Most  int               `toml:"most" doc:"the most boards"`
	Limit int               `toml:"limit" doc:"the longest label"`
	Words map[string]string `toml:"words" doc:"our word for what is kept = the portal's"`
}

// A Declaration is what the developer has to state.
type Declaration struct {
	Name     string `toml:"name" doc:"its name, which havvel.toml repeats under states; own-rights, no-advertising, no-outside-login, only-here and content-told are checked against what is known"`
	Says     string `toml:"says" doc:"what is stated, in a sentence"`
	Required bool   `toml:"required" doc:"whether the portal refuses a game without it"`
}

// A Final is what the portal can't undo.
type Final struct {
	What string `toml:"what" doc:"board: said before a board is made; short: said before the game is public for the first time; declaration: said before it is sent"`
	Says string `toml:"says" doc:"what can't be undone, in a sentence"`
}

// Roles lists what pictures can be for.
func Roles() []string {
	return []string{"cover", "icon", "banner", "background", "screenshot", "backdrop", "clip"}
}

// sources lists what fields can be filled from.
func sources() []string {
	return []string{
		"title", "short", "studio", "version", "tagline", "description", "news", "controls", "credits", "category", "genre", "tags", "devices", "orientation", "languages",
		"frame", "opens", "price", "amount", "visibility", "age", "content", "unfinished", "generated", "contact", "privacy", "video",
	}
}

// Fewest is how many pictures of a kind there must be.
func (p Picture) Fewest() int {
	if p.Required {
		return max(1, p.Count[0])
	}
	return p.Count[0]
}

// Most is how many pictures of a kind there can be.
func (p Picture) Most() int { return max(1, p.Count[1]) }

// Takes lists the formats that are taken.
func (p Picture) Takes() []string {
	if len(p.Formats) > 0 {
		return p.Formats
	}
	if p.Role == "clip" {
		return []string{"webm"}
	}
	return []string{"png", "jpeg"}
}

// Shape is the wanted ratio of width to height; 0 when any is taken.
func (p Picture) Shape() float64 {
	var w, h float64
	if p.Size[0] > 0 {
		return float64(p.Size[0]) / float64(p.Size[1])
	}
	if n, _ := fmt.Sscanf(p.Ratio, "%f:%f", &w, &h); n == 2 && h > 0 {
		return w / h
	}
	return 0
}

// PictureStep is the name of every picture, in turn, as the file of a fill step.
const PictureStep = "picture"

// ofPicture are the values that a step with the file PictureStep can use.
var ofPicture = []string{"picture.name", "picture.number", "picture.type", "picture.bytes", "picture.sha256", "picture.about"}

// ofPage lists the values that fill steps can use; those of page are whole JSON values.
func (r *Rulebook) ofPage() []string {
	list := []string{"page.fields", "page.boards", "page.declarations", "page.pictures"}
	for _, f := range r.Fields {
		list = append(list, "field."+f.Name)
	}
	return list
}

func (r *Rulebook) verifyPage() error {
	places := []string{"frame", "cover", "banner", "screenshots", "clip", "boards"}
	for i, f := range r.Fields {
		if err := f.verify(); err != nil {
			return fmt.Errorf("field %q: %w", f.Name, err)
		}
		if slices.ContainsFunc(r.Fields[:i], func(o Field) bool { return o.Name == f.Name }) {
			return fmt.Errorf("there are two fields named %q", f.Name)
		}
		places = append(places, f.Name)
	}
	for _, place := range slices.Concat(r.Page.Column, r.Page.Side) {
		if err := settings.Within("page", place, places...); err != nil {
			return err
		}
	}
	for i, p := range r.Pictures {
		if err := p.verify(); err != nil {
			return fmt.Errorf("picture %q: %w", p.Name, err)
		}
		if slices.ContainsFunc(r.Pictures[:i], func(o Picture) bool { return o.Name == p.Name }) {
			return fmt.Errorf("there are two pictures named %q", p.Name)
		}
	}
	if r.Boards != nil {
		for _, k := range r.Boards.Keeps {
			if err := settings.Within("boards.keeps", k, "highest", "lowest", "total", "latest"); err != nil {
				return err
			}
		}
	}
	for _, d := range r.Declarations {
		if d.Name == "" || d.Says == "" {
			return fmt.Errorf("declaration %q needs a name, and says", d.Name)
		}
	}
	for _, f := range r.Finals {
		if err := settings.Within("what of a final", f.What, "board", "short", "declaration"); err != nil {
			return err
		}
		if f.Says == "" {
			return fmt.Errorf("final %q has no says", f.What)
		}
	}
	return nil
}

func (f *Field) verify() error {
	if f.Name == "" || strings.ToLower(f.Name) != f.Name || strings.ContainsAny(f.Name, "{} ") || len(f.From) == 0 {
		return fmt.Errorf("it needs a name in small letters, and from")
	}
	for _, from := range f.From {
		if err := settings.Within("from", from, sources()...); err != nil {
			return err
		}
	}
	for _, w := range []struct {
		key, value string
		known      []string
	}{
		{"form", f.Form, []string{"plain", "html", "bbcode", "markdown"}},
		{"controls", f.Controls, []string{"table", "list", "caps"}},
		{"counts", f.Counts, []string{"points", "units", "letters", "bytes"}},
	} {
		if w.value != "" {
			if err := settings.Within(w.key, w.value, w.known...); err != nil {
				return err
			}
		}
	}
	return nil
}

func (p *Picture) verify() error {
	if p.Name == "" {
		return fmt.Errorf("it has no name")
	}
	if err := settings.Within("role", p.Role, Roles()...); err != nil {
		return err
	}
	for _, f := range p.Formats {
		if err := settings.Within("formats", f, "png", "jpeg", "gif", "webm"); err != nil {
			return err
		}
	}
	for _, s := range [][2]int{p.Size, p.Least} {
		if s[0] < 0 || s[0] > 8192 || s[1] < 0 || s[1] > 8192 || (s[0] == 0) != (s[1] == 0) {
			return fmt.Errorf("a size has a width and a height, of up to 8192 pixels")
		}
	}
	if p.Ratio != "" && p.Shape() == 0 {
		return fmt.Errorf("ratio is %q; write it like \"16:9\"", p.Ratio)
	}
	if p.Size[0] == 0 && p.Least[0] == 0 && p.Ratio == "" {
		return fmt.Errorf("it needs size, least or ratio")
	}
	if p.Count[0] > p.Count[1] && p.Count[1] > 0 {
		return fmt.Errorf("count has the fewest first, then the most")
	}
	return nil
}
