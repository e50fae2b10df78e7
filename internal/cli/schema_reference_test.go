package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// TestSchema fails when a JSON Schema does not say what the code says.
func TestSchema(t *testing.T) {
	for _, x := range []struct {
		of       reflect.Type
		folder   string
		title    string
		required []string
		now      []byte
	}{
		{reflect.TypeFor[rulebook.Rulebook](), "rulebook", "A rulebook of Havvel, version 2", []string{"format", "name", "archive"}, rulebook.Schema()},
		{reflect.TypeFor[project.Project](), "project", "havvel.toml", []string{"game"}, project.Schema()},
	} {
		s := &schema{defs: map[string]any{}, comments: map[string]map[string]string{}}
		root := s.table(x.of)
		root["$schema"], root["title"] = "https://json-schema.org/draft/2020-12/schema", x.title
		root["required"], root["$defs"] = x.required, s.defs
		fresh, err := json.MarshalIndent(root, "", "  ")
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join("..", x.folder, "schema.json")
		if *update {
			if err := os.WriteFile(file, append(fresh, '\n'), 0o644); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if string(x.now) != string(fresh)+"\n" {
			t.Errorf("internal/%s/schema.json is stale; run make docs", x.folder)
		}
	}
}

// A schema is put together of the types that a file is read into.
type schema struct {
	defs     map[string]any
	comments map[string]map[string]string
}

func (s *schema) table(t reflect.Type) map[string]any {
	properties := map[string]any{}
	table := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	for _, f := range fields(t) {
		if s.comments[f.pkg] == nil {
			s.comments[f.pkg] = commentsOn(f.pkg)
		}
		p := s.of(f.t)
		if says := s.comments[f.pkg][f.holder+"."+f.field]; says != "" {
			p["description"] = says
		}
		if f.name == "*" { // languages are the only names that such a map takes
			one := p["additionalProperties"].(map[string]any)
			table["patternProperties"] = map[string]any{`^[a-z]{2,3}(-[A-Za-z0-9]+)*$`: map[string]any{"$ref": one["$ref"], "description": p["description"]}}
			continue
		}
		properties[f.name] = p
	}
	return table
}

func (s *schema) of(t reflect.Type) map[string]any {
	switch {
	case t == reflect.TypeFor[settings.Size]():
		return map[string]any{"type": "string", "pattern": `^[0-9.]+ ?(B|KB|MB|GB)$`}
	case t == reflect.TypeFor[settings.Span]():
		return map[string]any{"type": "string", "pattern": `^([0-9.]+(ms|s|m|h))+$`}
	case readsText(t) || t.Kind() == reflect.String || t.Kind() == reflect.Pointer && readsText(t.Elem()):
		return map[string]any{"type": "string"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return s.of(t.Elem())
	case reflect.Slice, reflect.Array:
		list := map[string]any{"type": "array", "items": s.of(t.Elem())}
		if t.Kind() == reflect.Array {
			list["minItems"], list["maxItems"] = t.Len(), t.Len()
		}
		return list
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": s.of(t.Elem())}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int, reflect.Int64:
		return map[string]any{"type": "integer"}
	case reflect.Float64:
		return map[string]any{"type": "number"}
	case reflect.Struct:
		name := strings.ToLower(t.Name())
		if s.defs[name] == nil {
			s.defs[name] = true // it may hold itself
			s.defs[name] = s.table(t)
		}
		return map[string]any{"$ref": "#/$defs/" + name}
	}
	return map[string]any{} // any value
}
