package page

import (
	"strings"
	"testing"
	"time"

	"havvel/internal/round"
)

// TestPage: every session, its clip and its marks are on the page, nothing is asked of elsewhere, and what strangers wrote is text.
func TestPage(t *testing.T) {
	maker := round.NewMaker(false)
	var plays []*round.Play
	err := round.Read(
		t.Context(),
		strings.NewReader(`{"round":1,"session":"a","opened":"2026-11-20T10:00:00Z","device":{"width":390,"height":844,"touch":true},"clip":9}
{"session":"a","n":1,"at":500,"kind":"clip"}
{"session":"a","n":2,"at":1000,"kind":"event","data":{"event":"level-begun","level":"<u>1"}}
{"session":"a","n":3,"at":5000,"kind":"frames","data":{"fps":48}}
{"session":"a","n":4,"at":7500,"kind":"event","data":{"event":"level-ended","level":"<u>1","won":false}}
{"session":"a","n":5,"at":8000,"kind":"error","data":{"message":"<script>alert(1)</script>"}}
{"session":"a","n":6,"at":9000,"kind":"answer","data":{"question":0,"answer":"4"}}
{"session":"a","n":7,"at":9000,"kind":"answer","data":{"question":1,"answer":"\"><img src=x>"}}
`),
		func(s *round.Session) error { plays = append(plays, maker.Add(s)); return nil },
	)
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	p := &Page{
		Title: "Tinderwick Lane", Version: "0.4.0", Opened: time.Now(), Until: time.Now(), Round: "0123456789", Report: maker.Report(),
		Plays: plays,
		Questions: []round.Question{
			{Ask: "Was it fun?", Kind: "scale"},
			{Ask: "What was odd?", Kind: "text"},
		}, Clips: map[string][]byte{"a": []byte("no film")},
	}
	if err := Write(&b, p); err != nil {
		t.Fatal(err)
	}
	text := b.String()
	for _, want := range []string{"<svg", "stopped at level &lt;u&gt;1", `data-at="6.0"`, `src="data:video/webm;base64,bm8gZmlsbQ=="`,
		"Was it fun?", "&lt;script&gt;alert"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %s on the page", want)
		}
	}
	for _, never := range []string{"<script>alert", "<img", "<u>1", "ZgotmplZ"} {
		if strings.Contains(text, never) {
			t.Errorf("%s is on the page", never)
		}
	}
	if n := strings.Count(text, "http"); n != strings.Count(text, "http://www.w3.org/")+strings.Count(text, "http-equiv") {
		t.Error("the page names other machines")
	}
}
