package settings

import (
	"bytes"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// Line is where a key, with its tables before it and dots between, is written in a TOML file, from 1; 0 when it isn't there.
func Line(data []byte, key string) int {
	var p unstable.Parser
	p.Reset(data)
	table := ""
	for p.NextExpression() {
		e := p.Expression()
		var parts []string
		first := -1
		for it := e.Key(); it.Next(); {
			if parts = append(parts, string(it.Node().Data)); first < 0 {
				first = int(it.Node().Raw.Offset)
			}
		}
		path := strings.Join(parts, ".")
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			table = path + "."
		case unstable.KeyValue:
			path = table + path
		}
		if path == key && first >= 0 {
			return bytes.Count(data[:first], []byte("\n")) + 1
		}
	}
	return 0
}
