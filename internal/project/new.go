package project

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"text/template"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"havvel/internal/place"
	"havvel/internal/rulebook"
)

// Text writes a new project file, with a comment for whoever sees one for the first time.
// The destinations are those in p.To.
func Text(p *Project) ([]byte, error) {
	var b bytes.Buffer
	err := newFile.Execute(&b, p)
	return b.Bytes(), err
}

var newFile = template.Must(template.New(Name).Funcs(template.FuncMap{"toml": quoted, "rulebook": func() string { return rulebook.Names()[0] }}).Parse(
	`# What havvel knows about this game. All keys: docs/formats/project.md

[game]
title   = {{toml .Game.Title}}
short   = {{toml .Game.Short}}  # used in addresses; can't be changed on most portals once public
{{- if .Game.Studio}}
studio  = {{toml .Game.Studio}}{{end}}
version = {{toml .Game.Version}}  # raise it before each send
export  = {{toml .Game.Export}}
{{- range $name, $d := .To}}

[to.{{$name}}]
rulebook = {{toml $d.Rulebook}}
{{- if $d.Address}}
address  = {{toml $d.Address}}{{end}}
{{- if $d.Key}}
key      = {{toml $d.Key}}  # where the key is, never the key itself{{end}}
{{- else}}

# Where it goes. Take away the # and name a rulebook:
# [to.{{rulebook}}]
# rulebook = "{{rulebook}}"
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
`))

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
	return place.Bytes(path, b.Bytes())
}

var newPicture = template.Must(template.New("picture").Funcs(template.FuncMap{"toml": quoted}).Parse(`
[[picture]]
file  = {{toml .File}}
roles = [{{range $i, $r := .Roles}}{{if $i}}, {{end}}{{toml $r}}{{end}}]
`))
