package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"text/template"

	"github.com/spf13/cobra"

	"havvel/internal/atomicfile"
	"havvel/internal/rulebook"
)

func (a *console) rulesSchema() *cobra.Command {
	return a.new(command{
		use:   "schema",
		short: "The JSON Schema of rulebooks, for editors",
		long: "Schema prints the JSON Schema (2020-12) of rulebooks. Editors that know TOML complete and check by it, where the first line of\n" +
			"a rulebook names its file: #:schema ./rulebook.schema.json",
		example: "  havvel rules schema\n  havvel rules schema --json",
		args:    cobra.NoArgs,
		run: func(context.Context, []string) error {
			if a.answer(map[string]string{"schema": string(rulebook.Schema())}); a.json {
				return nil
			}
			_, err := a.out.Write(rulebook.Schema())
			return err
		},
	})
}

// newRules is what a new rulebook begins with.
type newRules struct{ Name, Address, HandOver, Variable, Sends string }

func (a *console) rulesNew() *cobra.Command {
	var n newRules
	c := a.new(command{
		use:   "new FILE",
		short: "Begin a rulebook of your own",
		long: "New writes a rulebook with a comment on everything that an upload needs, to be changed to what the portal wants. It is without\n" +
			"mistakes from the start, and havvel rules check says when a change made one.",
		example: "  havvel rules new our-portal.toml --address https://api.brackwater.example\n" +
			"  havvel rules new rulebooks/quiet.toml --name Quillmarsh --hand-over folder",
		args: cobra.ExactArgs(1),
		run:  func(_ context.Context, args []string) error { return a.runRulesNew(args[0], n) },
	})
	c.Flags().StringVar(&n.Name, "name", "", "the portal's `name` (from the file's)")
	c.Flags().StringVar(&n.Address, "address", "https://api.portal.example", "`where` the portal's interface is")
	c.Flags().StringVar(&n.HandOver, "hand-over", "zip", "`what` is handed over: zip, entry-apart, one-page or folder")
	a.withDryRun(c, "print the rulebook, and write nothing")
	return c
}

func (a *console) runRulesNew(file string, n newRules) error {
	if !strings.HasSuffix(file, ".toml") {
		return wrong("havvel rules new", "%s is not the name of a rulebook's file, which ends in .toml", file)
	}
	if err := oneOf("havvel rules new", "--hand-over", n.HandOver, "zip", "entry-apart", "one-page", "folder"); err != nil {
		return wrong("havvel rules new", "%w", err)
	}
	if u, err := url.Parse(n.Address); err != nil || u.Host == "" {
		return wrong("havvel rules new", "--address %s is no address, such as https://api.brackwater.example", n.Address)
	}
	base := strings.TrimSuffix(filepath.Base(file), ".toml")
	if n.Name == "" {
		n.Name = strings.ToUpper(base[:1]) + base[1:]
	}
	n.Variable = strings.ToUpper(strings.NewReplacer("-", "_", ".", "_", " ", "_").Replace(base)) + "_KEY"
	n.Sends = map[string]string{"entry-apart": "entry", "folder": "file"}[n.HandOver]
	if n.Sends == "" {
		n.Sends = "archive"
	}
	var text strings.Builder
	if err := blankRules.Execute(&text, n); err != nil {
		return err
	}
	if _, err := rulebook.Parse(file, []byte(text.String())); err != nil {
		return err
	}
	a.answer(map[string]string{"rulebook": file, "text": text.String()})
	if a.dryRun {
		a.screen.Line("%s", strings.TrimSpace(text.String()))
		return nil
	}
	if _, err := os.Stat(file); !errors.Is(err, fs.ErrNotExist) {
		return wrong("havvel rules new", "there is a %s already", file).Then("choose another name, or move it away first")
	}
	if err := atomicfile.Bytes(file, []byte(text.String())); err != nil {
		return fmt.Errorf("writing the rulebook: %w", err)
	}
	a.screen.Line("wrote %s", file)
	a.screen.Next("change it to what the portal wants, then: havvel rules check %s", file)
	return nil
}

var blankRules = template.Must(template.New("rulebook").Funcs(template.FuncMap{
	"toml": func(s string) string { return fmt.Sprintf("%q", s) },
}).Parse(`# What {{.Name}} accepts and how it is talked to. docs/formats/rulebook.md explains every key, and has a gallery.
format  = "havvel-rulebook/2"
name    = {{toml .Name}}
about   = "What kind of portal it is, in one sentence."
address = {{toml .Address}}
keep    = ["id"]  # what later commands need of an upload

[archive]
hand_over = {{toml .HandOver}}
# limit   = "200 MB"

[serves]
encodings = []  # precompressed files that its host serves: "gzip", "br"

[key]
variable = {{toml .Variable}}
where    = "where a developer finds the key"

# Every request carries these. {key} goes to this host only.
[headers]
Authorization = "Bearer {key}"

# Where an answer says why not.
[refusal]
words = ["/error"]
key   = [401, 403]

# The portal's word for a state = ours: sent, verifying, draft, in review, scheduled, public, refused, withdrawn, replaced.
[states]
waiting = "verifying"
ready   = "draft"
live    = "public"
bad     = "refused"

# A window that players see the game in.
[[view]]
name = "frame"
size = [960, 540]

# Uploading. POST is made again only with again = true, since it may make a version twice.
[[send]]
step    = "version"
method  = "POST"
address = "{address}/games/{game.short}/versions"
json    = { version = "{version}" }
expect  = [201]
take    = { id = "/id" }

[[send]]
step    = "upload"
{{- if eq .HandOver "folder"}}
each    = "file in files"
method  = "PUT"
address = "{address}/versions/{id}/files/{path(file.name)}"
headers = { Content-Type = "{file.type}" }
{{- else}}
method  = "PUT"
address = "{address}/versions/{id}/{{.Sends}}"
{{- end}}
file    = "{{.Sends}}"
expect  = [200, 201, 204]
{{- if eq .HandOver "entry-apart"}}

[[send]]
step    = "rest"
method  = "PUT"
address = "{address}/versions/{id}/rest"
file    = "rest"
expect  = [200, 201, 204]
{{- end}}

# Is {version} there? It is asked when the answer to an upload was lost.
[[find]]
step    = "versions"
method  = "GET"
address = "{address}/games/{game.short}/versions"
expect  = [200]
take    = { list = "$.versions[*]" }
set     = { id = "find(list, .version == version)?.id" }

# What state is a version in?
[[follow]]
step    = "state"
method  = "GET"
address = "{address}/versions/{id}"
expect  = [200]
take    = { state = "/state", reasons = "$.reasons[*]", draft = "/draft", link = "/page" }
repeat  = { until = 'state in ["ready", "live", "bad"]', every = "2s", limit = "5m" }

[[publish]]
step    = "publish"
method  = "POST"
address = "{address}/versions/{id}/publish"
expect  = [200]
take    = { state = "/state", link = "/page" }
`))
