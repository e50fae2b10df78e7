package listing

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/text"

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
	texts   map[string]string // of files, by their key
	title   string            // in another language; "" for the game's
	in      string            // of the keys of another language
}

func (s *source) read() error {
	s.texts = map[string]string{}
	var missing []error
	for key, file := range map[string]string{"description": s.listing.Description, "news": s.listing.News} {
		if file == "" {
			continue
		}
		data, err := readText(filepath.Join(s.project.Folder, filepath.FromSlash(file)))
		if err != nil {
			missing = append(missing, s.project.Problem(s.project.Path(s.to, "listing."+s.in+key), "listing.%s: %w", s.in+key, err))
		}
		s.texts[key] = data
	}
	if news := s.texts["news"]; news != "" {
		s.texts["news"] = newsOf(news, s.version)
	}
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

// newsOf is the part of a text under the heading that names a version; "" when there is none. A text without any heading
// that names a version is about all.
func newsOf(all, version string) string {
	source := []byte(all)
	document := goldmark.DefaultParser().Parse(text.NewReader(source))
	begin, level, named := -1, 0, false
	for n := document.FirstChild(); n != nil; n = n.NextSibling() {
		h, ok := n.(*ast.Heading)
		if !ok || h.Lines().Len() == 0 {
			continue
		}
		line := h.Lines().At(0)
		if begin >= 0 && h.Level <= level {
			start := strings.LastIndexByte(all[:line.Start], '\n') + 1
			return strings.TrimSpace(all[begin:start])
		}
		for _, v := range versionIn.FindAllString(string(line.Value(source)), -1) {
			named = true
			if begin < 0 && strings.TrimRight(v, ".") == version {
				begin, level = len(all), h.Level
				if end := strings.IndexByte(all[line.Stop:], '\n'); end >= 0 {
					begin = line.Stop + end
				}
			}
		}
	}
	switch {
	case begin >= 0:
		return strings.TrimSpace(all[begin:])
	case named:
		return ""
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
	case "short":
		return g.Short
	case "studio":
		return g.Studio
	case "version":
		return s.version
	case "tagline":
		return l.Tagline
	case "category":
		return l.Category
	case "genre":
		return l.Genre
	case "orientation":
		return l.Orientation
	case "opens":
		return l.Opens
	case "price":
		return l.Price
	case "amount":
		return l.Amount
	case "visibility":
		return l.Visibility
	case "contact":
		return l.Contact
	case "privacy":
		return l.Privacy
	case "video":
		return l.Video
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
	return ""
}

// blocks returns a source's text, block by block, in a form.
func (s *source) blocks(from string, f form, controls string) (blocks, lost []string) {
	switch from {
	case "description", "news":
		return render(s.texts[from], f)
	case "controls":
		return s.controls(f, controls), nil
	case "credits":
		return s.credits(f), nil
	}
	if v := s.value(from); v != "" {
		return []string{f.paragraph(f.text(clean(v)))}, nil
	}
	return nil, nil
}

// controls says what players do, as a table, a list, or with key caps.
func (s *source) controls(f form, as string) []string {
	all := s.listing.Controls
	if len(all) == 0 {
		return nil
	}
	switch as {
	case "table":
		return []string{controlTable(f, all)}
	case "caps":
		var rows []string
		for _, c := range all {
			var caps []string
			for _, k := range c.Keys {
				caps = append(caps, f.key(k))
			}
			rows = append(rows, strings.Join(ways(f, c, strings.Join(caps, " ")), ", ")+": "+f.text(c.Action))
		}
		return []string{f.list(rows, false, 1)}
	}
	var rows []string
	for _, c := range all {
		rows = append(rows, f.strong(f.text(c.Action))+": "+strings.Join(ways(f, c, f.text(strings.Join(c.Keys, ", "))), "; "))
	}
	return []string{f.list(rows, false, 1)}
}

// ways lists how something is done, keys first, which are written already.
func ways(f form, c project.Control, keys string) []string {
	var list []string
	if keys != "" {
		list = append(list, keys)
	}
	for _, other := range []string{c.Mouse, c.Touch, c.Gamepad} {
		if other != "" {
			list = append(list, f.text(other))
		}
	}
	return list
}

// controlTable has a column for every way that some control has.
func controlTable(f form, all []project.Control) string {
	heads, rows := []string{"Action"}, make([][]string, len(all))
	for i, c := range all {
		rows[i] = []string{f.text(c.Action)}
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
		used := false
		for _, c := range all {
			used = used || column.of(c) != ""
		}
		if !used {
			continue
		}
		heads = append(heads, column.head)
		for i, c := range all {
			rows[i] = append(rows[i], f.text(column.of(c)))
		}
	}
	return f.table(heads, rows)
}

func (s *source) credits(f form) []string {
	var rows []string
	for _, c := range s.listing.Credits {
		who := f.text(c.Name)
		if c.Link != "" {
			who = f.link(c.Link, who)
		}
		if c.Part != "" {
			who += ": " + f.text(c.Part)
		}
		rows = append(rows, who)
	}
	if rows == nil {
		return nil
	}
	return []string{f.list(rows, false, 1)}
}
