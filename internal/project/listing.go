package project

import (
	"fmt"
	"maps"
	"net/url"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/text/language"

	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// A Listing is what the game's page on portals says. What is left out isn't said.
type Listing struct {
	Tagline     string `toml:"tagline"`     // one sentence that makes somebody want to play
	Description string `toml:"description"` // a Markdown file with the page's text, relative to this file
	// a Markdown file on what is new, with a heading for each version; the portal gets the part of the version that is sent
	News        string   `toml:"news"`
	Category    string   `toml:"category"`    // the game's category
	Genre       string   `toml:"genre"`       // the genre that you wish for, where the portal's people choose
	Tags        []string `toml:"tags"`        // words that players search for, the most important first
	Devices     []string `toml:"devices"`     // what it can be played on: desktop, tablet, phone
	Orientation string   `toml:"orientation"` // how a phone is held: any, portrait or landscape
	Languages   []string `toml:"languages"`   // the game's languages, as in "en" or "pt-BR" (BCP 47)
	Frame       [2]int   `toml:"frame"`       // width and height of the game's frame in CSS pixels, where the portal lets you choose
	Opens       string   `toml:"opens"`       // how the game opens: in-page, on-click or full-screen
	Price       string   `toml:"price"`       // free, open (players pay what they want) or fixed
	Amount      string   `toml:"amount"`      // the price, or what you suggest, as in "3.00 EUR"
	Visibility  string   `toml:"visibility"`  // who may find the page: everybody, link or nobody
	Age         *int     `toml:"age"`         // the age in years from which the game is suitable; 0 for everybody
	// what is in it that some avoid: violence, fear, strong-language, sex, drugs, gambling, purchases, chat; an empty list says that
	// there is nothing
	Content    []string  `toml:"content"`
	Unfinished *bool     `toml:"unfinished"` // whether it is work in progress
	Generated  []string  `toml:"generated"`  // what was made by generators: text, pictures, sound, code; an empty list says nothing was
	Controls   []Control `toml:"control"`    // one thing that players do, and how
	Credits    []Credit  `toml:"credit"`     // one who took part
	Contact    string    `toml:"contact"`    // where players reach you: an e-mail address or a link
	Privacy    string    `toml:"privacy"`    // the link of your privacy policy
	Video      string    `toml:"video"`      // the link of a video

	// words that Havvel writes into the page, in the page's language: Controls, Credits, "What is new", Action, Keys, Mouse, Touch,
	// Gamepad; as in { Controls = "Steuerung" }
	Headings map[string]string `toml:"headings"`

	In Translations `toml:"*"` // the page's texts in another language, as in [listing.de] or [listing.pt-BR]
}

// Translations are texts by their languages.
type Translations map[string]*Translation

var languageForm = regexp.MustCompile(`^[a-z]{2,3}(-[A-Za-z0-9]+)*$`)

// Takes reports whether a table of that name is one.
func (Translations) Takes(key string) bool { return languageForm.MatchString(key) }

// A Translation is what a page says in another language than its own; what is left out is not sent in that language.
type Translation struct {
	Title   string `toml:"title"`   // default: game.title
	Tagline string `toml:"tagline"` // as in the listing
	// a Markdown file, relative to this file; default: the one beside the page's own with the language in its name, as in description.de.md
	Description string            `toml:"description"`
	News        string            `toml:"news"`     // a Markdown file; default: likewise
	Controls    []Control         `toml:"control"`  // as in the listing
	Labels      map[string]string `toml:"labels"`   // what players read above leaderboards, by the names of statistics
	Headings    map[string]string `toml:"headings"` // as in the listing
}

// Empty reports whether it says nothing.
func (t *Translation) Empty() bool { return reflect.ValueOf(*t).IsZero() }

// Under fills what isn't said with what another says.
func (t *Translation) Under(other *Translation) {
	into, from := reflect.ValueOf(t).Elem(), reflect.ValueOf(other).Elem()
	for i := range from.NumField() {
		if into.Field(i).IsZero() {
			into.Field(i).Set(from.Field(i))
		}
	}
}

// Language is the page's own language: the first of its languages, or English.
func (l *Listing) Language() string {
	if len(l.Languages) > 0 {
		return l.Languages[0]
	}
	return "en"
}

// A Control is one thing that players do, and how.
type Control struct {
	Action  string   `toml:"action"`  // what it does, as in "Turn a lantern"
	Keys    []string `toml:"keys"`    // keys, as they are printed on a keyboard
	Mouse   string   `toml:"mouse"`   // with a mouse
	Touch   string   `toml:"touch"`   // with a finger
	Gamepad string   `toml:"gamepad"` // with a gamepad
}

// A Credit is one who took part.
type Credit struct {
	Name string `toml:"name"` // who
	Part string `toml:"part"` // what they did
	Link string `toml:"link"` // where more is to be found of them
}

// A Declared is what the developer declares to portals, for one version.
type Declared struct {
	Version string `toml:"version"` // the version for which this holds; declare it again for a later one
	// what you declare, by the names that rulebooks have, such as own-rights, no-advertising, no-outside-login, only-here,
	// content-told
	Declare []string `toml:"declare"`
}

// A Picture is a master: a picture from which those for portals are cut.
type Picture struct {
	// the picture, relative to this file: PNG, JPEG, WebP, GIF or SVG; for a clip WebM, MP4, or an animated GIF, PNG or WebP
	File  string   `toml:"file"`
	Roles []string `toml:"roles"` // what it is for: cover, icon, banner, background, screenshot, backdrop or clip
	// what must be seen when it is cut, in hundredths of width and height from the top left; default: [50, 50]
	Focus []int `toml:"focus"`
	Whole bool  `toml:"whole"` // whether it is shown whole, with a surround, and not cut
	// where its title stands, which must stay whole and legible: left, top, width and height in hundredths, as in [10, 60, 80, 20]
	Title []int `toml:"title"`
	// how it is made larger: "pixels" keeps every pixel a square, "smooth" doesn't; default: pixel art is recognised
	Scale string `toml:"scale"`
	// what is around a picture shown whole, and behind a transparent one: "blur" or a colour such as "#10131c"
	Surround   string   `toml:"surround"`
	FewColours bool     `toml:"few_colours"` // whether a PNG that is too heavy may be reduced to 256 colours
	About      string   `toml:"about"`       // what is to be seen, for those who can't see it
	Only       []string `toml:"only"`        // only for these destinations; default: for all
}

// The words that keys of a listing take.
var (
	devices     = []string{"desktop", "tablet", "phone"}
	contents    = []string{"violence", "fear", "strong-language", "sex", "drugs", "gambling", "purchases", "chat"}
	generators  = []string{"text", "pictures", "sound", "code"}
	amountForm  = regexp.MustCompile(`^\d{1,6}(\.\d{2})? [A-Z]{3}$`)
	contactForm = regexp.MustCompile(`^[^@\s]+@[^@\s]+\.[^@\s]+$`)
	colourForm  = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)
)

// ListingFor is the listing for a destination: what is said for all, but where [to.NAME.listing] says otherwise.
func (p *Project) ListingFor(d *Destination) *Listing {
	merged := p.Listing
	if d == nil || d.Listing == nil {
		return &merged
	}
	into, from := reflect.ValueOf(&merged).Elem(), reflect.ValueOf(d.Listing).Elem()
	for i := range from.NumField() {
		if !from.Field(i).IsZero() {
			into.Field(i).Set(from.Field(i))
		}
	}
	return &merged
}

// States lists what the developer states to a destination for a version, and stale whether more was declared for another one.
func (p *Project) Declared(d *Destination, version string) (list []string, stale bool) {
	for _, s := range []*Declared{p.Declarations, d.Declarations} {
		switch {
		case s == nil:
		case s.Version != version:
			stale = true
		default:
			list = append(list, s.Declare...)
		}
	}
	return list, stale
}

func (p *Project) verifyListing() {
	p.Listing.verify(p.doc, "listing")
	p.Declarations.verify(p.doc, "declarations")
	for _, d := range p.To {
		if d.Listing != nil {
			d.Listing.verify(p.doc, d.path+".listing")
		}
		d.Declarations.verify(p.doc, d.path+".declarations")
	}
	for i, m := range p.Pictures {
		m.verify(p, fmt.Sprintf("picture[%d]", i))
	}
}

func (s *Declared) verify(doc *settings.Document, at string) {
	if s != nil && s.Version == "" {
		doc.Wrong(at+".version", "is missing: declarations are for one version")
	}
}

func (l *Listing) verify(doc *settings.Document, at string) {
	doc.Within(at+".orientation", l.Orientation, "any", "portrait", "landscape")
	doc.Within(at+".opens", l.Opens, "in-page", "on-click", "full-screen")
	doc.Within(at+".visibility", l.Visibility, "everybody", "link", "nobody")
	doc.Each(at+".devices", l.Devices, devices...)
	doc.Each(at+".content", l.Content, contents...)
	doc.Each(at+".generated", l.Generated, generators...)
	l.verifyLanguages(doc, at)
	l.verifyPrice(doc, at)
	l.verifyLinks(doc, at)
	if l.Age != nil && (*l.Age < 0 || *l.Age > 21) {
		doc.Wrong(at+".age", "is %d; it is in years, from 0 to 21", *l.Age)
	}
	if l.Frame[0] < 0 || l.Frame[1] < 0 || (l.Frame[0] == 0) != (l.Frame[1] == 0) {
		doc.Wrong(at+".frame", "needs a width and a height, as in [960, 540]")
	}
	verifyControls(doc, at, l.Controls, l.Headings)
	for code, t := range l.In {
		verifyControls(doc, at+"."+code, t.Controls, t.Headings)
	}
}

func (l *Listing) verifyLanguages(doc *settings.Document, at string) {
	for i, code := range l.Languages {
		if _, err := language.Parse(code); err != nil {
			doc.Wrong(fmt.Sprintf("%s.languages[%d]", at, i), "has %q, which is no language; write \"en\", \"de\" or \"pt-BR\"", code)
		}
	}
	for code := range l.In {
		if _, err := language.Parse(code); err != nil {
			doc.Wrong(at+"."+code, "is no language; write [listing.de] or [listing.pt-BR]")
		} else if code == l.Language() {
			doc.Wrong(at+"."+code, "is the page's own language: its texts stand in [listing]")
		}
	}
}

func (l *Listing) verifyPrice(doc *settings.Document, at string) {
	doc.Within(at+".price", l.Price, "free", "open", "fixed")
	if l.Amount != "" && !amountForm.MatchString(l.Amount) {
		doc.Wrong(at+".amount", "is %q; write it like \"3.00 EUR\"", l.Amount)
	}
	if l.Price == "fixed" && l.Amount == "" {
		doc.Wrong(at+".amount", `is missing: a fixed price needs one, as in "3.00 EUR"`)
	}
}

func (l *Listing) verifyLinks(doc *settings.Document, at string) {
	if l.Contact != "" && !contactForm.MatchString(l.Contact) && !web(l.Contact) {
		doc.Wrong(at+".contact", "is %q; it must be an e-mail address or a link", l.Contact)
	}
	for key, link := range map[string]string{"privacy": l.Privacy, "video": l.Video} {
		if link != "" && !web(link) {
			doc.Wrong(at+"."+key, "is %q; it must be a link", link)
		}
	}
	for i, c := range l.Credits {
		one := fmt.Sprintf("%s.credit[%d]", at, i)
		doc.Must(one+".name", c.Name)
		if c.Link != "" && !web(c.Link) {
			doc.Wrong(one+".link", "is %q; it must be a link", c.Link)
		}
	}
}

// pageWords are those that Havvel writes into pages.
var pageWords = []string{"Controls", "Credits", "What is new", "Action", "Keys", "Mouse", "Touch", "Gamepad"}

func verifyControls(doc *settings.Document, at string, controls []Control, headings map[string]string) {
	for i, c := range controls {
		one := fmt.Sprintf("%s.control[%d]", at, i)
		doc.Must(one+".action", c.Action)
		if len(c.Keys) == 0 && c.Mouse+c.Touch+c.Gamepad == "" {
			doc.Wrong(one, "needs at least one of keys, mouse, touch and gamepad")
		}
	}
	for english := range headings {
		if !slices.Contains(pageWords, english) {
			doc.Wrong(at+".headings."+english, "is no word that Havvel writes; these are: %s", strings.Join(pageWords, ", "))
		}
	}
}

// web reports whether a text is a link that anybody can follow.
func web(link string) bool {
	u, err := url.Parse(link)
	return err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" && !strings.ContainsAny(link, " \t\n")
}

func (m *Picture) verify(p *Project, at string) {
	doc := p.doc
	doc.Must(at+".file", m.File)
	if len(m.Roles) == 0 {
		doc.Wrong(at+".roles", "is missing: say what the picture is for")
	}
	doc.Each(at+".roles", m.Roles, rulebook.Roles()...)
	if len(m.Focus) != 0 && (len(m.Focus) != 2 || slices.Min(m.Focus) < 0 || slices.Max(m.Focus) > 100) {
		doc.Wrong(at+".focus", "is a point in hundredths of width and height, as in [50, 30]")
	}
	if t := m.Title; len(t) != 0 && (len(t) != 4 || slices.Min(t) < 0 || t[0]+t[2] > 100 || t[1]+t[3] > 100) {
		doc.Wrong(at+".title", "is left, top, width and height in hundredths, as in [10, 60, 80, 20]")
	}
	doc.Within(at+".scale", m.Scale, "pixels", "smooth")
	if m.Surround != "" && m.Surround != "blur" && !colourForm.MatchString(m.Surround) {
		doc.Wrong(at+".surround", "is %q; it can be \"blur\", or a colour such as \"#10131c\"", m.Surround)
	}
	doc.Each(at+".only", m.Only, slices.Sorted(maps.Keys(p.To))...)
}
