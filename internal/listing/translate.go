package listing

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/text/language"
	"golang.org/x/text/language/display"

	"havvel/internal/project"
)

// A Locale is a page's texts in another language.
type Locale struct {
	Language     string
	Fields       []*Field // those with a text in that language
	Leaderboards []Leaderboard
}

// base is the language of a code, without what tells one country's or script from another's.
func base(code string) string {
	b, _ := language.Make(code).Base()
	return b.String()
}

// named is a language in English.
func named(code string) string { return cmp.Or(display.English.Tags().Name(language.Make(code)), code) }

// translations are the texts in other languages, by their codes: those that havvel.toml names, and those of files that stand beside the
// page's own, such as description.de.md beside description.md. A language falls back to one that it is a kind of.
func (s *source) translations() map[string]*project.Translation {
	own := s.listing.Language()
	all := map[string]*project.Translation{}
	for _, code := range slices.Concat(slices.Collect(maps.Keys(s.listing.In)), s.listing.Languages) {
		if code == own || s.listing.In[code] == nil && s.listing.In[base(code)] != nil {
			continue // it falls back to a language that has texts of its own
		}
		t := project.Translation{}
		for _, near := range []string{code, base(code)} {
			if more := s.listing.In[near]; more != nil {
				t.Under(more)
			}
		}
		t.Description = cmp.Or(t.Description, s.beside(s.listing.Description, code))
		t.News = cmp.Or(t.News, s.beside(s.listing.News, code))
		if !t.Empty() {
			all[code] = &t
		}
	}
	return all
}

// beside is a file in a language that stands beside one; "" where there is none.
func (s *source) beside(file, code string) string {
	if file == "" {
		return ""
	}
	for _, near := range []string{code, base(code)} {
		name := strings.TrimSuffix(file, path.Ext(file)) + "." + near + path.Ext(file)
		if info, err := os.Stat(filepath.Join(s.project.Folder, filepath.FromSlash(name))); err == nil && info.Mode().IsRegular() {
			return name
		}
	}
	return ""
}

// in is the source in another language. What isn't said in it isn't said at all, but for words that every language shares.
func (s *source) inOther(code string, t *project.Translation) *source {
	other := *s
	other.title, other.labels = t.Title, t.Labels
	other.listing = &project.Listing{
		Tagline: t.Tagline, Description: t.Description, News: t.News, Controls: t.Controls, Headings: t.Headings, Languages: []string{code},
	}
	if t.Controls != nil || t.Description != "" {
		other.listing.Credits = s.listing.Credits
	}
	other.in = code + "."
	return &other
}

// inLanguage has the whole page in the one language that the portal takes, as far as there are texts in it.
func (page *Page) inLanguage(s *source, wanted string) *source {
	all := s.translations()
	for _, code := range slices.Concat([]string{wanted}, slices.Sorted(maps.Keys(all))) {
		t := all[code]
		if t == nil || base(code) != base(wanted) {
			continue
		}
		page.Language = code
		whole, other := *s.listing, s.inOther(code, t)
		lacks := []string{}
		for name, in := range map[string]struct {
			own, theirs string
			to          *string
		}{
			"tagline":     {whole.Tagline, t.Tagline, &whole.Tagline},
			"description": {whole.Description, t.Description, &whole.Description},
			"news":        {whole.News, t.News, &whole.News},
		} {
			if in.theirs == "" && in.own != "" {
				lacks = append(lacks, name)
			}
			*in.to = cmp.Or(in.theirs, in.own)
		}
		if t.Controls != nil {
			whole.Controls = t.Controls
		}
		whole.Headings = t.Headings
		if other.listing = &whole; len(lacks) > 0 {
			slices.Sort(lacks)
			page.say(Language, "listing."+code, fmt.Sprintf("%s shows its page in %s; there is no %s in that language, so yours in %s is sent",
				page.Rules.Name, named(wanted), strings.Join(lacks, " and no "), named(s.listing.Language())),
				fmt.Sprintf("write it under [listing.%s]", code))
		}
		other.in = ""
		return other
	}
	page.say(
		Language,
		"listing.languages",
		fmt.Sprintf("%s shows its page in %s; yours is in %s", page.Rules.Name, named(wanted), named(page.Language)),
		fmt.Sprintf("write its texts under [listing.%s], or into files such as description.%s.md beside description.md", wanted, wanted),
	)
	return s
}

// In is the page as those read it who speak another language: what has no text in it is in the page's own.
func (page *Page) In(l *Locale) *Page {
	other := *page
	other.Language, other.Others = l.Language, nil
	other.Fields = slices.Clone(page.Fields)
	for i, f := range other.Fields {
		if at := slices.IndexFunc(l.Fields, func(x *Field) bool { return x.Name == f.Name }); at >= 0 {
			other.Fields[i] = l.Fields[at]
		}
	}
	other.Leaderboards = l.Leaderboards
	return &other
}

// translate fills the fields that have texts in other languages, and says which languages have none.
func (page *Page) translate(own *source) error {
	all := own.translations()
	for _, code := range slices.Sorted(maps.Keys(all)) {
		l, err := page.locale(own.inOther(code, all[code]), code)
		if err != nil {
			return err
		}
		page.Others = append(page.Others, l)
		var lacks []string
		for _, f := range page.Fields {
			if f.Count > 0 && translated(f.From) && !slices.ContainsFunc(l.Fields, func(x *Field) bool { return x.Name == f.Name }) {
				lacks = append(lacks, f.Name)
			}
		}
		if len(lacks) > 0 && page.SeveralLanguages() {
			page.say(Untranslated, "listing."+code, fmt.Sprintf("in %s there is no %s", named(code), strings.Join(lacks, ", no ")),
				fmt.Sprintf("write it under [listing.%s]; until then the portal decides what it shows", code))
		}
	}
	for _, code := range own.listing.Languages {
		if code != page.Language && all[code] == nil && all[base(code)] == nil && page.SeveralLanguages() {
			page.say(Untranslated, "listing.languages", fmt.Sprintf("the game speaks %s, its page doesn't", named(code)),
				fmt.Sprintf("write texts under [listing.%s], or into files such as description.%s.md beside description.md", code, code))
		}
	}
	return nil
}

// SeveralLanguages reports whether a portal takes texts in more than one.
func (page *Page) SeveralLanguages() bool {
	for _, s := range page.Rules.Fill {
		if slices.Contains(s.Names(), "locales") || s.Each != nil && slices.Contains(s.Each.List.Names(), "locales") {
			return true
		}
	}
	return false
}

// translated reports whether a field's texts differ from language to language.
func translated(from []string) bool {
	return slices.ContainsFunc(from, func(from string) bool {
		return slices.Contains([]string{"title", "tagline", "description", "news", "controls"}, from)
	})
}

func (page *Page) locale(s *source, code string) (*Locale, error) {
	if err := s.read(); err != nil {
		return nil, err
	}
	other := &Page{Destination: page.Destination, Rules: page.Rules, Language: code}
	l := &Locale{Language: code}
	for i := range page.Rules.Fields {
		f := page.Rules.Fields[i]
		if !translated(f.From) {
			continue
		}
		f.Required, f.Least = false, 0
		if other.fill(s, &f); other.Field(f.Name) != nil && other.Field(f.Name).Text != "" {
			l.Fields = append(l.Fields, other.Field(f.Name))
		}
	}
	other.leaderboards(s.project, s.labels)
	l.Leaderboards = other.Leaderboards
	for _, x := range other.Problems {
		if x.Kind != NoLeaderboard { // it was said of the page's own language
			x.Key = strings.Replace(x.Key, "listing.", "listing."+code+".", 1)
			page.Problems = append(page.Problems, x)
		}
	}
	return l, nil
}
