package app

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"havvel/internal/atomicfile"
	"havvel/internal/check"
	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/listing"
	"havvel/internal/pictures"
	"havvel/internal/project"
	"havvel/internal/trial"
)

// A Leaf is the page of the game at one destination, as it would be sent.
type Leaf struct {
	At       *project.Destination
	Contents *deliver.Contents
	Order    *pictures.Order
	Findings []finding.Finding
	Last     *deliver.SentPage // what was sent to it last
}

// Filled counts fields that hold something, and declarations that are made.
func (l *Leaf) Filled() (fields, declared int) {
	for _, f := range l.Contents.Fields {
		if f.Declared {
			fields++
		}
	}
	return fields, len(l.Contents.Declared())
}

// Leaves are the pages at all destinations that have one.
type Leaves struct {
	List []*Leaf
	Next string // what to do about pages that are not complete; "" when they are
}

// Findings are those of all pages.
func (r *Leaves) Findings() []finding.Finding {
	var all []finding.Finding
	for _, l := range r.List {
		all = append(all, l.Findings...)
	}
	return all
}

// Refused is the error for pages that a portal would refuse.
func (r *Leaves) Refused() error {
	if finding.Errors(r.Findings()) > 0 {
		return fault.Said
	}
	return nil
}

// Leaves renders the pages of all destinations that have one; there must be one.
func (k *Desk) Leaves(ctx context.Context) (*Leaves, error) {
	var with []*project.Destination
	var names []string
	for _, d := range k.Destinations {
		names = append(names, d.Rules.Name)
		if d.SiteAddress() == nil && len(d.Rules.Fields)+len(d.Rules.Pictures) > 0 {
			with = append(with, d)
		}
	}
	if len(with) == 0 {
		return nil, fault.New(fault.No, "none of these destinations has a page to fill in: %s", strings.Join(names, ", ")).
			Then("a portal has one where its rulebook lists fields or pictures (havvel help rulebook field)")
	}
	contents, orders, err := Pages(ctx, k.Project, with, k.Project.Game.Version, k.Report)
	if err != nil {
		return nil, err
	}
	sent, _, _ := k.Courier.Book.Deliveries() // one that can't be read hinders sending, not looking
	out := &Leaves{}
	for i, d := range with {
		l := &Leaf{At: d, Contents: contents[d.Name], Order: orders[i], Last: k.Courier.LastPage(d)}
		facts := PageFacts(k.Project, d, l.Contents, l.Order, sent)
		l.Findings = check.RunPage(check.Subject{Destination: d.Name, Rules: d.Rules, Accepts: accepts(k.Project), Page: facts})
		out.List = append(out.List, l)
	}
	switch first := out.List[0]; {
	case finding.Errors(out.Findings()) > 0:
		out.Next = "fix the errors in havvel.toml, and run havvel listing again"
	case len(Lacks(first.Contents, first.Order)) > 0:
		out.Next = "write what is missing into havvel.toml; havvel help toml explains each key"
	}
	return out, nil
}

// Preview writes a page that looks as the portal would arrange it, one for each language that there are texts in, and returns where they
// are, the page's own first.
func (k *Desk) Preview(l *Leaf) (paths []string, err error) {
	var shots []listing.Shot
	for _, c := range l.Order.Cuts {
		shots = append(shots, listing.Shot{Role: c.Role, Path: c.Path, Type: c.Type, About: c.About})
	}
	write := func(page *listing.Page, name string) error {
		title := k.Project.Game.Title
		for _, f := range page.Fields {
			if slices.Contains(f.From, "title") && f.Text != "" {
				title = f.Text
			}
		}
		data, err := listing.Preview(page, title, shots)
		if err != nil {
			return err
		}
		path := filepath.Join(k.Project.Folder, ".havvel", "page", name+".html")
		paths = append(paths, path)
		return atomicfile.Bytes(path, data)
	}
	if err := write(l.Contents.Page, l.At.Name); err != nil {
		return nil, err
	}
	for _, other := range l.Contents.Others {
		if !l.Contents.SeveralLanguages() {
			break
		}
		if err := write(l.Contents.In(other), l.At.Name+"."+other.Language); err != nil {
			return nil, err
		}
	}
	return paths, nil
}

// Cuts are the pictures that destinations want, cut; as JSON they are the document of havvel pictures.
type Cuts struct {
	Pictures []*pictures.Cut   `json:"pictures"`
	Sheet    string            `json:"sheet"` // where all of them are drawn; "" where there is none
	Findings []finding.Finding `json:"findings"`

	Leaves *Leaves `json:"-"`
}

// Cut cuts what each destination wants, and draws all of it on one sheet, into that file or, with "", into the project.
func (k *Desk) Cut(ctx context.Context, sheet string) (*Cuts, error) {
	leaves, err := k.Leaves(ctx)
	if err == nil && k.showFilms(ctx, leaves) {
		leaves, err = k.Leaves(ctx) // with what is wrong with them now
	}
	if err != nil {
		return nil, err
	}
	out := &Cuts{Pictures: []*pictures.Cut{}, Findings: []finding.Finding{}, Leaves: leaves}
	var orders []*pictures.Order
	for _, l := range leaves.List {
		orders, out.Pictures = append(orders, l.Order), append(out.Pictures, l.Order.Cuts...)
		for _, x := range l.Findings {
			if x.ID == "picture" || strings.HasPrefix(x.ID, "picture-") {
				out.Findings = append(out.Findings, x)
			}
		}
	}
	if len(out.Pictures) == 0 {
		return out, nil
	}
	if out.Sheet = sheet; sheet == "" {
		out.Sheet = filepath.Join(k.Project.Folder, ".havvel", "pictures", "sheet.png")
	}
	return out, pictures.WriteSheet(out.Sheet, k.Project.Game.Title, orders)
}

// showFilms has a browser draw what films show first, and reports whether it tried one. Where there is no browser, the sheet says that a
// film isn't drawn.
func (k *Desk) showFilms(ctx context.Context, leaves *Leaves) (tried bool) {
	programs, err := k.Browsers(Trying{})
	if err != nil {
		return false
	}
	for _, l := range leaves.List {
		for _, c := range l.Order.Cuts {
			if !c.Unseen(programs[0]) {
				continue
			}
			film, err := os.ReadFile(c.Path)
			if err != nil {
				continue
			}
			picture, err := trial.FirstPicture(ctx, programs[0], c.Type, film)
			if err == nil && c.Show(picture, programs[0]) == nil {
				tried = true
			}
		}
	}
	return tried
}

// Languages are the texts in other languages, compared with the page's own; as JSON they are the document of havvel listing
// --check-languages.
type Languages struct {
	Texts    []LanguageText    `json:"texts"`
	Findings []finding.Finding `json:"findings"`
}

// A LanguageText is one field in one language, at one destination.
type LanguageText struct {
	Destination string `json:"destination"`
	listing.Comparison
}

// Languages compares texts, and lists which languages lack some.
func (r *Leaves) Languages() *Languages {
	out := &Languages{Texts: []LanguageText{}, Findings: []finding.Finding{}}
	for _, l := range r.List {
		for _, c := range l.Contents.Compare() {
			out.Texts = append(out.Texts, LanguageText{l.At.Name, c})
		}
		for _, f := range l.Findings {
			if f.ID == string(listing.Untranslated) || f.ID == string(listing.Language) {
				out.Findings = append(out.Findings, f)
			}
		}
	}
	return out
}

type leavesJSON struct {
	Pages []pageJSON `json:"pages"`
}

type pageJSON struct {
	Destination  string                `json:"destination"`
	Fields       []fieldJSON           `json:"fields"`
	Leaderboards []listing.Leaderboard `json:"leaderboards"`
	Declarations []statedJSON          `json:"declarations"`
	Pictures     []*pictures.Cut       `json:"pictures"`
	Lacks        []string              `json:"lacks"`
	Findings     []finding.Finding     `json:"findings"`
}

type fieldJSON struct {
	Name  string   `json:"name"`
	From  []string `json:"from"`
	Form  string   `json:"form"`
	Text  string   `json:"text"`
	Words []string `json:"words"`
	Count int      `json:"count"`
	Limit int      `json:"limit"`
}

type statedJSON struct {
	Name     string `json:"name"`
	Says     string `json:"says"`
	Declared bool   `json:"declared"`
}

// MarshalJSON implements json.Marshaler: it is the document of havvel listing.
func (r *Leaves) MarshalJSON() ([]byte, error) {
	doc := leavesJSON{Pages: []pageJSON{}}
	for _, l := range r.List {
		page := pageJSON{
			Destination:  l.At.Name,
			Fields:       []fieldJSON{},
			Leaderboards: append([]listing.Leaderboard{}, l.Contents.Leaderboards...),
			Declarations: []statedJSON{},
			Pictures:     append([]*pictures.Cut{}, l.Order.Cuts...),
			Lacks:        Lacks(l.Contents, l.Order),
			Findings:     append([]finding.Finding{}, l.Findings...),
		}
		for _, f := range l.Contents.Fields {
			page.Fields = append(page.Fields, fieldJSON{f.Name, f.From, f.Form, f.Text, f.Words, f.Count, f.Limit})
		}
		for _, d := range l.Contents.Declarations {
			page.Declarations = append(page.Declarations, statedJSON(d))
		}
		doc.Pages = append(doc.Pages, page)
	}
	return json.Marshal(doc)
}
