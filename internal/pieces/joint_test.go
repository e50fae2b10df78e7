package pieces

import (
	"bytes"
	"io"
	"math/rand/v2"
	"testing"
)

// TestJoint puts contents together again from an earlier one and from what travels, whatever was changed, and refuses joints that lead
// outside.
func TestJoint(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 9))
	noise := func(n int) []byte {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(r.Uint32())
		}
		return b
	}
	before := noise(3 << 20)
	many := bytes.Clone(before)
	for i := 0; i < len(many); i += 20_000 {
		many[i]++
	}
	for name, now := range map[string][]byte{
		"the same":       before,
		"another":        noise(1 << 20),
		"empty":          nil,
		"changed inside": bytes.Join([][]byte{before[:1<<20], noise(50_000), before[1<<20+40_000:]}, nil),
		"in many places": many,
		"turned round":   append(bytes.Clone(before[2<<20:]), before[:2<<20]...),
	} {
		t.Run(name, func(t *testing.T) {
			old, _ := Draw(bytes.NewReader(before))
			s, _ := Draw(bytes.NewReader(now))
			j := Join(Plan(s, []Source{{"before", old}}))
			text, err := j.MarshalText()
			if err != nil || len(text) > 7<<10 {
				t.Fatalf("%d bytes in a header, %v", len(text), err)
			}
			var read Joint
			if err := read.UnmarshalText(text); err != nil {
				t.Fatal(err)
			}
			size := func(string) int64 { return int64(len(before)) }
			if err := read.Verify(int64(len(now)), size); err != nil {
				t.Fatal(err)
			}
			travels := io.NewSectionReader(read.Travelling(bytes.NewReader(now)), 0, read.Travels())
			var whole []byte
			for _, p := range read.Parts {
				part := make([]byte, p[0])
				if p[1] < 0 {
					if _, err := io.ReadFull(travels, part); err != nil {
						t.Fatal(err)
					}
				} else {
					copy(part, before[p[2]:])
				}
				whole = append(whole, part...)
			}
			if !bytes.Equal(whole, now) {
				t.Error("what was put together is another content")
			}
			t.Logf("%d of %d bytes travel, %d parts", read.Travels(), len(now), len(read.Parts))
			if name == "changed inside" && read.Travels() > 80_000 {
				t.Errorf("%d bytes travel", read.Travels())
			}
		})
	}
	for _, j := range []Joint{
		{[]string{"a"}, [][3]int64{{10, 0, 95}}},
		{[]string{"a"}, [][3]int64{{10, 0, -1}}},
		{[]string{"a"}, [][3]int64{{10, 1, 0}}},
		{[]string{"a"}, [][3]int64{{10, -2, 0}}},
		{[]string{"gone"}, [][3]int64{{10, 0, 0}}},
		{nil, [][3]int64{{5, -1, 0}}},
		{nil, [][3]int64{{20, -1, 0}, {-10, -1, 0}}},
	} {
		if j.Verify(10, func(name string) int64 { return map[string]int64{"a": 100, "gone": -1}[name] }) == nil {
			t.Errorf("%v is taken", j)
		}
	}
}
