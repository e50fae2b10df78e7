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
	"strings"
	"time"

	"havvel/internal/atomicfile"
	"havvel/internal/deliver/portal"
	"havvel/internal/listing"
	"havvel/internal/logbook"
	"havvel/internal/pictures"
	"havvel/internal/project"
	"havvel/internal/rulebook"
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
	Address      string                `json:"address"`
	At           time.Time             `json:"at"`
	Version      string                `json:"version"`
	Fields       map[string]string     `json:"fields"` // lists with commas
	Leaderboards []listing.Leaderboard `json:"leaderboards"`
	Declarations []string              `json:"declarations"`
	Pictures     []SentPicture         `json:"pictures"`
	Steps        map[string]string     `json:"steps"` // hash of each request that was made
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
	if last.Steps == nil {
		last.Steps = map[string]string{}
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

// sent is how the contents are kept once they are sent.
func (p *Contents) sent() SentPage {
	s := SentPage{Fields: map[string]string{}, Leaderboards: p.Leaderboards, Declarations: p.Declared(), Pictures: []SentPicture{}}
	for _, f := range p.Fields {
		s.Fields[f.Name] = f.Text
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
	for _, f := range p.Fields {
		if before, had := s.Fields[f.Name]; before != f.Text || !had && f.Text != "" {
			list = append(list, f.Name)
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

// A fill is one request of a page: a step, with its picture where it carries one.
type fill struct {
	step    *rulebook.Step
	picture *pictures.Cut
	name    string
	hash    string // of all that it says
}

// fills lists the requests that a page would take, in their order.
func (c *Courier) fills(d *project.Destination, p *Contents, version string) []fill {
	whole := p.asJSON()
	var list []fill
	for i := range d.Rules.Fill {
		step := &d.Rules.Fill[i]
		definition, _ := json.Marshal(step) // plain data has a JSON form
		said := []any{string(definition), d.Address, c.Project.Game.Short}
		for _, name := range step.Values() {
			switch {
			case whole[name] != nil:
				said = append(said, whole[name])
			case strings.HasPrefix(name, "field."):
				said = append(said, p.Field(strings.TrimPrefix(name, "field.")).Text)
			case name == "version":
				said = append(said, version)
			case name == "game.title":
				said = append(said, c.Project.Game.Title)
			}
		}
		add := func(name string, picture *pictures.Cut, more ...any) {
			data, _ := json.Marshal(append(slices.Clone(said), more...))
			sum := sha256.Sum256(data)
			list = append(list, fill{step, picture, name, hex.EncodeToString(sum[:12])})
		}
		if !slices.Contains(filesOf(step), rulebook.PictureStep) {
			add(step.Step, nil)
			continue
		}
		for _, cut := range p.Pictures {
			add(fmt.Sprintf("%s %s %d", step.Step, cut.Name, cut.Number), cut, cut.SHA256, cut.About)
		}
	}
	return list
}

func filesOf(s *rulebook.Step) []string {
	list := []string{s.File}
	for _, p := range s.Parts {
		list = append(list, p.File)
	}
	return list
}

// asJSON are the values that steps send as JSON.
func (p *Contents) asJSON() map[string]any {
	fields := map[string]any{}
	for _, f := range p.Fields {
		fields[f.Name] = f.Value()
	}
	leaderboards := p.Leaderboards
	if leaderboards == nil {
		leaderboards = []listing.Leaderboard{}
	}
	return map[string]any{
		"page.fields":       fields,
		"page.leaderboards": leaderboards,
		"page.declarations": p.Declared(),
		"page.pictures":     p.sent().Pictures,
	}
}

// Unfilled reports whether the page has changed since it was last sent, or was never.
func (c *Courier) Unfilled(d *project.Destination, p *Contents, version string) bool {
	last := c.LastPage(d)
	return slices.ContainsFunc(c.fills(d, p, version), func(f fill) bool { return last.Steps[f.name] != f.hash })
}

// Fill sends what has changed of the page at a destination, for a delivery there. What was sent is written down after each
// request, so that what broke off goes on there.
func (c *Courier) Fill(ctx context.Context, d *project.Destination, p *Contents, l *logbook.Delivery) (*Filled, error) {
	session, err := c.resume(d, l)
	if err != nil {
		return nil, err
	}
	p.load(session)
	last := c.LastPage(d)
	out := &Filled{Changed: last.Changed(p)}
	keep := func() error {
		data, err := json.MarshalIndent(last, "", "  ")
		if err != nil {
			return err
		}
		return atomicfile.Bytes(c.pageFile(d), data)
	}
	known := map[string]bool{}
	for _, f := range c.fills(d, p, l.Version) {
		known[f.name] = true
		if last.Steps[f.name] == f.hash {
			continue
		}
		if err := f.make(ctx, session); err != nil {
			return nil, c.named(d, p, f, err)
		}
		out.Requests++
		last.Steps[f.name] = f.hash
		if err := keep(); err != nil {
			return nil, err
		}
	}
	maps.DeleteFunc(last.Steps, func(name, _ string) bool { return !known[name] })
	now := p.sent()
	now.Address, now.At, now.Version, now.Steps = d.Address, c.Now().UTC(), l.Version, last.Steps
	*last = now
	return out, keep()
}

// load tells a session what steps can send of a page.
func (p *Contents) load(s *portal.Session) {
	maps.Copy(s.Whole, p.asJSON())
	for _, f := range p.Fields {
		s.Values["field."+f.Name] = f.Text
	}
}

// make makes the request.
func (f fill) make(ctx context.Context, s *portal.Session) error {
	if cut := f.picture; cut != nil {
		s.Files = map[string]portal.File{rulebook.PictureStep: {Path: cut.Path, Bytes: cut.Bytes}}
		for name, v := range map[string]string{"name": cut.Name, "number": strconv.Itoa(cut.Number), "type": cut.Type,
			"bytes": strconv.FormatInt(cut.Bytes, 10), "sha256": cut.SHA256, "about": cut.About} {
			s.Values["picture."+name] = v
		}
	}
	_, err := s.Run(ctx, []rulebook.Step{*f.step}, 0)
	return err
}

// named says of which key of havvel.toml a portal's refusal is.
func (c *Courier) named(d *project.Destination, p *Contents, f fill, err error) error {
	var refused *portal.Refused
	if !errors.As(err, &refused) || refused.Key {
		return err
	}
	for i := range refused.Reasons {
		if i < len(refused.Fields) && refused.Fields[i] != "" {
			refused.Reasons[i] = c.where(d, p, refused.Fields[i]) + refused.Reasons[i]
		} else if f.picture != nil {
			refused.Reasons[i] = fmt.Sprintf("%s, cut from %s: %s", f.picture.Name, f.picture.Master, refused.Reasons[i])
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
