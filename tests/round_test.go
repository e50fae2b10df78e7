package tests

import (
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

// shed runs a playtest host, and a project whose version was sent there.
func shed(t *testing.T) (hv func(args ...string) ending, project string) {
	t.Helper()
	data := filepath.Join(t.TempDir(), "shed")
	control, _, _ := hosting(t, data, "--port", "0")
	_, project, _ = at(t, "brackwater", nil)
	edit(t, project, "[[statistic]]", fmt.Sprintf("[to.shed]\nrulebook = \"shed\"\naddress = %q\n\n[[statistic]]", control))
	token := strings.Fields(run(t, project, "host", "token", "make", "moth", "--data", data).must(t, 0).out)[0]
	return func(args ...string) ending { return runWith(t, project, []string{"SHED_KEY=" + token}, args...) }, project
}

type roundReport struct {
	Testers, Started, Finished int
	Levels                     []struct {
		Level                 string
		Reached, Won, Stopped int
		Tries, Seconds        float64
	}
	Answers []struct{ Given []string }
}

var roundLink = regexp.MustCompile(`http://\S+/r/\w+`)

// TestRound: a round is opened, played in a real browser by somebody who agrees and by somebody who doesn't, answered, reported, taken
// back, and closed.
func TestRound(t *testing.T) {
	ctx, problems := browser(t, 1000, 900)
	hv, project := shed(t)
	hv("round", "report").must(t, 1, "there was no round of this game yet")
	hv("round", "open").must(t, 1, "nothing was sent to shed yet")
	hv("send", "--to", "shed").must(t, 0)
	writeInto(t, project, game.Files{"q.toml": []byte("[[question]]\nask = \"Was it fun?\"\nkind = \"scale\"\n[[question]]\nask = \"What was odd?\"\nkind = \"text\"\n")})
	hv("round", "open", "--questions", "q.toml", "--dry-run").must(t, 0, "would open", "2 questions")
	link := roundLink.FindString(hv("round", "open", "--questions", "q.toml", "--until", "2h", "--most", "5").must(t, 0, "is open", "tell us how it went", "next: paste").out)
	hv("round", "report").must(t, 0, "0 testers agreed", "wait for testers")

	press := func(id string) chromedp.Action[chromedp.Void] { return chromedp.Click("#" + id) }
	until := func(words string, good func(roundReport) bool) roundReport {
		t.Helper()
		var r roundReport
		for end := time.Now().Add(25 * time.Second); time.Now().Before(end); time.Sleep(500 * time.Millisecond) {
			if r = decode[roundReport](t, hv("round", "report", "--json").must(t, 0)); good(r) {
				return r
			}
		}
		t.Fatalf("%s: %+v %v", words, r, problems())
		return r
	}
	if err := chromedp.Do(ctx, chromedp.Navigate(link), press("alone"), chromedp.Sleep(2*time.Second)); err != nil {
		t.Fatal(err)
	}
	if r := decode[roundReport](t, hv("round", "report", "--json").must(t, 0)); r.Testers != 0 {
		t.Errorf("somebody who did not agree was watched: %+v", r)
	}
	if err := chromedp.Do(ctx, chromedp.Navigate(link), press("allow"), chromedp.Sleep(4*time.Second)); err != nil {
		t.Fatal(err)
	}
	for range 3 { // the title's button, then lanterns
		if err := chromedp.Do(ctx, chromedp.KeyEvent(kb.Enter), chromedp.Sleep(time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	until("no level came", func(r roundReport) bool { return r.Testers == 1 && r.Started == 1 && len(r.Levels) > 0 })
	if err := chromedp.Do(ctx, chromedp.Evaluate[chromedp.Void](`document.querySelector("[name=q0][value='4']").click(); document.querySelector("[name=q1]").value = "nothing <b>odd</b>"; document.querySelector("#form button").click()`)); err != nil {
		t.Fatal(err)
	}
	r := until("no answers came", func(r roundReport) bool { return len(r.Answers) == 2 })
	if r.Answers[0].Given[0] != "4" || r.Answers[1].Given[0] != "nothing <b>odd</b>" {
		t.Errorf("%+v", r)
	}
	hv("round", "report", "--lines", "back.jsonl").must(t, 0, "1 tester agreed to be watched, 1 began to play", "level", "question 1: 1 answer")
	if back, err := os.ReadFile(filepath.Join(project, "back.jsonl")); err != nil || !strings.Contains(string(back), "level-begun") || strings.Contains(string(back), "127.0.0.1") {
		t.Errorf("%v\n%s", err, back)
	}
	if err := chromedp.Do(ctx, press("back"), chromedp.Sleep(time.Second)); err != nil {
		t.Fatal(err)
	}
	if r := decode[roundReport](t, hv("round", "report", "--json").must(t, 0)); r.Testers != 0 || len(r.Levels) != 0 {
		t.Errorf("what was taken back is still there: %+v", r)
	}
	hv("round", "list").must(t, 0, "0.4.0", "open until", link)
	hv("round", "close").must(t, 0, "is closed")
	if status, page := get(t, link); status != http.StatusGone || !strings.Contains(page, "This round is over") {
		t.Errorf("a closed round: %d", status)
	}
	hv("round", "list").must(t, 0, "over")
	hv("round", "close", "zzzz").must(t, 2, `there is no round "zzzz"`)
}
