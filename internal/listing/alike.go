package listing

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"havvel/internal/listing/prose"
)

// A Comparison is how a field's text in another language differs from that in the page's own.
type Comparison struct {
	Language string   `json:"language"`
	Field    string   `json:"field"`
	Letters  int      `json:"letters"` // as people see them, without markup
	Own      int      `json:"own"`     // likewise in the page's own language
	Differs  []string `json:"differs"` // in words; empty where nothing does
}

// Compare compares the page's texts in other languages with its own: their lengths, what stands in them for something else, and how they
// are put together.
func (page *Page) Compare() []Comparison {
	var list []Comparison
	for _, l := range page.Others {
		for _, f := range l.Fields {
			own := page.Field(f.Name)
			if own == nil || own.Text == "" {
				continue
			}
			c := Comparison{
				Language: l.Language, Field: f.Name, Differs: []string{},
				Letters: Count(prose.Plain(f.blocks), "letters"), Own: Count(prose.Plain(own.blocks), "letters"),
			}
			c.lengths()
			c.placeholders(prose.Plain(own.blocks), prose.Plain(f.blocks))
			c.structure(own.blocks, f.blocks)
			list = append(list, c)
		}
	}
	return list
}

func (c *Comparison) say(format string, args ...any) {
	c.Differs = append(c.Differs, fmt.Sprintf(format, args...))
}

// dense are languages whose texts have far fewer letters than those of others.
var dense = []string{"zh", "ja", "ko"}

func (c *Comparison) lengths() {
	least, most := 0.5, 2.0
	if slices.Contains(dense, base(c.Language)) {
		least = 0.2
	}
	if ratio := float64(c.Letters) / float64(max(c.Own, 1)); c.Own >= 40 && (ratio < least || ratio > most) {
		c.say("it has %d letters, yours %d", c.Letters, c.Own)
	}
}

// placeholder is what stands in a text for something else, in the common ways, and a number.
var placeholder = regexp.MustCompile(`\{\{?[A-Za-z0-9_.]*\}?\}|%(\d+\$)?[sdfi@]|\$\{?[A-Za-z_]+\}?|\d+`)

func (c *Comparison) placeholders(own, other string) {
	counts := map[string]int{}
	for _, p := range placeholder.FindAllString(own, -1) {
		counts[p]++
	}
	for _, p := range placeholder.FindAllString(other, -1) {
		counts[p]--
	}
	var lacks, more []string
	for p, n := range counts {
		switch {
		case n > 0:
			lacks = append(lacks, p)
		case n < 0:
			more = append(more, p)
		}
	}
	slices.Sort(lacks)
	slices.Sort(more)
	if len(lacks) > 0 {
		c.say("it lacks %s", strings.Join(lacks, ", "))
	}
	if len(more) > 0 {
		c.say("it has %s, which yours lacks", strings.Join(more, ", "))
	}
}

func (c *Comparison) structure(own, other []*prose.Node) {
	for _, kind := range []struct {
		of        prose.Kind
		one, more string
	}{
		{prose.Heading, "heading", "headings"}, {prose.Item, "list item", "list items"}, {prose.Row, "table row", "table rows"},
		{prose.Quote, "quote", "quotes"}, {prose.Paragraph, "paragraph", "paragraphs"}, {prose.Key, "key", "keys"},
	} {
		a, b := prose.Number(own, kind.of), prose.Number(other, kind.of)
		if a == b {
			continue
		}
		words := kind.more
		if b == 1 {
			words = kind.one
		}
		c.say("it has %d %s, yours %d", b, words, a)
	}
	theirs := prose.Links(other)
	for _, link := range prose.Links(own) {
		if !slices.Contains(theirs, link) {
			c.say("it lacks the link to %s", link)
		}
	}
}
