package pieces

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
)

func noise(seed uint64, n int) []byte {
	r := rand.NewChaCha8([32]byte{byte(seed)})
	data := make([]byte, n)
	r.Read(data)
	return data
}

// TestCutLengths: pieces are as long as promised, and put together they are the content, whatever that is like.
func TestCutLengths(t *testing.T) {
	for name, data := range map[string][]byte{
		"noise": noise(1, 3<<20), "zeros": make([]byte, 1<<20), "empty": nil, "one byte": {7}, "short": noise(2, 300),
		"a pattern": bytes.Repeat([]byte("every lantern on the lane "), 40_000),
	} {
		const average = 1 << 12
		var whole []byte
		var lengths []int
		if err := Cut(bytes.NewReader(data), average, func(p []byte) error {
			whole, lengths = append(whole, p...), append(lengths, len(p))
			return nil
		}); err != nil || !bytes.Equal(whole, data) {
			t.Errorf("%s: the pieces are not the content (%v)", name, err)
		}
		for i, n := range lengths {
			if n > 4*average || n <= average/4 && i < len(lengths)-1 {
				t.Errorf("%s: piece %d has %d bytes", name, i, n)
			}
		}
		if name == "noise" && (len(lengths) < len(data)/average/2 || len(lengths) > 2*len(data)/average) {
			t.Errorf("%d pieces of %d bytes", len(lengths), len(data))
		}
	}
}

// TestPlan: what a change costs is little more than itself, wherever it is; and what the plan makes is the content.
func TestPlan(t *testing.T) {
	was := noise(3, 8<<20)
	for name, c := range map[string]struct {
		is   []byte
		most int // bytes that no source has
	}{
		"the same":             {was, 0},
		"bytes changed":        {splice(was, 3<<20, 1<<20, noise(4, 1<<20)), 1<<20 + 64<<10},
		"bytes put in":         {splice(was, 5<<20, 0, noise(5, 100)), 64 << 10},
		"bytes taken out":      {splice(was, 100, 4<<20, nil), 64 << 10},
		"bytes before":         {append(noise(6, 999), was...), 64 << 10},
		"parts changed places": {append(bytes.Clone(was[4<<20:]), was[:4<<20]...), 64 << 10},
		"nothing in common":    {noise(7, 1<<20), 1 << 20},
		"twice the same":       {append(bytes.Clone(was), was...), 64 << 10},
	} {
		sources := map[string][]byte{"other": noise(8, 1<<20), "was": was}
		ranges := Plan(draw(t, c.is), []Source{{"other", draw(t, sources["other"])}, {"was", draw(t, was)}})
		var made []byte
		anew := 0
		for _, r := range ranges {
			if r.At != int64(len(made)) {
				t.Fatalf("%s: a range begins at %d, and %d bytes are there", name, r.At, len(made))
			}
			if r.From == "" {
				made = append(made, c.is[r.At:r.At+r.Bytes]...)
				anew += int(r.Bytes)
			} else {
				made = append(made, sources[r.From][r.Offset:r.Offset+r.Bytes]...)
			}
		}
		if !bytes.Equal(made, c.is) {
			t.Errorf("%s: what the plan makes is something else", name)
		}
		if anew > c.most {
			t.Errorf("%s: %d bytes are new, and at most %d need be", name, anew, c.most)
		}
	}
}

func draw(t *testing.T, data []byte) Sketch {
	t.Helper()
	s, err := Draw(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// splice is data with some bytes from a place on replaced.
func splice(data []byte, at, without int, by []byte) []byte {
	return bytes.Join([][]byte{data[:at], by, data[at+without:]}, nil)
}

// TestBook: a sketch that was kept comes back; one that is damaged doesn't; and the folder doesn't grow without end.
func TestBook(t *testing.T) {
	b := Book{t.TempDir()}
	key := func(i int) string { return fmt.Sprintf("%x", sha256.Sum256([]byte{byte(i), byte(i >> 8)})) }
	s := draw(t, noise(9, 1<<20))
	for i := range mostKept + 20 {
		if err := b.Keep(key(i), s); err != nil {
			t.Fatal(err)
		}
	}
	if got := b.Find(key(mostKept + 10)); len(got) != len(s) || got[3] != s[3] {
		t.Errorf("%d pieces came back, of %d", len(got), len(s))
	}
	if entries, _ := os.ReadDir(b.Folder); len(entries) != mostKept {
		t.Errorf("%d are kept", len(entries))
	}
	at := filepath.Join(b.Folder, key(mostKept+10))
	data, _ := os.ReadFile(at)
	data[40] ^= 1
	os.WriteFile(at, data, 0o644)
	if b.Find(key(mostKept+10)) != nil {
		t.Error("a damaged sketch is believed")
	}
}

func BenchmarkDraw(b *testing.B) {
	data := noise(10, 32<<20)
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		Draw(bytes.NewReader(data))
	}
}
