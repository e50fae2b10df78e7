package settings

import (
	"fmt"
	"strings"
	"testing"

	"havvel/internal/fault"
)

type sample struct {
	Title string            `toml:"title" doc:"-"`
	Watch Span              `toml:"watch"`
	Limit Size              `toml:"limit"`
	Count int               `toml:"count"`
	Loud  *bool             `toml:"loud"`
	Frame [2]int            `toml:"frame"`
	Tags  []string          `toml:"tags"`
	Words map[string]string `toml:"words"`
	Body  map[string]any    `toml:"body"`
	To    map[string]*inner `toml:"to"`
	Part  []inner           `toml:"part"`
}

type inner struct {
	Name string `toml:"name"`
	Deep struct {
		At []int `toml:"at"`
	} `toml:"deep"`
}

const well = "title = \"x\"\r\nwatch = \"3s\"\r\nlimit = '80 MB'\ncount = 0x1_0\nloud = false\nframe = [1, 2]\ntags = [\n  \"a\", # " +
	"one\n  \"b\",\n]\nwords = { a = \"b\" }\n" +
	"[body]\nn = 1\nf = 1.5\nlist = [true, { k = \"v\" }]\nsub.key = \"dotted\"\n[to.\"a b\"]\nname = \"é\"\ndeep.at = " +
	"[1]\n[[part]]\nname = \"one\"\n[[part]]\nname = \"two\"\n[part.deep]\nat = [4, 5]\n"

// TestRead fills every type, with marks and line ends of other systems.
func TestRead(t *testing.T) {
	for _, data := range []string{well, "\xef\xbb\xbf" + well} {
		var s sample
		d := Read("x.toml", []byte(data), &s)
		if err := d.Err(); err != nil {
			t.Fatal(err)
		}
		got := fmt.Sprintf("%s %v %v %v %v %v %v %v %v", s.Title, s.Watch, s.Limit, s.Count, *s.Loud, s.Frame, s.Tags, s.Words, s.Body)
		if want := "x 3000000000 80 MB 16 false [1 2] [a b] map[a:b] map[f:1.5 list:[true map[k:v]] n:1 sub:map[key:dotted]]"; got != want {
			t.Errorf("%s", got)
		}
		if s.To["a b"].Name != "é" || s.To["a b"].Deep.At[0] != 1 || len(s.Part) != 2 || s.Part[1].Name != "two" || s.Part[1].Deep.At[1] != 5 {
			t.Errorf("%+v", s)
		}
		for path, want := range map[string]string{
			"title": "1:9", "tags[1]": "9:3", "body.sub.key": "16:11", "to.a b.name": "18:8", "part[1].name": "23:8", "part[1].deep.at[1]": "25:10",
			"part[0].deep": "20:3", "nothing": "1:1", "part[1].nothing": "22:3", "words.a": "11:15",
		} {
			if got := strings.TrimPrefix(d.At(path).String(), "x.toml:"); got != want {
				t.Errorf("%s is at %s, want %s", path, got, want)
			}
		}
	}
}

// TestMistakes: all mistakes of a file are found at once, each with its place.
func TestMistakes(t *testing.T) {
	for data, want := range map[string][]string{
		"titel = \"x\"\nwatch = 3\nlimit = \"80\"\ncount = \"4\"\nloud = 1\nframe = [1]\ntags = \"a\"\n": {
			`x.toml:1:1: there is no key "titel" | did you mean "title"?`, `x.toml:2:9: watch: "3" has no unit; write it like "30s" or "2m" |`,
			`x.toml:3:9: limit: "80" has no unit; write it like "80 MB" |`, `x.toml:4:9: count is a text; it must be a number |`,
			`x.toml:5:8: loud is a number; it must be true or false |`,
			`x.toml:6:1: frame has 1 elements; it must have 2 |`, `x.toml:7:8: tags is a text; it must be a list | write it in brackets: ["a"]`,
		},
		"title = 4\n[to.\"é\"]\nnam = 1\n[[part]]\ndeep = 3\n": {
			`x.toml:1:9: title is a number; it must be a text | write it in quotes: "4"`,
			`x.toml:3:1: there is no key "to.é.nam" | did you mean "name"?`,
			`x.toml:5:8: part.deep is a number; it must be a table |`,
		},
		"title = \"C:\\export\"\n":       {"x.toml:1:9: title is a path with backslashes | " + slashes},
		"title = \"C:\\new\"\n":          {"x.toml:1:9: title is a path with backslashes | " + slashes},
		"title = \"art\\pictures\"\n":    {"x.toml:1:13: this is not TOML: invalid escape character U+0070 'p' | " + slashes},
		"title = 'C:\\export'\n":         nil,
		"title = \"a\"\ntitle = \"b\"\n": {"x.toml:2:1: this is not TOML: key title is already defined |"},
		"\xff\xfet\x00i\x00": {"x.toml:1:1: it is stored as UTF-16 | save it again as UTF-8; the editor's save dialog has a " +
			"choice of encodings"},
		"t\x00i\x00t\x00": {"x.toml:1:1: it is stored as UTF-16 | save it again as UTF-8; the editor's save dialog has a " +
			"choice of encodings"},
		"title = \"é\" x\n":                nil,
		"count = 99999999999999999999\n":   nil,
		"[body]\nx = 1\n[body.y]\nz = 1\n": nil,
	} {
		var s sample
		var got []string
		for _, f := range fault.All(Read("x.toml", []byte(data), &s).Err()) {
			got = append(got, strings.TrimSpace(f.At.String()+": "+f.What+" | "+f.Next))
			if f.Kind != fault.Usage {
				t.Errorf("%q: kind %v", data, f.Kind)
			}
		}
		if want != nil && strings.Join(got, "\n") != strings.Join(want, "\n") {
			t.Errorf("%q:\n%s\nwant\n%s", data, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
		if strings.Contains(strings.Join(got, ""), "settings.") ||
			strings.Contains(strings.Join(got, ""), "toml:") && !strings.Contains(strings.Join(got, ""), "x.toml:") {
			t.Errorf("%q: %v", data, got)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(well))
	f.Add([]byte("a = {b = [1, {c = 2}]}\n[[part]]\n[part.deep.at]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		var s sample
		d := Read("x", data, &s)
		for _, e := range fault.All(d.Err()) {
			if e.At.Line < 1 || e.At.Line > len(data)+1 {
				t.Errorf("%v", e.At)
			}
		}
	})
}

func TestSize(t *testing.T) {
	for text, want := range map[string]Size{"80 MB": 80e6, "1.5GB": 15e8, "12 B": 12, "2 KB": 2000} {
		var s Size
		if err := s.UnmarshalText([]byte(text)); err != nil || s != want {
			t.Errorf("%q: %d %v", text, s, err)
		}
	}
	for _, text := range []string{"", "MB", "300", "-1 MB", "1 TB", "1e30 GB", "NaN"} {
		var s Size
		if s.UnmarshalText([]byte(text)) == nil {
			t.Errorf("%q was taken as %d", text, s)
		}
	}
	for size, want := range map[Size]string{0: "0 B", 999: "999 B", 1000: "1 KB", 12_400_000: "12.4 MB", 508_113: "508 KB",
		1_250_000_000: "1.2 GB"} {
		if got := size.String(); got != want {
			t.Errorf("%d is %q, want %q", size, got, want)
		}
	}
}

func TestNearest(t *testing.T) {
	known := []string{"title", "short", "version", "export"}
	for written, want := range map[string]string{"verison": "version", "titel": "title", "Export": "export", "zzzzzz": "", "": ""} {
		if got := Nearest(written, known); got != want {
			t.Errorf("%q: %q, want %q", written, got, want)
		}
	}
}
