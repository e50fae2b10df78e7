package place

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
)

func answer(header http.Header, body string) *Answer {
	return &Answer{Status: 200, Header: header, Address: "https://a.example/x/y?q=1", Body: []byte(body),
		Cookies: []*http.Cookie{{Name: "s", Value: "abc"}}}
}

// TestFind: a value is found wherever an answer has it.
func TestFind(t *testing.T) {
	const releases = `{"releases":[{"id":9007199254740993,"tag":"1"},{"id":2,"tag":"2"}],"a/b":{"~":1.5},"none":null,"big":123456789012345678901}`
	page := http.Header{"Content-Type": {"text/html; charset=utf-8"}}
	for _, c := range []struct {
		place  string
		header http.Header
		body   string
		want   string
	}{
		{"/releases/1/id", nil, releases, "[2]"},
		{"/releases/0/id", page, "\ufeff" + releases, "[9007199254740993]"},
		{"/a~1b/~0", nil, ")]}'\n" + releases, "[1.5]"},
		{"/big", nil, releases, "[123456789012345678901]"},
		{"/none", nil, releases, "[]"},
		{"/nothing/there", nil, releases, "[]"},
		{"$.releases[*].id", nil, releases, "[9007199254740993 2]"},
		{`$.releases[?@.tag == "2"].id`, nil, releases, "[2]"},
		{"$.releases[0].tag", nil, releases, "[1]"},
		{"/id", page, "<!doctype html><title>Log  in</title>", `the answer is a web page, "Log in", not JSON`},
		{"/id", nil, "", "the answer is empty, not JSON"},
		{"/id", nil, "busy", "the answer is text, not JSON"},
		{"xml //release/@id", nil, `<?xml version="1.0"?><r xmlns="urn:x"><release id="7"/><release id="8"/></r>`, "[7 8]"},
		{"xml count(//release)", nil, `<r><release/><release/></r>`, "[2]"},
		{`html //input[@name="token"]/@value`, page, `<form><input name=token value="t&amp;1"><p>x`, "[t&1]"},
		{`html //title`, nil, `{"a":1}`, "the answer is JSON, not a web page"},
		{`text build (\d+) is`, nil, "build 17 is there", "[17]"},
		{"event state /to", nil, "event: state\ndata: {\"to\":\"busy\"}\n\n: beat\n\nevent: state\r\ndata: {\"to\":\r\ndata: \"live\"}\r\n\r\nevent: state\ndata: {\"to\":\"cut", "[live]"},
		{"event *", nil, "data: a\n\ndata: b\n\n", "[b]"},
		{"header etag", http.Header{"Etag": {`"x"`}}, "", `["x"]`},
		{"link next", http.Header{"Link": {`</a>; title="x, y; rel=next"; rel=prev, <z?page=2>; rel="last next"`}}, "", "[https://a.example/x/z?page=2]"},
		{"cookie s", nil, "", "[abc]"},
		{"status", nil, "", "[200]"},
		{"address", nil, "", "[https://a.example/x/y?q=1]"},
		{"all /releases", nil, `{"releases":["a","b"]}`, "[a b]"},
	} {
		p, err := New(c.place)
		if err != nil {
			t.Errorf("%s: %v", c.place, err)
			continue
		}
		header := c.header
		if header == nil {
			header = http.Header{}
		}
		got, err := p.Find(answer(header, c.body))
		said := fmt.Sprint(got)
		if err != nil {
			said = err.Error()
		}
		if said != c.want {
			t.Errorf("%s in %.40q: %s, want %s", c.place, c.body, said, c.want)
		}
	}
	for place, many := range map[string]bool{"/id": false, "$.a.b": false, "$.a[*]": true, "$..a": true, "xml //a": false, "all xml //a": true} {
		if p, err := New(place); err != nil || p.Many() != many {
			t.Errorf("%s: many is %v, %v", place, p.Many(), err)
		}
	}
}

// TestNew: what is no place says what one looks like.
func TestNew(t *testing.T) {
	for source, want := range map[string]string{
		"id": "is no place", "/release.id": `"/release/id"`, "/a/*/b": `"$.a[*].b"`, "$.": "no JSONPath", "header X Y": "no name of a header",
		"xml //[": "no XPath", "text (": "no regular expression", "/a~b": "~0 stands for ~",
	} {
		if _, err := New(source); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", source, err, want)
		}
	}
}

// TestBeside: a reason and what it is about stand in the same element.
func TestBeside(t *testing.T) {
	about := func(text string) *Place {
		p, err := New(text)
		if err != nil {
			t.Fatal(err)
		}
		return &p
	}
	for _, c := range []struct{ words, about, body, want string }{
		{"$.problems[*].words", "$.problems[*].field", `{"problems":[{"words":"a"},{"field":"f","words":"b"},{"field":"g"}]}`, "[[a ] [b f]]"},
		{"/error", "/field", `{"error":"no","field":"title"}`, "[[no title]]"},
		{"/error", "/field", `{"error":"","field":"title"}`, "[]"},
		{"/errors", "/field", `{"errors":[]}`, "[]"},
		{"/errors", "/field", `{"errors":["a","b"]}`, "[[a ] [b ]]"},
		{"$.errors[*].message", "$.errors[*].path[0]", `{"errors":[{"message":"a","path":["x"]}]}`, "[[a x]]"},
	} {
		if got := fmt.Sprint(Beside(*about(c.words), about(c.about), answer(http.Header{}, c.body))); got != c.want {
			t.Errorf("%s: %s, want %s", c.body, got, c.want)
		}
	}
}

func FuzzFind(f *testing.F) {
	f.Add("$.a[*]", `{"a":[1]}`, `<x>; rel="y"`)
	f.Add("xml //a", `<a/>`, "")
	f.Add("event x /a", "event: x\ndata: {}\n\n", "")
	f.Fuzz(func(t *testing.T, place, body, link string) {
		p, err := New(place)
		if err == nil {
			p.Find(answer(http.Header{"Link": {link}}, body))
		}
	})
}
