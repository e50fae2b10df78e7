package project

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"text/template"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"havvel/internal/atomicfile"
	"havvel/internal/fault"
	"havvel/internal/rulebook"
)

// Text writes a new project file, with comments for somebody who sees one for the first time.
// The destinations are those in p.To.
func Text(p *Project) ([]byte, error) {
	return written(p, false)
}

func written(p *Project, blank bool) ([]byte, error) {
	var b bytes.Buffer
	err := newFile.Execute(&b, struct {
		*Project
		Blank bool
	}{p, blank})
	return b.Bytes(), err
}

// destinations writes those of a project.
const destinations = `{{define "to"}}
{{- range $name, $d := .}}

[to.{{$name}}]
{{- if $d.Rulebook}}
rulebook = {{toml $d.Rulebook}}{{end}}
{{- if $d.Address}}
address  = {{toml $d.Address}}{{end}}
{{- if not $d.Rulebook}}
# public = "https://…"  # where players reach it{{end}}
{{- if $d.Key}}
key      = {{toml $d.Key}}  # where the key is, never the key itself{{end}}
{{- with $d.Asked}}

[to.{{$name}}.values]
{{- range .}}
{{if not (or (index $d.Values .Name) .Default)}}# {{end}}{{.Name}} = {{toml (or (index $d.Values .Name) .Default)}}  # {{.Says}}
{{- end}}{{end}}
{{- end}}{{end}}`

var newFile = template.Must(
	template.New(Name).Funcs(template.FuncMap{"toml": quoted, "rulebook": func() string { return rulebook.Names()[0] }}).Parse(destinations +
		`{{if .Blank}}#:schema ` + SchemaFile + `
{{end}}# What havvel knows about this game. havvel help toml explains every key.

[game]
title   = {{toml .Game.Title}}
short   = {{toml .Game.Short}}  # used in addresses; can't be changed on most portals once public
{{- if .Game.Studio}}
studio  = {{toml .Game.Studio}}{{end}}
version = {{toml .Game.Version}}  # raise it before each send
export  = {{toml .Game.Export}}
{{- template "to" .To}}
{{- if and .Blank (not .To)}}

# Where it goes: havvel start --to {{rulebook}} adds a portal, havvel start --to sftp://… a site.
{{- end}}
{{- range .Statistics}}

[[statistic]]
name  = {{toml .Name}}
keeps = {{toml .Keeps}}
{{- if .Label}}
label = {{toml .Label}}{{end}}
{{- if .Unit}}
unit  = {{toml .Unit}}{{end}}
{{- end}}
{{- if .Blank}}

# The game's page, written once for all portals. havvel listing says what each of them wants.
[listing]
{{if not .Listing.Tagline}}# {{end}}tagline     = {{toml .Listing.Tagline}}  # one sentence that makes somebody want to play
# description = "page/description.md"  # Markdown
{{if not .Listing.Category}}# {{end}}category    = {{toml .Listing.Category}}
# tags        = []
{{- if index .Listing.Frame 0}}
frame       = [{{index .Listing.Frame 0}}, {{index .Listing.Frame 1}}]  # of the page's canvas{{end}}
{{- range .Listing.Controls}}

# The scripts listen to these keys. Say what each does, one block for each thing that players do.
# [[listing.control]]
# action = "Jump"
# keys   = [{{range $i, $k := .Keys}}{{if $i}}, {{end}}{{toml $k}}{{end}}]
{{- end}}
{{- range .Pictures}}

[[picture]]
file  = {{toml .File}}
roles = [{{range $i, $r := .Roles}}{{if $i}}, {{end}}{{toml $r}}{{end}}]
{{- end}}
{{- end}}
`),
)

var moreDestinations = template.Must(template.New("more").Funcs(template.FuncMap{"toml": quoted}).Parse(destinations + `{{template "to" .}}
`))

// AddDestinations adds destinations at the end of the project file, which otherwise stays as it is, and returns what is added. With
// dryRun nothing is written.
func (p *Project) AddDestinations(list map[string]*Destination, dryRun bool) ([]byte, error) {
	for name := range list {
		if p.To[name] != nil {
			return nil, fault.New(fault.Usage, "%s has [to.%s] already", Name, name).Then("change it with an editor")
		}
	}
	at := filepath.Join(p.Folder, Name)
	data, err := os.ReadFile(at)
	if err != nil {
		return nil, err
	}
	var more bytes.Buffer
	if err := moreDestinations.Execute(&more, list); err != nil {
		return nil, err
	}
	all := slices.Concat(bytes.TrimRight(data, "\n"), more.Bytes())
	if _, err := parse(p.Folder, all); err != nil {
		return nil, err
	}
	if dryRun {
		return bytes.TrimSpace(more.Bytes()), nil
	}
	return bytes.TrimSpace(more.Bytes()), atomicfile.Bytes(at, all)
}

// Blank writes a new project file as Text does, for a developer who goes on with it: what is missing of the page stands there as a comment.
func Blank(p *Project) ([]byte, error) {
	return written(p, true)
}

func quoted(s string) (string, error) {
	var b strings.Builder // a JSON string is a TOML basic string
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	err := encoder.Encode(s)
	return strings.TrimSpace(b.String()), err
}

// ShortFrom makes a name for addresses from a title: "Tinderwick Lane" becomes "tinderwick-lane".
// It is "game" when nothing of the title can stand in an address.
func ShortFrom(title string) string {
	var b strings.Builder
	gap := false
	for _, r := range strings.ToLower(norm.NFD.String(title)) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			if gap && b.Len() > 0 {
				b.WriteByte('-')
			}
			b.WriteRune(r)
			gap = false
		case unicode.Is(unicode.Mn, r) || r == '\'' || r == '’':
		default:
			gap = true
		}
	}
	if b.Len() == 0 {
		return "game"
	}
	return b.String()
}

// AddPictures names more masters at the end of the project file, which otherwise stays as it is.
func (p *Project) AddPictures(list []Picture) error {
	path := filepath.Join(p.Folder, Name)
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	b := bytes.NewBuffer(bytes.TrimRight(data, "\n"))
	b.WriteByte('\n')
	for _, m := range list {
		if err := newPicture.Execute(b, m); err != nil {
			return err
		}
	}
	if _, err := parse(p.Folder, b.Bytes()); err != nil {
		return err
	}
	return atomicfile.Bytes(path, b.Bytes())
}

// PlaySteps names a file of steps for the trial in the project file, which otherwise stays as it is.
func (p *Project) PlaySteps(file string) error {
	path := filepath.Join(p.Folder, Name)
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	name, err := quoted(file)
	if err != nil {
		return err
	}
	line := "steps_file = " + name + "\n"
	head := regexp.MustCompile(`(?m)^\[trial\][^\n]*\n`)
	if at := head.FindIndex(data); at != nil {
		data = slices.Concat(data[:at[1]], []byte(line), data[at[1]:])
	} else {
		data = slices.Concat(bytes.TrimRight(data, "\n"), []byte("\n\n[trial]\n"+line))
	}
	if _, err := parse(p.Folder, data); err != nil {
		return err
	}
	return atomicfile.Bytes(path, data)
}

var newPicture = template.Must(template.New("picture").Funcs(template.FuncMap{"toml": quoted}).Parse(`
[[picture]]
file  = {{toml .File}}
roles = [{{range $i, $r := .Roles}}{{if $i}}, {{end}}{{toml $r}}{{end}}]
`))
