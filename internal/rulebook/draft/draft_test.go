package draft

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/fault"
	"havvel/internal/rulebook"
)

// TestBlank: whatever the answers are, the rulebook that comes of them has no mistake.
func TestBlank(t *testing.T) {
	for _, h := range HandOvers() {
		for _, l := range LogIns() {
			for _, u := range Uploads() {
				text, err := Blank(Answers{Name: `Quill"marsh`, Address: "https://api.quillmarsh.example", HandOver: h, LogIn: l, Upload: u, Variable: "Q_KEY"})
				if err != nil {
					t.Fatal(err)
				}
				if _, err := rulebook.Parse("q.toml", text); err != nil {
					t.Errorf("%s, %s, %s: %v\n%s", h, l, u, err, text)
				}
			}
		}
	}
}

// TestFromOpenAPI: what an upload needs is found in a description, and the rulebook has no mistake.
func TestFromOpenAPI(t *testing.T) {
	for _, test := range []struct {
		file  string
		found string
		lines []string
	}{
		{"builds.yaml", "send POST /games/{gameId}/builds; find GET /games/{gameId}/builds; follow GET /games/{gameId}/builds/{buildId}; " +
			"publish PUT /games/{gameId}/builds/{buildId}/publish", []string{
			`address = "https://north.sallowfen.example/v2"`, `by    = "client-credentials"`, `address = "{address}/games/{to.game_id}/builds/{id}/publish"`,
			`take    = { id = "/build/buildId", state = "/build/status" }`, `one_of = ["stable", "beta"]`, `in_moderation = "in review"`,
			`set     = { id = "find(list, .label == version)?.buildId" }`, `take    = { state = "/status", link = "/playUrl" }`,
			`words = ["$.errors[*].message", "/detail"]`}},
		{"releases.json", "send POST /studios/{studio}/releases; send PUT /studios/{studio}/releases/{release}/archive; " +
			"follow GET /studios/{studio}/releases/{release}; publish POST /studios/{studio}/releases/{release}/activate; " +
			"withdraw POST /studios/{studio}/releases/{release}/unlist", []string{
			`X-Thorn-Token = "{key}"`, `json    = { age = "{int(to.age)}", beta = false, bytes = "{archive.bytes}", tag = "{version}" }`,
			`take    = { id = "/id" }`, `address = "{address}/studios/{to.studio}/releases/{id}/archive"`, `headers = { Content-Type = "application/zip" }`,
			`words = ["/error/message"]`, `done = "draft"`, `default = "6"`}},
	} {
		data, err := os.ReadFile(filepath.Join("testdata", test.file))
		if err != nil {
			t.Fatal(err)
		}
		text, found, err := FromOpenAPI(data, Answers{HandOver: "zip", Variable: "X_KEY"})
		if err != nil {
			t.Fatal(err)
		}
		var said []string
		for _, f := range found {
			said = append(said, f.For+" "+f.Method+" "+f.Path)
		}
		if got := strings.Join(said, "; "); got != test.found {
			t.Errorf("%s: found %s\nwant %s", test.file, got, test.found)
		}
		for _, line := range test.lines {
			if !slices.Contains(strings.Split(string(text), "\n"), line) && !strings.Contains(string(text), "\n"+line) {
				t.Errorf("%s: no line %s in\n%s", test.file, line, text)
			}
		}
		if _, err := rulebook.Parse("x.toml", text); err != nil {
			t.Errorf("%s: %v\n%s", test.file, err, text)
		}
	}
}

// TestFromOpenAPIRefused: what is no description of an upload is said to be none.
func TestFromOpenAPIRefused(t *testing.T) {
	for text, want := range map[string]string{
		"":                                "no OpenAPI description",
		"lantern: [":                      "can be read",
		`{"swagger": "2.0", "paths": {}}`: "OpenAPI 3",
		"openapi: 3.0.0\npaths: {}\n":     "takes a file",
		`{"openapi": "3.0.0", "info": {"title": "x", "version": "1"}, "paths": {"/a": {"get": {"responses": {}}}}}`: "takes a file",
	} {
		if _, _, err := FromOpenAPI([]byte(text), Answers{}); err == nil || !strings.Contains(fault.Of(err).What, want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// TestCircular: schemas that hold themselves end.
func TestCircular(t *testing.T) {
	text := `{"openapi": "3.0.0", "info": {"title": "x", "version": "1"}, "servers": [{"url": "https://x.example"}],
"components": {"schemas": {"A": {"allOf": [{"$ref": "#/components/schemas/A"}], "type": "object", "required": ["a"], "properties": {"a": {"$ref": "#/components/schemas/A"}}}}},
"paths": {"/a": {"post": {"requestBody": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/A"}}}}, "responses": {"200": {"description": "ok",
"content": {"application/json": {"schema": {"$ref": "#/components/schemas/A"}}}}}}}, "/a/{id}/file": {"put": {"requestBody": {"content": {"application/zip": {}}}, "responses": {}}}}}`
	if _, found, err := FromOpenAPI([]byte(text), Answers{HandOver: "zip"}); err != nil || len(found) != 2 {
		t.Errorf("%v %v", found, err)
	}
}

// FuzzFromOpenAPI: any description is read or refused, and what is written is TOML.
func FuzzFromOpenAPI(f *testing.F) {
	for _, name := range []string{"builds.yaml", "releases.json"} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		text, _, err := FromOpenAPI(data, Answers{Name: "X", HandOver: "zip", Variable: "X_KEY"})
		if err != nil {
			return
		}
		if _, err := rulebook.Parse("x.toml", text); err != nil && strings.Contains(err.Error(), "TOML") {
			t.Errorf("%v\n%s", err, text)
		}
	})
}
