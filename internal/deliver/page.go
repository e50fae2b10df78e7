package deliver

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"havvel/internal/atomicfile"
	"havvel/internal/deliver/portal"
	"havvel/internal/listing"
	"havvel/internal/logbook"
	"havvel/internal/pictures"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/rulebook/expression"
)

// Contents are what a game's page at one destination holds.
type Contents struct {
	*listing.Page
	Pictures []*pictures.Cut
}

// A SentPicture is a picture as it is on the page.
type SentPicture struct {
	Name   string `json:"name"`
	Number int    `json:"number"`
	SHA256 string `json:"sha256"`
	About  string `json:"about"`
}

// A SentPage is what was last sent to a game's page, as it is kept in the project's .havvel.
type SentPage struct {
	Address      string                  `json:"address"`
	At           time.Time               `json:"at"`
	Version      string                  `json:"version"`
	Fields       map[string]string       `json:"fields"` // lists with commas
	Leaderboards []listing.Leaderboard   `json:"leaderboards"`
	Declarations []string                `json:"declarations"`
	Pictures     []SentPicture           `json:"pictures"`
	Requests     map[string]portal.Entry `json:"requests"` // each that was made
	Whole        string                  `json:"whole"`    // hash of all that was to be said, once it was
}

// Filled says what a page was sent.
type Filled struct {
	Requests int // 0 when nothing has changed
	Changed  []string
}

func (c *Courier) pageFile(d *project.Destination) string {
	return filepath.Join(c.Project.Folder, ".havvel", "page", d.Name+".json")
}

// LastPage is what was last sent to the page at a destination; an empty one when nothing was.
func (c *Courier) LastPage(d *project.Destination) *SentPage {
	last := &SentPage{}
	data, err := os.ReadFile(c.pageFile(d))
	if err != nil || json.Unmarshal(data, last) != nil || last.Address != d.Address {
		last = &SentPage{Address: d.Address}
	}
	if last.Requests == nil {
		last.Requests = map[string]portal.Entry{}
	}
	return last
}

// NewLeaderboards lists the leaderboards that the page did not have when it was last sent.
func (c *Courier) NewLeaderboards(d *project.Destination, page *listing.Page) []string {
	before := c.LastPage(d).Leaderboards
	var list []string
	for _, b := range page.Leaderboards {
		if !slices.ContainsFunc(before, func(o listing.Leaderboard) bool { return o.Name == b.Name }) {
			list = append(list, b.Name)
		}
	}
	return list
}

// A namedText is a field as it is told, as in "tagline", or "tagline (de)" for another language.
type namedText struct{ name, text string }

func (p *Contents) texts() []namedText {
	var list []namedText
	for _, f := range p.Fields {
		list = append(list, namedText{f.Name, f.Text})
	}
	for _, l := range p.Others {
		for _, f := range l.Fields {
			list = append(list, namedText{f.Name + " (" + l.Language + ")", f.Text})
		}
	}
	return list
}

// sent is how the contents are kept once they are sent.
func (p *Contents) sent() SentPage {
	s := SentPage{Fields: map[string]string{}, Leaderboards: p.Leaderboards, Declarations: p.Declared(), Pictures: []SentPicture{}}
	for _, t := range p.texts() {
		s.Fields[t.name] = t.text
	}
	for _, c := range p.Pictures {
		s.Pictures = append(s.Pictures, SentPicture{c.Name, c.Number, c.SHA256, c.About})
	}
	return s
}

// Changed names what has changed since the last upload: fields, leaderboards, declarations, pictures.
func (s *SentPage) Changed(p *Contents) []string {
	now := p.sent()
	var list []string
	for _, t := range p.texts() {
		if before, had := s.Fields[t.name]; before != t.text || !had && t.text != "" {
			list = append(list, t.name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Fields)) {
		if _, still := now.Fields[name]; !still {
			list = append(list, name)
		}
	}
	if !slices.Equal(s.Leaderboards, now.Leaderboards) {
		list = append(list, "leaderboards")
	}
	if !slices.Equal(s.Declarations, now.Declarations) {
		list = append(list, "declarations")
	}
	if n := changedPictures(s.Pictures, now.Pictures); n > 0 {
		list = append(list, fmt.Sprintf("%d %s", n, map[bool]string{true: "picture", false: "pictures"}[n == 1]))
	}
	return list
}

// changedPictures counts the places whose picture is another now.
func changedPictures(before, now []SentPicture) int {
	at := func(list []SentPicture) map[string]SentPicture {
		m := map[string]SentPicture{}
		for _, p := range list {
			m[p.Name+" "+strconv.Itoa(p.Number)] = p
		}
		return m
	}
	old, new, n := at(before), at(now), 0
	for place, p := range new {
		if old[place] != p {
			n++
		}
	}
	for place := range old {
		if _, still := new[place]; !still {
			n++
		}
	}
	return n
}

// values are what fill steps know of a page, and of what was last sent to it.
func (p *Contents) values(last *SentPage) expression.Values {
	fields := map[string]any{}
	for _, f := range p.Fields {
		fields[f.Name] = free(f.Value())
	}
	files := []expression.File{}
	for _, cut := range p.Pictures {
		files = append(files, expression.File{
			Name: cut.Name, Number: cut.Number, Type: cut.Type, Bytes: int(cut.Bytes), SHA256: cut.SHA256, About: cut.About,
		}.At(cut.Path))
	}
	boards := map[string]any{"now": []any{}, "new": []any{}, "changed": []any{}, "gone": []any{}}
	add := func(kind string, b listing.Leaderboard) { boards[kind] = append(boards[kind].([]any), free(b)) }
	before := map[string]listing.Leaderboard{}
	for _, b := range last.Leaderboards {
		before[b.Name] = b
	}
	for _, b := range p.Leaderboards {
		add("now", b)
		if was, had := before[b.Name]; !had {
			add("new", b)
		} else if was != b {
			add("changed", b)
		}
		delete(before, b.Name)
	}
	for _, name := range slices.Sorted(maps.Keys(before)) {
		add("gone", before[name])
	}
	return expression.Values{
		"page": map[string]any{
			"fields": fields, "leaderboards": boards["now"], "declarations": free(append([]string{}, p.Declared()...)),
			"pictures": free(p.sent().Pictures),
		},
		"field": fields, "pictures": files, "leaderboards": boards, "locales": p.locales(),
	}
}

// locales are the page's texts by language, its own first.
func (p *Contents) locales() []any {
	of := func(language string, list []*listing.Field, boards []listing.Leaderboard) any {
		fields := map[string]any{}
		for _, f := range list {
			fields[f.Name] = free(f.Value())
		}
		return map[string]any{"language": language, "fields": fields, "leaderboards": free(append([]listing.Leaderboard{}, boards...))}
	}
	all := []any{of(p.Language, p.Fields, p.Leaderboards)}
	for _, l := range p.Others {
		all = append(all, of(l.Language, l.Fields, l.Leaderboards))
	}
	return all
}

// load tells a session what steps can send of a page.
func (p *Contents) load(s *portal.Session, last *SentPage) {
	for name, v := range p.values(last) {
		s.Know(name, v)
	}
}

// whole is a hash of all that the steps of a page can say.
func (c *Courier) whole(d *project.Destination, p *Contents, version string) string {
	values := p.values(&SentPage{})
	delete(values, "pictures") // page.pictures says the same
	if !slices.ContainsFunc(d.Rules.Fill, func(s rulebook.Step) bool { return slices.Contains(s.Names(), "version") }) {
		version = ""
	}
	data, _ := json.Marshal([]any{values, d.Rules.Fill, d.Address, c.Project.Game.Short, c.Project.Game.Title, version}) // plain data
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:12])
}

// Unfilled reports whether the page has changed since it was last sent, or was never.
func (c *Courier) Unfilled(d *project.Destination, p *Contents, version string) bool {
	return c.LastPage(d).Whole != c.whole(d, p, version)
}

// Fill sends what has changed of the page at a destination, for a delivery there. What was sent is written down after each
// request, so that what broke off goes on there. again repeats a request whose answer was lost.
func (c *Courier) Fill(ctx context.Context, d *project.Destination, p *Contents, l *logbook.Delivery, again bool) (*Filled, error) {
	session, err := c.resume(d, l)
	if err != nil {
		return nil, err
	}
	last := c.LastPage(d)
	p.load(session, last)
	out := &Filled{Changed: last.Changed(p)}
	keep := func() error {
		data, err := json.MarshalIndent(last, "", "  ")
		if err != nil {
			return err
		}
		return atomicfile.Bytes(c.pageFile(d), data)
	}
	ledger := portal.NewLedger(maps.Clone(last.Requests))
	ledger.Rereads = true
	var unkept error
	ledger.Write = func(key string, e portal.Entry) {
		if last.Requests[key] = e; e.Hash == "" && e.UUID == "" {
			delete(last.Requests, key)
		}
		last.Whole = "" // until all is said
		unkept = errors.Join(unkept, keep())
	}
	session.Ledger, session.Again = ledger, again
	if _, err := session.Run(ctx, d.Rules.Fill, portal.ByRulebook); err != nil {
		return nil, c.named(d, p, err)
	}
	if unkept != nil {
		return nil, unkept
	}
	out.Requests = ledger.Made()
	now := p.sent()
	now.Address, now.At, now.Version, now.Requests, now.Whole = d.Address, c.Now().UTC(), l.Version, ledger.Entries(), c.whole(d, p, l.Version)
	*last = now
	return out, keep()
}

// named says of which key of havvel.toml a portal's refusal is.
func (c *Courier) named(d *project.Destination, p *Contents, err error) error {
	var refused *portal.Refused
	if !errors.As(err, &refused) || refused.Key {
		return err
	}
	for i := range refused.Reasons {
		if i < len(refused.Fields) && refused.Fields[i] != "" {
			refused.Reasons[i] = c.where(d, p, refused.Fields[i]) + refused.Reasons[i]
		} else if refused.Of != "" {
			refused.Reasons[i] = c.where(d, p, refused.Of) + refused.Reasons[i]
		}
	}
	return err
}

// where says where in our files a portal's field comes from.
func (c *Courier) where(d *project.Destination, p *Contents, name string) string {
	if f := p.Field(name); f != nil {
		key := listing.Key(f.From[0])
		if line := c.Project.Line(d.Name, key); line > 0 {
			return fmt.Sprintf("%s (%s, line %d): ", key, project.Name, line)
		}
		return key + ": "
	}
	for _, cut := range p.Pictures {
		if cut.Name == name {
			return fmt.Sprintf("%s, cut from %s: ", name, cut.Master)
		}
	}
	return name + ": "
}
