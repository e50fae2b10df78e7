package round

import (
	"fmt"
	"reflect"
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
	return fmt.Sprintf(`%d moment {"moment":"level-begun","level":%d}`, at, level)
}
func ended(at, level int, won bool) string {
	return fmt.Sprintf(`%d moment {"moment":"level-ended","level":%d,"won":%v}`, at, level, won)
}

// TestReport: a known set of sessions, and every number that follows from it.
func TestReport(t *testing.T) {
	desk, phone, robot := `{"width":1280,"height":720}`, `{"width":390,"height":844,"touch":true}`, `{"robot":1}`
	text := lines(
		[]string{desk, `0 moment {"moment":"play-begun"}`, begun(1000, 1), ended(5000, 1, true), begun(6000, 2), ended(9000, 2, false), begun(9500, 2), ended(16000, 2, true), `16100 frames {"fps":60}`, `17000 frames {"fps":50}`, `18000 answer {"question":0,"answer":"4"}`},
		[]string{phone, begun(500, 1), ended(8500, 1, true), begun(9000, 2), ended(20000, 2, false), `21000 error {"message":"lost"}`, `22000 error {"message":"lost"}`, `23000 frames {"fps":30}`, `24000 left null`},
		[]string{desk, begun(100, 1), `300 error {"message":"lost"}`, `400 error {"message":"other"}`, `500 frames {"fps":40}`, `600 answer {"question":0,"answer":"2"}`, `700 answer {"question":1,"answer":"too dark"}`},
		[]string{desk},
		[]string{robot, begun(100, 1), ended(200, 1, true), begun(300, 10), ended(400, 10, true)},
	)
	sessions, err := Read(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	want := &Report{
		Testers: 4, Started: 3, Finished: 1, Simulated: 1,
		Levels:  []Level{{"1", 3, 2, 1, 1, 6}, {"2", 2, 1, 1, 2, 10}},
		Frames:  []Frames{{"desk", 2, 47.5, 40}, {"phone", 1, 30, 30}},
		Errors:  []Error{{"lost", 2, 3}, {"other", 1, 1}},
		Answers: []Answer{{0, []string{"4", "2"}}, {1, []string{"too dark"}}},
	}
	if got := Make(sessions); !reflect.DeepEqual(got, want) {
		t.Errorf("%+v\nwant\n%+v", got, want)
	}
}

// TestReadOdd: what is cut, of a later format, or of another form is said, or says nothing.
func TestReadOdd(t *testing.T) {
	for text, says := range map[string]string{
		`{"round":9,"session":"a"}`:                                  "of format 9",
		`{"session":"a","n":1,"kind":"moment"}`:                      "a session that did not begin",
		`{"round":1,"session":"a"`:                                   "line 1",
		`{"round":1,"session":"a"}` + "\n" + `{"session":"b","n":1}`: "line 2",
	} {
		if _, err := Read(strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", text, err)
		}
	}
	odd := lines([]string{`[1]`, `5 moment "level-begun"`, `6 moment {"moment":5,"level":{}}`, `7 frames {"fps":"many"}`, `8 answer {"question":-1}`, `9 answer {"question":1e9,"answer":"x"}`, `10 unknown {}`, ended(11, 3, true)})
	sessions, err := Read(strings.NewReader(odd))
	if err != nil {
		t.Fatal(err)
	}
	if got := Make(sessions); got.Testers != 1 || got.Started != 0 || len(got.Levels)+len(got.Frames)+len(got.Errors)+len(got.Answers) != 0 {
		t.Errorf("%+v", got)
	}
}

// TestLevelOrder: levels that are named, and numbered ones in their order.
func TestLevelOrder(t *testing.T) {
	sessions, err := Read(strings.NewReader(lines([]string{`{}`, begun(1, 10), begun(2, 9), begun(3, 2)}, []string{`{}`, begun(1, 1)})))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, l := range Make(sessions).Levels {
		names = append(names, l.Name)
	}
	if strings.Join(names, " ") != "1 2 9 10" {
		t.Errorf("%v", names)
	}
}
