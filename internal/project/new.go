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

var newFile = template.Must(
	template.New(Name).Funcs(template.FuncMap{"toml": quoted, "rulebook": func() string { return rulebook.Names()[0] }}).Parse(
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
{{- with $d.Asked}}

[to.{{$name}}.values]
{{- range .}}
{{if not (or (index $d.Values .Name) .Default)}}# {{end}}{{.Name}} = {{toml (or (index $d.Values .Name) .Default)}}  # {{.Says}}
{{- end}}{{end}}
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
{{- if .Blank}}

# The game's page, written once for all portals. Take away the # of what you fill in; havvel listing says what each portal wants.
[listing]
{{if .Listing.Tagline}}tagline     = {{toml .Listing.Tagline}}{{else}}# tagline     = ""                      # one sentence that ` +
			`makes somebody want to play{{end}}
# description = "page/description.md"   # the page's text, in Markdown
# news        = "page/news.md"          # what is new, with a heading for each version
{{if .Listing.Category}}category    = {{toml .Listing.Category}}{{else}}# category    = ""                      # its category{{end}}
# tags        = []                      # words that players search for, the most important first
# devices     = ["desktop", "phone"]       # what it can be played on
# orientation = "any"                   # how a phone is held: any, portrait or landscape
# languages   = ["en"]
# price       = "free"                  # free, open (players pay what they want) or fixed
# age         = 0                       # from which it is suitable, in years
# content     = []                      # what some avoid: violence, fear, strong-language, … An empty list: nothing
# unfinished  = true                    # work in progress
# generated   = []                      # what generators made: text, pictures, sound, code. An empty list: nothing
# contact     = ""                      # an e-mail address or a link

# How it is played; one block for each thing that players do.
# [[listing.control]]
# action = "Jump"
# keys   = ["Space"]
# touch  = "tap"

# A value that the game sends to portals; they make a leaderboard of it.
# [[statistic]]
# name  = "score"                 # letter for letter as the game sends it
# keeps = "highest"               # highest, lowest, total or latest

# Masters, from which the pictures for portals are cut. havvel pictures --from-trial takes screenshots and a clip.
# [[picture]]
# file  = "page/cover.png"
# roles = ["cover", "icon"]       # cover, icon, banner, background, screenshot, backdrop, clip

# What you state to portals, for this version; havvel never states anything for you.
# [declarations]
# version = {{toml .Game.Version}}
# declare  = ["own-rights"]        # havvel listing --show NAME says what is asked for

# What a trial plays; screenshots and clips come from it, too (docs/trial.md).
# [trial]
# steps = ["press Enter", "wait 2s"]
{{- end}}
`),
)

// Blank writes a new project file as Text does, and in comments what more could stand there.
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
