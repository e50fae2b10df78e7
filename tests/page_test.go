package tests

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"havvel/internal/demo"
	"havvel/internal/demo/game"
	"havvel/internal/standin"
)

// edit changes a text of the project file, which must be there.
func edit(t testing.TB, project, old, new string) {
	t.Helper()
	toml := snapshot(t, project)["/havvel.toml"]
	if !strings.Contains(toml, old) {
		t.Fatalf("havvel.toml has no %q:\n%s", old, toml)
	}
	writeInto(t, project, game.Files{"havvel.toml": []byte(strings.Replace(toml, old, new, 1))})
}

const demoTagline = "Press a lantern, and its neighbours turn too: light the whole lane."

// TestPage fills in the page of each portal from one source, then what has changed of it, and looks at what players see.
func TestPage(t *testing.T) {
	for name, shows := range map[string][]string{
		"brackwater": {demoTagline, "<strong>Tinderwick Lane</strong>", "<kbd>Enter</kbd>", "What to expect", "<video", "Nights solved",
			"computer, tablet, phone"},
		"quillmarsh": {demoTagline, "<strong>Tinderwick Lane</strong>", "<th>Mouse</th>", "Eight new nights", "what you like", `class="banner"`},
		"osierfold":  {demoTagline, "<b>Tinderwick Lane</b>", "<blockquote>", "Enter, Space; click; tap", "English", "<video"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			portal, project, env := at(t, name, nil)
			hv := func(args ...string) ending { return runWith(t, project, env, args...) }
			through := newRelay(t, strings.TrimPrefix(portal.Address(), "http://"))
			edit(t, project, portal.Address(), "http://"+through.address)
			hv("listing", "--diff").must(t, 0, "nothing was sent to its page yet")
			hv("send", "--dry-run").must(t, 0, "of its page: title, tagline")
			hv("send").must(t, 0, "sent 0.4.0", "page: title, tagline", "pictures")
			settled(t, hv)
			if name == "osierfold" {
				decide(t, portal, "accept", "")
			}
			link := decode[deliveries](t, hv("publish", "--json").must(t, 0)).Deliveries[0].Link
			_, page := get(t, link)
			for _, words := range shows {
				if !strings.Contains(page, words) {
					t.Errorf("the page does not show %q", words)
				}
			}
			for _, source := range regexp.MustCompile(`src="(/pictures/[^"]+)"`).FindAllStringSubmatch(page, -1) {
				if status, _ := get(t, portal.Address()+source[1]); status != 200 {
					t.Errorf("the picture %s: %d", source[1], status)
				}
			}
			if n := strings.Count(page, "/pictures/"); n < 4 {
				t.Errorf("%d pictures are on the page", n)
			}
			hv("listing", "--diff").must(t, 0, "as it was sent")
			hv("send").must(t, 1, "this very export was sent")
			hv("send", "--only", "page").must(t, 0)

			edit(t, project, demoTagline, "Light the lane, one lantern at a time.")
			hv("listing", "--diff").must(t, 0, "- "+demoTagline, "+ Light the lane, one lantern at a time.")
			hv("listing").must(t, 0, "1 changed since")
			before := through.sent.Load()
			hv("send").must(t, 0, "page: tagline")
			if more := through.sent.Load() - before; more > 20_000 {
				t.Errorf("%d bytes went out for another tagline", more)
			}
			if _, page := get(t, link); !strings.Contains(page, "one lantern at a time") || strings.Contains(page, demoTagline) {
				t.Error("the page has the old tagline")
			}
		})
	}
}

// TestPageRefused: what a portal says of a field is said of our key, with its line; the build is there, and the page can follow.
func TestPageRefused(t *testing.T) {
	t.Parallel()
	_, project, env := at(t, "brackwater", func(o *standin.Options) {
		o.Page.Fields["tagline"] = standin.FieldRule{Limit: 40}
	})
	hv := func(args ...string) ending { return runWith(t, project, env, args...) }
	e := hv("send").must(t, 1, "sent 0.4.0 to Brackwater", "the page on Brackwater is not filled in", "it has 67 characters; we take 40")
	line := 1 + strings.Count(strings.Split(snapshot(t, project)["/havvel.toml"], "tagline ")[0], "\n")
	if want := fmt.Sprintf("listing.tagline (havvel.toml, line %d): ", line); !strings.Contains(e.err, want) {
		t.Errorf("does not say %q:\n%s", want, e.err)
	}
	edit(t, project, demoTagline, "Light the lane.")
	hv("send").must(t, 0, "page:")
	hv("send").must(t, 1, "this very export was sent")

	_, project, env = at(t, "quillmarsh", func(o *standin.Options) { o.Page.Pictures["card"] = standin.PictureRule{Width: 600, Height: 480} })
	runWith(t, project, env, "send").must(t, 1, "card, cut from page/cover.jpg: it has 640x480 pixels; we want 600x480")
}

// TestPageErrors: a page that would be refused stops a send before anything goes out, unless only the build is sent.
func TestPageErrors(t *testing.T) {
	t.Parallel()
	portal, project, env := at(t, "brackwater", nil)
	hv := func(args ...string) ending { return runWith(t, project, env, args...) }
	edit(t, project, `"Puzzle"`, `"Puzzles"`)
	hv("listing").must(t, 1, "Errors", `did you mean "Puzzle"?`, "havvel.toml:")
	hv("send").must(t, 1, "not sent to Brackwater", `"Puzzles" is not a category`, "--only build")
	if _, front := get(t, portal.Address()); strings.Contains(front, "Tinderwick") {
		t.Error("something went out")
	}
	hv("send", "--only", "build").must(t, 0, "sent 0.4.0")
	hv("where").must(t, 0, "brackwater")
	edit(t, project, `"Puzzles"`, `"Puzzle"`)
	edit(t, project, `tagline     = "`+demoTagline+`"`, "")
	if err := os.Remove(filepath.Join(project, "page", "icon.png")); err != nil {
		t.Fatal(err)
	}
	hv("where").must(t, 0, "the page on Brackwater lacks: tagline")
	hv("pictures").must(t, 1, "page/icon.png: there is no such file", "next: fix the errors")
	edit(t, project, `"page/description.md"`, `"page/Description.md"`)
	hv("listing").must(t, 2, "listing.description: there is no file")
	edit(t, project, "[listing]", "[listing]\ntagine = \"x\"")
	hv("listing").must(t, 2, `there is no key "listing.tagine"`, `did you mean "tagline"?`)
}

// TestPageBroken: a page that broke off goes on where it was, and a portal's moods don't hurt.
func TestPageBroken(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		portal string
		fault  standin.Fault
	}{{"brackwater", standin.Busy}, {"quillmarsh", standin.TokenExpired}, {"osierfold", standin.ErrorOnce}} {
		t.Run(c.portal+" "+string(c.fault), func(t *testing.T) {
			t.Parallel()
			_, project, env := at(t, c.portal, func(o *standin.Options) { o.Fault = c.fault })
			runWith(t, project, env, "send").must(t, 0, "page: title")
		})
	}
	portal, project, env := at(t, "brackwater", nil)
	hv := func(args ...string) ending { return runWith(t, project, env, args...) }
	hv("send", "--only", "build").must(t, 0)
	through := newRelay(t, strings.TrimPrefix(portal.Address(), "http://"))
	toml := snapshot(t, project)["/havvel.toml"]
	edit(t, project, portal.Address(), "http://"+through.address)
	through.cut.Store(200_000)
	hv("send", "--only", "page").must(t, 4, "it goes on where it was")
	through.cut.Store(0)
	before := through.sent.Load()
	hv("send", "--only", "page").must(t, 0, "page:")
	all := int64(0)
	for name, data := range snapshot(t, filepath.Join(project, ".havvel", "pictures", "brackwater")) {
		if !strings.HasSuffix(name, ".json") {
			all += int64(len(data))
		}
	}
	if sent := through.sent.Load() - before; sent > all-100_000 {
		t.Errorf("%d bytes went out after the cut, of %d", sent, all)
	}
	writeInto(t, project, game.Files{"havvel.toml": []byte(toml)}) // another address is another portal, which has nothing of it
	hv("send", "--only", "page").must(t, 0, "page: title")
}

// TestFinals: what can't be undone is said before it happens, and once.
func TestFinals(t *testing.T) {
	t.Parallel()
	_, project, env := at(t, "brackwater", nil)
	hv := func(args ...string) ending { return runWith(t, project, env, args...) }
	e := hv("send", "--wait").must(t, 0, "a leaderboard can be hidden but not deleted", "(new: lanterns,")
	if strings.Index(e.out, "permanent:") > strings.Index(e.out, "page: title") {
		t.Errorf("it is said afterwards:\n%s", e.out)
	}
	e = hv("publish").must(t, 0, "short address can't be changed once it is public (tinderwick-lane)")
	if strings.Index(e.out, "permanent:") > strings.Index(e.out, "is public on") {
		t.Errorf("it is said afterwards:\n%s", e.out)
	}
	edit(t, project, "Lanterns lit", "Lanterns")
	for _, e := range []ending{hv("send").must(t, 0, "page: leaderboards"), hv("publish").must(t, 0)} {
		if strings.Contains(e.out, "for good") {
			t.Errorf("it is said again:\n%s", e.out)
		}
	}
	edit(t, project, `keeps = "highest"`, `keeps = "lowest"`)
	hv("send").must(t, 1, "the leaderboard lanterns keeps the highest value, and can't be changed")
}

// TestOnlyHere: a game that is public elsewhere is not only here.
func TestOnlyHere(t *testing.T) {
	t.Parallel()
	portal, project, env := at(t, "osierfold", nil)
	quill, _, more := at(t, "quillmarsh", nil)
	hv := func(args ...string) ending { return runWith(t, project, append(env, more...), args...) }
	edit(
		t,
		project,
		"[[statistic]]",
		fmt.Sprintf(
			"[to.osierfold.declarations]\nversion = \"0.4.0\"\ndeclare = [\"only-here\"]\n\n[to.quillmarsh]\nrulebook = "+
				"\"quillmarsh\"\naddress = \"%s/api\"\n\n[[statistic]]",
			quill.Address(),
		),
	)
	hv("check", "--only", "declaration").must(t, 0, "no errors")
	hv("send", "--to", "quillmarsh").must(t, 0)
	hv("publish", "--to", "quillmarsh").must(t, 0)
	hv("check", "--only", "declaration").must(t, 0, "only here, and it is public on Quillmarsh")
	_ = portal
}

// TestPictures cuts the demo's pictures, draws the sheet, and takes more from the running game.
func TestPictures(t *testing.T) {
	t.Parallel()
	_, project, env := at(t, "brackwater", nil)
	hv := func(args ...string) ending { return runWith(t, project, env, args...) }
	type document struct {
		Sheet    string
		Pictures []struct {
			Name, Path, Master string
			Width, Height      int
		}
	}
	doc := decode[document](t, hv("pictures", "--json").must(t, 0))
	if info, err := os.Stat(doc.Sheet); len(doc.Pictures) != 6 || err != nil || info.Size() < 50_000 {
		t.Fatalf("%+v %v", doc, err)
	}
	hv("listing", "--page").must(t, 0, "brackwater.html")
	partner(t, "chromium")
	writeInto(
		t,
		project,
		game.Files{
			"havvel.toml": []byte(
				snapshot(t, project)["/havvel.toml"] + "\n[trial]\nsteps = [\"press Enter\", \"expect event level-begun\", \"press Enter\", " +
					"\"wait 2s\"]\n",
			),
		},
	)
	edit(
		t,
		project,
		"[[picture]]\nfile  = \"page/shot-1.jpg\"\nroles = [\"screenshot\"]",
		"[[picture]]\nfile = \"page/shot-1.jpg\"\nroles = [\"backdrop\"]",
	)
	hv("pictures", "--from-trial").must(t, 0, "took page/trial-shot-1.png", "recorded page/trial-clip-640x360.webm", "named in havvel.toml")
	doc = decode[document](t, hv("pictures", "--json").must(t, 0))
	taken := 0
	for _, c := range doc.Pictures {
		if strings.Contains(c.Master, "trial-shot") && c.Width == 1280 && c.Height == 720 {
			taken++
		}
	}
	if taken < 3 {
		t.Errorf("%d screenshots of the running game: %+v", taken, doc.Pictures)
	}
	film, err := os.ReadFile(filepath.Join(project, "page", "trial-clip-640x360.webm"))
	if err != nil || len(film) < 20_000 || len(film) > 900_000 {
		t.Errorf("the clip has %d bytes: %v", len(film), err)
	}
	shown, _ := filepath.Glob(filepath.Join(project, ".havvel", "pictures", "brackwater", ".reel-*.png"))
	if len(shown) != 1 {
		t.Fatalf("what the sheet shows of the clip: %q", shown)
	}
	first, err := os.ReadFile(shown[0])
	if err != nil {
		t.Fatal(err)
	}
	if colours, _ := variety(t, first); colours < 300 {
		t.Errorf("the sheet shows the clip with %d colours", colours)
	}
	writeInto(t, project, game.Files{"clip.html": []byte(`<video src="page/trial-clip-640x360.webm"></video>`)})
	ctx, _ := browser(t, 640, 360)
	watch(t, ctx, filepath.Join(project, "clip.html"))
	do(t, ctx, chromedp.Sleep(200*time.Millisecond))
	if _, colours, _ := picture(t, ctx); colours < 300 {
		t.Errorf("the middle of the clip has %d colours", colours)
	}
}

// TestListingWords: what the commands about pages print, for people and for programs, and with which code they end.
func TestListingWords(t *testing.T) {
	t.Parallel()
	_, project, env := at(t, "osierfold", nil)
	hv := func(args ...string) ending { return runWith(t, project, env, args...) }
	type document struct {
		Pages []struct {
			Destination string
			Fields      []struct {
				Name, Form, Text string
				Words            []string
				Count, Limit     int
			}
			Declarations []struct {
				Name     string
				Declared bool
			}
			Lacks []string
		}
	}
	page := decode[document](t, hv("listing", "--json").must(t, 0)).Pages[0]
	if page.Destination != "osierfold" || len(page.Fields) != 12 || len(page.Declarations) != 4 || page.Declarations[2].Declared ||
		len(page.Lacks) != 0 {
		t.Errorf("%+v", page)
	}
	for _, f := range page.Fields {
		if f.Name == "text" && (f.Form != "bbcode" || f.Limit != 4000 || f.Count != len([]rune(f.Text))) ||
			f.Name == "languages" && strings.Join(f.Words, " ") != "English" {
			t.Errorf("%+v", f)
		}
	}
	hv(
		"listing",
		"--show",
		"osierfold",
	).must(t, 0, "tagline  67 of 90 characters, from listing.tagline", "text  688 of 4000 characters, bbcode", "[b]Tinderwick Lane[/b]",
		"(nothing, as you say)", "only-here: not declared", "page/square.jpg", "next: havvel listing --page --to osierfold")
	hv("listing", "--show", "osierfolt").must(t, 2, `there is no destination "osierfolt"`, `did you mean "osierfold"?`)
	hv("send", "--only", "pictures").must(t, 2, "it can be build, page")
	hv("send", "--only", "page").must(t, 1, "nothing was sent to osierfold yet")
	hv("rules", "show", "osierfold").must(t, 0, "picture square", "declaration only-here", "can't be taken back")
	edit(t, project, "[listing]\n", "[listing]\n# ")
	edit(t, project, `contact     = "`, `# contact = "`)
	where := decode[struct {
		Deliveries []struct {
			Lacks []string `json:"page_lacks"`
		}
	}](t, hv("where", "--json").must(t, 0))
	if len(where.Deliveries) != 0 { // nothing was sent, so there is nothing to tell of
		t.Errorf("%+v", where)
	}
	hv("where").must(t, 0, "the page on Osierfold lacks:", "contact")
	hv("send", "--dry-run").must(t, 0, "people read what is declared")

	site := t.TempDir()
	writeInto(
		t,
		site,
		game.Files{
			"havvel.toml": []byte(
				"[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"1\"\nexport = \"web\"\n[to.shed]\naddress = " +
					"\"./out\"\n[listing]\ntagline = \"x\"\n",
			),
		},
	)
	for name, data := range game.Script() {
		writeInto(t, site, game.Files{"web/" + name: data})
	}
	run(t, site, "listing").must(t, 1, "none of these destinations has a page to fill in")
	run(t, site, "send").must(t, 0, "sent 1 to shed")
	run(t, site, "send", "--only", "page").must(t, 1, "a site, which has no page around the game")

	bare := t.TempDir()
	for name, data := range game.Script() {
		writeInto(t, bare, game.Files{"web/" + name: data})
	}
	run(
		t,
		bare,
		"start",
		"--to",
		"quillmarsh",
		"--tagline",
		`Light "it".`,
		"--category",
		"puzzle",
		"--address",
		"http://127.0.0.1:1",
	).must(t, 0, "wrote havvel.toml")
	run(t, bare, "listing").must(t, 0, "quillmarsh", "still lacks: text, price, generated")
	run(t, bare, "listing", "--show", "quillmarsh").must(t, 0, `Light "it".`, "one of: puzzle, story", "left out", "missing")
}

// TestStandInPage: the stand-ins look at what they are told, and show nothing that runs.
func TestStandInPage(t *testing.T) {
	t.Parallel()
	portal, project, env := at(t, "brackwater", nil)
	runWith(t, project, env, "send").must(t, 0)
	put := func(path, kind, body string) (int, string) {
		t.Helper()
		r, err := http.NewRequest("PUT", portal.Address()+"/api/games/tinderwick-lane/"+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+demo.PracticeKey)
		r.Header.Set("Content-Type", kind)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		text, _ := io.ReadAll(answer.Body)
		return answer.StatusCode, string(text)
	}
	for body, says := range map[string]string{
		`{"fields": {"about": "<script>alert(1)</script>"}}`:                          "the element script",
		`{"fields": {"about": "<p onclick=x>"}}`:                                      "the attribute onclick",
		`{"fields": {"about": "<a href='javascript:x'>"}}`:                            "the attribute href",
		`{"fields": {"how": "<!-- x -->"}}`:                                           "we don't show comments",
		`{"fields": {"category": "Cooking"}}`:                                         `we don't have \"Cooking\"`,
		`{"fields": {"tagline": "` + strings.Repeat("ü", 111) + `"}}`:                 "111 characters; we take 110",
		`{"fields": {}, "pictures": [{"name": "cover", "number": 1, "sha256": "a"}]}`: "was never sent",
		`{"fields": `: "not the JSON",
	} {
		if status, text := put("page", "application/json", body); status < 400 || status >= 500 || !strings.Contains(text, says) {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
	for path, says := range map[string]string{"pictures/cover/1": "not a picture", "pictures/poster/1": "no place for it",
		"pictures/cover/0": "a number from 1 on"} {
		if status, text := put(path, "image/png", "no picture"); status != 422 || !strings.Contains(text, says) {
			t.Errorf("%s: %d %s", path, status, text)
		}
	}
	if status, _ := get(t, portal.Address()+"/pictures/..%2fstate.json"); status != 404 {
		t.Errorf("a file of the stand-in's own: %d", status)
	}
}
