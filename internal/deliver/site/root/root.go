// Package root makes the page at a site's root: the entry page of the current version, whose files stay in the version's folder. So the
// address that players have, and what they saved under it, stay from version to version.
package root

import (
	"bytes"
	"cmp"
	_ "embed"
	"fmt"
	"html"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/tdewolff/minify/v2"
	"github.com/tdewolff/minify/v2/js"

	"havvel/internal/export"
	"havvel/internal/export/script"
	"havvel/internal/export/web"
)

// Largest is the largest entry page that stands at the root, in bytes. It is read and written at each switch.
const Largest = 8 << 20

// About is what the page says besides the game.
type About struct {
	Folder      string    // of the version, inside of versions/
	Address     string    // of the page; "" where it isn't known
	Title       string    // for previews; "" for the game's own
	Description string    // likewise; "" for the game's own
	Picture     string    // its name in the version's folder; "" for none
	Until       time.Time // when the page stops showing the game; zero for never
	Feedback    string    // address to which players can say what they think; "" for none
}

var (
	//go:embed root.js
	rootScript string
	//go:embed over.js
	overScript string
	//go:embed feedback.js
	feedbackScript string
	//go:embed open.html
	openPage string
)

// Unfit says why a build's entry page can't stand at the root, as far as reading it tells; "" where nothing speaks against it.
func Unfit(b *export.Build) string {
	if b.Entry == nil || b.Entry.Page == nil {
		return "it has no page that can be read"
	}
	page := b.Entry.Page
	switch {
	case b.Entry.Bytes > Largest:
		return fmt.Sprintf("its page is larger than %d MB", Largest>>20)
	case strings.HasPrefix(strings.ToLower(page.Encoding), "utf-16"):
		return "its page is written in UTF-16"
	}
	if _, ok := merged("", page.Base); !ok {
		return "its page has a base address of its own (" + page.Base + ")"
	}
	for _, p := range page.Policies {
		if forbids(p) {
			return "its page's Content-Security-Policy allows no scripts in the page"
		}
	}
	if Registers(b) {
		return "it registers a service worker, which must stay in the version's folder"
	}
	return ""
}

// Registers reports whether a build registers a service worker, as far as reading it tells.
func Registers(b *export.Build) bool {
	for _, f := range b.Parts() {
		s := f.Script
		if f.Page != nil {
			s = f.Page.Inline
		}
		if s != nil && (s.Words[script.Registers] || s.Unparsed != "" && s.Words["serviceWorker"]) {
			return true
		}
	}
	return false
}

// forbids reports whether a content security policy keeps the page's base or inline scripts from working.
func forbids(policy string) bool {
	rules := map[string]string{}
	for part := range strings.SplitSeq(policy, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(part), " ")
		rules[strings.ToLower(name)] = strings.ToLower(value)
	}
	if _, ok := rules["base-uri"]; ok {
		return true
	}
	for _, name := range []string{"script-src-elem", "script-src", "default-src"} {
		if value, ok := rules[name]; ok {
			return !strings.Contains(value, "'unsafe-inline'") || strings.Contains(value, "'nonce-") || strings.Contains(value, "'sha")
		}
	}
	return false
}

// Forbids reports whether a host's Content-Security-Policy header keeps a page at the root from working.
func Forbids(header []string) bool {
	for _, h := range header {
		for p := range strings.SplitSeq(h, ",") {
			if forbids(p) {
				return true
			}
		}
	}
	return false
}

// merged is a page's own base address as it is seen from the root; false where it leads out of the version's folder.
func merged(folder, own string) (string, bool) {
	u, err := url.Parse(own)
	if err != nil || u.Scheme != "" || u.Host != "" || strings.HasPrefix(own, "/") || strings.Contains(own, "..") {
		return "", false
	}
	return folder + strings.TrimPrefix(own, "./"), true
}

// mark stands in the page before the name of the version's folder.
const mark = `<meta name="havvel-version" content="`

var marked = regexp.MustCompile(mark + `([^"<>]+)">`)

// Version is the folder whose entry page a page at the root is; "" for another page.
func Version(page []byte) string {
	if m := marked.FindSubmatch(page[:min(len(page), 16<<10)]); m != nil {
		return html.UnescapeString(string(m[1]))
	}
	return ""
}

// Open is the page that opens a version in its folder, for one that can't stand at the root; with no folder it says that there is none.
func Open(a About) []byte {
	title := cmp.Or(a.Title, "The game")
	until := int64(0)
	if !a.Until.IsZero() {
		until = a.Until.UnixMilli()
	}
	return []byte(strings.NewReplacer(
		"<title>The game</title>", "<title>"+text(title)+"</title>"+preview(nil, title, a), "UNTIL", strconv.FormatInt(until, 10),
		"OVER", strconv.QuoteToASCII(over(a.Until)), "GENERATOR", Generator,
	).Replace(openPage))
}

// Opens reports whether a page is one that Havvel wrote to a site's root, now or in an earlier release.
func Opens(page []byte) bool {
	return bytes.Contains(page[:min(len(page), 16<<10)], []byte(`<meta name="generator" content="havvel site `))
}

// over is what the page says from then on.
func over(until time.Time) string {
	return "This was open until " + until.Add(-time.Second).Format("2 January 2006") + "."
}

// Page is an entry page as it stands at the root. The error says why it can't.
func Page(entry []byte, a About) ([]byte, error) {
	page := web.ReadPage(entry)
	base, ok := merged("versions/"+a.Folder+"/", page.Base)
	if !ok || page.HeadStart > len(entry) {
		return nil, fmt.Errorf("its page has a base address of its own (%s)", page.Base)
	}
	var b writer
	b.Write(entry[:page.HeadStart])
	if page.Encoding != "" { // in the first kilobyte, as the HTML standard wants it
		fmt.Fprintf(&b, `<meta charset="%s">`, text(page.Encoding))
	}
	fmt.Fprintf(&b, `<base href="%s">%s%s">`, text(base), mark, text(a.Folder))
	b.WriteString(Generator + preview(entry[page.HeadStart:min(len(entry), page.HeadStart+mostHead)], page.Title, a))
	if err := b.scripts(a); err != nil {
		return nil, err
	}
	b.Write(entry[page.HeadStart:])
	return b.Bytes(), nil
}

// mostHead is where preview tags of a page's own are looked for, in bytes.
const mostHead = 64 << 10

// Generator stands in each page at a site's root that Havvel wrote.
const Generator = `<meta name="generator" content="havvel site 2">`

// A writer collects the page.
type writer struct{ bytes.Buffer }

// scripts writes what runs before the game.
func (b *writer) scripts(a About) (err error) {
	call := func(source string, arguments ...string) {
		if err == nil {
			err = b.script(source, arguments...)
		}
	}
	if !a.Until.IsZero() {
		call(overScript, strconv.FormatInt(a.Until.UnixMilli(), 10), strconv.QuoteToASCII(over(a.Until)))
	}
	call(rootScript, strconv.QuoteToASCII(a.Folder))
	if a.Feedback != "" {
		call(feedbackScript, strconv.QuoteToASCII(a.Feedback))
	}
	return err
}

// script writes a script that is called with some arguments. The page may be in any charset.
func (b *writer) script(source string, arguments ...string) error {
	m := minify.New()
	m.AddFunc("js", js.Minify)
	short, err := m.String("js", source)
	if err != nil {
		return fmt.Errorf("making the page at the root: %w", err)
	}
	code := "(" + strings.TrimSuffix(short, ";") + ")(" + strings.Join(arguments, ",") + ")"
	b.WriteString("<script>")
	for _, r := range strings.ReplaceAll(code, "</", `<\/`) {
		if r < 0x80 {
			b.WriteByte(byte(r))
		} else {
			fmt.Fprintf(b, `\u%04x`, r)
		}
	}
	b.WriteString("</script>")
	return nil
}

// text is text for a page in any charset.
func text(s string) string {
	var b strings.Builder
	for _, r := range html.EscapeString(s) {
		if r < 0x80 {
			b.WriteRune(r)
		} else {
			fmt.Fprintf(&b, "&#%d;", r)
		}
	}
	return b.String()
}

// preview is what a page's head says for those who show a preview of its link (the Open Graph protocol), as far as the head doesn't say so
// itself.
func preview(head []byte, title string, a About) string {
	var b strings.Builder
	say := func(attribute, name, value string) {
		if value != "" && !bytes.Contains(head, []byte(`"`+name+`"`)) {
			fmt.Fprintf(&b, `<meta %s="%s" content="%s">`, attribute, name, text(value))
		}
	}
	if a.Title != "" {
		title = a.Title
	}
	say("name", "description", a.Description)
	say("property", "og:type", "website")
	say("property", "og:title", title)
	say("property", "og:description", a.Description)
	say("property", "og:url", a.Address)
	if a.Address != "" && a.Picture != "" {
		say("property", "og:image", a.Address+"versions/"+a.Folder+"/"+a.Picture)
	}
	return b.String()
}
