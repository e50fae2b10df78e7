// Package place says where a value is in a host's answer: in its body, whatever form that has, or around it.
package place

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/antchfx/htmlquery"
	"github.com/antchfx/xmlquery"
	"github.com/antchfx/xpath"
	"github.com/theory/jsonpath"
	"golang.org/x/net/http/httpguts"
)

// A Place is where a value is in an answer. It is written in one of these ways, with "all " before it where a list is meant:
//
//	/id                     a JSON Pointer (RFC 6901)
//	$.releases[*].id        a JSONPath (RFC 9535); one that can lead to several values gives a list
//	xml //release/@id       an XPath (1.0) in XML
//	html //input/@value     likewise in an HTML page
//	text version (\S+)      a regular expression; its first group, or all of it
//	event done /url         the last server-sent event of a name, and a JSON Pointer into its data
//	header ETag             a header field
//	link next               the address of a link in the header (RFC 8288)
//	cookie session          a cookie that was set
//	status, address, body   the status, the address that answered, the body as text
type Place struct {
	source string
	many   bool
	find   func(*Answer) ([]any, error)
	nodes  func(*Answer) ([]node, error) // of a JSONPath
}

// node is a value, and the keys that lead to it.
type node struct {
	path  []string
	value any
}

// UnmarshalText implements encoding.TextUnmarshaler.
func (p *Place) UnmarshalText(source []byte) (err error) {
	*p, err = New(string(source))
	return err
}

// MarshalText implements encoding.TextMarshaler: it is what stands in the rulebook.
func (p Place) MarshalText() ([]byte, error) { return []byte(p.source), nil }

// String is what stands in the rulebook.
func (p Place) String() string { return p.source }

// Many reports whether it gives a list.
func (p Place) Many() bool { return p.many }

// Find returns the values in their order; none where there is nothing. The error says what the answer is instead of what the place is
// about.
func (p Place) Find(a *Answer) ([]any, error) { return p.find(a) }

// New reads a place; the error says what one looks like.
func New(source string) (Place, error) {
	p := Place{source: source}
	text, all := strings.CutPrefix(source, "all ")
	p.many = all
	word, rest, _ := strings.Cut(text, " ")
	rest = strings.TrimSpace(rest)
	read := (*Place).named
	switch {
	case strings.HasPrefix(text, "/") || text == "":
		read, rest = (*Place).pointer, text
	case strings.HasPrefix(text, "$"):
		read, rest = (*Place).path, text
	case word == "xml":
		read = (*Place).xml
	case word == "html":
		read = (*Place).html
	case word == "text":
		read = (*Place).text
	case word == "event":
		read = (*Place).event
	default:
		rest = text
	}
	err := read(&p, rest)
	if errors.Is(err, errNoPlace) {
		return p, fmt.Errorf("%q is no place in an answer; write \"/id\" (JSON Pointer), \"$.id\" (JSONPath), \"xml //id\", \"html //a/@href\", "+
			"\"text id=(.*)\", \"event NAME /id\", \"header NAME\", \"link REL\", \"cookie NAME\", \"status\", \"address\" or \"body\"", source)
	}
	if err != nil {
		return p, fmt.Errorf("%q: %w", source, err)
	}
	return p, nil
}

var errNoPlace = errors.New("no place")

// named reads a place that is none in the answer's body, or all of it.
func (p *Place) named(text string) error {
	word, rest, _ := strings.Cut(text, " ")
	rest = strings.TrimSpace(rest)
	switch {
	case word == "header":
		if !httpguts.ValidHeaderFieldName(rest) {
			return fmt.Errorf("%q is no name of a header field", rest)
		}
		p.find = func(a *Answer) ([]any, error) { return anys(a.Header.Values(rest)), nil }
	case word == "link" && rest != "":
		p.find = func(a *Answer) ([]any, error) { return anys(links(a, rest)), nil }
	case word == "cookie" && rest != "":
		p.find = func(a *Answer) (list []any, _ error) {
			for _, c := range a.Cookies {
				if c.Name == rest {
					list = append(list, c.Value)
				}
			}
			return list, nil
		}
	case text == "status":
		p.find = func(a *Answer) ([]any, error) { return []any{a.Status}, nil }
	case text == "address":
		p.find = func(a *Answer) ([]any, error) { return []any{a.Address}, nil }
	case text == "body":
		p.find = func(a *Answer) ([]any, error) { return []any{string(a.Body)}, nil }
	default:
		return errNoPlace
	}
	return nil
}

func anys(list []string) []any {
	out := make([]any, len(list))
	for i, v := range list {
		out[i] = v
	}
	return out
}

var dotted = regexp.MustCompile(`^/[\w-]+(\.[\w-]+)+$`)

func (p *Place) pointer(text string) error {
	parts, err := tokens(text)
	if err != nil {
		return err
	}
	if dotted.MatchString(text) {
		return fmt.Errorf("a JSON Pointer has slashes between its keys: %q", strings.ReplaceAll(text, ".", "/"))
	}
	if slices.Contains(parts, "*") {
		return fmt.Errorf("a JSON Pointer leads to one value; a list is written as a JSONPath: %q",
			"$"+strings.ReplaceAll(strings.ReplaceAll(text, "/*", "[*]"), "/", "."))
	}
	p.find = func(a *Answer) ([]any, error) {
		v, err := jsonOf(a)
		if err != nil {
			return nil, err
		}
		return spread(follow(v, parts), p.many), nil
	}
	p.nodes = func(a *Answer) ([]node, error) {
		v, err := jsonOf(a)
		if err != nil {
			return nil, err
		}
		var list []node
		for _, x := range spread(follow(v, parts), true) {
			list = append(list, node{parts, x})
		}
		return list, nil
	}
	return nil
}

// tokens are the keys of a JSON Pointer.
func tokens(text string) ([]string, error) {
	if text == "" {
		return nil, nil
	}
	parts := strings.Split(text[1:], "/")
	for i := range parts {
		if regexp.MustCompile(`~([^01]|$)`).MatchString(parts[i]) {
			return nil, fmt.Errorf("in a JSON Pointer ~0 stands for ~, and ~1 for a slash")
		}
		parts[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(parts[i])
	}
	return parts, nil
}

// follow is what a JSON Pointer leads to; nil when there is nothing.
func follow(v any, parts []string) any {
	for _, part := range parts {
		switch x := v.(type) {
		case map[string]any:
			v = x[part]
		case []any:
			i, err := strconv.Atoi(part)
			if err != nil || i < 0 || i >= len(x) {
				return nil
			}
			v = x[i]
		default:
			return nil
		}
	}
	return v
}

// spread makes one value a list; of a list, its elements where many are meant.
func spread(v any, many bool) []any {
	if v == nil {
		return nil
	}
	if list, ok := v.([]any); ok && many {
		return list
	}
	return []any{v}
}

func jsonOf(a *Answer) (any, error) {
	v, ok := a.JSON()
	if !ok {
		return nil, fmt.Errorf("the answer is %s, not JSON", a.Kind())
	}
	return v, nil
}

func (p *Place) path(text string) error {
	path, err := jsonpath.Parse(text)
	if err != nil {
		return fmt.Errorf("it is no JSONPath: %s", strings.TrimPrefix(err.Error(), "jsonpath: "))
	}
	p.many = p.many || path.Query().Singular() == nil
	p.nodes = func(a *Answer) ([]node, error) {
		v, err := jsonOf(a)
		if err != nil {
			return nil, err
		}
		var list []node
		for n := range path.SelectLocated(v).All() {
			if n.Node == nil {
				continue
			}
			keys, _ := tokens(n.Path.Pointer())
			list = append(list, node{keys, n.Node})
		}
		return list, nil
	}
	single := path.Query().Singular() != nil
	p.find = func(a *Answer) ([]any, error) {
		nodes, err := p.nodes(a)
		var list []any
		for _, n := range nodes {
			if single {
				list = append(list, spread(n.value, p.many)...)
			} else {
				list = append(list, n.value)
			}
		}
		return list, err
	}
	return nil
}

func (p *Place) xml(text string) error {
	x, err := xpath.Compile(text)
	if err != nil {
		return fmt.Errorf("it is no XPath: %w", err)
	}
	p.find = func(a *Answer) ([]any, error) {
		if a.Page() {
			return nil, fmt.Errorf("the answer is %s, not XML", a.Kind())
		}
		doc, err := a.xml()
		if err != nil {
			return nil, fmt.Errorf("the answer is %s, not XML", a.Kind())
		}
		return evaluated(x, xmlquery.CreateXPathNavigator(doc)), nil
	}
	return nil
}

func (p *Place) html(text string) error {
	x, err := xpath.Compile(text)
	if err != nil {
		return fmt.Errorf("it is no XPath: %w", err)
	}
	p.find = func(a *Answer) ([]any, error) {
		if !a.Page() {
			return nil, fmt.Errorf("the answer is %s, not a web page", a.Kind())
		}
		doc, err := a.html()
		if err != nil {
			return nil, err
		}
		return evaluated(x, htmlquery.CreateXPathNavigator(doc)), nil
	}
	return nil
}

// evaluated are the texts that an XPath gives.
func evaluated(x *xpath.Expr, at xpath.NodeNavigator) (list []any) {
	switch v := x.Evaluate(at).(type) {
	case *xpath.NodeIterator:
		for v.MoveNext() {
			list = append(list, strings.TrimSpace(v.Current().Value()))
		}
	case string:
		if v != "" {
			list = append(list, v)
		}
	case float64:
		list = append(list, v)
	case bool:
		list = append(list, v)
	}
	return list
}

func (p *Place) text(text string) error {
	r, err := regexp.Compile(text)
	if err != nil || text == "" {
		return fmt.Errorf("it is no regular expression: %w", err)
	}
	group := min(r.NumSubexp(), 1)
	p.find = func(a *Answer) (list []any, _ error) {
		for _, m := range r.FindAllSubmatch(a.Body, -1) {
			list = append(list, string(m[group]))
		}
		return list, nil
	}
	return nil
}
