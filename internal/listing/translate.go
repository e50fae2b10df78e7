package listing

import (
	"maps"
	"slices"
	"strings"

	"havvel/internal/project"
)

// A Locale is a page's texts in another language.
type Locale struct {
	Language string
	Fields   []*Field // those with a text in that language
}

// translate fills the fields that have texts in other languages.
func (page *Page) translate(own *source) error {
	for _, code := range slices.Sorted(maps.Keys(own.listing.In)) {
		t := own.listing.In[code]
		s := *own
		s.title = t.Title
		s.listing = &project.Listing{Tagline: t.Tagline, Description: t.Description, News: t.News}
		s.in = "in." + code + "."
		if err := s.read(); err != nil {
			return err
		}
		other := &Page{Destination: page.Destination, Rules: page.Rules, Language: code}
		l := &Locale{Language: code}
		for i := range page.Rules.Fields {
			f := page.Rules.Fields[i]
			texts := []string{"title", "tagline", "description", "news"}
			if !slices.ContainsFunc(f.From, func(from string) bool { return slices.Contains(texts, from) }) {
				continue
			}
			f.Required, f.Least = false, 0
			if other.fill(&s, &f); other.Field(f.Name) != nil && other.Field(f.Name).Text != "" {
				l.Fields = append(l.Fields, other.Field(f.Name))
			}
		}
		for _, x := range other.Problems {
			x.Key = strings.Replace(x.Key, "listing.", "listing.in."+code+".", 1)
			page.Problems = append(page.Problems, x)
		}
		page.Others = append(page.Others, l)
	}
	return nil
}
