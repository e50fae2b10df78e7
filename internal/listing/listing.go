// Package listing is the text of a game's page on a portal: written once in the project, and rendered to what each portal takes,
// with what is wrong with it. Pictures are left to pictures, sending it to deliver.
package listing

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"havvel/internal/listing/prose"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// A Page is what a game's page at one destination says.
type Page struct {
	Destination  string
	Rules        *rulebook.Rulebook
	Fields       []*Field
	Leaderboards []Leaderboard
	Declarations []Declaration
	Problems     []Problem
	Language     string    // that its fields are in
	Others       []*Locale // its texts in other languages, in alphabetical order
}

// A Field is one field of the page, filled.
type Field struct {
	Name     string   // the portal's
	From     []string // keys of havvel.toml
	Form     string   // plain, html, bbcode or markdown
	Text     string   // of a list, its words with commas
	Words    []string // of a list; else nil
	Declared bool     // havvel.toml says it, be it that there is nothing
	Count    int      // the text's length as the portal counts, or how many words
	Limit    int      // 0 when there is none
	Rest     string   // the words that were cut off

	blocks []*prose.Node
}

// Value is what steps send: a text, or a list of texts.
func (f *Field) Value() any {
	if f.Words != nil {
		return f.Words
	}
	return f.Text
}

// A Leaderboard is a leaderboard.
type Leaderboard struct {
	Name   string `json:"name"`
	Label  string `json:"label"`
	Keeps  string `json:"keeps"` // in the portal's word
	Unit   string `json:"unit"`
	Hidden bool   `json:"hidden"`
}

// A Declaration is one that the portal asks for.
type Declaration struct {
	Name     string
	Says     string
	Declared bool
}

// A Kind says what is wrong.
type Kind string

// The kinds of problems; each has a check.
const (
	Missing       Kind = "listing-missing"
	Short         Kind = "listing-short"
	Long          Kind = "listing-long"
	Shortened     Kind = "listing-cut"
	Word          Kind = "listing-word"
	Order         Kind = "listing-order"
	Lost          Kind = "listing-lost"
	NoLeaderboard Kind = "listing-leaderboard"
	Undeclared    Kind = "declaration-missing"
	Unknown       Kind = "declaration-unknown"
	Hidden        Kind = "listing-hidden"
	Language      Kind = "listing-language"
	Untranslated  Kind = "listing-untranslated"
)

// A Problem is something wrong with a page.
type Problem struct {
	Kind    Kind
	Key     string // of havvel.toml, as "listing.tagline"
	Line    int    // there, from 1; 0 when it isn't there
	Message string
	Fix     string
}

// Read fills the page of a game at a destination, for a version. A destination whose portal has no page, or a site, gives a
// page without fields. Errors are about the project file.
func Read(p *project.Project, d *project.Destination, version string) (*Page, error) {
	l := p.ListingFor(d)
	page := &Page{Destination: d.Name, Rules: d.Rules, Language: l.Language()}
	s := &source{project: p, to: d.Name, listing: l, version: version}
	if wanted := d.Rules.Page.Language; wanted != "" && base(wanted) != base(page.Language) {
		s = page.inLanguage(s, wanted)
	}
	if err := s.read(); err != nil {
		return nil, err
	}
	for i := range d.Rules.Fields {
		page.fill(s, &d.Rules.Fields[i])
	}
	if d.Rules.Page.Language == "" {
		if err := page.translate(s); err != nil {
			return nil, err
		}
	}
	page.leaderboards(p, s.labels)
	page.declare(p, d, version)
	for i, problem := range page.Problems {
		page.Problems[i].Line = p.Line(d.Name, problem.Key)
	}
	return page, nil
}

func (page *Page) say(kind Kind, key, message, fix string) {
	page.Problems = append(page.Problems, Problem{Kind: kind, Key: key, Message: message, Fix: fix})
}

// Key is where in havvel.toml a source of fields is written.
func Key(from string) string {
	switch from {
	case "title", "short", "studio", "version":
		return "game." + from
	case "controls":
		return "listing.control"
	case "credits":
		return "listing.credit"
	}
	return "listing." + from
}

func (page *Page) fill(s *source, r *rulebook.Field) {
	f := &Field{Name: r.Name, From: r.From, Form: cmp.Or(r.Form, "plain"), Limit: r.Limit}
	key := Key(r.From[0])
	if isList(r.From[0]) {
		page.fillList(s, r, f)
	} else {
		page.fillText(s, r, f)
	}
	page.Fields = append(page.Fields, f)
	f.Declared = f.Count > 0
	if isList(r.From[0]) {
		_, f.Declared = s.list(r.From[0])
	}
	what, n := "characters", f.Count
	if f.Words != nil {
		what = "words"
	}
	switch {
	case !f.Declared && r.Required:
		page.say(Missing, key, fmt.Sprintf("the page has no %s", r.Name), missingFix(r, key))
	case !f.Declared:
	case r.Least > 0 && n < r.Least:
		page.say(Short, key, fmt.Sprintf("%s has %d %s; at least %d are wanted", r.Name, n, what, r.Least), "write more of it")
	case r.Limit > 0 && n > r.Limit:
		page.say(
			Long,
			key,
			fmt.Sprintf("%s has %d %s; %d are the most", r.Name, n, what, r.Limit),
			fmt.Sprintf("shorten it by %d, or write another for this portal under [to.%s.listing]", n-r.Limit, page.Destination),
		)
	}
}

func missingFix(r *rulebook.Field, key string) string {
	fix := fmt.Sprintf("write %s in havvel.toml", key)
	if len(r.OneOf) > 0 {
		fix += "; it can be " + strings.Join(firstOf(r.OneOf, 12), ", ")
	}
	return fix
}

func firstOf(words []string, most int) []string {
	if len(words) > most {
		return append(slices.Clone(words[:most]), fmt.Sprintf("and %d more", len(words)-most))
	}
	return words
}

func (page *Page) fillText(s *source, r *rulebook.Field, f *Field) {
	form := prose.Forms(f.Form)
	var blocks []*prose.Node
	for _, from := range r.From {
		more := s.blocks(from, r.Controls)
		if len(r.From) == 1 && !slices.Contains([]string{"description", "news", "controls", "credits"}, from) {
			if words := page.word(r, Key(from), s.value(from)); words != "" { // it stands in a line
				more = []*prose.Node{{Kind: prose.Line, In: []*prose.Node{prose.Of(words)}}}
			}
			if from == "title" || from == "tagline" {
				page.hidden(Key(from), s.value(from))
			}
		}
		for _, l := range s.lost[from] {
			page.say(Lost, Key(from), fmt.Sprintf("%s holds %s", Key(from), l), "take it out, so that nobody misses it")
		}
		for _, l := range prose.Laid(more, form) {
			page.say(Lost, Key(from), fmt.Sprintf("%s holds %s", Key(from), l), "look at it with havvel listing --show "+page.Destination)
		}
		if english := headings[from]; len(more) > 0 && len(r.From) > 1 && english != "" {
			more = append([]*prose.Node{{Kind: prose.Heading, Level: 2, In: []*prose.Node{prose.Of(s.heading(english))}}}, more...)
		}
		blocks = append(blocks, more...)
	}
	f.blocks = blocks
	f.Text = prose.Write(blocks, form)
	if whole := f.Text; r.Cut {
		f.Text, f.Rest = prose.Cut(blocks, form, within(r.Limit, r.Counts))
		page.shortened(r, Key(r.From[0]), whole, f.Text)
	}
	f.Count = Count(f.Text, r.Counts)
}

var headings = map[string]string{"controls": "Controls", "credits": "Credits", "news": "What is new"}

func (page *Page) shortened(r *rulebook.Field, key, whole, left string) {
	if whole == left {
		return
	}
	end := []rune(left)
	end = end[max(0, len(end)-30):]
	page.say(
		Shortened,
		key,
		fmt.Sprintf(
			"%s has %d characters, of which the portal takes %d; it is cut after %q",
			r.Name,
			Count(whole, r.Counts),
			r.Limit,
			string(end),
		),
		fmt.Sprintf("write a shorter one for this portal under [to.%s.listing]", page.Destination),
	)
}

// word brings one of our words to the portal's, if it is one that the portal takes.
func (page *Page) word(r *rulebook.Field, key, ours string) string {
	if ours == "" {
		return ""
	}
	if theirs, ok := r.Words[ours]; ok {
		return theirs
	}
	if len(r.OneOf) == 0 {
		return ours
	}
	for _, w := range r.OneOf {
		if strings.EqualFold(w, ours) {
			return w
		}
	}
	fix := "take one of: " + strings.Join(firstOf(r.OneOf, 20), ", ")
	if near := settings.Nearest(strings.ToLower(ours), lower(r.OneOf)); near != "" {
		i := slices.Index(lower(r.OneOf), near)
		fix = fmt.Sprintf("did you mean %q? For this portal alone, write it under [to.%s.listing]", r.OneOf[i], page.Destination)
	}
	page.say(Word, key, fmt.Sprintf("%q is not a %s that %s knows", ours, r.Name, page.Rules.Name), fix)
	return ours
}

func lower(words []string) []string {
	list := make([]string, len(words))
	for i, w := range words {
		list[i] = strings.ToLower(w)
	}
	return list
}

func (page *Page) fillList(s *source, r *rulebook.Field, f *Field) {
	key := Key(r.From[0])
	words, _ := s.list(r.From[0])
	f.Words = []string{}
	for _, w := range words {
		if w = page.word(r, key, w); !slices.Contains(f.Words, w) {
			f.Words = append(f.Words, w)
		}
	}
	if r.Cut && r.Limit > 0 && len(f.Words) > r.Limit {
		left := f.Words[r.Limit:]
		f.Words = f.Words[:r.Limit]
		page.say(
			Shortened,
			key,
			fmt.Sprintf("%s takes %d %s; left out: %s", page.Rules.Name, r.Limit, r.Name, strings.Join(left, ", ")),
			"put the most important ones first",
		)
	}
	f.Count, f.Text = len(f.Words), strings.Join(f.Words, ", ")
	if r.Sorted && len(f.Words) > 1 {
		page.sorted(r, key, f.Words)
	}
}

// sorted explains what becomes of a list that the portal sorts.
func (page *Page) sorted(r *rulebook.Field, key string, words []string) {
	inOrder := slices.SortedFunc(slices.Values(words), func(a, b string) int { return cmp.Compare(strings.ToLower(a), strings.ToLower(b)) })
	if r.Shown <= 0 || r.Shown >= len(words) {
		if !slices.Equal(inOrder, words) {
			page.say(
				Order,
				key,
				fmt.Sprintf("%s shows %s in alphabetical order: %s", page.Rules.Name, r.Name, strings.Join(inOrder, ", ")),
				"nothing needs to be done; the order in havvel.toml has no effect there",
			)
		}
		return
	}
	seen := inOrder[:r.Shown]
	if !slices.Contains(seen, words[0]) {
		page.say(
			Order,
			key,
			fmt.Sprintf(
				"%s sorts %s by the alphabet and shows the first %d where players browse: %s; the first one here, %s, is not among them",
				page.Rules.Name,
				r.Name,
				r.Shown,
				strings.Join(seen, ", "),
				words[0],
			),
			fmt.Sprintf(
				"for this portal leave out what comes before %q in the alphabet and matters less, under [to.%s.listing]",
				words[0],
				page.Destination,
			),
		)
	}
}

// Field returns the field of a name, or nil.
func (page *Page) Field(name string) *Field {
	for _, f := range page.Fields {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// Declared lists the names of the declarations that are declared.
func (page *Page) Declared() []string {
	list := []string{}
	for _, d := range page.Declarations {
		if d.Declared {
			list = append(list, d.Name)
		}
	}
	return list
}
