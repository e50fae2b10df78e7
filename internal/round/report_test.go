package round

import (
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"testing"
)

// lines are the export of a round: a session each, of events "at kind data".
func lines(sessions ...[]string) string {
	var b strings.Builder
	for i, s := range sessions {
		fmt.Fprintf(&b, `{"round":1,"session":"s%d","device":%s,"simulated":%v}`+"\n", i, s[0], strings.Contains(s[0], "robot"))
		for n, e := range s[1:] {
			at, rest, _ := strings.Cut(e, " ")
			kind, data, _ := strings.Cut(rest, " ")
			fmt.Fprintf(&b, `{"session":"s%d","n":%d,"at":%s,"kind":%q,"data":%s}`+"\n", i, n+1, at, kind, data)
		}
	}
	return b.String()
}

func begun(at, level int) string {
	return fmt.Sprintf(`%d event {"event":"level-begun","level":%d}`, at, level)
}
func ended(at, level int, won bool) string {
	return fmt.Sprintf(`%d event {"event":"level-ended","level":%d,"won":%v}`, at, level, won)
}

func read(t *testing.T, text string) (list []*Session) {
	t.Helper()
	if err := Read(t.Context(), strings.NewReader(text), func(s *Session) error { list = append(list, s); return nil }); err != nil {
		t.Fatal(err)
	}
	return list
}

// reported is the report of sessions.
func reported(list []*Session, simulated bool) *Report {
	m := NewMaker(simulated)
	for _, s := range list {
		m.Add(s)
	}
	r := m.Report()
	r.samples, r.Within, r.Stayed = samples{}, Within{}, nil // TestIntervals
	for i := range r.Levels {
		l := &r.Levels[i]
		l.WonWithin, l.StoppedWithin, l.SecondsWithin = Interval{}, Interval{}, Interval{}
	}
	for i := range r.Frames {
		r.Frames[i].Within = Interval{}
	}
	return r
}

// TestReport: a known set of sessions, and every number that follows from it.
func TestReport(t *testing.T) {
	desktop, phone, robot := `{"width":1280,"height":720}`, `{"width":390,"height":844,"touch":true}`, `{"robot":1}`
	text := lines(
		[]string{
			desktop,
			`400 shown null`,
			`500 event {"event":"play-begun"}`,
			begun(1000, 1),
			ended(5000, 1, true),
			begun(6000, 2),
			ended(9000, 2, false),
			begun(9500, 2),
			`10000 paused null`,
			`11500 resumed null`,
			ended(16000, 2, true),
			`16100 frames {"fps":60}`,
			`17000 frames {"fps":50}`,
			`18000 answer {"question":0,"answer":"4"}`,
		},
		[]string{
			phone,
			begun(500, 1),
			ended(8500, 1, true),
			begun(9000, 2),
			ended(20000, 2, false),
			`21000 error {"message":"lost"}`,
			`22000 error {"message":"lost"}`,
			`23000 frames {"fps":30}`,
			`24000 left null`,
		},
		[]string{
			desktop,
			begun(100, 1),
			`300 error {"message":"lost"}`,
			`400 error {"message":"other"}`,
			`500 frames {"fps":40}`,
			`600 answer {"question":0,"answer":"2"}`,
			`700 answer {"question":1,"answer":"too dark"}`,
		},
		[]string{desktop},
		[]string{robot, begun(100, 1), ended(200, 1, true), begun(300, 10), ended(400, 10, true)},
	)
	sessions := read(t, text)
	want := &Report{
		Testers: 4, Started: 3, Finished: 1, Simulated: 1, Seconds: 15.5, Pauses: 1, Shown: 0.4,
		Levels: []Level{
			{Name: "1", Reached: 3, Won: 2, Stopped: 1, Tries: 1, Seconds: 6, PerWin: 1.5, Cost: 6.2, Failed: 1, Hard: []string{}},
			{Name: "2", Reached: 2, Won: 1, Stopped: 1, Tries: 2, Seconds: 8, PerWin: 3, Cost: 19, Failed: 2, Hard: []string{}},
		},
		Frames: []Frames{
			{Class: "desktop", Testers: 2, Median: 47.5, Worst: 40}, {Class: "phone", Testers: 1, Median: 30, Worst: 30},
		},
		Errors: []Error{
			{Message: "lost", Testers: 2, Times: 3, On: []string{"phone", "desktop"}}, {Message: "other", Testers: 1, Times: 1, On: []string{"desktop"}},
		},
		Heat:    []int{},
		Answers: []Answer{{0, []string{"4", "2"}}, {1, []string{"too dark"}}},
	}
	if got := reported(sessions, false); !reflect.DeepEqual(got, want) {
		t.Errorf("%+v\nwant\n%+v", got, want)
	}
}

// TestReadOdd: what is cut, of a later format, or of another form is said, or says nothing.
func TestReadOdd(t *testing.T) {
	for text, says := range map[string]string{
		`{"round":9,"session":"a"}`:                                  "of format 9",
		`{"session":"a","n":1,"kind":"event"}`:                       "a session that did not begin",
		`{"round":1,"session":"a"`:                                   "line 1",
		`{"round":1,"session":"a"}` + "\n" + `{"session":"b","n":1}`: "line 2",
	} {
		if err := Read(t.Context(), strings.NewReader(text), func(*Session) error { return nil }); err == nil ||
			!strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", text, err)
		}
	}
	odd := lines(
		[]string{
			`[1]`,
			`5 event "level-begun"`,
			`6 event {"event":5,"level":{}}`,
			`7 frames {"fps":"many"}`,
			`8 answer {"question":-1}`,
			`9 answer {"question":1e9,"answer":"x"}`,
			`10 unknown {}`,
			ended(11, 3, true),
		},
	)
	sessions := read(t, odd)
	if got := reported(sessions, false); got.Testers != 1 || got.Started != 0 ||
		len(got.Levels)+len(got.Frames)+len(got.Errors)+len(got.Answers) != 0 {
		t.Errorf("%+v", got)
	}
}

// TestLevelOrder: levels that are named, and numbered ones in their order.
func TestLevelOrder(t *testing.T) {
	sessions := read(t, lines([]string{`{}`, begun(1, 10), begun(2, 9), begun(3, 2)}, []string{`{}`, begun(1, 1)}))
	var names []string
	for _, l := range reported(sessions, false).Levels {
		names = append(names, l.Name)
	}
	if strings.Join(names, " ") != "1 2 9 10" {
		t.Errorf("%v", names)
	}
}

// TestCompare: ten testers can't tell a small difference; a large one is told; the intervals are those of the literature.
func TestCompare(t *testing.T) {
	of := func(won, reached int, seconds ...float64) *Report {
		return &Report{
			Testers: reached,
			Started: reached,
			Levels:  []Level{{Name: "3"}},
			samples: samples{frames: map[string][]float64{}, levels: map[string]*levelSums{"3": {reached: reached, won: won, seconds: seconds}}},
		}
	}
	find := func(list []Change, figure string) Change {
		for _, c := range list {
			if c.Figure == figure {
				return c
			}
		}
		t.Fatalf("%s is not compared: %+v", figure, list)
		return Change{}
	}
	few := Compare(of(4, 10, 20, 30, 40), of(7, 10, 10, 15, 20))
	if c := find(few, "won it"); c.Sure || !c.Known || c.Words() != "can't tell: from 12 points less to 60 points more" {
		t.Errorf("%+v %s", c, c.Words())
	}
	if c := find(few, "time"); c.Known || c.Words() != "can't tell: too few testers" {
		t.Errorf("three and three have no interval: %+v", c)
	}
	// Newcombe 1998, table II: 56 of 70 less 48 of 80 is 0.2, from 0.0524 to 0.3339 by method 10.
	if c := share("", "", 48, 80, 56, 70); math.Abs(c.Low-5.24) > 0.01 || math.Abs(c.High-33.39) > 0.01 || !c.Sure {
		t.Errorf("%+v", c)
	}
	// Tables of the rank sum: critical values of U at 5 %, two-sided, are 2 for 5 and 5, 23 for 10 and 10, 127 for 20 and 20.
	for n, u := range map[[2]int]int{{5, 5}: 2, {10, 10}: 23, {20, 20}: 127, {4, 4}: 0, {3, 3}: -1, {8, 12}: 22} {
		if k := rankQuantile(n[0], n[1]); k != u+1 {
			t.Errorf("%v: %d, want %d", n, k, u+1)
		}
	}
	slow, fast := []float64{50, 52, 54, 56, 58, 60}, []float64{20, 22, 24, 26, 28, 30}
	if c := find(Compare(of(6, 6, slow...), of(6, 6, fast...)), "time"); !c.Sure || c.Words() != "less, by 24s to 36s" {
		t.Errorf("%+v %s", c, c.Words())
	}
}

// TestTable: what strangers write is no formula in a spreadsheet.
func TestTable(t *testing.T) {
	var b strings.Builder
	table, err := NewTable(&b)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range read(t, lines([]string{`{"width":1280}`, begun(1, 3),
		`9 answer {"question":0,"answer":"=HYPERLINK(\"http://shed.example\")"}`, `12 event {"event":"statistic","name":"score","value":-4}`})) {
		if err := table.Add(s); err != nil {
			t.Fatal(err)
		}
	}
	if err := table.Close(); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"session,opened,class", "s0,0001-01-01T00:00:00Z,desktop,false,1,1,event,level-begun,3,",
		`"'=HYPERLINK(""http://shed.example"")"`, "score,-4"} {
		if !strings.Contains(b.String(), want) {
			t.Errorf("no %s in:\n%s", want, b.String())
		}
	}
}

// TestNoHooks: a game that says nothing of itself is begun with the first press after its first picture; presses are counted, and where; errors
// of one place are one, whatever their words.
func TestNoHooks(t *testing.T) {
	phone := `{"width":390,"height":844,"touch":true,"browser":"Firefox 140","system":"Android 15"}`
	stack := func(n string) string {
		return `"message":"no level ` + n + `","stack":"Error: no level ` + n + `\n    at load (https://g.example/p/` + n + `/game.js:3:9)\n    at run (https://g.example/p/` + n + `/game.js:9:1)"`
	}
	r := reported(read(t, lines(
		[]string{phone, `400 shown null`, `900 presses {"count":1,"cells":"20:1"}`, `9000 presses {"count":12,"cells":"20:3 143:1 999:5 x:1 -1:4"}`, `9500 error {` + stack("one") + `}`},
		[]string{phone, `900 presses {"count":1,"cells":"0:1"}`, `9500 error {` + stack("two") + `}`}, // nothing was seen yet
		[]string{phone, `400 shown null`, `500 event {"event":"loading-done"}`, `900 presses {"count":4,"cells":""}`},
		[]string{phone, `400 shown null`},
		[]string{phone, `100 presses {"count":1,"cells":""}`, `400 shown null`}, // pressed before anything was seen
	)), false)
	if r.Testers != 5 || r.Started != 1 || r.Inferred != 1 || r.Presses != 19 || len(r.Heat) != Cells || r.Heat[20] != 4 || r.Heat[143] != 1 || r.Heat[0] != 1 {
		t.Errorf("%+v", r)
	}
	if len(r.Errors) != 1 || r.Errors[0].Testers != 2 || r.Errors[0].On[0] != "phone, Firefox 140, Android 15" {
		t.Errorf("%+v", r.Errors)
	}
}

// TestStayed: how many played for how long, until nobody does.
func TestStayed(t *testing.T) {
	list := stayed([]float64{5, 12, 45, 45, 130})
	var got []int
	for _, s := range list {
		got = append(got, s.Testers)
	}
	if want := []int{4, 3, 3, 1, 1, 0}; !slices.Equal(got, want) || !list[0].Within.Known || list[0].Within.Low > .8 || list[0].Within.High < .8 {
		t.Errorf("%v, want %v: %+v", got, want, list[0])
	}
	if len(stayed(nil)) > 0 {
		t.Error("nobody stayed")
	}
}
