package round

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// many are the lines of sessions with as many events as a long round has.
func many(sessions, each int) string {
	random := rand.New(rand.NewPCG(3, 4))
	var b strings.Builder
	for s := range sessions {
		fmt.Fprintf(
			&b,
			`{"round":1,"session":"session-%020d","opened":"2026-11-20T10:00:00Z","device":{"width":1280,"height":720,"ratio":1,"touch":false,`+
				`"memory":8}}`+"\n",
			s,
		)
		for n := 1; n <= each; n++ {
			data := fmt.Sprintf(`"kind":"frames","data":{"fps":%.1f}`, 30+30*random.Float64())
			switch n % 5 {
			case 0:
				data = fmt.Sprintf(`"kind":"event","data":{"event":"level-begun","level":%d}`, 1+n/500)
			case 1:
				data = fmt.Sprintf(`"kind":"event","data":{"event":"level-ended","level":%d,"won":%v}`, 1+(n-1)/500, random.IntN(3) == 0)
			}
			fmt.Fprintf(&b, `{"session":"session-%020d","n":%d,"at":%d,%s}`+"\n", s, n, n*200, data)
		}
	}
	return b.String()
}

// BenchmarkReport reads a million events, beside which their lines are only counted.
func BenchmarkReport(b *testing.B) {
	text := many(200, 5000)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		maker := NewMaker(false)
		if err := Read(b.Context(), strings.NewReader(text), func(s *Session) error { maker.Add(s); return nil }); err != nil {
			b.Fatal(err)
		}
		if r := maker.Report(); r.Testers != 200 {
			b.Fatal(r.Testers)
		}
	}
}

// FuzzRead reads what a host, or somebody in its place, answers.
func FuzzRead(f *testing.F) {
	f.Add([]byte(many(2, 12)))
	f.Add(
		[]byte(lines([]string{`[1]`, `5 event "level-begun"`, `6 event {"event":5,"level":{}}`, `8 answer {"question":-1}`, `10 clip null`})),
	)
	f.Fuzz(func(t *testing.T, data []byte) {
		maker := NewMaker(false)
		events := 0
		err := Read(t.Context(), bytes.NewReader(data), func(s *Session) error {
			events += len(s.Events)
			maker.Add(s)
			return nil
		})
		r := maker.Report()
		Compare(r, r)
		if n := bytes.Count(data, []byte{'\n'}) + 1; err == nil && (events > n || r.Testers+r.Simulated > n) {
			t.Errorf("%d events and %d sessions of %d lines", events, r.Testers, n)
		}
		for _, l := range r.Levels {
			if l.Won > l.Reached || l.Stopped > l.Reached || l.Seconds < 0 {
				t.Errorf("%+v", l)
			}
		}
	})
}
