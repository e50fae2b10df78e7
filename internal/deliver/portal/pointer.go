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
