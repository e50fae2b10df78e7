package expression

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/expr-lang/expr/types"
)

// TestFill: what stands in braces is worked out, with its type where it is alone.
func TestFill(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lane.zip")
	if err := os.WriteFile(path, []byte("hello world"), 0o644); err != nil {
		t.Fatal(err)
	}
	archive := File{Name: "lane.zip", Bytes: 11}.At(path)
	values := Values{"version": "0.4.0", "id": 9007199254740993, "archive": archive, "key": "oil", "list": []any{"a", "b"},
		"releases": []any{map[string]any{"tag": "0.3.0", "id": 1}, map[string]any{"tag": "0.4.0", "id": 2}}, "none": nil, "n": json.Number("1.50")}
	for text, want := range map[string]string{
		"v{version}":              "v0.4.0",
		"{{\"v\": \"{version}\"}": `{"v": "0.4.0"}`,
		"{ version }":             "0.4.0",
		"{id}":                    "9007199254740993",
		"{n}":                     "1.50",
		"{archive.bytes + 1}":     "12",
		"{sha1(archive)}":         "2aae6c35c94fcfb415dbe95f408b9ce91ee846ed",
		"{hex(md5(\"a\"))}":       "0cc175b9c0f1b6a831c399e269772661",
		"{base64(hmac(\"sha256\", \"key\", \"The quick brown fox jumps over the lazy dog\"))}": "97yD9DBThCSxMpjmqm+xQ+9NWaFJRhdZl0edvC0aPNg=",
		"{join(list, \",\")}":                                                "a,b",
		"{find(releases, .tag == version).id}":                               "2",
		"{map(pieces(archive, 4), [#.number, #.offset, #.end, #.bytes])[2]}": "error: is no text",
		"{json(map(pieces(archive, 4), [.number, .offset, .end, .bytes]))}":  "[[1,0,3,4],[2,4,7,4],[3,8,10,3]]",
		"{sha256(pieces(archive, 6)[0]) == sha256(\"hello \")}":              "true",
		"{path(\"a b/c\")}{url(\"a b/c\")}":                                  "a%20b/ca%20b%2Fc",
		"{none}":                                                             "error: has no value",
		"{releases[0].tagg}":                                                 "error: there is no \"tagg\" in it; it has: id, tag",
		"{releases[0]?.tagg ?? \"other\"}":                                   "other",
		"{find(releases, .tag == \"9\").id}":                                 "error: nothing that could have \"id\"",
		"{version":                                                           "error: not closed",
		"{}":                                                                 "error: nothing between the braces",
		"{\"}\" + version}":                                                  "}0.4.0",
		"{fromPairs([[\"a\", version]])[\"a\"]}":                             "0.4.0",
	} {
		got, err := NewText(text).Fill(values, nil)
		if err != nil {
			got = "error: " + err.Error()
		}
		if got != want && !(strings.HasPrefix(want, "error: ") && strings.HasPrefix(got, "error: ") &&
			strings.Contains(got, strings.TrimPrefix(want, "error: "))) {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
	for text, want := range map[string]any{"{id}": 9007199254740993, "{archive.bytes > 3}": true, "{list}": []any{"a", "b"}} {
		got, err := NewText(text).Alone().Value(values)
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %#v, %v", text, got, err)
		}
	}
}

// TestCheck: mistakes are found with their place before anything runs.
func TestCheck(t *testing.T) {
	known := Names{"version": types.String, "archive": types.TypeOf(File{}), "game": types.Map{"title": types.String}, "state": types.Any}
	for source, want := range map[string]string{
		"verison":                       "{verison} is not known there",
		"version + archive.bytes":       "invalid operation",
		"game.titel":                    "unknown field titel",
		"archive.size":                  "has no field size",
		"version +":                     "unexpected token",
		"now(1)":                        "unknown name now",
		"upper(version)":                "",
		"state in [\"live\", \"past\"]": "",
		"let x = version; x + x":        "",
		"sha256(archive)":               "",
	} {
		got := ""
		if m := New(source).Check(known, nil); m != nil {
			got = m.Message
		}
		if got != want && !(want != "" && strings.Contains(got, want)) {
			t.Errorf("%s: %q, want %q", source, got, want)
		}
	}
	if m := New("version").Check(known, reflect.TypeFor[bool]()); m == nil || !strings.Contains(m.Message, "must give true or false") {
		t.Errorf("a text decides: %v", m)
	}
	if m := New("version + verison").Check(known, nil); m == nil || m.Offset != 10 || m.Name != "verison" {
		t.Errorf("place: %+v", m)
	}
	for source, want := range map[string]string{"to.track + version": "to.track version", "json(to) + to.track": "to to.track", `to["track"]`: "to.track"} {
		if got := strings.Join(slices.Sorted(slices.Values(New(source).Uses())), " "); got != want {
			t.Errorf("%s uses %s", source, got)
		}
	}
	if words := New(`state in ["live", "past"] || state == "off"`).Words("state"); strings.Join(words, " ") != "off live past" &&
		strings.Join(words, " ") != "live past off" {
		t.Errorf("words: %q", words)
	}
}

// TestEndless: an expression that goes on and on is ended.
func TestEndless(t *testing.T) {
	began := time.Now()
	_, err := New("count(1..100000, count(1..100000, # > 3) > 5)").Value(Values{})
	if err == nil || time.Since(began) > 10*time.Second {
		t.Errorf("it ended after %v with %v", time.Since(began), err)
	}
}

func FuzzText(f *testing.F) {
	for _, text := range []string{"v{version}", "{{a}", "{find(x, .a == 1)}", "{\"}\"}", "{a?.b ?? `}`}"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		x := NewText(text)
		for _, formula := range x.Formulas() {
			formula.Check(Names{"version": types.String}, nil)
		}
		x.Fill(Values{"version": "1"}, nil)
	})
}
