package listing

import (
	"bytes"
	_ "embed"
	"encoding/base64"
	"html/template"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
)

// A Shot is a picture on the page.
type Shot struct {
	Role, Path, Type, About string
}

//go:embed preview.html
var previewPage string

var previewTemplate = template.Must(template.New("preview").Parse(previewPage))

// A part is one thing on the page, from top to bottom.
type part struct {
	Kind          string // title, line, text, words, frame, picture, film, shots, leaderboards
	Name          string
	Text          string
	Rest          string // what was cut off
	Markup        template.HTML
	Words         []string
	Shots         []picture
	Leaderboards  []Leaderboard
	Width, Height int
}

type picture struct {
	Source template.URL
	About  string
	Film   bool
}

// Preview writes a page of HTML, with all pictures in it, that looks as the portal would arrange the game's page: as wide as a desktop
// and as narrow as a phone.
func Preview(p *Page, title string, shots []Shot) ([]byte, error) {
	pictures := map[string][]picture{}
	for _, s := range shots {
		data, err := os.ReadFile(s.Path)
		if err != nil {
			return nil, err
		}
		source := template.URL("data:" + s.Type + ";base64," + base64.StdEncoding.EncodeToString(data))
		pictures[s.Role] = append(pictures[s.Role], picture{source, s.About, strings.HasPrefix(s.Type, "video/")})
	}
	frame := [2]int{960, 540}
	if len(p.Rules.Views) > 0 {
		frame = p.Rules.Views[0].Size
	}
	v := struct {
		Title, Portal, Ground, Ink, Tile string
		Language                         string
		GroundPicture                    template.CSS
		Column, Side                     []part
	}{Title: title, Portal: p.Rules.Name, Ground: "#1b1e24", Ink: "#e8e6df", Language: p.Language}
	if p.Rules.Page.Ground != "" {
		v.Ground, v.Ink = p.Rules.Page.Ground, p.Rules.Page.Ink
	}
	if g := pictures["background"]; len(g) > 0 {
		v.GroundPicture = template.CSS("url(" + string(g[0].Source) + ")")
	}
	column, side := p.Rules.Page.Column, p.Rules.Page.Side
	if len(column) == 0 {
		column = []string{"frame", "cover", "screenshots", "leaderboards"}
		for _, f := range p.Fields {
			column = append(column, f.Name)
		}
	}
	for _, name := range column {
		v.Column = append(v.Column, p.part(name, title, frame, pictures)...)
	}
	for _, name := range side {
		v.Side = append(v.Side, p.part(name, title, frame, pictures)...)
	}
	var b bytes.Buffer
	err := previewTemplate.Execute(&b, v)
	return b.Bytes(), err
}

// part is what stands at one place; nothing when there is nothing to show.
func (p *Page) part(name, title string, frame [2]int, pictures map[string][]picture) []part {
	switch name {
	case "frame":
		return []part{{Kind: "frame", Text: title, Width: frame[0], Height: frame[1], Shots: firstPicture(pictures, "screenshot", "cover")}}
	case "screenshots":
		if len(pictures["screenshot"]) == 0 {
			return nil
		}
		return []part{{Kind: "shots", Shots: pictures["screenshot"]}}
	case "cover", "banner", "clip":
		if len(pictures[name]) == 0 {
			return nil
		}
		return []part{{Kind: "picture", Name: name, Shots: pictures[name][:1]}}
	case "leaderboards":
		var seen []Leaderboard
		for _, b := range p.Leaderboards {
			if !b.Hidden {
				seen = append(seen, b)
			}
		}
		if len(seen) == 0 {
			return nil
		}
		return []part{{Kind: "leaderboards", Leaderboards: seen}}
	}
	if f := p.Field(name); f != nil && f.Count > 0 {
		return []part{f.part(name)}
	}
	return nil
}

// part is a field as it stands on the page.
func (f *Field) part(name string) part {
	switch {
	case slices.Contains(f.From, "title"):
		return part{Kind: "title", Text: f.Text}
	case slices.Contains(f.From, "tagline"):
		return part{Kind: "tagline", Text: f.Text, Rest: f.Rest}
	case f.Words != nil:
		return part{Kind: "words", Name: name, Words: f.Words}
	case f.Form == "plain" && !strings.Contains(f.Text, "\n"):
		return part{Kind: "line", Name: name, Text: f.Text, Rest: f.Rest}
	}
	return part{Kind: "text", Name: name, Markup: sided(shown(f)), Rest: f.Rest}
}

func firstPicture(pictures map[string][]picture, roles ...string) []picture {
	for _, r := range roles {
		if len(pictures[r]) > 0 {
			return pictures[r][:1]
		}
	}
	return nil
}

// blockTag opens a block that may have a direction of its own.
var blockTag = regexp.MustCompile(`<(p|h[1-6]|ul|ol|li|table|blockquote)>`)

// sided has each block of a text run in its own direction.
func sided(text template.HTML) template.HTML {
	return template.HTML(blockTag.ReplaceAllString(string(text), `<$1 dir="auto">`))
}

// shown is a field's text as HTML. What was rendered as HTML holds nothing but what this package wrote.
func shown(f *Field) template.HTML {
	switch f.Form {
	case "html":
		return template.HTML(f.Text)
	case "markdown":
		var b bytes.Buffer
		if goldmark.New(goldmark.WithExtensions(extension.GFM)).Convert([]byte(f.Text), &b) == nil {
			return template.HTML(b.String())
		}
	case "bbcode":
		return template.HTML(linkTag.ReplaceAllString(brackets.Replace(template.HTMLEscapeString(f.Text)), `<a href="$1">`))
	}
	var b strings.Builder
	for p := range strings.SplitSeq(template.HTMLEscapeString(f.Text), "\n\n") {
		b.WriteString(`<p dir="auto">` + strings.ReplaceAll(p, "\n", "<br>") + "</p>")
	}
	return template.HTML(b.String())
}

var linkTag = regexp.MustCompile(`\[url=([^\]]*)\]`)

// brackets shows what a portal makes of BBCode, as far as this package writes it.
var brackets = strings.NewReplacer(
	"[b]",
	"<b>",
	"[/b]",
	"</b>",
	"[i]",
	"<i>",
	"[/i]",
	"</i>",
	"[s]",
	"<del>",
	"[/s]",
	"</del>",
	"[quote]",
	"<blockquote>",
	"[/quote]",
	"</blockquote>",
	"[code]",
	"<pre>",
	"[/code]",
	"</pre>",
	"[list]\n",
	"<ul>",
	"[*]",
	"<li>",
	"\n[/list]",
	"</ul>",
	"[/list]",
	"</ul>",
	"[/url]",
	"</a>",
	"[table]",
	"<table>",
	"[/table]",
	"</table>",
	"[tr]",
	"<tr>",
	"[/tr]",
	"</tr>",
	"[th]",
	"<th>",
	"[/th]",
	"</th>",
	"[td]",
	"<td>",
	"[/td]",
	"</td>",
	"\n\n",
	"<br><br>",
)
