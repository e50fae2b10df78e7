package prose

import (
	"strings"
	"testing"
	"unicode/utf8"

	"golang.org/x/net/html"
)

// harm says what in a text of HTML could do any, or does not end.
func harm(text string) string {
	var open []string
	z := html.NewTokenizer(strings.NewReader(text))
	for {
		switch z.Next() {
		case html.ErrorToken:
			return strings.Join(open, " ")
		case html.StartTagToken:
			t := z.Token()
			if !strings.Contains(" p strong em del code kbd a br h2 h3 h4 h5 h6 blockquote ul ol li pre hr table tr td th ", " "+t.Data+" ") {
				return "the element " + t.Data
			}
			for _, a := range t.Attr {
				link := a.Key == "href" && (strings.HasPrefix(strings.ToLower(a.Val), "http") || strings.HasPrefix(strings.ToLower(a.Val), "mailto:"))
				if !link && a.Key != "start" && (a.Key != "dir" || a.Val != "auto") {
					return "the attribute " + a.Key + " " + a.Val
				}
			}
			if t.Data != "br" && t.Data != "hr" {
				open = append(open, t.Data)
			}
		case html.EndTagToken:
			if t := z.Token(); len(open) == 0 || open[len(open)-1] != t.Data {
				return "it ends " + t.Data
			}
			open = open[:len(open)-1]
		case html.CommentToken, html.DoctypeToken:
			return "a comment"
		}
	}
}

// FuzzWrite: whatever is written, the HTML holds nothing that could do harm, BBCode has no tag that nobody meant, and Markdown says the
// same when it is read again.
func FuzzWrite(f *testing.F) {
	for _, seed := range suite(f) {
		f.Add(seed)
	}
	for _, seed := range []string{"<script>alert(1)</script>", "[x](javascript:1)", "<img src=x onerror=alert(1)>",
		"[a](<https://x.example/\"onclick=1>)", "[a](https://x.example/%22%3E<b>)", "[img]https://a.example[/img] \x00"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, source string) {
		if len(source) > 2000 || !utf8.ValidString(source) {
			return
		}
		blocks, _, err := Read(source)
		if err != nil {
			return
		}
		want := Write(blocks, markup{})
		if why := harm(want); why != "" {
			t.Errorf("%q: %s in %q", source, why, want)
		}
		again, _, _ := Read(Write(blocks, markdown{}))
		if got := Write(again, markup{}); got != want {
			t.Errorf("%q\nis  %q\nbut %q\nas  %q", source, want, got, Write(blocks, markdown{}))
		}
		if text := strings.ToLower(Write(blocks, bbcode{})); strings.Contains(text, "[img") || strings.Contains(text, "[url=javascript") {
			t.Errorf("%q: %q", source, text)
		}
	})
}

// FuzzCut: what is cut is never longer than the limit, never ends on a heading, ends all its marks, and is never empty when a letter fits.
func FuzzCut(f *testing.F) {
	for i, seed := range suite(f) {
		f.Add(seed, uint16(1+i%90))
	}
	f.Add("# Heading\n\nThe **first paragraph is over the limit** and goes on.\n\n## Then\n\nmore", uint16(40))
	f.Add("👩‍👧‍👦👩‍👧‍👦 שלום **עולם** و العالم", uint16(9))
	f.Fuzz(func(t *testing.T, source string, limit uint16) {
		if len(source) > 2000 || !utf8.ValidString(source) || limit == 0 {
			return
		}
		blocks, _, err := Read(source)
		if err != nil {
			return
		}
		for _, name := range []string{"plain", "html", "bbcode", "markdown"} {
			form := Forms(name)
			fits := func(s string) bool { return utf8.RuneCountInString(s) <= int(limit) }
			text, rest := Cut(blocks, form, fits)
			whole := Write(blocks, form)
			switch {
			case !fits(text):
				t.Errorf("%s: %q to %d: %q is longer", name, source, limit, text)
			case text == "" && strings.TrimSpace(Plain(blocks)) != "" && limit > 60:
				t.Errorf("%s: %q to %d: nothing is left", name, source, limit)
			case rest == "" && text != whole && strings.TrimSpace(Plain(blocks)) != "" && len(Plain(blocks)) > len(text)+100:
				t.Errorf("%s: %q to %d: %q leaves something out, and doesn't say so", name, source, limit, text)
			case name == "html" && harm(text) != "":
				t.Errorf("%q to %d: %s in %q", source, limit, harm(text), text)
			}
			if name == "html" && text != whole && strings.HasSuffix(text, "</h2>") {
				t.Errorf("%q to %d ends on a heading: %q", source, limit, text)
			}
		}
	})
}
