// Package draft begins rulebooks: by the answers to a few questions, or by an OpenAPI description of a portal's interface.
package draft

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"
	"text/template"
	"unicode"

	"havvel/internal/rulebook"
)

// Answers are what has to be known of a portal.
type Answers struct {
	Name     string // the portal's; "" for that of a description
	Address  string // of its interface; "" for that of a description
	HandOver string // what is handed over, as a rulebook says it
	LogIn    string // one of LogIns; "" for what a description says
	Upload   string // one of Uploads; a description says it itself
	Variable string // of the environment, which may hold the key
}

// LogIns are the ways to log in, and Uploads the ways to upload, that a rulebook can begin with.
func LogIns() []string {
	return []string{"bearer", "header", "basic", "digest", "client-credentials", "device", "none"}
}

// Uploads are the ways to upload.
func Uploads() []string { return []string{"version-first", "put", "form", "resumable"} }

// HandOvers are what can be handed over.
func HandOvers() []string { return []string{"zip", "entry-apart", "one-page", "folder"} }

// A rules is what the template of a rulebook needs.
type rules struct {
	Answers
	About   string
	Where   string // the key is found
	Login   []pair // of [login]
	Headers []pair
	Words   []string // pointers to the portal's reasons
	KeyBad  []int
	Keep    []string
	Values  []rulebook.Value
	States  []state
	Steps   []step
	Notes   []string // what is to be looked at
}

// A pair is a key and its value, as TOML.
type pair struct{ Key, Value string }

// A state is the portal's word for one, and ours.
type state struct{ Theirs, Ours string }

// A step is one of a recipe.
type step struct {
	Recipe, About string
	Pairs         []pair
	Parts         [][]pair
}

//go:embed rulebook.toml.tmpl
var source string

var written = template.Must(template.New("rulebook").Funcs(template.FuncMap{
	"toml": quoted,
	"list": func(l []string) string {
		for i, s := range l {
			l[i] = quoted(s)
		}
		return "[" + strings.Join(l, ", ") + "]"
	},
	"numbers": numbers,
	"pad": func(pairs []pair) []pair {
		widest := 0
		for _, p := range pairs {
			widest = max(widest, len(p.Key))
		}
		out := slices.Clone(pairs)
		for i := range out {
			out[i].Key += strings.Repeat(" ", widest-len(out[i].Key))
		}
		return out
	},
}).Parse(source))

func (r *rules) text() ([]byte, error) {
	var b strings.Builder
	if err := written.Execute(&b, r); err != nil {
		return nil, err
	}
	return []byte(b.String()), nil
}

// quoted is a text as TOML.
func quoted(s string) string {
	s = strings.Map(func(c rune) rune {
		if unicode.IsControl(c) {
			return ' '
		}
		return c
	}, s)
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

func numbers(l []int) string { return strings.ReplaceAll(fmt.Sprint(l), " ", ", ") }

// table is a table on one line, as TOML.
func table(pairs []pair) string {
	var l []string
	for _, p := range pairs {
		l = append(l, bare(p.Key)+" = "+p.Value)
	}
	return "{ " + strings.Join(l, ", ") + " }"
}

// bare is a key of TOML, in quotes where it needs them.
func bare(key string) string {
	plain := func(c rune) bool {
		return c < '0' && c != '-' || c > '9' && c < 'A' || c > 'Z' && c < 'a' && c != '_' || c > 'z'
	}
	if key == "" || strings.ContainsFunc(key, plain) {
		return quoted(key)
	}
	return key
}

// logsIn fills in how the key travels.
func (r *rules) logsIn() {
	bearer := func(what string) { r.Headers = append(r.Headers, pair{"Authorization", quoted("Bearer " + what)}) }
	switch r.LogIn {
	case "bearer":
		bearer("{key}")
	case "header":
		r.Headers = append(r.Headers, pair{"X-Key", quoted("{key}")})
	case "basic":
		r.Headers = append(r.Headers, pair{"Authorization", quoted("Basic {base64(key)}")})
		r.Where = "; the key is NAME:PASSWORD"
	case "digest":
		r.Login = []pair{{"by", `"digest"`}}
		r.Where = "; the key is NAME:PASSWORD"
	case "client-credentials":
		bearer("{token}")
		r.Login = []pair{{"by", `"client-credentials"`}, {"token", quoted("{address}/token")}}
		r.Where = "; the key is ID:SECRET"
	case "device":
		bearer("{token}")
		r.Login = []pair{{"by", `"device"`}, {"device", quoted("{address}/device")}, {"token", quoted("{address}/token")}}
		r.Where = "; the key is the id of a client"
	}
}

// Blank begins a rulebook for a portal of which no more is known than the answers.
func Blank(a Answers) ([]byte, error) {
	r := &rules{
		Answers: a, About: "What kind of portal it is, in one sentence.",
		Words: []string{"/error"}, KeyBad: []int{401, 403}, Keep: []string{"id"},
		States: []state{{"waiting", rulebook.Verifying}, {"ready", rulebook.Draft}, {"live", rulebook.Public}, {"bad", rulebook.Refused}},
	}
	r.logsIn()
	r.Steps = append(r.uploads(), later()...)
	return r.text()
}

// of is a step with some keys and values, one after the other.
func of(recipe, about string, pairs ...string) step {
	s := step{Recipe: recipe, About: about}
	for i := 0; i < len(pairs); i += 2 {
		s.Pairs = append(s.Pairs, pair{pairs[i], pairs[i+1]})
	}
	return s
}

// uploads are the steps of an upload.
func (r *rules) uploads() []step {
	const versions = `"{address}/games/{game.short}/versions"`
	const once = "POST is made again only with again = true, since it may make a version twice."
	sends := map[string]string{"entry-apart": "entry", "folder": "file"}[r.HandOver]
	if sends == "" {
		sends = "archive"
	}
	take := `{ id = "/id" }`
	version := of("send", once, "step", `"version"`, "method", `"POST"`, "address", versions, "json", `{ version = "{version}" }`,
		"expect", "[201]", "take", take)
	put := func(name, address, file string, more ...string) step {
		pairs := append([]string{"step", quoted(name), "method", `"PUT"`, "address", quoted(address), "file", quoted(file)}, more...)
		return of("send", "", append(pairs, "expect", "[200, 201, 204]")...)
	}
	switch {
	case r.HandOver == "folder":
		return []step{version, put("upload", "{address}/versions/{id}/files/{path(file.name)}", sends,
			"each", `"file in files"`, "headers", `{ Content-Type = "{file.type}" }`)}
	case r.HandOver == "entry-apart":
		entry := put("upload", "{address}/versions/{id}/entry", sends)
		return []step{version, entry, put("rest", "{address}/versions/{id}/rest", "rest")}
	case r.Upload == "put":
		return []step{put("upload", "{address}/games/{game.short}/versions/{version}", sends, "take", take)}
	case r.Upload == "form":
		upload := of("send", once, "step", `"upload"`, "method", `"POST"`, "address", versions, "expect", "[201]", "take", take)
		upload.Parts = [][]pair{{{"name", `"version"`}, {"text", `"{version}"`}}, {{"name", `"build"`}, {"file", quoted(sends)}}}
		return []step{upload}
	case r.Upload == "resumable":
		return []step{
			of("send", "POST makes the upload, HEAD tells how much is there, PATCH appends.", "step", `"upload"`, "method", `"POST"`,
				"address", `"{address}/uploads"`, "file", quoted(sends), "resumable", "true", "expect", "[201]",
				"take", `{ upload = "header Location" }`),
			of("send", "", "step", `"version"`, "method", `"PUT"`, "address", `"{address}/games/{game.short}/versions/{version}"`,
				"json", `{ upload = "{upload}" }`, "expect", "[200, 201]", "take", take),
		}
	}
	return []step{version, put("upload", "{address}/versions/{id}/archive", sends)}
}

// later are the steps after an upload.
func later() []step {
	return []step{
		of("find", "Is {version} there? It is asked when the answer to an upload was lost.", "step", `"versions"`, "method", `"GET"`,
			"address", `"{address}/games/{game.short}/versions"`, "expect", "[200]", "take", `{ list = "$.versions[*]" }`,
			"set", `{ id = "find(list, .version == version)?.id" }`),
		of("follow", "What state is a version in?", "step", `"state"`, "method", `"GET"`, "address", `"{address}/versions/{id}"`,
			"expect", "[200]", "take", `{ state = "/state", reasons = "$.reasons[*]", draft = "/draft", link = "/page" }`,
			"repeat", `{ until = 'state in ["ready", "live", "bad"]', every = "2s", limit = "5m" }`),
		of("publish", "Players get it.", "step", `"publish"`, "method", `"POST"`, "address", `"{address}/versions/{id}/publish"`,
			"expect", "[200]", "take", `{ state = "/state", link = "/page" }`),
	}
}
