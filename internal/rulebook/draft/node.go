package draft

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// A node is one place of a description. What isn't there is a node, too, and holds nothing.
type node struct{ root, value any }

// read reads a description, as JSON or YAML.
func read(data []byte) (node, error) {
	var root any
	if err := json.Unmarshal(data, &root); err != nil {
		var bad *json.SyntaxError
		if yamlErr := yaml.Unmarshal(data, &root); yamlErr != nil {
			if text := strings.TrimSpace(string(data)); errors.As(err, &bad) && strings.HasPrefix(text, "{") {
				return node{}, err
			}
			return node{}, yamlErr
		}
	}
	return node{root, root}, nil
}

// mostReferences are followed one after the other; they may be circular.
const mostReferences = 16

// at is the node under some keys. References in the document are followed; those into other files lead to nothing.
func (n node) at(keys ...string) node {
	for _, key := range keys {
		n = node{n.root, n.table()[key]}.followed()
	}
	return n
}

func (n node) followed() node {
	for range mostReferences {
		ref, ok := n.table()["$ref"].(string)
		if !ok {
			return n
		}
		pointer, here := strings.CutPrefix(ref, "#/")
		if !here {
			return node{n.root, nil}
		}
		n.value = n.root
		for key := range strings.SplitSeq(pointer, "/") {
			key = strings.NewReplacer("~1", "/", "~0", "~", "%7B", "{", "%7D", "}").Replace(key)
			n.value = n.table()[key]
		}
	}
	return node{n.root, nil}
}

// table is what the node holds by names.
func (n node) table() map[string]any {
	switch v := n.value.(type) {
	case map[string]any:
		return v
	case map[any]any: // of YAML, where a name is no text, such as a status
		out := map[string]any{}
		for key, x := range v {
			out[fmt.Sprint(key)] = x
		}
		return out
	}
	return nil
}

func (n node) keys() []string {
	var list []string
	for key := range n.table() {
		list = append(list, key)
	}
	slices.Sort(list)
	return list
}

func (n node) list() []node {
	values, _ := n.value.([]any)
	var list []node
	for _, v := range values {
		list = append(list, node{n.root, v}.followed())
	}
	return list
}

// text is a text, number or truth as it is written; "" for what is none.
func (n node) text() string {
	switch v := n.value.(type) {
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case bool, int, int64, uint64:
		return fmt.Sprint(v)
	}
	return ""
}

func (n node) texts() []string {
	var list []string
	for _, x := range n.list() {
		list = append(list, x.text())
	}
	return list
}

// is reports whether a schema has a type, as its only one or among some.
func (n node) is(kind string) bool {
	t := n.at("type")
	return t.text() == kind || slices.Contains(t.texts(), kind)
}
