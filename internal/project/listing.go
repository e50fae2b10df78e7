package project

import (
	"errors"
	"fmt"
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
	Tagline     string    `toml:"tagline" doc:"one sentence that makes somebody want to play"`
	Description string    `toml:"description" doc:"a Markdown file with the page's text, relative to this file"`
	News        string    `toml:"news" doc:"a Markdown file on what is new, with a heading for each version; the portal gets the part of the version that is sent"`
	Category    string    `toml:"category" doc:"the shelf that the game belongs on"`
	Genre       string    `toml:"genre" doc:"the genre that you wish for, where the portal's people choose"`
	Tags        []string  `toml:"tags" doc:"words by which players find it, the most important first"`
	Devices     []string  `toml:"devices" doc:"what it can be played on: desk, tablet, phone"`
	Orientation string    `toml:"orientation" doc:"how a phone is held: any, upright or sideways"`
	Languages   []string  `toml:"languages" doc:"the game's languages, as in \"en\" or \"pt-BR\" (BCP 47)"`
	Frame       [2]int    `toml:"frame" doc:"width and height of the game's frame in CSS pixels, where the portal lets you choose"`
	Opens       string    `toml:"opens" doc:"how the game opens: in-page, on-click or full-screen"`
	Price       string    `toml:"price" doc:"free, open (players pay what they want) or fixed"`
	Amount      string    `toml:"amount" doc:"the price, or what you suggest, as in \"3.00 EUR\""`
	Visibility  string    `toml:"visibility" doc:"who may find the page: everybody, link or nobody"`
	Age         *int      `toml:"age" doc:"the age in years from which the game is suitable; 0 for everybody"`
	Content     []string  `toml:"content" doc:"what is in it that some avoid: violence, fear, strong-language, sex, drugs, gambling, purchases, chat; an empty list says that there is nothing"`
	Unfinished  *bool     `toml:"unfinished" doc:"whether it is work in progress"`
	Generated   []string  `toml:"generated" doc:"what was made by generators: text, pictures, sound, code; an empty list says nothing was"`
	Controls    []Control `toml:"control" doc:"one thing that players do, and how"`
	Credits     []Credit  `toml:"credit" doc:"one who took part"`
	Contact     string    `toml:"contact" doc:"where players reach you: an e-mail address or a link"`
	Privacy     string    `toml:"privacy" doc:"the link of your privacy policy"`
	Video       string    `toml:"video" doc:"the link of a video"`
}

// A Control is one thing that players do, and how.
type Control struct {
	Action  string   `toml:"action" doc:"what it does, as in \"Turn a lantern\""`
	Keys    []string `toml:"keys" doc:"keys, as they are printed on a keyboard"`
	Mouse   string   `toml:"mouse" doc:"with a mouse"`
	Touch   string   `toml:"touch" doc:"with a finger"`
	Gamepad string   `toml:"gamepad" doc:"with a gamepad"`
}

// A Credit is one who took part.
type Credit struct {
	Name string `toml:"name" doc:"who"`
	Part string `toml:"part" doc:"what they did"`
	Link string `toml:"link" doc:"where more is to be found of them"`
}

// A Statement is what the developer declares to portals, for one version.
type Statement struct {
	Version string   `toml:"version" doc:"the version for which this holds; for a later one it has to be said again"`
	States  []string `toml:"states" doc:"what you state, by the names that rulebooks have, such as own-rights, no-advertising, no-outside-login, only-here, content-told"`
}

// A Picture is a master: a picture from which those for portals are cut.
type Picture struct {
	File       string   `toml:"file" doc:"the picture, relative to this file: PNG, JPEG, WebP or GIF; for a clip WebM or GIF"`
	Roles      []string `toml:"roles" doc:"what it is for: cover, icon, banner, background, screenshot, backdrop or clip"`
	Focus      []int    `toml:"focus" doc:"what must be seen when it is cut, in hundredths of width and height from the top left; [50, 50] unless said"`
	Whole      bool     `toml:"whole" doc:"whether it is shown whole, with a surround, and not cut"`
	Surround   string   `toml:"surround" doc:"what is around a picture shown whole, and behind a transparent one: \"blur\" or a colour such as \"#10131c\""`
	FewColours bool     `toml:"few_colours" doc:"whether a PNG that is too heavy may be reduced to 256 colours"`
	About      string   `toml:"about" doc:"what is to be seen, for those who can't see it"`
	Only       []string `toml:"only" doc:"only for these destinations; for all unless said"`
}

// The words that keys of a listing take.
var (
	devices     = []string{"desk", "tablet", "phone"}
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

// States lists what the developer states to a destination for a version, and stale whether more was stated for another one.
func (p *Project) States(d *Destination, version string) (list []string, stale bool) {
	for _, s := range []*Statement{p.Declares, d.Declares} {
		switch {
		case s == nil:
		case s.Version != version:
			stale = true
		default:
			list = append(list, s.States...)
		}
	}
	return list, stale
}

func (p *Project) verifyListing() error {
	if err := p.Listing.verify(); err != nil {
		return fmt.Errorf("listing.%w", err)
	}
	if err := p.Declares.verify(); err != nil {
		return fmt.Errorf("declares: %w", err)
	}
	for name, d := range p.To {
		if d.Listing != nil {
			if err := d.Listing.verify(); err != nil {
				return fmt.Errorf("to.%s.listing.%w", name, err)
			}
		}
		if err := d.Declares.verify(); err != nil {
			return fmt.Errorf("to.%s.declares: %w", name, err)
		}
	}
	for i, m := range p.Pictures {
		if err := m.verify(p); err != nil {
			return fmt.Errorf("picture number %d: %w", i+1, err)
		}
	}
	return nil
}

func (s *Statement) verify() error {
	if s == nil {
		return nil
	}
	if s.Version == "" {
		return errors.New("version is missing: what is declared holds for one version")
	}
	return nil
}

func (l *Listing) verify() error {
	for _, w := range []struct {
		key    string
		values []string
		known  []string
	}{
		{"orientation", []string{l.Orientation}, []string{"any", "upright", "sideways"}},
		{"opens", []string{l.Opens}, []string{"in-page", "on-click", "full-screen"}},
		{"price", []string{l.Price}, []string{"free", "open", "fixed"}},
		{"visibility", []string{l.Visibility}, []string{"everybody", "link", "nobody"}},
		{"devices", l.Devices, devices}, {"content", l.Content, contents}, {"generated", l.Generated, generators},
	} {
		for _, v := range w.values {
			if v != "" {
				if err := settings.Within(w.key, v, w.known...); err != nil {
					return err
				}
			}
		}
	}
	for _, code := range l.Languages {
		if _, err := language.Parse(code); err != nil {
			return fmt.Errorf("languages has %q, which is no language; write \"en\", \"de\" or \"pt-BR\"", code)
		}
	}
	switch {
	case l.Amount != "" && !amountForm.MatchString(l.Amount):
		return fmt.Errorf("amount is %q; write it like \"3.00 EUR\"", l.Amount)
	case l.Price == "fixed" && l.Amount == "":
		return errors.New(`amount is missing: a fixed price needs one, as in "3.00 EUR"`)
	case l.Age != nil && (*l.Age < 0 || *l.Age > 21):
		return fmt.Errorf("age is %d; it is in years, from 0 to 21", *l.Age)
	case l.Frame[0] < 0 || l.Frame[1] < 0 || (l.Frame[0] == 0) != (l.Frame[1] == 0):
		return errors.New("frame needs a width and a height, as in [960, 540]")
	case l.Contact != "" && !contactForm.MatchString(l.Contact) && !web(l.Contact):
		return fmt.Errorf("contact is %q; it must be an e-mail address or a link", l.Contact)
	case l.Privacy != "" && !web(l.Privacy):
		return fmt.Errorf("privacy is %q; it must be a link", l.Privacy)
	case l.Video != "" && !web(l.Video):
		return fmt.Errorf("video is %q; it must be a link", l.Video)
	}
	for i, c := range l.Controls {
		if c.Action == "" || len(c.Keys) == 0 && c.Mouse+c.Touch+c.Gamepad == "" {
			return fmt.Errorf("control number %d needs an action, and at least one of keys, mouse, touch and gamepad", i+1)
		}
	}
	for i, c := range l.Credits {
		if c.Name == "" || c.Link != "" && !web(c.Link) {
			return fmt.Errorf("credit number %d needs a name, and its link must be an address on the web", i+1)
		}
	}
	return nil
}

// web reports whether a text is a link that anybody can follow.
func web(link string) bool {
	u, err := url.Parse(link)
	return err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" && !strings.ContainsAny(link, " \t\n")
}

func (m *Picture) verify(p *Project) error {
	if m.File == "" || len(m.Roles) == 0 {
		return errors.New("it needs a file, and roles that say what it is for")
	}
	for _, r := range m.Roles {
		if err := settings.Within("roles", r, rulebook.Roles()...); err != nil {
			return err
		}
	}
	if len(m.Focus) != 0 && (len(m.Focus) != 2 || slices.Min(m.Focus) < 0 || slices.Max(m.Focus) > 100) {
		return errors.New("focus is a place in hundredths of width and height, as in [50, 30]")
	}
	if m.Surround != "" && m.Surround != "blur" && !colourForm.MatchString(m.Surround) {
		return fmt.Errorf("surround is %q; it can be \"blur\", or a colour such as \"#10131c\"", m.Surround)
	}
	for _, name := range m.Only {
		if p.To[name] == nil {
			return fmt.Errorf("only names %q, which is no destination", name)
		}
	}
	return nil
}
