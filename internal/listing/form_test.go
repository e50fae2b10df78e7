package listing

import (
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"golang.org/x/net/html"
)

// TestForms writes the same text in each form.
func TestForms(t *testing.T) {
	for source, want := range map[string][4]string{ // plain, html, bbcode, markdown
		"a **b** *c* `d`": {"a b c d", "<p>a <strong>b</strong> <em>c</em> <code>d</code></p>",
			"a [b]b[/b] [i]c[/i] [i]d[/i]", "a **b** *c* `d`"},
		"# One\n\ntwo": {"One\n\ntwo", "<h2>One</h2>\n<p>two</p>", "[b]One[/b]\n\ntwo", "# One\n\ntwo"},
		"- a\n- b\n  - c": {"- a\n- b\n\n  - c", "<ul><li>a</li><li>b\n<ul><li>c</li></ul></li></ul>",
			"[list]\n[*]a\n[*]b\n\n[list]\n[*]c\n[/list]\n[/list]", "- a\n- b\n\n  - c"},
		"- 1. a\n- b": {"- 1. a\n- b", "<ul><li><ol><li>a</li></ol></li><li>b</li></ul>",
			"[list]\n[*][list=1]\n[*]a\n[/list]\n[*]b\n[/list]", "- 1. a\n- b"},
		"3. a\n4. b": {"3. a\n4. b", `<ol start="3"><li>a</li><li>b</li></ol>`, "[list=3]\n[*]a\n[*]b\n[/list]",
			"3. a\n4. b"},
		"[x](https://shed.example/)": {"x (https://shed.example/)", `<p><a href="https://shed.example/">x</a></p>`,
			"[url=https://shed.example/]x[/url]", "[x](<https://shed.example/>)"},
		"[x](javascript:alert(1))": {"x", "<p>x</p>", "x", "x"},
		"<https://shed.example>": {"https://shed.example", `<p><a href="https://shed.example">https://shed.example</a></p>`,
			"[url=https://shed.example]https://shed.example[/url]", "[https://shed.example](<https://shed.example>)"},
		"one\\\ntwo\nthree":   {"one\ntwo three", "<p>one<br>two three</p>", "one\ntwo three", "one\\\ntwo three"},
		"<b onclick=x>hi</b>": {"hi", "<p>hi</p>", "hi", "hi"},
		"[b]not bold[/b]": {"[b]not bold[/b]", "<p>[b]not bold[/b]</p>", "[\u2060b]not bold[\u2060/b]",
			`\[b\]not bold\[/b\]`},
		`\*not\* &lt;b&gt; &amp;amp;`: {"*not* <b> &amp;", "<p>*not* &lt;b&gt; &amp;amp;</p>", "*not* <b> &amp;", `\*not\* \<b> \&amp;`},
		`\&amp; \\&lt;`:               {`&amp; \<`, `<p>&amp;amp; \&lt;</p>`, `&amp; \<`, `\&amp; \\\<`},
		"> a\n>\n> b": {"  a\n\n  b", "<blockquote><p>a</p>\n<p>b</p></blockquote>", "[quote]a\n\nb[/quote]",
			"> a\n>\n> b"},
		"```\n[b]<i>\n```": {"[b]<i>", "<pre><code>[b]&lt;i&gt;\n</code></pre>", "[code][\u2060b]<i>[/code]",
			"```\n[b]<i>\n```"},
		"שלום **עולם** 2":   {"שלום עולם 2", "<p>שלום <strong>עולם</strong> 2</p>", "שלום [b]עולם[/b] 2", "שלום **עולם** 2"},
		"![a cat](cat.png)": {"a cat", "<p>a cat</p>", "a cat", "a cat"},
		"**[b](https://a.example/x)**": {"b (https://a.example/x)", `<p><strong><a href="https://a.example/x">b</a></strong></p>`,
			"[b][url=https://a.example/x]b[/url][/b]", "**[b](<https://a.example/x>)**"},
		"1\\. not a list\n\n\\# nor a heading": {"1. not a list\n\n# nor a heading", "<p>1. not a list</p>\n<p># nor a heading</p>",
			"1. not a list\n\n# nor a heading", "1\\. not a list\n\n\\# nor a heading"},
	} {
		for i, name := range []string{"plain", "html", "bbcode", "markdown"} {
			blocks, _ := render(source, forms[name])
			if got := strings.Join(blocks, forms[name].between()); got != want[i] {
				t.Errorf("%q as %s:\n%q, want\n%q", source, name, got, want[i])
			}
		}
	}
}

// TestCount counts what people see as one letter, and what machines do.
func TestCount(t *testing.T) {
	for text, want := range map[string][4]int{ // points, units, letters, bytes
		"":                          {0, 0, 0, 0},
		"lane":                      {4, 4, 4, 4},
		"e\u0301":                   {2, 2, 1, 3},
		"👩‍👧‍👦":                     {5, 8, 1, 18},
		"🇩🇪":                        {2, 4, 1, 8},
		"नि":                        {2, 2, 1, 6},
		"a\u0301\u0302\u0303\u0304": {5, 5, 1, 9},
	} {
		for i, counts := range []string{"points", "units", "letters", "bytes"} {
			if got := Count(text, counts); got != want[i] {
				t.Errorf("%q in %s: %d, want %d", text, counts, got, want[i])
			}
		}
	}
}

// TestCut: nothing is torn apart, and nothing is longer than the limit.
func TestCut(t *testing.T) {
	for _, c := range []struct {
		text   string
		limit  int
		counts string
		want   string
	}{
		{"light the whole lane", 20, "points", "light the whole lane"},
		{"light the whole lane", 19, "points", "light the whole…"},
		{"light the whole lane", 6, "points", "light…"},
		{"abcdefghij", 5, "points", "abcd…"},
		{"ee\u0301e", 3, "points", "e…"},
		{"👩‍👧‍👦👩‍👧‍👦👩‍👧‍👦", 2, "letters", "👩‍👧‍👦…"},
		{"👩‍👧‍👦👩‍👧‍👦", 8, "units", ""},
		{"lanterns, and", 11, "points", "lanterns…"},
		{"x", 0, "points", "x"},
	} {
		got := cut(c.text, c.limit, c.counts)
		if got != c.want || c.limit > 0 && Count(got, c.counts) > c.limit {
			t.Errorf("%q to %d %s: %q, want %q", c.text, c.limit, c.counts, got, c.want)
		}
	}
	blocks, _ := render("# A\n\nfirst **bold**\n\nsecond", markup{})
	if got := cutBlocks(blocks, markup{}, 50, "points"); got != "<h2>A</h2>\n<p>first <strong>bold</strong></p>" {
		t.Errorf("cut within an element: %q", got)
	}
}

// TestLong: a text of 40,000 characters, and one that nests as deep as it can.
func TestLong(t *testing.T) {
	began := time.Now()
	long := strings.Repeat("**light** the *whole* lane, [b]and[/b] <i>all</i> ", 800)
	for name, f := range forms {
		blocks, _ := render(long, f)
		if n := utf8.RuneCountInString(strings.Join(blocks, "")); n < 20_000 {
			t.Errorf("%s: %d characters are left", name, n)
		}
		for _, deep := range []string{strings.Repeat(">", 5_000) + "x", strings.Repeat("[", 5_000), strings.Repeat("*a **b ", 1_000),
			strings.Repeat("- ", 1_000) + "x"} {
			render(deep, f)
		}
	}
	if took := time.Since(began); took > 20*time.Second {
		t.Errorf("took %s", took)
	}
}

// bad says what in a text of HTML could do harm, or does not end.
func bad(text string) string {
	var open []string
	z := html.NewTokenizer(strings.NewReader(text))
	for {
		switch z.Next() {
		case html.ErrorToken:
			return strings.Join(open, " ")
		case html.StartTagToken:
			t := z.Token()
			if !strings.Contains(" p strong em code kbd a br h2 h3 h4 h5 h6 blockquote ul ol li pre hr table tr td th ", " "+t.Data+" ") {
				return "the element " + t.Data
			}
			for _, a := range t.Attr {
				link := a.Key == "href" && (strings.HasPrefix(strings.ToLower(a.Val), "http") || strings.HasPrefix(strings.ToLower(a.Val), "mailto:"))
				if !link && a.Key != "start" {
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

// words are what a reader sees, without spaces.
func words(blocks []string) string {
	var b strings.Builder
	z := html.NewTokenizer(strings.NewReader(strings.Join(blocks, " ")))
	for z.Next() != html.ErrorToken {
		if t := z.Token(); t.Type == html.TextToken {
			b.WriteString(strings.Join(strings.Fields(t.Data), ""))
		}
	}
	return b.String()
}

// FuzzRender: whatever is written, the HTML holds nothing that could do harm, and the plain words are the same when the Markdown
// that is sent is read again.
func FuzzRender(f *testing.F) {
	for _, seed := range []string{
		"a **b** *c* `d` [x](https://shed.example/) <script>alert(1)</script>", "- a\n- b\n  1. c\n\n> q\n\n```\ncode\n```",
		"[x](javascript:1) ![i](x.png) <https://a.example>",
		"a\\\nb &lt;i&gt; &#x6a; \x00 [b]x[/b]", "# h\n===\n| a | b |\n| - | - |", "<img src=x onerror=alert(1)>",
		"[a](<https://x.example/\"onclick=1>)", "[a](https://x.example/%22%3E<b>)",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, source string) {
		if len(source) > 4000 || !utf8.ValidString(source) {
			return
		}
		blocks, _ := render(source, markup{})
		if why := bad(strings.Join(blocks, "\n")); why != "" {
			t.Errorf("%q: %s in %q", source, why, blocks)
		}
		again, _ := render(source, markdown{})
		if again, _ = render(strings.Join(again, "\n\n"), markup{}); !strings.ContainsAny(source, "*_") &&
			words(again) != words(blocks) { // marks of emphasis may touch in ways that have no other writing
			t.Errorf("%q becomes %q when it is sent as Markdown, instead of %q", source, words(again), words(blocks))
		}
		leaderboards, _ := render(source, bbcode{})
		if text := strings.ToLower(strings.Join(leaderboards, "")); strings.Contains(text, "[img") || strings.Contains(text, "[url=javascript") {
			t.Errorf("%q: %q", source, leaderboards)
		}
	})
}
