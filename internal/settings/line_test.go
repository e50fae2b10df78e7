package settings

import "testing"

func TestLine(t *testing.T) {
	data := []byte("# a comment\n[listing]\ntagline = \"x\" # tags\ntags = [\n  \"a\",\n  \"b\",\n]\n\n[[listing.control]]\naction = \"y\"\n\n[to.shed.listing]\n\"tagline\" = \"z\"\nprice = { kind = \"free\" }\n[declares]\nversion=\"1\"\n")
	for key, want := range map[string]int{
		"listing": 2, "listing.tagline": 3, "listing.tags": 4, "listing.control": 9, "listing.control.action": 10, "to.shed.listing": 12, "to.shed.listing.tagline": 13,
		"to.shed.listing.price": 14, "declares": 15, "declares.version": 16, "tagline": 0, "listing.tag": 0, "": 0,
	} {
		if got := Line(data, key); got != want {
			t.Errorf("%q is in line %d, want %d", key, got, want)
		}
	}
	for _, broken := range []string{"", "[", "= 1", "a = \"", "\x00"} {
		if got := Line([]byte(broken), "a"); got > 1 {
			t.Errorf("%q: %d", broken, got)
		}
	}
}

func FuzzLine(f *testing.F) {
	f.Add([]byte("[a]\nb.c = 1\n[[d]]\n\"e\" = '''\nx'''\n"), "a.b.c")
	f.Add([]byte("a = {b = [1, {c = 2}]}"), "a")
	f.Fuzz(func(t *testing.T, data []byte, key string) {
		if line := Line(data, key); line < 0 || line > len(data)+1 {
			t.Errorf("line %d of %d bytes", line, len(data))
		}
	})
}
