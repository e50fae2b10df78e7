package standin

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/html"
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
		mux.HandleFunc("PUT /v1/games/{short}/declared/{version}", a.paired(a.putPaper))
	default:
		mux.HandleFunc("PUT /api/games/{short}/pictures/{name}/{number}", a.owned(a.putPicture))
		mux.HandleFunc("PUT /api/games/{short}/page", a.owned(a.putPaper))
		mux.HandleFunc("PUT /api/games/{short}/leaderboards", a.owned(a.putBoards))
	}
	mux.HandleFunc("GET /pictures/{sha256}", a.servePicture)
}

// A fieldProblem is what is wrong with one field.
type fieldProblem struct {
	Field string `json:"field"`
	Words string `json:"words"`
}

// putPaper takes the texts of a page, which pictures it shows, and what its owner declares.
func (a *Portal) putPaper(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Fields   map[string]any
		Pictures []shown
		Version  string
		Declared []string
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
		if in.Declared != nil {
			if g.Declared == nil {
				g.Declared = map[string][]string{}
			}
			g.Declared[in.Version] = in.Declared
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
			if !slices.Contains(
				[]string{
					"p",
					"strong",
					"em",
					"code",
					"kbd",
					"a",
					"br",
					"h2",
					"h3",
					"h4",
					"h5",
					"h6",
					"blockquote",
					"ul",
					"ol",
					"li",
					"pre",
					"hr",
					"table",
					"tr",
					"td",
					"th",
				},
				t.Data,
			) {
				return "we don't show the element " + t.Data
			}
			for _, at := range t.Attr {
				if at.Key == "href" &&
					(strings.HasPrefix(at.Val, "https://") || strings.HasPrefix(at.Val, "http://") || strings.HasPrefix(at.Val, "mailto:")) ||
					at.Key == "start" {
					continue
				}
				return "we don't show the attribute " + at.Key
			}
		case html.CommentToken, html.DoctypeToken:
			return "we don't show comments"
		}
	}
}

// putBoards makes leaderboards. One that exists is never taken away: when it is not named any more, it is hidden.
func (a *Portal) putBoards(w http.ResponseWriter, r *http.Request) {
	var in struct{ Leaderboards []*leaderboard }
	if !readJSON(w, r, &in) {
		return
	}
	err := a.change(func(s *state) error {
		g := s.Games[r.PathValue("short")]
		if g == nil {
			return &no{http.StatusNotFound, "there is no such game here"}
		}
		for _, b := range g.Leaderboards {
			b.Hidden = true
		}
		for _, b := range in.Leaderboards {
			i := slices.IndexFunc(g.Leaderboards, func(o *leaderboard) bool { return o.Name == b.Name })
			switch {
			case i < 0:
				b.Values = nil
				g.Leaderboards = append(g.Leaderboards, b)
			case g.Leaderboards[i].Keeps != b.Keeps:
				return &no{
					http.StatusConflict,
					fmt.Sprintf("the leaderboard %s keeps the %s value, and can't be changed", b.Name, g.Leaderboards[i].Keeps),
				}
			default:
				g.Leaderboards[i].Label, g.Leaderboards[i].Unit, g.Leaderboards[i].Hidden = b.Label, b.Unit, b.Hidden
			}
		}
		return nil
	})
	if err != nil {
		answerError(w, err)
		return
	}
	answer(w, http.StatusOK, map[string]int{"leaderboards": len(in.Leaderboards)})
}
