package tests

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// TestOnePage: a game that finds its files in every way that there is runs as well out of one page, in both browsers and in a frame with an
// origin of its own. Each way lights a tile, so one that fails shows in the picture, too.
func TestOnePage(t *testing.T) {
	rules := "format = \"havvel-rulebook/2\"\nname = \"Osierfold\"\naddress = \"http://127.0.0.1:7431\"\n[archive]\nhand_over = \"one-page\"\n"
	for _, c := range []struct {
		name, browser, more string
	}{
		{"chromium", "chromium", ""},
		{"an origin of its own", "chromium", "[frame]\nsandbox = [\"allow-scripts\"]\n"},
		{"firefox", "firefox", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			partner(t, strings.Replace(c.browser, "firefox", "firefox-esr", 1))
			t.Parallel()
			folder := t.TempDir()
			if err := os.CopyFS(filepath.Join(folder, "export"), os.DirFS("testdata/everywhere")); err != nil {
				t.Fatal(err)
			}
			project := "[game]\ntitle = \"Tinderwick Lane\"\nshort = \"lane\"\nversion = \"1.0.0\"\nexport = \"export\"\n[to.osierfold]\nrulebook = \"portal.toml\"\n"
			writeInto(t, folder, game.Files{"portal.toml": []byte(rules + c.more), "havvel.toml": []byte(project)})
			proven(t, folder, c.browser)
			if c.more == "" {
				foldAgain(t, folder, c.browser)
			}
		})
	}
}

// proven packs, and wants the page proven. A busy machine that can't tell is asked again.
func proven(t *testing.T, folder, browser string) {
	t.Helper()
	e := run(t, folder, "pack", "--prove", "--browser", browser)
	for try := 0; try < 2 && strings.Contains(e.out, "not proven"); try++ {
		e = run(t, folder, "pack", "--prove", "--browser", browser)
	}
	e.must(t, 0, "\n  proven: it runs as well as your export")
}

// foldAgain folds what was folded: a page whose scripts hold everything that such a page consists of.
func foldAgain(t *testing.T, folder, browser string) {
	page, err := os.ReadFile(filepath.Join(folder, "packed", "osierfold-1.0.0.html"))
	if err != nil {
		t.Fatal(err)
	}
	writeInto(t, folder, game.Files{"again/index.html": page})
	edit(t, folder, `export = "export"`, `export = "again"`)
	edit(t, folder, `version = "1.0.0"`, `version = "1.0.1"`)
	proven(t, folder, browser)
}

// TestOnePageLeads: a game of several pages leads from one to the next out of one page, by links, by scripts and by forms, and back.
func TestOnePageLeads(t *testing.T) {
	page := func(title, more string) []byte {
		return []byte("<!DOCTYPE html><html><head><meta charset=utf-8><title>" + title + "</title><style>body{margin:0;background:#124;color:#fc6;font:20px sans-serif}" +
			"a,button,p{display:block;height:80px;margin:0;width:100%;border:0;background:#fc6;color:#124}</style></head><body>" + more + "</body></html>")
	}
	files := game.Files{
		"export/index.html":       page("Lane", `<a href="night/two/#lamp">Go on</a><p>First night <script>const night = 1; document.write(night + location.hash)</script>`),
		"export/night/two/lit.js": []byte("const night = 2; document.querySelector('p').textContent = 'Second night ' + night + location.hash;"),
		"export/night/two/index.html": page("Two", `<button onclick="location.href = '../three.html?lamps=4'">Go on</button><p></p><img src="lamp.svg" alt="">`+
			`<script src="lit.js"></script>`),
		"export/night/two/lamp.svg": []byte(`<svg xmlns="http://www.w3.org/2000/svg" width="80" height="80"><circle cx="40" cy="40" r="30" fill="#fc6"/></svg>`),
		"export/night/three.html": page("Three", `<base href="../"><form action="last.html"><input type=hidden name=oil value=7><button>Go on</button></form>`+
			`<p><script>const night = 3; document.write("Third night " + new URLSearchParams(location.search).get("lamps"))</script>`),
		"export/last.html": page("Last", `<a href="index.html#again" id=back>Again</a><p><script>const night = 4;`+
			`const again = document.getElementById("back"); document.write("Last night " + new URLSearchParams(location.search).get("oil") + `+
			`again.getAttribute("href") + new URL(again.href).pathname.slice(-11))</script><a href="#top" style="height:100vh">Up</a>`),
	}
	steps := `steps = ["expect text First night 1 within 5s", "tap 50% 10%", "expect text Second night 2#lamp within 5s", "tap 50% 10%",
	"expect text Third night 4 within 5s", "tap 50% 10%", "expect text Last night 7index.html#again/index.html within 5s", "tap 50% 65%",
	"expect value location.hash is #top within 5s", "tap 50% 10%", "expect text First night 1#again within 5s", "tap 50% 10%", "expect text Second night 2#lamp within 5s"]`
	rules := "format = \"havvel-rulebook/2\"\nname = \"Osierfold\"\naddress = \"http://127.0.0.1:7431\"\n[archive]\nhand_over = \"one-page\"\n"
	for name, browser := range map[string]string{"chromium": "chromium", "firefox": "firefox", "an origin of its own": "chromium"} {
		t.Run(name, func(t *testing.T) {
			partner(t, strings.Replace(browser, "firefox", "firefox-esr", 1))
			t.Parallel()
			folder, more := t.TempDir(), ""
			if name != browser {
				more = "[frame]\nsandbox = [\"allow-scripts\", \"allow-forms\"]\n"
			}
			project := "[game]\ntitle = \"Tinderwick Lane\"\nshort = \"lane\"\nversion = \"1.0.0\"\nexport = \"export\"\n[to.osierfold]\nrulebook = \"portal.toml\"\n[trial]\n"
			writeInto(t, folder, files)
			writeInto(t, folder, game.Files{"portal.toml": []byte(rules + more), "havvel.toml": []byte(project + steps + "\n")})
			if name != browser {
				run(t, folder, "pack").must(t, 1, "night/two/index.html:1:", "night/three.html as", "a script opens that page")
				two := strings.Replace(string(files["export/night/two/index.html"]), `button onclick="location.href = '../three.html?lamps=4'"`, `a href="../three.html?lamps=4"`, 1)
				writeInto(t, folder, game.Files{"export/night/two/index.html": []byte(strings.Replace(two, "/button", "/a", 1))})
			}
			proven(t, folder, browser)
		})
	}
}
