package pack

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"html"
	"mime"
	"path"
	"regexp"
	"strconv"
	"strings"

	"havvel/internal/export/web"
)

// A Front is how a page looks that the engine left bare. What is empty stays as the engine wrote it.
type Front struct {
	Title      string
	Icon       *Art   // the tab's
	Background string // a CSS colour
	Picture    *Art   // shown while the game loads
	Bar        string // CSS colour of the loading bar
	Canvas     string // how it meets the window: "fit", "fill", "fixed", "wide", or a ratio such as "4:3"
}

// Art is a picture of the project that goes into what is packed.
type Art struct {
	Name  string // of its file
	Bytes []byte
}

var ratio = regexp.MustCompile(`^([1-9]\d{0,3}):([1-9]\d{0,3})$`)

var colour = regexp.MustCompile(`^(#[0-9a-fA-F]{3,8}|[a-zA-Z]+|(rgb|rgba|hsl|hsla|oklch|lab)\([0-9a-zA-Z.,%/ ]+\))$`)

// Verify returns an error for a colour or a way of meeting the window that is none.
func (f *Front) Verify() error {
	for key, c := range map[string]string{"background": f.Background, "bar": f.Bar} {
		if c != "" && !colour.MatchString(c) {
			return fmt.Errorf("front.%s is %q, which is no colour; write one as in CSS, such as \"#ffd27a\"", key, c)
		}
	}
	switch {
	case f.Canvas == "", f.Canvas == "fit", f.Canvas == "fill", f.Canvas == "fixed", f.Canvas == "wide", ratio.MatchString(f.Canvas):
		return nil
	}
	return fmt.Errorf("front.canvas is %q; it can be \"fit\", \"fill\", \"fixed\", \"wide\" or a ratio such as \"4:3\"", f.Canvas)
}

//go:embed front.js
var loadingBar string

// front gives the entry page what havvel.toml says of its looks.
func front(ctx context.Context, p *Plan) error {
	f := p.to.Front
	if f == nil {
		return nil
	}
	data, err := p.page(ctx)
	if err != nil || data == nil {
		return err
	}
	page := web.ReadPage(data)
	head, words := f.head(p, page)
	edits := []edit{{at: page.HeadEnd, text: "\n<!-- havvel: front -->\n" + head + "<!-- /havvel -->\n"}}
	if f.Title != "" && f.Title != page.Title {
		e, err := titled(data, page, f.Title)
		if err != nil {
			return err
		}
		edits = append(edits, e)
		words = append(words, "title")
	}
	if len(words) == 0 {
		return nil
	}
	before := p.entry.Size()
	if p.entry.text, err = apply(data, edits); err != nil {
		return err
	}
	p.note("front", p.entry.Size()-before, "havvel.toml says how the page looks", "%s gets its %s", p.entry.Name, strings.Join(words, ", "))
	return nil
}

// head is what goes into the page's head, and what that is, in words.
func (f *Front) head(p *Plan, page *web.Page) (head string, words []string) {
	var b strings.Builder
	if f.Icon != nil {
		fmt.Fprintf(&b, "<link rel=\"icon\" href=\"%s\">\n", html.EscapeString(p.art(f.Icon)))
		words = append(words, "icon")
	}
	if style := f.style(page); style != "" {
		fmt.Fprintf(&b, "<style>%s</style>\n", style)
		words = append(words, "looks in the window")
	}
	if f.Bar != "" || f.Picture != nil {
		settings := map[string]any{"bar": f.Bar, "background": f.Background, "bytes": p.build.Start().Bytes}
		if f.Picture != nil {
			settings["picture"] = p.art(f.Picture)
		}
		said, _ := json.Marshal(settings) // texts and numbers; < is escaped
		fmt.Fprintf(&b, "<script>(%s)(%s);</script>\n", strings.TrimSpace(loadingBar), said)
		words = append(words, "loading bar")
	}
	return b.String(), words
}

// art puts a picture into what is packed, under a name that nothing else has.
func (p *Plan) art(a *Art) string {
	name := "havvel-" + plainPart(path.Base(a.Name))
	if p.named(name) == nil {
		p.Items = append(p.Items, &Item{Name: name, text: a.Bytes})
	}
	return name
}

func (f *Front) style(page *web.Page) string {
	var css string
	if f.Background != "" {
		css += fmt.Sprintf("html,body{background:%s}", f.Background)
	}
	width, height := page.CanvasWidth, page.CanvasHeight
	if width <= 0 || height <= 0 {
		width, height = 16, 9
	}
	const whole = "html,body{margin:0;padding:0;width:100%;height:100%;overflow:hidden}"
	const middle = "canvas{display:block!important;position:fixed!important;inset:0!important;margin:auto!important;"
	switch m := ratio.FindStringSubmatch(f.Canvas); {
	case f.Canvas == "":
		return css
	case f.Canvas == "fill":
		return css + whole +
			"canvas{display:block!important;position:fixed!important;inset:0!important;width:100vw!important;height:100vh!important;" +
			"height:100dvh!important}"
	case f.Canvas == "fixed":
		return css + whole + middle + fmt.Sprintf("width:%dpx!important;height:%dpx!important}", width, height)
	case f.Canvas == "wide":
		width, height = 16, 9
	case m != nil:
		width, _ = strconv.Atoi(m[1]) // a few digits
		height, _ = strconv.Atoi(m[2])
	}
	return css + whole + middle + fmt.Sprintf(
		"width:min(100vw,calc(100vh*%d/%d))!important;height:min(100vh,calc(100vw*%d/%d))!important}",
		width,
		height,
		height,
		width,
	)
}

var titleElement = regexp.MustCompile(`(?is)<title[^>]*>.*?</title>`)

// titled is the edit that gives a page its title.
func titled(data []byte, page *web.Page, title string) (edit, error) {
	text := "<title>" + html.EscapeString(title) + "</title>"
	if at := titleElement.FindIndex(data); at != nil {
		return edit{at[0], at[1] - at[0], text}, nil
	}
	return edit{at: page.HeadStart, text: text}, nil
}

// ArtOf checks that a file is a picture that a page can show.
func ArtOf(name string, data []byte) (*Art, error) {
	kind := mime.TypeByExtension(strings.ToLower(path.Ext(name)))
	if !strings.HasPrefix(kind, "image/") || len(data) == 0 {
		return nil, fmt.Errorf("%s is not a picture that a page can show", name)
	}
	return &Art{name, data}, nil
}
