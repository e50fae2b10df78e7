package rulebook

import (
	"fmt"
	"slices"
	"strings"

	"havvel/internal/settings"
)

// Page says how the portal's page of a game is arranged.
type Page struct {
	// what is there from top to bottom: frame, cover, banner, screenshots, clip, leaderboards, or a field's name
	Column []string `toml:"column"`
	Side   []string `toml:"side"`   // what is beside that on a wide screen, and below it on a phone
	Ground string   `toml:"ground"` // the page's colour, as in CSS
	Ink    string   `toml:"ink"`    // the colour of its text
	// the one language that the page is in, as in "de" (BCP 47), where the portal takes no other
	Language string `toml:"language"`
}

// A Field is one field of the game's page.
type Field struct {
	Name string `toml:"name"` // the portal's name of it; steps use it as {field.NAME}
	// what it is filled from: keys of [listing], or title, short, studio, version, controls, credits; texts of several stand one
	// below the other
	From     []string `toml:"from"`
	Form     string   `toml:"form"`     // what marks up its text: plain, html, bbcode or markdown; default: plain
	Controls string   `toml:"controls"` // how controls are shown: table, list or caps; default: list
	Limit    int      `toml:"limit"`    // the longest text, or the most words of a list
	Least    int      `toml:"least"`    // the shortest text, or the fewest words of a list
	// how the portal counts a text's length: points (code points of Unicode), units (of UTF-16, as scripts do), letters (as people
	// see them) or bytes; default: points
	Counts   string            `toml:"counts"`
	Cut      bool              `toml:"cut"`      // whether what is too long may be cut, at the end of a word or paragraph
	Required bool              `toml:"required"` // whether the page is incomplete without it
	OneOf    []string          `toml:"one_of"`   // the only values that it takes
	Words    map[string]string `toml:"words"`    // our word = the portal's
	// whether the portal shows a list in alphabetical order, whatever order it was given in
	Sorted bool `toml:"sorted"`
	Shown  int  `toml:"shown"` // how many words of a list are shown where players browse
}

// A Picture is one kind of picture on the game's page.
type Picture struct {
	Name  string `toml:"name"`  // the portal's name of it
	Role  string `toml:"role"`  // what it is for: cover, icon, banner, background, screenshot, backdrop or clip
	Size  [2]int `toml:"size"`  // its exact width and height in pixels, or
	Least [2]int `toml:"least"` // its least width and height, or the width and height of a clip that is recorded
	Ratio string `toml:"ratio"` // its shape, as in "16:9", where only that is given
	// the formats that are taken: png and jpeg, which is the default; of a clip webm (the default), mp4, gif, apng, webp
	Formats []string      `toml:"formats"`
	Limit   settings.Size `toml:"limit"` // the heaviest
	// the fewest and the most; default: [0, 1]. With fewest 1 or more, the page is incomplete without
	Count    [2]int `toml:"count"`
	Opaque   bool   `toml:"opaque"`   // whether transparency is lost there
	Tiles    bool   `toml:"tiles"`    // whether it is repeated, so that its edges must fit together
	Seconds  int    `toml:"seconds"`  // the longest clip
	Required bool   `toml:"required"` // whether the page is incomplete without it; the same as a count that begins with 1
}

// Leaderboards says which leaderboards a portal makes of statistics.
type Leaderboards struct {
	Keeps []string          `toml:"keeps"` // which values it can keep: highest, lowest, total, latest
	Most  int               `toml:"most"`  // the most leaderboards
	Limit int               `toml:"limit"` // the longest label
	Words map[string]string `toml:"words"` // our word for what is kept = the portal's
}

// A Declaration is what the developer has to state.
type Declaration struct {
	// its name, which havvel.toml repeats under states; own-rights, no-advertising, no-outside-login, only-here and content-told are
	// checked against what is known
	Name     string `toml:"name"`
	Says     string `toml:"says"`     // what is declared, in a sentence
	Required bool   `toml:"required"` // whether the portal refuses a game without it
}

// A Final is what the portal can't undo.
type Final struct {
	// leaderboard: said before a leaderboard is made; short: said before the game is public for the first time; declaration: said
	// before it is sent
	What string `toml:"what"`
	Says string `toml:"says"` // what can't be undone, in a sentence
}

// Roles lists what pictures can be for.
func Roles() []string {
	return []string{"cover", "icon", "banner", "background", "screenshot", "backdrop", "clip"}
}

// sources lists what fields can be filled from.
func sources() []string {
	return []string{
		"title", "short", "studio", "version", "tagline", "description", "news", "controls", "credits", "category", "genre", "tags", "devices",
		"orientation", "languages",
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

func (r *Rulebook) verifyPage(d *settings.Document) {
	places := []string{"frame", "cover", "banner", "screenshots", "clip", "leaderboards"}
	for i, f := range r.Fields {
		at := fmt.Sprintf("field[%d]", i)
		f.verify(d, at)
		if slices.ContainsFunc(r.Fields[:i], func(o Field) bool { return o.Name == f.Name }) {
			d.Wrong(at+".name", "is %q, and so is another field's", f.Name)
		}
		places = append(places, f.Name)
	}
	d.Each("page.column", r.Page.Column, places...)
	d.Each("page.side", r.Page.Side, places...)
	for i, p := range r.Pictures {
		at := fmt.Sprintf("picture[%d]", i)
		p.verify(d, at)
		if slices.ContainsFunc(r.Pictures[:i], func(o Picture) bool { return o.Name == p.Name }) {
			d.Wrong(at+".name", "is %q, and so is another picture's", p.Name)
		}
	}
	if r.Leaderboards != nil {
		d.Each("leaderboards.keeps", r.Leaderboards.Keeps, "highest", "lowest", "total", "latest")
	}
	for i, x := range r.Declarations {
		d.Must(fmt.Sprintf("declaration[%d].name", i), x.Name)
		d.Must(fmt.Sprintf("declaration[%d].says", i), x.Says)
	}
	for i, f := range r.Finals {
		at := fmt.Sprintf("final[%d]", i)
		if d.Must(at+".what", f.What) {
			d.Within(at+".what", f.What, "leaderboard", "short", "declaration")
		}
		d.Must(at+".says", f.Says)
	}
}

func (f *Field) verify(d *settings.Document, at string) {
	if d.Must(at+".name", f.Name) && (strings.ToLower(f.Name) != f.Name || strings.ContainsAny(f.Name, "{} ")) {
		d.Wrong(at+".name", "is %q; it must be in small letters, without spaces and braces", f.Name)
	}
	if len(f.From) == 0 {
		d.Wrong(at+".from", "is missing: what is it filled from?")
	}
	d.Each(at+".from", f.From, sources()...)
	d.Within(at+".form", f.Form, "plain", "html", "bbcode", "markdown")
	d.Within(at+".controls", f.Controls, "table", "list", "caps")
	d.Within(at+".counts", f.Counts, "points", "units", "letters", "bytes")
}

// formatsOf are those in which pictures for something can be had.
func formatsOf(role string) []string {
	if role == "clip" {
		return []string{"webm", "mp4", "gif", "webp", "apng"}
	}
	return []string{"png", "jpeg"}
}

func (p *Picture) verify(d *settings.Document, at string) {
	d.Must(at+".name", p.Name)
	if d.Must(at+".role", p.Role) {
		d.Within(at+".role", p.Role, Roles()...)
	}
	d.Each(at+".formats", p.Formats, formatsOf(p.Role)...)
	for key, s := range map[string][2]int{"size": p.Size, "least": p.Least} {
		if s[0] < 0 || s[0] > 8192 || s[1] < 0 || s[1] > 8192 || (s[0] == 0) != (s[1] == 0) {
			d.Wrong(at+"."+key, "has a width and a height, of up to 8192 pixels")
		}
	}
	if p.Ratio != "" && p.Shape() == 0 {
		d.Wrong(at+".ratio", "is %q; write it like \"16:9\"", p.Ratio)
	}
	if p.Size[0] == 0 && p.Least[0] == 0 && p.Ratio == "" {
		d.Wrong(at, "needs size, least or ratio")
	}
	if p.Count[0] > p.Count[1] && p.Count[1] > 0 {
		d.Wrong(at+".count", "has the fewest first, then the most")
	}
}
