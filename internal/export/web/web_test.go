package web

import (
	"fmt"
	"html"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/export/link"
)

// found writes a link as "use target line:column".
func found(links []link.Link) []string {
	var list []string
	for _, l := range links {
		list = append(list, fmt.Sprintf("%s %s %d:%d", l.Use, l.Target, l.Line, l.Column))
	}
	return list
}

func TestReadPage(t *testing.T) {
	for name, c := range map[string]struct {
		page string
		want []string
	}{
		"quotes": {"<script src='a.js'></script>\n<SCRIPT SRC=b.js></SCRIPT><script\n src = \"c.js\" defer>",
			[]string{"script a.js 1:14", "script b.js 2:13", "script c.js 3:9"}},
		"links": {`<link rel="Stylesheet preload" href=a.css><link rel=canonical href=x><link rel="shortcut icon" href="i.png">`,
			[]string{"style a.css 1:37", "icon i.png 1:102"}},
		"srcset": {`<img src=a.png srcset="b.png 1x, c,d.png 2x,e.png">`,
			[]string{"picture a.png 1:10", "picture b.png 1:24", "picture c,d.png 1:34", "picture e.png 1:45"}},
		"references":     {`<a href="a.html?x=1&amp;y=2">`, []string{"page a.html?x=1&y=2 1:10"}},
		"comment":        {`<!-- <script src="no.js"></script> --><script src="a.js"></script>`, []string{"script a.js 1:52"}},
		"text of script": {`<script>document.write("<img src='a.png'>")</script>`, []string{"picture a.png 1:35"}},
		"style element":  {"<style>\nb { background: url( 'a b.png' ) }</style>", []string{"picture a b.png 2:23"}},
		"style in tag":   {`<p style="background:url(a.png)">`, []string{"picture a.png 1:26"}},
		"escapes in a style": {`<style>b{background:url(a\ b.png)} p{background:url("\61 .png")}</style>`,
			[]string{"picture a b.png 1:25", "picture a.png 1:54"}},
		"code in attributes": {`<a href="javascript:fetch('a.json')" onclick="fetch('b.json')">`,
			[]string{"page javascript:fetch('a.json') 1:10", "data a.json 1:28", "data b.json 1:54"}},
		"a page in one": {`<iframe srcdoc="<img src='a.png'>"></iframe><template><img src="b.png"></template>`,
			[]string{"picture a.png 1:27", "picture b.png 1:65"}},
		"media": {`<video poster=p.jpg src=v.webm></video><object data=o.svg></object><input type=image src=b.png>`,
			[]string{"media v.webm 1:25", "picture p.jpg 1:15", "frame o.svg 1:53", "picture b.png 1:90"}},
		"for scripts": {`<p data-src="a/b.png" data-v="1.5" data-at="https://lane.example/a.png"><body background=c.png>`,
			[]string{"data a/b.png 1:14", "picture c.png 1:90"}},
		"cut off": {`<script src="a.js`, nil},
		"empty":   {`<script src=""></script><img src>`, nil},
	} {
		links := ReadPage([]byte(c.page)).Links
		if got := found(links); !slices.Equal(got, c.want) {
			t.Errorf("%s:\n got %q\nwant %q", name, got, c.want)
		}
		for _, l := range links {
			if written := c.page[l.Offset : l.Offset+l.Len]; html.UnescapeString(written) != l.Target && !strings.Contains(written, `\`) {
				t.Errorf("%s: at the place of %q stands %q", name, l.Target, written)
			}
		}
	}
}

func TestReadPageFacts(t *testing.T) {
	p := ReadPage([]byte("<!DOCTYPE html><html><head><base href=\"sub/\"><title> A &amp;\n b </title>" +
		"<script type=\"application/json\">{}</script></head><body><canvas></canvas><script>1</script><script type=module " +
		"src=m.js></script></body></html>"))
	if p.Title != "A & b" || p.Base != "sub/" || p.Scripts != 2 || !p.Canvas {
		t.Errorf("%+v", p)
	}
}

// TestPlaces: where a script can be planted, also in pages that leave out what may be left out.
func TestPlaces(t *testing.T) {
	for page, want := range map[string]string{
		"<!doctype html><html><head><title>t</title></head><body>x</body></html>": "<!doctype " +
			"html><html><head>A<title>t</title>B</head><body>xC</body></html>",
		"<!doctype html><title>t</title><p>x": "<!doctype html>AB<title>t</title><p>xC",
		"<html lang=en><body>x</body>":        "<html lang=en>AB<body>xC</body>",
		"\ufeff<p>x":                          "\ufeffAB<p>xC",
		"<head><script>'</head>'</script></head><body>'</body>'</body>": "<head>A<script>'</head>'</script>B</head><body>'</body>" +
			"'C</body>",
	} {
		p := ReadPage([]byte(page))
		got := page[:p.HeadStart] + "A" + page[p.HeadStart:p.HeadEnd] + "B" + page[p.HeadEnd:p.BodyEnd] + "C" + page[p.BodyEnd:]
		if got != want {
			t.Errorf("\n got %s\nwant %s", got, want)
		}
	}
}

func TestReadStyle(t *testing.T) {
	style := "@import \"a.css\";\n@import url(b.css) screen;\n@font-face { src: url(f.woff2) format('x'), url(\"g h.woff\") }\n/* " +
		"url(no.png) */ p { content: 'url(no)'; background: URL( c.png ) }\n" +
		"q { background: image-set('d.png' type('image/png') 1x, url(\"e.png\") 2x) } @supports (display: grid) { @import 'no.css'; }"
	want := []string{"style a.css 1:10", "style b.css 2:13", "picture f.woff2 3:23", "picture g h.woff 3:50", "picture c.png 4:60",
		"picture d.png 5:28", "picture e.png 5:62"}
	if got := found(ReadStyle([]byte(style)).Links); !slices.Equal(got, want) {
		t.Errorf("\n got %q\nwant %q", got, want)
	}
}

func TestResolve(t *testing.T) {
	for _, c := range []struct {
		from, base, target, file string
		where                    Where
	}{
		{"index.html", "", "a.js", "a.js", Inside},
		{"web/index.html", "", "./js/../a%20b.js?v=1#x", "web/a b.js", Inside},
		{"index.html", "", "../a.js", "../a.js", Inside},
		{"index.html", "", "/a.js", "a.js", Absolute},
		{"index.html", "", "//cdn.example/a.js", "", Outside},
		{"index.html", "", "https://cdn.example/a.js", "", Outside},
		{"index.html", "", "data:text/plain,x", "", Nowhere},
		{"index.html", "", "#top", "", Nowhere},
		{"index.html", "", "javascript:void(0)", "", Nowhere},
		{"web/index.html", "assets/", "a.js", "web/assets/a.js", Inside},
		{"web/index.html", "/assets/", "a.js", "assets/a.js", Absolute},
		{"web/index.html", "https://cdn.example/", "a.js", "", Outside},
		{"index.html", "", "50%.png", "50%.png", Inside},
		{"index.html", "50%/", "a.js", "50%/a.js", Inside},
		{"index.html", `web\`, "a.js", "web/a.js", Inside},
		{"index.html", "//cdn.example/", "a.js", "", Outside},
		{"index.html", "", "%zz%41", "%zzA", Inside},
		{"index.html", "", " \ta\n.js\r\n", "a.js", Inside},
		{"index.html", "", `art\lane.png`, "art/lane.png", Inside},
		{"index.html", "", `\\cdn.example\a.js`, "", Outside},
		{"index.html", "", "a\x1b[2J.js", "a\x1b[2J.js", Inside},
		{"index.html", "", "HTTP://[bad/a.js", "", Outside},
		{"index.html", "", "x:a.js", "", Nowhere},
		{"index.html", "", "a.js?of=x:y", "a.js", Inside},
	} {
		if file, where := Resolve(c.from, c.base, c.target); file != c.file || where != c.where {
			t.Errorf("Resolve(%q, %q, %q) = %q, %d; want %q, %d", c.from, c.base, c.target, file, where, c.file, c.where)
		}
	}
}

// FuzzReadPage: every link lies inside the page, and places are in order.
func FuzzReadPage(f *testing.F) {
	for _, s := range []string{"<script src=a>", "<p style=\"x:url('&#39;a')\">", "<img srcset='a 1x,,b'>",
		"<html><head></head><body></body>", "<a\x00=b href=c/>"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		p := ReadPage(data)
		if p.HeadStart < 0 || p.HeadStart > p.HeadEnd || p.HeadEnd > len(data) || p.BodyEnd < 0 || p.BodyEnd > len(data) {
			t.Fatalf("places %d %d %d of %d", p.HeadStart, p.HeadEnd, p.BodyEnd, len(data))
		}
		within(t, data, p.Links)
	})
}

func FuzzReadStyle(f *testing.F) {
	for _, s := range []string{"@import 'a'", "url(", "url('a", "p{background:url(a)}", "@import url()"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) { within(t, data, ReadStyle(data).Links) })
}

func within(t *testing.T, data []byte, links []link.Link) {
	for _, l := range links {
		if l.Offset < 0 || l.Len < 0 || l.Offset+l.Len > len(data) || l.Line < 1 || l.Column < 1 {
			t.Fatalf("%+v lies outside of %d bytes", l, len(data))
		}
		Resolve("a/index.html", "", l.Target)
	}
}

// TestCalls: calls of a global's functions by the names that it has in the window, however the script comes to it.
func TestCalls(t *testing.T) {
	s := ReadScript([]byte(`window.Portal.ready(); Portal?.score.submit(1); Math.max(1, 2); this.go(); a.b(); x = Portal.name`))
	if len(s.Calls) != 2 || s.Calls["Portal.ready"] != 7 {
		t.Errorf("%v", s.Calls)
	}
	if _, ok := s.Calls["Portal.score.submit"]; !ok {
		t.Errorf("%v", s.Calls)
	}
	const called, handed, neither = "called", "handed on", "neither"
	for source, want := range map[string]string{
		`window["Portal"]["ready"]()`: called, "globalThis.Portal?.[`ready`]?.()": called, `Portal["re" + "ady"]()`: called,
		`const p = window.Portal; p.ready()`: called, `const { ready } = Portal; ready()`: called,
		`const { Portal: { ready: r } } = window; r()`: called, `(sdk => sdk.ready())(parent.Portal)`: called,
		`class P { constructor() { this.sdk = self.Portal } done() { this.sdk.ready() } }`: called,
		`const p = window.Portal || { ready() {} }; p.ready()`:                             called, `setTimeout(Portal.ready.bind(Portal), 9)`: called,
		`Portal.ready.call(Portal)`: called, `let p; async function f() { p = await window.Portal; p.ready() }`: called,
		`eval("Portal.ready()")`: called, `new Function("a", "Portal.ready(a)")(1)`: called,
		`const Portal = load() || { ready() {} }; Portal.ready()`: called,
		`const Portal = { ready() {} }; Portal.ready()`:           neither, `(function (Portal) { Portal.ready() })()`: called,
		`img.onload = Portal.ready`: handed, `export const sdk = window.Portal`: handed, `start(window.Portal)`: handed,
		`Portal[names[2]](1)`: handed, `for (const k in Portal) tell(Portal[k]); const p = Portal ?? 0`: handed,
		`if (window.Portal && typeof Portal !== "undefined" && !Portal.name) Portal.score(1)`: neither,
		`// Portal.ready()`: neither, `log("Portal.ready()")`: neither, `Portal = null; delete window.Portal`: neither,
		`if (x = (`: neither, `start(window.Portal); if (x = (`: handed, `then(Portal.ready) ((`: handed,
	} {
		s, got := ReadScript([]byte(source)), neither
		_, whole := s.Uses["Portal"]
		_, part := s.Uses["Portal.ready"]
		if at, ok := s.Calls["Portal.ready"]; ok && at < len(source) {
			got = called
		} else if whole || part {
			got = handed
		}
		if got != want {
			t.Errorf("%s: %s, not %s: %v, %v", source, got, want, s.Calls, s.Uses)
		}
	}
	var large strings.Builder // whose game stands behind all else, as in a bundle
	for n := range 30_000 {
		fmt.Fprintf(&large, "const v%d = { go(a) { return a } }; v%d.go(%d);\n", n, n, n)
	}
	large.WriteString("(function () { const p = window.Portal; p.ready() })()")
	if s := ReadScript([]byte(large.String())); s.Calls["Portal.ready"] < large.Len()-20 || s.Unparsed != "" {
		t.Errorf("at the end of a large script: %v %s", s.Calls["Portal.ready"], s.Unparsed)
	}
	files, err := filepath.Glob("testdata/portal/*.js") // made by bundlers, of a game that keeps the portal in a class, a function, an argument
	if err != nil || len(files) == 0 {
		t.Fatal(err)
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		s := ReadScript(data)
		_, ready := s.Calls["Portal.ready"]
		_, handed := s.Uses["Portal"]
		if apart := strings.Contains(file, "-dev-"); !apart && (!ready || !slices.Equal(s.Args["Portal.score"], []string{"best-score"})) || !handed {
			t.Errorf("%s: %v, %v, %v", file, s.Calls, s.Args, s.Uses)
		}
	}
}

// TestMarkup: pieces of pages and styles that scripts hold as texts.
func TestMarkup(t *testing.T) {
	script := "$(\"<img src='a.png'>\"); html`<img src=\"b/${n}.png\">`; style.textContent = 'p{background:url(c.png)}'; log('<p>no.png</p>')"
	var got []string
	for _, l := range ReadScript([]byte(script)).Links {
		got = append(got, fmt.Sprintf("%s %s %s", l.Use, l.Target, l.Certainty))
		for _, p := range l.Pieces {
			if p.Len >= 0 && script[p.Offset:p.Offset+p.Len] != p.Text {
				t.Errorf("at the place of %q stands %q", p.Text, script[p.Offset:p.Offset+p.Len])
			}
		}
	}
	slices.Sort(got)
	if want := []string{"picture a.png possible", "picture b/*.png possible", "picture c.png likely"}; !slices.Equal(got, want) {
		t.Errorf("\n got %q\nwant %q", got, want)
	}
}

// TestInline: scripts in the page are read with their place in it.
func TestInline(t *testing.T) {
	page := "<script>\nvar base = 'Build';\ncreate({ dataUrl: base + '/lane.data' }); Portal.ready();</script>\n" +
		`<script type="importmap">{"imports": {"lane": "./lane.js"}}</script><script type="text/plain">f("no.png")</script>`
	p := ReadPage([]byte(page))
	want := []string{"data Build/lane.data 3:27", "script ./lane.js 4:48"}
	if got := found(p.Links); !slices.Equal(got, want) {
		t.Errorf("\n got %q\nwant %q", got, want)
	}
	if _, ok := p.Inline.Calls["Portal.ready"]; !ok {
		t.Errorf("%v", p.Inline.Calls)
	}
}

func TestReadJSON(t *testing.T) {
	links, err := ReadJSON(
		[]byte(
			"\ufeff{\"icons\": [{\"src\": \"icon.png\"}], \"name\": \"a.b lane\",\n \"frames\": [\"f/1.png\", \"https://h.example/x.png\"], " +
				"\"a.png\": 1}",
		),
	)
	if want := []string{"data icon.png 1:24", "data f/1.png 2:14"}; err != nil || !slices.Equal(found(links), want) {
		t.Errorf("%q %v", found(links), err)
	}
	if _, err := ReadJSON([]byte(`{"a": }`)); err == nil {
		t.Error("broken JSON was taken")
	}
}

func TestPageStyle(t *testing.T) {
	for style, want := range map[string][2]bool{
		"body{margin:0;overflow:hidden}": {true, true}, "* { margin: 0 }": {true, false}, "html,body{overflow:hidden}": {false, true},
		"p{margin:0;overflow:hidden}": {false, false}, ".body{color:red} body{overflow:auto}": {false, false}, "": {false, false},
	} {
		if s := ReadStyle([]byte(style)); s.NoMargin != want[0] || s.NoScroll != want[1] {
			t.Errorf("%s: %v %v", style, s.NoMargin, s.NoScroll)
		}
	}
}

func FuzzReadScript(f *testing.F) {
	for _, s := range []string{"f('a.png')", "`${a}`+'b.js'", "a/b/'c.js'", "import('./x.js')", "x = `a${`b${c}`}d.png`",
		"/[/]/.test('a.js')"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) { within(t, data, ReadScript(data).Links) })
}

func FuzzReadJSON(f *testing.F) {
	f.Add([]byte(`{"src": "a.png", "b": ["c/d.js"]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		links, _ := ReadJSON(data)
		for _, l := range links {
			if l.Offset < 0 || l.Offset > len(data) {
				t.Fatalf("%+v", l)
			}
		}
	})
}

// TestText: names of files in formats of data, each with its place, and what is none.
func TestText(t *testing.T) {
	for text, want := range map[string][]string{
		`<image source="../art/sky.png" width="64"/><tex>a b.png</tex>`:                          {"../art/sky.png", "a b.png", "b.png"},
		"moth.png\nsize: 512,512\nscale: 1.5\n wing\n":                                           {"moth.png"},
		"page id=0 file=\"lamp_0.png\"\nmap_Kd wood.jpg\r\nv 0.5 1.25e3 -2.":                     {"lamp_0.png", "map_Kd wood.jpg", "wood.jpg"},
		"see https://lane.example/a.png and art/*.png, C:\\art\\x.png, a&amp.png, version 1.2.3": nil,
		"one.png two.png one.png": {"one.png two.png one.png", "one.png", "two.png"},
	} {
		var got []string
		for _, l := range ReadText([]byte(text)) {
			for _, at := range append([]int{l.Offset}, l.Again...) {
				if text[at:at+l.Len] != l.Target {
					t.Errorf("%q stands at %d of %q", l.Target, at, text)
				}
			}
			got = append(got, l.Target)
		}
		if !slices.Equal(got, want) {
			t.Errorf("%q: %q, not %q", text, got, want)
		}
	}
}

func FuzzReadText(f *testing.F) {
	f.Add([]byte("<a b=\"c/d.png\"> e.f g\n"))
	f.Fuzz(func(t *testing.T, data []byte) { within(t, data, ReadText(data)) })
}

// TestHandlers: what stands in attributes of events counts as script of the page.
func TestHandlers(t *testing.T) {
	p := ReadPage([]byte(`<body oncontextmenu="return false" onload='Arcade.ready("lane")'><canvas onkeydown="event.preventDefault()">`))
	if !p.Inline.Words["oncontextmenu"] || !p.Inline.Words["preventDefault"] || len(p.Inline.Args["Arcade.ready"]) != 1 ||
		p.Inline.Calls["Arcade.ready"] != 43 {
		t.Errorf("%+v", p.Inline)
	}
}
