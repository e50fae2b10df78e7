package standin

import (
	"bytes"
	"fmt"
	"html/template"
	"regexp"
	"slices"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
)

// A paper is a game's page as it is shown.
type paper struct {
	Tagline           string
	Text, How, News   template.HTML
	Facts             []fact
	Tags              []string
	Shots             []shown
	Cover, Clip, Film *shown
	Banner, Ground    *shown
}

type fact struct{ Name, Value string }

// paperOf arranges what was sent for a game.
func (a *Portal) paperOf(g game) paper {
	p := paper{Tagline: wordsOf(g.Fields["tagline"])}
	switch a.options.Kind {
	case Pages:
		p.Text, p.News = fromMarkdown(wordsOf(g.Fields["text"])), fromMarkdown(wordsOf(g.Fields["news"]))
	case Desk:
		p.Text = fromBBCode(wordsOf(g.Fields["text"]))
		p.How = template.HTML("<pre>" + template.HTMLEscapeString(wordsOf(g.Fields["how"])) + "</pre>")
	default:
		p.Text, p.How = template.HTML(wordsOf(g.Fields["about"])), template.HTML(wordsOf(g.Fields["how"])) // looked through when it came
	}
	for _, name := range []string{"category", "kind", "genre", "devices", "languages", "age", "price", "unfinished"} {
		if v := wordsOf(g.Fields[name]); v != "" && v != "false" {
			p.Facts = append(p.Facts, fact{name, v})
		}
	}
	if tags, ok := g.Fields["tags"].([]any); ok {
		for _, t := range tags {
			p.Tags = append(p.Tags, fmt.Sprint(t))
		}
		if a.options.Kind == Arcade {
			slices.Sort(p.Tags)
		}
	}
	for i := range g.Pictures {
		p.place(&g.Pictures[i])
	}
	return p
}

// place puts a picture where it belongs.
func (p *paper) place(x *shown) {
	switch x.Name {
	case "shots", "screens":
		p.Shots = append(p.Shots, *x)
	case "cover", "card", "wide":
		p.Cover = x
	case "banner":
		p.Banner = x
	case "ground":
		p.Ground = x
	case "reel", "preview", "moving":
		if p.Clip = x; x.Type == "video/webm" {
			p.Clip, p.Film = nil, x
		}
	}
}

func fromMarkdown(text string) template.HTML {
	var b bytes.Buffer
	if goldmark.New(goldmark.WithExtensions(extension.Table)).Convert([]byte(text), &b) != nil {
		return ""
	}
	return template.HTML(b.String())
}

var bbTags = []struct {
	from *regexp.Regexp
	to   string
}{
	{regexp.MustCompile(`\[(/?)(b|i|u|s)\]`), "<$1$2>"},
	{regexp.MustCompile(`\[url=((?:https?://|mailto:)[^\]"'<> ]*)\]`), `<a href="$1">`},
	{regexp.MustCompile(`\[/url\]`), "</a>"},
	{regexp.MustCompile(`\[(/?)quote\]`), "<${1}blockquote>"},
	{regexp.MustCompile(`\[(/?)code\]`), "<${1}pre>"},
	{regexp.MustCompile(`\[list(?:=\d+)?\]`), "<ul>"},
	{regexp.MustCompile(`\[/list\]`), "</ul>"},
	{regexp.MustCompile(`\[\*\]`), "<li>"},
	{regexp.MustCompile(`\[(/?)(table|tr|td|th)\]`), "<$1$2>"},
}

func fromBBCode(text string) template.HTML {
	text = template.HTMLEscapeString(text)
	for _, t := range bbTags {
		text = t.from.ReplaceAllString(text, t.to)
	}
	return template.HTML(strings.ReplaceAll(text, "\n\n", "<br><br>"))
}
