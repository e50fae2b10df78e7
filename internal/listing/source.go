package listing

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"havvel/internal/listing/prose"
	"havvel/internal/project"
)

// largest is the most that a text file may hold, in bytes.
const largest = 1 << 20

// A source is the listing of one destination, from which fields are filled.
type source struct {
	to      string
	project *project.Project
	listing *project.Listing
	version string
	texts   map[string][]*prose.Node // of files, by their key
	lost    map[string][]string      // what they hold and no page has a place for
	title   string                   // in another language; "" for the game's
	in      string                   // of the keys of another language
	labels  map[string]string        // of statistics, in another language
}

func (s *source) read() error {
	s.texts, s.lost = map[string][]*prose.Node{}, map[string][]string{}
	var missing []error
	for key, file := range map[string]string{"description": s.listing.Description, "news": s.listing.News} {
		if file == "" {
			continue
		}
		path := filepath.Join(s.project.Folder, filepath.FromSlash(file))
		data, err := readText(path)
		if err == nil {
			if s.texts[key], s.lost[key], err = prose.Read(data); err != nil {
				err = fmt.Errorf("%s: %w", path, err)
			}
		}
		if err != nil {
			missing = append(missing, s.project.Problem(s.project.Path(s.to, "listing."+s.in+key), "listing.%s: %w", s.in+key, err))
		}
	}
	s.texts["news"] = newsOf(s.texts["news"], s.version)
	return errors.Join(missing...)
}

func readText(path string) (string, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("there is no file %s; write the text there, or take the key out", path)
	}
	if err == nil && info.Size() > largest {
		return "", fmt.Errorf("%s has %d bytes; a text of a page has 1 MB at most", path, info.Size())
	}
	if err == nil {
		var data []byte
		if data, err = os.ReadFile(path); err == nil {
			return strings.ReplaceAll(strings.TrimPrefix(strings.ToValidUTF8(string(data), "\ufffd"), "\ufeff"), "\r\n", "\n"), nil
		}
	}
	return "", err
}

var versionIn = regexp.MustCompile(`\d[0-9A-Za-z.+-]*`)

// newsOf is what stands below the heading that names a version; nothing when there is none. A text without any heading that names a
// version is about all.
func newsOf(all []*prose.Node, version string) []*prose.Node {
	begin, named := -1, false
	for i, n := range all {
		if n.Kind != prose.Heading {
			continue
		}
		if begin >= 0 && n.Level <= all[begin].Level {
			return all[begin+1 : i]
		}
		for _, v := range versionIn.FindAllString(prose.Plain([]*prose.Node{n}), -1) {
			named = true
			if begin < 0 && strings.TrimRight(v, ".") == version {
				begin = i
			}
		}
	}
	switch {
	case begin >= 0:
		return all[begin+1:]
	case named:
		return nil
	}
	return all
}

// isList reports whether a source is a list of words.
func isList(from string) bool {
	switch from {
	case "tags", "devices", "languages", "content", "generated":
		return true
	}
	return false
}

// list returns a source's words; declared is false when havvel.toml doesn't name it.
func (s *source) list(from string) (words []string, declared bool) {
	l := s.listing
	switch from {
	case "tags":
		words = l.Tags
	case "devices":
		words = l.Devices
	case "languages":
		words = l.Languages
	case "content":
		words = l.Content
	case "generated":
		words = l.Generated
	}
	return words, words != nil
}

// value returns a source's plain text, "" when havvel.toml doesn't name it.
func (s *source) value(from string) string {
	l, g := s.listing, s.project.Game
	switch from {
	case "title":
		return cmp.Or(s.title, g.Title)
	case "version":
		return s.version
	case "frame":
		if l.Frame[0] > 0 {
			return fmt.Sprintf("%dx%d", l.Frame[0], l.Frame[1])
		}
	case "age":
		if l.Age != nil {
			return strconv.Itoa(*l.Age)
		}
	case "unfinished":
		if l.Unfinished != nil {
			return strconv.FormatBool(*l.Unfinished)
		}
	}
	return map[string]string{
		"short": g.Short, "studio": g.Studio, "tagline": l.Tagline, "category": l.Category, "genre": l.Genre, "orientation": l.Orientation,
		"opens": l.Opens, "price": l.Price, "amount": l.Amount, "visibility": l.Visibility, "contact": l.Contact, "privacy": l.Privacy,
		"video": l.Video,
	}[from]
}

// blocks returns a source's text, block by block.
func (s *source) blocks(from string, controls string) []*prose.Node {
	switch from {
	case "description", "news":
		return s.texts[from]
	case "controls":
		return s.controls(controls)
	case "credits":
		return s.credits()
	}
	if v := s.value(from); v != "" {
		return []*prose.Node{{Kind: prose.Paragraph, In: []*prose.Node{prose.Of(v)}}}
	}
	return nil
}

// controls says what players do, as a table, a list, or with key caps.
func (s *source) controls(as string) []*prose.Node {
	all := s.listing.Controls
	if len(all) == 0 {
		return nil
	}
	if as == "table" {
		return []*prose.Node{s.controlTable(all)}
	}
	var rows [][]*prose.Node
	for _, c := range all {
		row := []*prose.Node{}
		if as != "caps" {
			row = append(row, &prose.Node{Kind: prose.Strong, In: []*prose.Node{prose.Of(c.Action)}}, prose.Of(": "))
			row = append(row, prose.Of(strings.Join(ways(c, strings.Join(c.Keys, ", ")), "; ")))
			rows = append(rows, row)
			continue
		}
		for i, k := range c.Keys {
			if i > 0 {
				row = append(row, prose.Of(" "))
			}
			row = append(row, &prose.Node{Kind: prose.Key, Text: k})
		}
		if others := strings.Join(ways(c, ""), ", "); others != "" {
			if len(row) > 0 {
				others = ", " + others
			}
			row = append(row, prose.Of(others))
		}
		rows = append(rows, append(row, prose.Of(": "+c.Action)))
	}
	return []*prose.Node{listOf(rows)}
}

func listOf(rows [][]*prose.Node) *prose.Node {
	l := &prose.Node{Kind: prose.List}
	for _, row := range rows {
		l.In = append(l.In, &prose.Node{Kind: prose.Item, In: []*prose.Node{{Kind: prose.Line, In: row}}})
	}
	return l
}

// ways lists how something is done, keys first.
func ways(c project.Control, keys string) []string {
	return slices.DeleteFunc([]string{keys, c.Mouse, c.Touch, c.Gamepad}, func(s string) bool { return s == "" })
}

// controlTable has a column for every way that some control has.
func (s *source) controlTable(all []project.Control) *prose.Node {
	cell := func(text string) *prose.Node {
		c := &prose.Node{Kind: prose.Cell}
		if text != "" {
			c.In = []*prose.Node{prose.Of(text)}
		}
		return c
	}
	rows := make([]*prose.Node, len(all)+1)
	rows[0] = &prose.Node{Kind: prose.Row, In: []*prose.Node{cell(s.heading("Action"))}}
	for i, c := range all {
		rows[i+1] = &prose.Node{Kind: prose.Row, In: []*prose.Node{cell(c.Action)}}
	}
	for _, column := range []struct {
		head string
		of   func(project.Control) string
	}{
		{"Keys", func(c project.Control) string { return strings.Join(c.Keys, ", ") }},
		{"Mouse", func(c project.Control) string { return c.Mouse }},
		{"Touch", func(c project.Control) string { return c.Touch }},
		{"Gamepad", func(c project.Control) string { return c.Gamepad }},
	} {
		if !slices.ContainsFunc(all, func(c project.Control) bool { return column.of(c) != "" }) {
			continue
		}
		rows[0].In = append(rows[0].In, cell(s.heading(column.head)))
		for i, c := range all {
			rows[i+1].In = append(rows[i+1].In, cell(column.of(c)))
		}
	}
	return &prose.Node{Kind: prose.Table, In: rows}
}

func (s *source) credits() []*prose.Node {
	var rows [][]*prose.Node
	for _, c := range s.listing.Credits {
		row := []*prose.Node{prose.Of(c.Name)}
		if c.Link != "" {
			row = []*prose.Node{{Kind: prose.Link, To: c.Link, In: row}}
		}
		if c.Part != "" {
			row = append(row, prose.Of(": "+c.Part))
		}
		rows = append(rows, row)
	}
	if rows == nil {
		return nil
	}
	return []*prose.Node{listOf(rows)}
}

// heading is one of the words that Havvel itself writes into a page, in the page's language where the project has it.
func (s *source) heading(english string) string { return cmp.Or(s.listing.Headings[english], english) }
