package portal

import (
	"encoding/json"
	"strconv"
	"strings"
)

// find returns what a JSON pointer (RFC 6901) leads to. The part * stands for every element of a list,
// so that there can be several. It is empty when there is nothing.
func find(v any, pointer string) []any {
	found := []any{v}
	for _, part := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
		part = strings.NewReplacer("~1", "/", "~0", "~").Replace(part)
		var next []any
		for _, v := range found {
			next = append(next, child(v, part)...)
		}
		found = next
	}
	return found
}

func child(v any, part string) []any {
	switch v := v.(type) {
	case map[string]any:
		if inner, ok := v[part]; ok {
			return []any{inner}
		}
	case []any:
		if part == "*" {
			return v
		}
		if i, err := strconv.Atoi(part); err == nil && i >= 0 && i < len(v) {
			return v[i : i+1]
		}
	}
	return nil
}

// textOf writes a JSON value as a person would; lists and objects, which have no such form, are "".
func textOf(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case json.Number:
		return v.String()
	case bool:
		return strconv.FormatBool(v)
	}
	return ""
}

// paired returns the texts that two pointers lead to, side by side. Where both go through the elements of one list, those of an
// element belong together, also when it lacks one of them.
func paired(v any, first, second string) [][2]string {
	list, rest, many := strings.Cut(first, "/*/")
	other, after, too := strings.Cut(second, "/*/")
	if !many || !too || list != other {
		var pairs [][2]string
		texts := find(v, second)
		for i, x := range find(v, first) {
			pair := [2]string{textOf(x), ""}
			if second != "" && i < len(texts) {
				pair[1] = textOf(texts[i])
			}
			pairs = append(pairs, pair)
		}
		return pairs
	}
	var pairs [][2]string
	for _, element := range find(v, list+"/*") {
		pair := [2]string{}
		for i, pointer := range []string{rest, after} {
			if found := find(element, "/"+pointer); len(found) > 0 {
				pair[i] = textOf(found[0])
			}
		}
		pairs = append(pairs, pair)
	}
	return pairs
}
