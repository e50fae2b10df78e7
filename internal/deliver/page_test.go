package deliver

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"havvel/internal/deliver/portal"
	"havvel/internal/listing"
	"havvel/internal/logbook"
	"havvel/internal/pictures"
	"havvel/internal/progress"
	"havvel/internal/project"
)

// pageRules is a rulebook whose portal takes a page in ways of its own: a form, parts, and JSON.
const pageRules = `
format = "havvel-rulebook/2"
name   = "Reedhouse"
[archive]
hand_over = "zip"
[refusal]
words  = ["$.problems[*].why"]
fields = ["$.problems[*].which"]
[leaderboards]
keeps = ["highest"]
[[field]]
name = "head"
from = ["title"]
[[field]]
name = "words"
from = ["tagline"]
[[field]]
name = "marks"
from = ["tags"]
[[picture]]
name = "front"
role = "cover"
size = [8, 8]
[[declaration]]
name = "own-rights"
says = "it is yours"
[[fill]]
step    = "words"
method  = "POST"
address = "{address}/words/{game.short}"
form    = { head = "{field.head}", words = "{field.words}" }
expect  = [200]
again   = true
[[fill]]
step    = "front"
each    = "picture in pictures"
method  = "PUT"
address = "{address}/pictures/{picture.name}/{picture.number}?sum={picture.sha256}"
expect  = [200]
[[fill.part]]
name = "about"
text = "{picture.about}"
[[fill.part]]
name = "picture"
file = "picture"
type = "image/png"
[[fill]]
step    = "rest"
method  = "PUT"
address = "{address}/rest"
json    = { all = "{page.fields}", leaderboards = "{page.leaderboards}", declared = "{page.declarations}", of = "{version}" }
expect  = [200]
`

// house is a portal that remembers what it was told.
type house struct {
	seen  []string
	fails string // the path that it refuses
}

func (h *house) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	words := r.Method + " " + r.URL.Path
	switch {
	case h.fails != "" && strings.HasPrefix(r.URL.Path, h.fails):
		w.WriteHeader(http.StatusUnprocessableEntity)
		io.WriteString(w, `{"problems": [{"which": "words", "why": "too dark"}, {"why": "too late"}, {"which": "front", "why": "too small"}]}`)
		return
	case strings.HasPrefix(r.URL.Path, "/words/"):
		words += " " + r.FormValue("head") + "; " + r.FormValue("words")
	case strings.HasPrefix(r.URL.Path, "/pictures/"):
		f, _, err := r.FormFile("picture")
		if err == nil {
			data, _ := io.ReadAll(f)
			words += " " + r.FormValue("about") + " " + string(data)
		}
	default:
		var in any
		json.NewDecoder(r.Body).Decode(&in)
		text, _ := json.Marshal(in)
		words += " " + string(text)
	}
	h.seen = append(h.seen, words)
}

// pages is a project with such a portal, and its page.
func pages(t *testing.T) (*Courier, *project.Destination, *house, func(tagline string, picture string) *Contents) {
	t.Helper()
	h := &house{}
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	folder := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("reedhouse.toml", pageRules)
	write(
		project.Name,
		"[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"1\"\nexport = \"web\"\n[to.reed]\nrulebook = \"reedhouse.toml\"\naddress = "+
			"\""+server.URL+"\"\n[listing]\ntagline = \"x\"\ntags = [\"a\"]\n"+
			"[[statistic]]\nname = \"lanterns\"\nkeeps = \"highest\"\n[declarations]\nversion = \"1\"\ndeclare = [\"own-rights\"]\n",
	)
	p, err := project.Find(folder)
	if err != nil {
		t.Fatal(err)
	}
	c := &Courier{Project: p, Book: logbook.Open(folder), Report: progress.None, Now: time.Now}
	return c, p.To["reed"], h, func(tagline, picture string) *Contents {
		t.Helper()
		p.Listing.Tagline = tagline
		page, err := listing.Read(p, p.To["reed"], "1")
		if err != nil {
			t.Fatal(err)
		}
		write("front.png", picture)
		return &Contents{
			page,
			[]*pictures.Cut{
				{
					Name:   "front",
					Number: 1,
					Master: "page/cover.png",
					Path:   filepath.Join(folder, "front.png"),
					Bytes:  int64(len(picture)),
					SHA256: "sum of " + picture,
					About:  "a lantern",
					Type:   "image/png",
				},
			},
		}
	}
}

func delivery(version string) *logbook.Delivery {
	return &logbook.Delivery{Line: logbook.Line{ID: "one", Destination: "reed", Version: version}}
}

// TestFill: a portal is told everything once, and then only what is another; after each version again what names it.
func TestFill(t *testing.T) {
	c, d, h, contents := pages(t)
	ctx := context.Background()
	for _, step := range []struct {
		tagline, picture, version string
		want                      []string
		changed                   string
	}{
		{"Light it.", "png1", "1", []string{
			"POST /words/lane Lane; Light it.", "PUT /pictures/front/1 a lantern png1",
			`PUT /rest {"all":{"head":"Lane","marks":["a"],"words":"Light ` +
				`it."},"declared":["own-rights"],"leaderboards":[{"hidden":false,"keeps":"highest","label":"lanterns","name":"lanterns","unit":""}` +
				`],"of":"1"}`,
		}, "head words marks leaderboards declarations 1 picture"},
		{"Light it.", "png1", "1", nil, ""},
		{"Light it.", "png2", "1", []string{"PUT /pictures/front/1 a lantern png2"}, "1 picture"},
		{"Dark.", "png2", "1", []string{"POST /words/lane Lane; Dark.",
			`PUT /rest {"all":{"head":"Lane","marks":["a"],"words":"Dark."},"declared":["own-rights"],"leaderboards":[{"hidden":false,` +
				`"keeps":"highest","label":"lanterns","name":"lanterns","unit":""}],"of":"1"}`}, "words"},
		{"Dark.", "png2", "2",
			[]string{`PUT /rest {"all":{"head":"Lane","marks":["a"],"words":"Dark."},"declared":["own-rights"],"leaderboards":[{"hidden":false,` +
				`"keeps":"highest","label":"lanterns","name":"lanterns","unit":""}],"of":"2"}`}, ""},
	} {
		h.seen = nil
		page := contents(step.tagline, step.picture)
		if got := c.Unfilled(d, page, step.version); got != (step.want != nil) {
			t.Errorf("%+v: unfilled is %v", step, got)
		}
		filled, err := c.Fill(ctx, d, page, delivery(step.version), false)
		if err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(h.seen, step.want) || filled.Requests != len(step.want) || strings.Join(filled.Changed, " ") != step.changed {
			t.Errorf("the portal was told\n%s\nwant\n%s\nchanged: %v", strings.Join(h.seen, "\n"), strings.Join(step.want, "\n"), filled.Changed)
		}
	}
	if names := c.NewLeaderboards(d, contents("Dark.", "png2").Page); len(names) != 0 {
		t.Errorf("leaderboards that it has are new: %v", names)
	}
}

// TestFillRefused: reasons name our keys; what was taken before is not sent again.
func TestFillRefused(t *testing.T) {
	c, d, h, contents := pages(t)
	h.fails = "/rest"
	_, err := c.Fill(context.Background(), d, contents("Light it.", "png1"), delivery("1"), false)
	var refused *portal.Refused
	if !errors.As(err, &refused) {
		t.Fatal(err)
	}
	want := []string{"listing.tagline (havvel.toml, line 10): too dark", "too late", "front, cut from page/cover.png: too small"}
	if got := refused.Reasons; len(got) != 3 || got[0] != want[0] || !strings.HasSuffix(got[2], want[2]) {
		t.Errorf("%q, want %q", got, want)
	}
	h.fails, h.seen = "", nil
	if _, err := c.Fill(context.Background(), d, contents("Light it.", "png1"), delivery("1"), false); err != nil || len(h.seen) != 1 ||
		!strings.HasPrefix(h.seen[0], "PUT /rest") {
		t.Errorf("%v %v", h.seen, err)
	}
	h.fails = "/pictures"
	_, err = c.Fill(context.Background(), d, contents("Light it.", "png9"), delivery("1"), false)
	if !errors.As(err, &refused) || !strings.Contains(err.Error(), "cut from page/cover.png") {
		t.Errorf("%v", err)
	}
}
