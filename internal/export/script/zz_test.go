package script

import (
	"fmt"
	"os"
	"testing"
)

func TestZZ(t *testing.T) {
	if os.Getenv("ZZ") == "" {
		t.Skip()
	}
	d, _ := os.ReadFile(os.Getenv("ZZ"))
	s := Read(d)
	fmt.Println("unparsed", s.Unparsed)
	for _, l := range s.Links {
		fmt.Println(l.Use, l.Target, l.Certainty, bases[l.Base], l.Pieces)
	}
	for _, l := range s.Fragments {
		fmt.Println(l)
	}
	for n, l := range s.Exports {
		fmt.Println(n, l)
	}
}
func BenchmarkY(b *testing.B) {
	d, _ := os.ReadFile("/tmp/bm/game.js")
	b.SetBytes(int64(len(d)))
	for b.Loop() {
		Read(append(make([]byte, 0, len(d)+8), d...))
	}
}
