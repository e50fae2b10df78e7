package standin

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"html/template"
	"image"
	_ "image/gif" // formats of pictures
	_ "image/jpeg"
	_ "image/png"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
	"golang.org/x/net/html"

	"havvel/internal/place"
)

// PageRules say what a portal takes on a game's page.
type PageRules struct {
	Fields   map[string]FieldRule
	Pictures map[string]PictureRule
}

// A FieldRule is what one field takes.
type FieldRule struct {
	Limit    int // characters; 0 for any number
	Required bool
	OneOf    []string
}

// A PictureRule is what one kind of picture takes.
type PictureRule struct {
	Width, Height int // exactly; 0 for any
	Bytes         int
	Most          int
}

// shown is a picture on a game's page.
type shown struct {
	Name   string `json:"name"`
	Number int    `json:"number"`
	SHA256 string `json:"sha256"`
	About  string `json:"about"`
	Type   string `json:"type"`
}

func (a *Portal) paperRoutes(mux *http.ServeMux) {
	switch a.options.Kind {
	case Pages:
		mux.HandleFunc("POST /api/pages/{short}/pictures", a.passed(a.formPicture))
		mux.HandleFunc("PUT /api/pages/{short}/texts", a.passed(a.putPaper))
	case Desk:
		mux.HandleFunc("PUT /v1/games/{short}/pictures/{name}/{number}", a.paired(a.putPicture))
		mux.HandleFunc("PUT /v1/games/{short}/sheet", a.paired(a.putPaper))
		mux.HandleFunc("PUT /v1/games/{short}/stated/{version}", a.paired(a.putPaper))
	default:
		mux.HandleFunc("PUT /api/games/{short}/pictures/{name}/{number}", a.owned(a.putPicture))
		mux.HandleFunc("PUT /api/games/{short}/page", a.owned(a.putPaper))
		mux.HandleFunc("PUT /api/games/{short}/boards", a.owned(a.putBoards))
	}
	mux.HandleFunc("GET /pictures/{sha256}", a.servePicture)
}

// A fieldProblem is what is wrong with one field.
type fieldProblem struct {
	Field string `json:"field"`
	Words string `json:"words"`
}

// putPaper takes the texts of a page, which pictures it shows, and what its owner states.
func (a *Portal) putPaper(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Fields   map[string]any
		Pictures []shown
		Version  string
		Stated   []string
	}
	if !readJSON(w, r, &in) {
		return
	}
	if v := r.PathValue("version"); v != "" {
		in.Version = v
	}
	if in.Fields != nil {
		if problems := a.faultyFields(in.Fields); len(problems) > 0 {
			answer(w, http.StatusUnprocessableEntity, map[string]any{"problems": problems})
			return
		}
	}
	err := a.change(func(s *state) error {
		g := s.Games[r.PathValue("short")]
		if g == nil {
			return &no{http.StatusNotFound, "there is no such game here"}
		}
		list := []shown{}
		for _, p := range in.Pictures {
			i := slices.IndexFunc(g.Uploads, func(u shown) bool { return u.Name == p.Name && u.Number == p.Number && u.SHA256 == p.SHA256 })
			if i < 0 {
				return &no{http.StatusUnprocessableEntity, fmt.Sprintf("the picture %s %d was never sent", p.Name, p.Number)}
			}
			p.Type = g.Uploads[i].Type
			list = append(list, p)
		}
		if in.Fields != nil {
			g.Fields, g.Pictures = in.Fields, list
		}
		if in.Stated != nil {
			if g.Stated == nil {
				g.Stated = map[string][]string{}
			}
			g.Stated[in.Version] = in.Stated
		}
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]string{"page": a.pageAddress(r, r.PathValue("short"))})
}

// faultyFields lists what is wrong with fields.
func (a *Portal) faultyFields(fields map[string]any) []fieldProblem {
	var list []fieldProblem
	for _, name := range slices.Sorted(maps.Keys(a.options.Page.Fields)) {
		rule := a.options.Page.Fields[name]
		text := wordsOf(fields[name])
		switch n := utf8.RuneCountInString(text); {
		case rule.Limit > 0 && n > rule.Limit:
			list = append(list, fieldProblem{name, fmt.Sprintf("it has %d characters; we take %d", n, rule.Limit)})
		case len(rule.OneOf) > 0 && text != "" && !slices.Contains(rule.OneOf, text):
			list = append(list, fieldProblem{name, fmt.Sprintf("we don't have %q", text)})
		}
	}
	if a.options.Kind == Arcade {
		for _, name := range []string{"about", "how"} {
			if why := unsafeMarkup(wordsOf(fields[name])); why != "" {
				list = append(list, fieldProblem{name, why})
			}
		}
	}
	return list
}

// wordsOf writes a field as text; a list with commas.
func wordsOf(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case []any:
		var list []string
		for _, x := range v {
			list = append(list, fmt.Sprint(x))
		}
		return strings.Join(list, ", ")
	}
	return ""
}

// unsafeMarkup says what in a text of HTML we don't show; "" when we show all of it.
func unsafeMarkup(text string) string {
	z := html.NewTokenizer(strings.NewReader(text))
	for {
		switch z.Next() {
		case html.ErrorToken:
			return ""
		case html.StartTagToken, html.SelfClosingTagToken, html.EndTagToken:
			t := z.Token()
			if !slices.Contains([]string{"p", "strong", "em", "code", "kbd", "a", "br", "h2", "h3", "h4", "h5", "h6", "blockquote", "ul", "ol", "li", "pre", "hr", "table", "tr", "td", "th"}, t.Data) {
				return "we don't show the element " + t.Data
			}
			for _, at := range t.Attr {
				if at.Key == "href" && (strings.HasPrefix(at.Val, "https://") || strings.HasPrefix(at.Val, "http://") || strings.HasPrefix(at.Val, "mailto:")) || at.Key == "start" {
					continue
				}
				return "we don't show the attribute " + at.Key
			}
		case html.CommentToken, html.DoctypeToken:
			return "we don't show comments"
		}
	}
}

// largestPicture is the most that one picture may weigh, in bytes.
const largestPicture = 16 << 20

func (a *Portal) putPicture(w http.ResponseWriter, r *http.Request) {
	number, err := strconv.Atoi(r.PathValue("number"))
	if err != nil || number < 1 || number > 50 {
		refuse(w, http.StatusUnprocessableEntity, "a picture has a number from 1 on")
		return
	}
	data, err := io.ReadAll(http.MaxBytesReader(w, r.Body, largestPicture))
	if err != nil {
		refuse(w, http.StatusBadRequest, "the picture did not arrive whole")
		return
	}
	a.takePicture(w, r.PathValue("short"), r.PathValue("name"), number, data)
}

// formPicture takes a picture as part of a form (RFC 7578).
func (a *Portal) formPicture(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, largestPicture)
	f, _, err := r.FormFile("picture")
	if err != nil {
		refuse(w, http.StatusBadRequest, "the form did not arrive whole")
		return
	}
	defer f.Close()
	data, err := io.ReadAll(f)
	number, wrong := strconv.Atoi(r.FormValue("number"))
	if err != nil || wrong != nil {
		refuse(w, http.StatusBadRequest, "the form did not arrive whole")
		return
	}
	a.takePicture(w, r.PathValue("short"), r.FormValue("name"), number, data)
}

func (a *Portal) takePicture(w http.ResponseWriter, short, name string, number int, data []byte) {
	rule, known := a.options.Page.Pictures[name]
	kind, width, height := kindOf(data)
	words := ""
	switch {
	case !known:
		words = "we have no place for it"
	case kind == "":
		words = "it is not a picture that we can open"
	case rule.Width > 0 && kind != "video/webm" && (width != rule.Width || height != rule.Height):
		words = fmt.Sprintf("it has %dx%d pixels; we want %dx%d", width, height, rule.Width, rule.Height)
	case rule.Bytes > 0 && len(data) > rule.Bytes:
		words = fmt.Sprintf("it weighs %d bytes; we take %d", len(data), rule.Bytes)
	case rule.Most > 0 && number > rule.Most:
		words = fmt.Sprintf("we take %d of them", rule.Most)
	}
	if words != "" {
		answer(w, http.StatusUnprocessableEntity, map[string]any{"problems": []fieldProblem{{name, words}}})
		return
	}
	sum := sha256.Sum256(data)
	p := shown{Name: name, Number: number, SHA256: hex.EncodeToString(sum[:]), Type: kind}
	err := place.Bytes(a.pictureFile(p.SHA256), data)
	if err == nil {
		err = a.change(func(s *state) error {
			g := s.Games[short]
			if g == nil {
				return &no{http.StatusNotFound, "there is no such game here"}
			}
			g.Uploads = slices.DeleteFunc(g.Uploads, func(u shown) bool { return u.Name == name && u.Number == number })
			g.Uploads = append(g.Uploads, p)
			return nil
		})
	}
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, http.StatusCreated, map[string]string{"picture": p.SHA256})
}

func kindOf(data []byte) (kind string, width, height int) {
	if bytes.HasPrefix(data, []byte("\x1a\x45\xdf\xa3")) {
		return "video/webm", 0, 0
	}
	config, format, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return "", 0, 0
	}
	return "image/" + format, config.Width, config.Height
}

func (a *Portal) pictureFile(sum string) string {
	return filepath.Join(a.options.Folder, "pictures", sum)
}

var sumForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

func (a *Portal) servePicture(w http.ResponseWriter, r *http.Request) {
	if !sumForm.MatchString(r.PathValue("sha256")) {
		http.NotFound(w, r)
		return
	}
	data, err := os.ReadFile(a.pictureFile(r.PathValue("sha256")))
	if err != nil {
		http.NotFound(w, r)
		return
	}
	kind, _, _ := kindOf(data)
	w.Header().Set("Content-Type", kind)
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("Cross-Origin-Resource-Policy", "same-origin")
	w.Write(data)
}

// putBoards makes boards. One that exists is never taken away: when it is not named any more, it is hidden.
func (a *Portal) putBoards(w http.ResponseWriter, r *http.Request) {
	var in struct{ Boards []*board }
	if !readJSON(w, r, &in) {
		return
	}
	err := a.change(func(s *state) error {
		g := s.Games[r.PathValue("short")]
		if g == nil {
			return &no{http.StatusNotFound, "there is no such game here"}
		}
		for _, b := range g.Boards {
			b.Hidden = true
		}
		for _, b := range in.Boards {
			i := slices.IndexFunc(g.Boards, func(o *board) bool { return o.Name == b.Name })
			switch {
			case i < 0:
				b.Values = nil
				g.Boards = append(g.Boards, b)
			case g.Boards[i].Keeps != b.Keeps:
				return &no{http.StatusConflict, fmt.Sprintf("the board %s keeps the %s value, and can't be changed", b.Name, g.Boards[i].Keeps)}
			default:
				g.Boards[i].Label, g.Boards[i].Unit, g.Boards[i].Hidden = b.Label, b.Unit, b.Hidden
			}
		}
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]int{"boards": len(in.Boards)})
}

// A paper is a game's page as it is shown.
type paper struct {
	Tagline           string
	Text, How, News   template.HTML
	Facts             []fact
	Tags              []string
	Shots             []shown
	Cover, Clip, Film *shown
	Banner, Ground    *shown
}

type fact struct{ Name, Value string }

// paperOf arranges what was sent for a game.
func (a *Portal) paperOf(g game) paper {
	p := paper{Tagline: wordsOf(g.Fields["tagline"])}
	switch a.options.Kind {
	case Pages:
		p.Text, p.News = fromMarkdown(wordsOf(g.Fields["text"])), fromMarkdown(wordsOf(g.Fields["news"]))
	case Desk:
		p.Text = fromBBCode(wordsOf(g.Fields["text"]))
		p.How = template.HTML("<pre>" + template.HTMLEscapeString(wordsOf(g.Fields["how"])) + "</pre>")
	default:
		p.Text, p.How = template.HTML(wordsOf(g.Fields["about"])), template.HTML(wordsOf(g.Fields["how"])) // looked through when it came
	}
	for _, name := range []string{"shelf", "kind", "genre", "devices", "languages", "age", "price", "unfinished"} {
		if v := wordsOf(g.Fields[name]); v != "" && v != "false" {
			p.Facts = append(p.Facts, fact{name, v})
		}
	}
	if tags, ok := g.Fields["tags"].([]any); ok {
		for _, t := range tags {
			p.Tags = append(p.Tags, fmt.Sprint(t))
		}
		if a.options.Kind == Arcade {
			slices.Sort(p.Tags)
		}
	}
	for i := range g.Pictures {
		x := &g.Pictures[i]
		switch x.Name {
		case "shots", "screens":
			p.Shots = append(p.Shots, *x)
		case "cover", "card", "wide":
			p.Cover = x
		case "banner":
			p.Banner = x
		case "ground":
			p.Ground = x
		case "reel", "preview", "moving":
			if p.Clip = x; x.Type == "video/webm" {
				p.Clip, p.Film = nil, x
			}
		}
	}
	return p
}

func fromMarkdown(text string) template.HTML {
	var b bytes.Buffer
	if goldmark.New(goldmark.WithExtensions(extension.Table)).Convert([]byte(text), &b) != nil {
		return ""
	}
	return template.HTML(b.String())
}

var bbTags = []struct {
	from *regexp.Regexp
	to   string
}{
	{regexp.MustCompile(`\[(/?)(b|i|u|s)\]`), "<$1$2>"},
	{regexp.MustCompile(`\[url=((?:https?://|mailto:)[^\]"'<> ]*)\]`), `<a href="$1">`},
	{regexp.MustCompile(`\[/url\]`), "</a>"},
	{regexp.MustCompile(`\[(/?)quote\]`), "<${1}blockquote>"},
	{regexp.MustCompile(`\[(/?)code\]`), "<${1}pre>"},
	{regexp.MustCompile(`\[list(?:=\d+)?\]`), "<ul>"},
	{regexp.MustCompile(`\[/list\]`), "</ul>"},
	{regexp.MustCompile(`\[\*\]`), "<li>"},
	{regexp.MustCompile(`\[(/?)(table|tr|td|th)\]`), "<$1$2>"},
}

func fromBBCode(text string) template.HTML {
	text = template.HTMLEscapeString(text)
	for _, t := range bbTags {
		text = t.from.ReplaceAllString(text, t.to)
	}
	return template.HTML(strings.ReplaceAll(text, "\n\n", "<br><br>"))
}
