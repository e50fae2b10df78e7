package prose

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

// suite are the examples of CommonMark's specification, and those of GFM's extensions, as the parser's own package brings them, and some more.
func suite(t testing.TB) (list []string) {
	t.Helper()
	out, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/yuin/goldmark").Output()
	if err != nil {
		t.Fatal(err)
	}
	folder := strings.TrimSpace(string(out))
	data, err := os.ReadFile(filepath.Join(folder, "_test", "spec.json"))
	if err != nil {
		t.Fatal(err)
	}
	var examples []struct{ Markdown string }
	if err := json.Unmarshal(data, &examples); err != nil {
		t.Fatal(err)
	}
	if len(examples) != 652 {
		t.Fatalf("%d examples", len(examples))
	}
	for _, e := range examples {
		list = append(list, e.Markdown)
	}
	extensions := 0
	for _, name := range []string{"table", "strikethrough", "tasklist", "linkify"} {
		data, err := os.ReadFile(filepath.Join(folder, "extension", "_test", name+".txt"))
		if err != nil {
			t.Fatal(err)
		}
		for _, example := range strings.Split(string(data), "//= = = = = = = = = = = = = = = = = = = = = = = =//") {
			if parts := strings.Split(example, "//- - - - - - - - -//\n"); len(parts) == 3 {
				list, extensions = append(list, parts[1]), extensions+1
			}
		}
	}
	if extensions < 40 {
		t.Fatalf("%d examples of extensions", extensions)
	}
	return append(list, gfm...)
}

// TestWrittenAgain: what is written as Markdown says the same when it is read again, and is written the same then.
func TestWrittenAgain(t *testing.T) {
	wrong := 0
	for i, source := range suite(t) {
		blocks, _, err := Read(source)
		if err != nil {
			t.Fatal(err)
		}
		want := Write(blocks, markup{})
		once := Write(blocks, markdown{})
		again, _, _ := Read(once)
		got := Write(again, markup{})
		twice := Write(again, markdown{})
		if got != want || twice != once {
			wrong++
			t.Errorf("example %d: %q\nis  %q\nbut %q\nas  %q\nand %q", i+1, source, want, got, once, twice)
		}
	}
	t.Logf("%d differ", wrong)
}

// gfm are examples of the extensions, from the specification of GFM (0.29) and beyond it.
var gfm = []string{
	"| foo | bar |\n| --- | --- |\n| baz | bim |", "| abc | defghi |\n:-: | -----------:\nbar | baz", "| f\\|oo  |\n| ------ |\n| b `\\|` az |\n| b **\\|** im |",
	"| abc | def |\n| --- | --- |\n| bar | baz |\n> bar", "| abc | def |\n| --- | --- |\n| bar | baz |\nbar\n\nbar", "| abc | def |\n| --- |\n| bar |",
	"| abc | def |\n| --- | --- |\n| bar |\n| bar | baz | boo |", "| abc | def |\n| --- | --- |",
	"- [ ] foo\n- [x] bar", "- [x] foo\n  - [ ] bar\n  - [x] baz\n- [ ] bim", "1. [ ] a\n\n   b\n2. [x] c", "- [ ]\n- [x]a",
	"~~Hi~~ Hello, ~there~ world!", "This ~~has a\n\nnew paragraph~~.", "This will ~~~not~~~ strike.", "a~~b~~c ~~\"d\"~~e **~~f~~** ~~**g**~~h",
	"www.commonmark.org", "Visit www.commonmark.org/help for more information.", "Visit www.commonmark.org.\n\nVisit www.commonmark.org/a.b.",
	"www.google.com/search?q=Markup+(business)", "http://commonmark.org\n\n(Visit https://encrypted.google.com/search?q=Markup+(business))",
	"foo@bar.baz", "hello@mail+xyz.example isn't valid, but hello+xyz@mail.example is.", "a.b-c_d@a.b\n\na.b-c_d@a.b-", "\\http://a.example www\\.b.example c\\@d.example",
	"[https://a.example](https://b.example) `https://c.example`", "a|b\n-|-\n`c|d`|e", "- a\n\n  | b |\n  | - |\n  | c |\n- d",
	"> | b |\n> | - |\n> | c |\n>\n> - [x] d", "**a**_b_**c** *a***b** ***a** b* _**a**b_ a*\"b\"*c x**(y)**z *__a__b*", "***a***b **_a_**b **a*b*c**",
	"*a*&nbsp;*b* *&nbsp;a* a&#32;*b* *&#32;c*", "- a\n- b\n\n\n+ c\n+ d\n\n1. e\n1. f\n\n1) g", "- a\n  > b\n\n  c\n- d", "- a\n\n-\n\n- c",
	"a\\\nb  \nc\n# d\\\ne", "a<br>b <br/> c", "1986\\. A year.\n\n1986. a\n\n\\- b\n\n\\+ c\n\n\\:-:\n\na\\\n\\:-:", "a!\\[b] !\n[c](https://d.example)",
	"| a |\n| - |\n| http://b.example/?c=d&copy=e&amp;f |", "[a](https://b.example/c_(d)) [e](<https://f.example/g h>)", "`` a`b `` ` `` ` ``` `` ` ```",
	"عربي **كلمة** text\n\n- עברית\n- latin", "- ```\n  a\n  \tb\n\n\n  c\n  ```\n- d", "\ta\n\t\tb\n\n> \tc\n>\t\td",
}

// TestForms writes the same text in each form.
func TestForms(t *testing.T) {
	for source, want := range map[string][4]string{ // plain, html, bbcode, markdown
		"a **b** *c* `d` ~~e~~": {"a b c d e", "<p>a <strong>b</strong> <em>c</em> <code>d</code> <del>e</del></p>",
			"a [b]b[/b] [i]c[/i] [i]d[/i] [s]e[/s]", "a **b** *c* `d` ~~e~~"},
		"- a\n- b\n  - c": {"- a\n- b\n  - c", "<ul><li>a</li><li>b\n<ul><li>c</li></ul></li></ul>",
			"[list]\n[*]a\n[*]b\n[list]\n[*]c\n[/list]\n[/list]", "- a\n- b\n  + c"},
		"- a\n\n- b": {"- a\n\n- b", "<ul><li><p>a</p></li><li><p>b</p></li></ul>", "[list]\n[*]a\n[*]b\n[/list]", "- a\n\n- b"},
		"- [x] a\n- [ ] b": {"- ☑ a\n- ☐ b", "<ul><li>☑ a</li><li>☐ b</li></ul>", "[list]\n[*]☑ a\n[*]☐ b\n[/list]",
			"- [x] a\n- [ ] b"},
		"| Key | Does |\n|---|---|\n| Z | back |\n| H | a **hint** |": {"Z: does back\nH: does a hint",
			"<table><tr><th>Key</th><th>Does</th></tr><tr><td>Z</td><td>back</td></tr><tr><td>H</td><td>a <strong>hint</strong></td></tr></table>",
			"[table]\n[tr][th]Key[/th][th]Does[/th][/tr]\n[tr][td]Z[/td][td]back[/td][/tr]\n[tr][td]H[/td][td]a [b]hint[/b][/td][/tr]\n[/table]",
			"| Key | Does |\n| --- | --- |\n| Z | back |\n| H | a **hint** |"},
		"See www.shed.example/a_(b)": {"See http://www.shed.example/a_%28b%29", `<p>See <a href="http://www.shed.example/a_%28b%29">www.shed.example/a_(b)</a></p>`,
			"See [url=http://www.shed.example/a_%28b%29]www.shed.example/a_(b)[/url]",
			"See [www\\.shed.example/a\\_(b)](<http://www.shed.example/a_%28b%29>)"},
		"[x](javascript:alert(1)) [b]not bold[/b]": {"x [b]not bold[/b]", "<p>x [b]not bold[/b]</p>",
			"x [\u2060b]not bold[\u2060/b]", `x \[b\]not bold\[/b\]`},
		"שלום **עולם** 2":             {"שלום עולם 2", `<p dir="auto">שלום <strong>עולם</strong> 2</p>`, "שלום [b]עולם[/b] 2", "שלום **עולם** 2"},
		`\*not\* &lt;b&gt; &amp;amp;`: {"*not* <b> &amp;", "<p>*not* &lt;b&gt; &amp;amp;</p>", "*not* <b> &amp;", `\*not\* \<b> \&amp;`},
		"a &copy b &copy; c":          {"a &copy b © c", "<p>a &amp;copy b © c</p>", "a &copy b © c", `a \&copy b © c`},
		"*(*foo*)*":                   {"(foo)", "<p><em>(<em>foo</em>)</em></p>", "[i]([i]foo[/i])[/i]", "*(_foo_)*"},
		"```\n[b]<i>\n```":            {"[b]<i>", "<pre><code>[b]&lt;i&gt;\n</code></pre>", "[code][\u2060b]<i>[/code]", "```\n[b]<i>\n```"},
	} {
		blocks, _, err := Read(source)
		if err != nil {
			t.Fatal(err)
		}
		for i, name := range []string{"plain", "html", "bbcode", "markdown"} {
			if got := Write(blocks, Forms(name)); got != want[i] {
				t.Errorf("%q as %s:\n%q, want\n%q", source, name, got, want[i])
			}
		}
	}
}

// TestCut: whole blocks and sentences where one ends near, else words; nothing is torn, and nothing ends on a heading.
func TestCut(t *testing.T) {
	for _, c := range []struct {
		source, form string
		limit        int
		want         string
	}{
		{"light the whole lane", "plain", 20, "light the whole lane"},
		{"light the whole lane", "plain", 19, "light the whole…"},
		{"light the whole lane", "plain", 6, "light…"},
		{"abcdefghij", "plain", 5, "abcd…"},
		{"ee\u0301e", "plain", 3, "e…"},
		{"lanterns, and", "plain", 11, "lanterns…"},
		{"Light every lantern. Then go to sleep.", "plain", 30, "Light every lantern."},
		{"first **bold words** that go on", "html", 42, "<p>first <strong>bold words…</strong></p>"},
		{"first **bold words that go on** and on", "html", 40, "<p>first <strong>bold…</strong></p>"},
		{"# A\n\nfirst **bold**\n\n## B\n\nsecond", "html", 60, "<h2>A</h2>\n<p>first <strong>bold</strong></p>"},
		{"# A very long heading that leaves no room\n\nwords", "html", 30, "<p>words</p>"},
		{"- one lantern\n- two lanterns\n- three", "bbcode", 50, "[list]\n[*]one lantern\n[*]two lanterns\n[/list]"},
		{"[a long link text](https://shed.example)", "html", 50, `<p><a href="https://shed.example">a long…</a></p>`},
		{"| a | b |\n|-|-|\n| c | d |\n| eeeeeeeeeeee | f |", "markdown", 40, "| a | b |\n| --- | --- |\n| c | d |"},
		{"abc", "html", 3, "abc"},
	} {
		blocks, _, _ := Read(c.source)
		text, rest := Cut(blocks, Forms(c.form), func(s string) bool { return utf8.RuneCountInString(s) <= c.limit })
		if text != c.want || rest == "" && text != Write(blocks, Forms(c.form)) && c.source != text {
			t.Errorf("%q to %d: %q, want %q; left out: %q", c.source, c.limit, text, c.want, rest)
		}
	}
}

// TestBounds: what would keep the parser busy is refused at once, with the limit; all else is read in a second.
func TestBounds(t *testing.T) {
	const n = 100_000
	for name, c := range map[string]struct {
		source string
		limit  string
	}{
		"quotes": {strings.Repeat(">", n) + "x", "more than 100 quotes or lists"}, "lists": {strings.Repeat("- ", n/2) + "x", "more than 100"},
		"numbered": {strings.Repeat("1. ", n/3) + "x", "line 1 opens more than 100"}, "links": {strings.Repeat("[a](", n), "more than 5000 links"},
		"brackets": {strings.Repeat("[", n), ""}, "emphasis": {strings.Repeat("*a **b ", n), ""}, "pictures": {strings.Repeat("![", n), ""},
		"struck": {strings.Repeat("~~a ", n), ""}, "table": {"|" + strings.Repeat("a|", n) + "\n|" + strings.Repeat("-|", n), "line 1 has more than 2000 bars"},
		"rows": {"|a|b|\n|-|-|\n" + strings.Repeat("|a|b|\n", n), ""},
	} {
		done := make(chan error)
		began := time.Now()
		go func() {
			blocks, _, err := Read(c.source)
			for _, f := range []string{"plain", "html", "bbcode", "markdown"} {
				Write(blocks, Forms(f))
			}
			t.Logf("%s: %s", name, time.Since(began).Round(time.Millisecond))
			done <- err
		}()
		select {
		case err := <-done:
			if said := fmt.Sprint(err); c.limit == "" && err != nil || !strings.Contains(said, c.limit) {
				t.Errorf("%s: %v", name, err)
			}
		case <-time.After(20 * time.Second):
			t.Errorf("%s takes too long", name)
		}
	}
}
