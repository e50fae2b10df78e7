package place

import (
	"bytes"
	"encoding/json"
	"mime"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/antchfx/htmlquery"
	"github.com/antchfx/xmlquery"
	"golang.org/x/net/html"

	"havvel/internal/rulebook/expression"
)

// An Answer is what a host said.
type Answer struct {
	Status  int
	Header  http.Header
	Address string // where it came from, after all redirects
	Cookies []*http.Cookie
	Body    []byte
	Cut     bool // the body is longer than what was read

	read   sync.Once
	json   any
	isJSON bool
}

// guards stand before JSON in some answers, so that no page can load it as a script.
var guards = []string{")]}',\n", ")]}'\n", ")]}'", "while(1);", "for(;;);"}

// JSON is the body as JSON, whatever its type says; false when it is something else. Whole numbers are ints, others float64; what
// neither can hold exactly stays a json.Number.
func (a *Answer) JSON() (any, bool) {
	a.read.Do(func() {
		text := bytes.TrimSpace(bytes.TrimPrefix(a.Body, []byte("\xef\xbb\xbf")))
		for _, g := range guards {
			if rest, ok := bytes.CutPrefix(text, []byte(g)); ok {
				text = bytes.TrimSpace(rest)
				break
			}
		}
		d := json.NewDecoder(bytes.NewReader(text))
		d.UseNumber()
		var v any
		if len(text) == 0 || d.Decode(&v) != nil || d.More() {
			return
		}
		a.json, a.isJSON = expression.Exact(v), true
	})
	return a.json, a.isJSON
}

// Page reports whether the body is an HTML page.
func (a *Answer) Page() bool {
	kind, _, _ := mime.ParseMediaType(a.Header.Get("Content-Type"))
	if kind == "text/html" || kind == "application/xhtml+xml" {
		_, isJSON := a.JSON()
		return !isJSON
	}
	start := strings.ToLower(string(bytes.TrimSpace(a.Body[:min(len(a.Body), 200)])))
	return kind == "" && (strings.HasPrefix(start, "<!doctype html") || strings.HasPrefix(start, "<html"))
}

// Kind says in words what the body is.
func (a *Answer) Kind() string {
	switch _, isJSON := a.JSON(); {
	case len(bytes.TrimSpace(a.Body)) == 0:
		return "empty"
	case a.Cut:
		return "longer than Havvel reads (4 MB)"
	case isJSON:
		return "JSON"
	case a.Page():
		if title := a.title(); title != "" {
			return "a web page, " + strconv.Quote(title)
		}
		return "a web page"
	case utf8.Valid(a.Body):
		return "text"
	}
	return "no text"
}

func (a *Answer) title() string {
	doc, err := a.html()
	if err != nil {
		return ""
	}
	if t := htmlquery.FindOne(doc, "//title"); t != nil {
		return strings.Join(strings.Fields(htmlquery.InnerText(t)), " ")
	}
	return ""
}

func (a *Answer) html() (*html.Node, error) { return htmlquery.Parse(bytes.NewReader(a.Body)) }

func (a *Answer) xml() (*xmlquery.Node, error) {
	return xmlquery.Parse(bytes.NewReader(bytes.TrimPrefix(a.Body, []byte("\xef\xbb\xbf"))))
}
