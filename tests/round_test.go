//go:build unix

package tests

import (
	"crypto/sha256"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"havvel/internal/demo/game"
)

// shed runs a playtest host, and a project that may send there.
func shed(t testing.TB) (hv func(args ...string) ending, project string) {
	t.Helper()
	data := filepath.Join(t.TempDir(), "shed")
	control, _, _ := hosting(t, data, "--port", "0")
	return letIn(t, control, "--data", data)
}

// letIn makes a project that may send to a playtest host, whose data the options name.
func letIn(t testing.TB, control string, data ...string) (hv func(args ...string) ending, project string) {
	t.Helper()
	_, project, _ = at(t, "brackwater", nil)
	token := strings.Fields(run(t, project, append([]string{"host", "token", "make", "moth"}, data...)...).must(t, 0).out)[0]
	key := fmt.Sprintf("SHED_KEY_%X", sha256.Sum256([]byte(token)))
	os.Setenv(key, token) // each test has its own name for it, so that they can run at the same time
	edit(t, project, "[[statistic]]",
		fmt.Sprintf("[to.shed]\nrulebook = \"shed\"\naddress = %q\nkey = \"env:%s\"\n\n[[statistic]]", control, key))
	return func(args ...string) ending { return runWith(t, project, nil, args...) }, project
}

// keyOf is the token with which a project may send to a playtest host.
func keyOf(t testing.TB, project string) string {
	t.Helper()
	name := regexp.MustCompile(`env:(SHED_KEY_\w+)`).FindStringSubmatch(snapshot(t, project)["/havvel.toml"])
	if name == nil {
		t.Fatal("the project has no key for a playtest host")
	}
	return os.Getenv(name[1])
}

type roundReport struct {
	Testers, Started, Finished int
	Simulated                  int
	First                      float64 `json:"first_picture"`
	Levels                     []struct {
		Level                 string
		Reached, Won, Stopped int
		Tries, Seconds        float64
	}
	Answers []struct{ Given []string }
	Presses int
	Errors  []struct{ Message, File string }
}

// reported is the report of the last round, with testers that are simulated.
func reported(t testing.TB, hv func(args ...string) ending) roundReport {
	t.Helper()
	return decode[roundReport](t, hv("round", "report", "--simulated", "--json").must(t, 0))
}

var clipBytes = regexp.MustCompile(`"clip":[1-9]\d*`)

var roundLink = regexp.MustCompile(`http://\S+/r/\w+`)

// firstRound is the id of the last round.
func firstRound(t testing.TB, hv func(args ...string) ending) string {
	t.Helper()
	return decode[struct{ Rounds []struct{ ID string } }](t, hv("round", "list", "--json").must(t, 0)).Rounds[0].ID
}

// TestRound: a round is opened, played in a real browser by somebody who doesn't agree and by somebody who does, with a clip; the report is
// right to the number, its page shows the session and plays the clip; the session is taken back, and the round closed.
func TestRound(t *testing.T) {
	t.Parallel()
	ctx, _ := browser(t, 1000, 900)
	hv, project := shed(t)
	hv("round", "report").must(t, 1, "there was no round of this game yet")
	hv("round", "open").must(t, 1, "nothing was sent to shed yet")
	hv("send", "--to", "shed").must(t, 0)
	writeInto(
		t,
		project,
		game.Files{
			"q.toml": []byte("[[question]]\nask = \"Was it fun?\"\nkind = \"scale\"\n[[question]]\nask = \"What was odd?\"\nkind = \"text\"\n"),
		},
	)
	hv("round", "open", "--questions", "q.toml", "--dry-run").must(t, 0, "would open", "2 questions")
	link := roundLink.FindString(
		hv(
			"round",
			"open",
			"--questions",
			"q.toml",
			"--until",
			"2h",
			"--most",
			"5",
			"--record",
			"--keep",
			"48h",
		).must(t, 0, "is open", "tell us how it went", "is deleted on", "next: paste").
			out,
	)
	hv("round", "report").must(t, 0, "0 testers agreed", "wait for testers")
	forPrograms := link + "#" + firstRound(t, hv)

	press := func(id string) chromedp.Action[chromedp.Void] { return chromedp.Click("#" + id) }
	until := func(words string, good func(roundReport) bool) (r roundReport) {
		t.Helper()
		eventually(t, words, func() (any, bool) { r = reported(t, hv); return r, good(r) })
		return r
	}
	if err := chromedp.Do(ctx, chromedp.Navigate(forPrograms)); err != nil {
		t.Fatal(err)
	}
	page, err := chromedp.Run(ctx, chromedp.Text("main"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Controls", "Turn a lantern", "They may also see a clip", "it is deleted"} {
		if !strings.Contains(page, want) {
			t.Errorf("testers don't read %q:\n%s", want, page)
		}
	}
	if err := chromedp.Do(ctx, press("alone"), chromedp.Sleep(2*time.Second)); err != nil {
		t.Fatal(err)
	}
	if r := reported(t, hv); r.Testers != 0 {
		t.Errorf("somebody who did not agree was watched: %+v", r)
	}
	if err := chromedp.Do(ctx, chromedp.Reload(), press("film"), press("allow")); err != nil {
		t.Fatal(err)
	}
	until("no level came", func(r roundReport) bool {
		do(t, ctx, chromedp.KeyEvent(kb.Enter)) // the title's button, then lanterns
		return r.Testers == 1 && r.Started == 1 && len(r.Levels) > 0
	})
	if r := decode[roundReport](t, hv("round", "report", "--json").must(t, 0)); r.Testers != 0 || r.Simulated != 1 {
		t.Errorf("what the owner's link says is simulated counts as a tester: %+v", r)
	}
	if err := chromedp.Do(ctx,
		chromedp.Evaluate[chromedp.Void](`document.querySelector("[name=q0][value='4']").click(); document.querySelector("[name=q1]").value `+
			`= "nothing <b>odd</b>"; document.querySelector("#form button").click()`)); err != nil {
		t.Fatal(err)
	}
	r := until("no answers came", func(r roundReport) bool { return len(r.Answers) == 2 })
	if r.Answers[0].Given[0] != "4" || r.Answers[1].Given[0] != "nothing <b>odd</b>" || r.First <= 0 {
		t.Errorf("%+v", r)
	}
	sizes := map[string]bool{}
	eventually(t, "no clip of three pieces came", func() (any, bool) {
		hv("round", "report", "--simulated", "--lines", "back.jsonl").must(t, 0)
		sizes[clipBytes.FindString(snapshot(t, project)["/back.jsonl"])] = true
		delete(sizes, "")
		return sizes, len(sizes) >= 3
	})
	hv(
		"round",
		"report",
		"--simulated",
		"--lines",
		"back.jsonl",
		"--table",
		"back.csv",
		"--page",
		"report.html",
	).must(t, 0, "simulated: no person played", "the page was opened 2 times", "1 tester simulated, 1 began to play", "level",
		"Was it fun?", "4: 1", "open report.html")
	if back, err := os.ReadFile(filepath.Join(project, "back.jsonl")); err != nil || !strings.Contains(string(back), "level-begun") ||
		!strings.Contains(string(back), `"clip":`) || !strings.Contains(string(back), `"presses"`) ||
		strings.Contains(string(back), "127.0.0.1") {
		t.Errorf("%v\n%s", err, back)
	}
	if back, err := os.ReadFile(filepath.Join(project, "back.csv")); err != nil || !strings.Contains(string(back), "level-begun") {
		t.Errorf("%v\n%s", err, back)
	}
	watch(t, ctx, filepath.Join(project, "report.html"))

	hv("round", "list").must(t, 0, "0.4.0", "open until", link, "0 (1 simulated)")
	// Taken back in a later visit, when the round is over. Who comes back meanwhile goes on in the same session.
	if err := chromedp.Do(ctx, chromedp.Navigate(link), press("allow")); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the same tester did not come back", func() (any, bool) {
		hv("round", "report", "--simulated", "--lines", "back.jsonl").must(t, 0)
		back := snapshot(t, project)["/back.jsonl"]
		return back, strings.Contains(back, `"reloaded"`)
	})
	if r := reported(t, hv); r.Testers != 1 {
		t.Errorf("a tester who came back is %d", r.Testers)
	}
	hv("round", "close").must(t, 0, "is closed")
	if err := chromedp.Do(ctx, chromedp.Navigate(link), press("back")); err != nil {
		t.Fatal(err)
	}
	until("what was taken back is still there", func(r roundReport) bool { return r.Testers == 0 && len(r.Levels) == 0 })
	hv("round", "close", "--forget").must(t, 0, "is closed, and nothing had come back")
	if status, page := get(t, link); status != http.StatusGone || !strings.Contains(page, "This round is over") {
		t.Errorf("a closed round: %d", status)
	}
	hv("round", "list").must(t, 0, "over")
	hv("round", "close", "zzzz").must(t, 2, `there is no round "zzzz"`)
}

// TestAgainst: two rounds of known testers beside each other; what ten can't tell is said to be so, what they can is told.
func TestAgainst(t *testing.T) {
	hv, _ := shed(t)
	hv("send", "--to", "shed", "--only", "build").must(t, 0)
	type event = map[string]any
	played := func(link string, won bool, length int) {
		t.Helper()
		_, body := posting(link+"/sessions", map[string]any{"device": map[string]any{"width": 1280, "height": 720}})
		session := strings.Split(string(body), `"`)[3]
		list := []sentEvent{
			{1, 800, "shown", nil},
			{2, 1000, "event", event{"event": "level-begun", "level": 1}},
			{3, 3000, "event", event{"event": "level-ended", "level": 1, "won": true}},
			{4, 4000, "event", event{"event": "level-begun", "level": 2}},
		}
		if won {
			list = append(list, sentEvent{5, 4000 + length, "event", event{"event": "level-ended", "level": 2, "won": true}})
		}
		if status, body := posting(link+"/sessions/"+session+"/events", map[string]any{"events": list}); status != 200 {
			t.Fatalf("%d %s", status, body)
		}
	}
	first := decode[struct{ ID, Link string }](t, hv("round", "open", "--json").must(t, 0))
	for i := range 10 {
		played(first.Link, i < 6, 60_000+i*2000)
	}
	second := decode[struct{ ID, Link string }](t, hv("round", "open", "--json").must(t, 0))
	for i := range 10 {
		played(second.Link, i < 8, 20_000+i*2000)
	}
	hv(
		"round",
		"report",
		second.ID[:8],
		"--against",
		first.ID[:8],
	).must(t, 0, "10 testers agreed to share, 10 began to play (72", "8 won the last level", "against 0.4.0", "level 2: won it",
		"can't tell: from 19 points less to 52 points more", "level 2: time", "less, by", "the same", "too few to know a change from chance")
	type change struct {
		Figure, Level string
		Before, After float64
		Sure          bool
	}
	doc := decode[struct{ Changes []change }](t, hv("round", "report", second.ID, "--against", first.ID, "--json").must(t, 0))
	found := false
	for _, c := range doc.Changes {
		found = found || c == change{"time", "2", 65, 27, true}
	}
	if !found {
		t.Errorf("%+v", doc.Changes)
	}
	hv("round", "report", "--against", "zzzz").must(t, 2, `there is no round "zzzz"`)
}

// TestRoundLoss: a tester plays on while the host is away for a while; the page keeps what happened, and tells it when the host is back.
func TestRoundLoss(t *testing.T) {
	t.Parallel()
	ctx, _ := browser(t, 1000, 900)
	data, port := filepath.Join(t.TempDir(), "shed"), freePort(t)
	control, _, kill := hosting(t, data, "--port", port)
	hv, _ := letIn(t, control, "--data", data)
	hv("send", "--to", "shed", "--only", "build").must(t, 0)
	opened := decode[struct{ ID, Link string }](t, hv("round", "open", "--json").must(t, 0))
	link := opened.Link + "#" + opened.ID
	if err := chromedp.Do(ctx, chromedp.Navigate(link), chromedp.Click("#allow")); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the game shows nothing", func() (any, bool) { r := reported(t, hv); return r, r.First > 0 })
	time.Sleep(2 * time.Second) // for the game's title
	kill(os.Kill)
	if err := chromedp.Do(ctx, chromedp.KeyEvent(kb.Enter), chromedp.Sleep(4*time.Second)); err != nil { // the first level begins
		t.Fatal(err)
	}
	hosting(t, data, "--port", port)
	eventually(t, "what happened meanwhile did not come", func() (any, bool) {
		r := reported(t, hv)
		return r, len(r.Levels) == 1 && r.Levels[0].Reached == 1 && r.Started == 1
	})
}

// TestAnswersWait: answers that can't be sent wait in the browser, when the page is closed and when the round ends meanwhile; the page says
// that they are kept only when they are. A tester who reloads the page goes on in the same session.
func TestAnswersWait(t *testing.T) {
	t.Parallel()
	ctx, _ := browser(t, 1000, 900)
	data, port := filepath.Join(t.TempDir(), "shed"), freePort(t)
	control, _, kill := hosting(t, data, "--port", port)
	hv, project := letIn(t, control, "--data", data)
	hv("send", "--to", "shed", "--only", "build").must(t, 0)
	writeInto(t, project, game.Files{"q.toml": []byte("[[question]]\nask = \"What was odd?\"\nkind = \"text\"\n")})
	link := decode[struct{ Link string }](t, hv("round", "open", "--questions", "q.toml", "--json").must(t, 0)).Link
	report := func() roundReport { return decode[roundReport](t, hv("round", "report", "--json").must(t, 0)) }
	said := func(words string) {
		t.Helper()
		eventually(t, "testers don't read "+words, func() (any, bool) {
			text, err := chromedp.Run(ctx, chromedp.Text("main"))
			return text, err == nil && strings.Contains(text, words)
		})
	}
	for range 2 {
		if err := chromedp.Do(ctx, chromedp.Navigate(link), chromedp.Click("#allow")); err != nil {
			t.Fatal(err)
		}
		said("The makers see how it goes")
		eventually(t, "the game shows nothing", func() (any, bool) { r := report(); return r, r.First > 0 })
	}
	if r := report(); r.Testers != 1 {
		t.Errorf("one tester who reloads is %d", r.Testers)
	}
	kill(os.Kill)
	answer := strings.Repeat("\U0001F98B", 1000) // as long as the form takes
	if err := chromedp.Do(ctx, chromedp.Evaluate[chromedp.Void](
		`document.querySelector("[name=q0]").value = "`+answer+`"; document.querySelector("#form button").click()`)); err != nil {
		t.Fatal(err)
	}
	said("Your answers wait in this browser")
	if err := chromedp.Do(ctx, chromedp.Navigate("about:blank")); err != nil {
		t.Fatal(err)
	}
	hosting(t, data, "--port", port)
	hv("round", "close").must(t, 0)
	if err := chromedp.Do(ctx, chromedp.Navigate(link)); err != nil {
		t.Fatal(err)
	}
	said("This round is over")
	said("Your answers are kept")
	if r := report(); len(r.Answers) != 1 || len(r.Answers[0].Given) != 1 || r.Answers[0].Given[0] != answer || r.Testers != 1 {
		t.Errorf("%.300v", r)
	}
}
