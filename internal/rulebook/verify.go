package rulebook

import (
	"fmt"
	"slices"
	"strings"

	"havvel/internal/settings"
)

// The words for the state of a delivery, to which a rulebook brings the portal's own.
const (
	Sent      = "sent"
	Verifying = "verifying"
	Draft     = "draft"
	InReview  = "in review"
	Public    = "public"
	Refused   = "refused"
	Withdrawn = "withdrawn"
	Replaced  = "replaced"
)

var states = []string{Sent, Verifying, Draft, InReview, Public, Refused, Withdrawn, Replaced}

// given are the values that every recipe can use without taking them.
var given = []string{
	"address", "key", "key.id", "key.secret", "key.basic", "game.title", "game.short", "game.studio", "game.statistics", "version",
	"fingerprint", "archive.bytes", "archive.sha256",
	"entry.bytes", "entry.sha256", "rest.bytes", "rest.sha256",
}

// verify reports every mistake of meaning.
func (r *Rulebook) verify(d *settings.Document) {
	if r.Format != Format {
		d.Wrong("format", "is %q; this havvel reads %q", r.Format, Format)
	}
	d.Must("name", r.Name)
	if d.Must("archive.hand_over", r.Archive.HandOver) {
		d.Within("archive.hand_over", r.Archive.HandOver, "zip", "entry-apart", "one-page", "folder")
	}
	d.Within("archive.names", r.Archive.Names, "any", "plain")
	d.Each("serves.encodings", r.Serves.Encodings, "gzip", "br")
	for i, h := range r.Hooks {
		h.verify(d, fmt.Sprintf("hook[%d]", i))
	}
	for i, v := range r.Views {
		d.Each(fmt.Sprintf("view[%d].conditions", i), v.Conditions, Conditions()...)
		if v.Size[0] <= 0 || v.Size[1] <= 0 {
			d.Wrong(fmt.Sprintf("view[%d].size", i), "needs a width and a height, as in [960, 540]")
		}
	}
	for id, level := range r.Levels {
		d.Within("levels."+id, level, "error", "warning", "note")
	}
	for theirs, ours := range r.States {
		d.Within("states."+theirs, ours, states...)
	}
	r.verifyPage(d)
	r.verifyRecipes(d)
}

func (r *Rulebook) verifyRecipes(d *settings.Document) {
	entered := verifySteps(d, "enter", r.Enter, given, nil)
	afterSend := verifySteps(d, "send", r.Send, entered, r.Archive.handed())
	for i, k := range r.Keep {
		if !slices.Contains(afterSend, k) || slices.Contains(entered, k) {
			d.Wrong(fmt.Sprintf("keep[%d]", i), "has %q, which no [[send]] step takes", k)
		}
	}
	kept := slices.Concat(entered, r.Keep)
	for name, steps := range map[string][]Step{"follow": r.Follow, "publish": r.Publish, "withdraw": r.Withdraw, "back": r.Back,
		"list": r.List} {
		verifySteps(d, name, steps, kept, nil)
	}
	verifySteps(d, "fill", r.Fill, slices.Concat(kept, r.ofPage()), []string{PictureStep})
	verifySteps(d, "restrict", r.Restrict, append(kept, "password"), nil)
}

// handed lists the files that a send step can carry.
func (a Archive) handed() []string {
	if a.HandOver == "entry-apart" {
		return []string{"entry", "rest"}
	}
	if a.HandOver == "folder" {
		return []string{Each}
	}
	return []string{"archive"}
}

// Each is the name of every file of a folder, in turn.
const Each = "each"

// ofEach are the values that a step with the file Each can use.
var ofEach = []string{"file.name", "file.bytes", "file.sha256", "file.type"}

// verifySteps checks the steps of one recipe and returns the values known at its end.
func verifySteps(d *settings.Document, recipe string, steps []Step, known, handed []string) []string {
	for i, s := range steps {
		s.verify(d, fmt.Sprintf("%s[%d]", recipe, i), known, handed)
		for name := range s.Take {
			known = append(slices.Clip(known), name)
		}
	}
	return known
}

func (s *Step) verify(d *settings.Document, at string, known, handed []string) {
	if d.Must(at+".method", s.Method) {
		d.Within(at+".method", s.Method, "GET", "POST", "PUT", "PATCH", "DELETE")
	}
	d.Must(at+".address", s.Address.String())
	if len(s.Expect) == 0 {
		d.Wrong(at+".expect", "is missing: which statuses mean yes?")
	}
	bodies := 0
	for _, has := range []bool{s.JSON != nil, s.Form != nil, len(s.Parts) > 0, s.File != ""} {
		if has {
			bodies++
		}
	}
	if bodies > 1 {
		d.Wrong(at, "has %d bodies; choose one of json, form, part and file", bodies)
	}
	if slices.Contains(s.files(), Each) {
		known = slices.Concat(known, ofEach)
	}
	if slices.Contains(s.files(), PictureStep) {
		known = slices.Concat(known, ofPicture)
	}
	for path, text := range s.texts(at) {
		for _, name := range text.Values() {
			if !slices.Contains(known, name) {
				f := d.Wrong(path, "has {%s}, which is not known there", name)
				if near := settings.Nearest(name, known); near != "" {
					f.Then("did you mean {%s}?", near)
				} else {
					f.Then("known: %s", strings.Join(known, ", "))
				}
			}
		}
	}
	d.Within(at+".file", s.File, handed...)
	for i, p := range s.Parts {
		d.Within(fmt.Sprintf("%s.part[%d].file", at, i), p.File, handed...)
	}
	if s.Resumable && (s.File == "" || s.Method != "POST") {
		d.Wrong(at+".resumable", "is for a POST with a file")
	}
	if s.Repeat != nil {
		if _, ok := s.Take[s.Repeat.Value]; !ok || len(s.Repeat.Until) == 0 || s.Repeat.Every == 0 || s.Repeat.Limit == 0 {
			d.Wrong(at+".repeat", "needs value (one that this step takes), until, every and limit")
		}
	}
}

// WantsKey reports whether a step uses the destination's key.
func (r *Rulebook) WantsKey() bool {
	for _, recipe := range r.Recipes.all() {
		for _, s := range recipe.steps {
			if slices.ContainsFunc(s.Values(), func(name string) bool { return name == "key" || strings.HasPrefix(name, "key.") }) {
				return true
			}
		}
	}
	return false
}

// named is a recipe and its name.
type named struct {
	name  string
	steps []Step
}

func (r Recipes) all() []named {
	return []named{
		{"enter", r.Enter}, {"send", r.Send}, {"fill", r.Fill}, {"follow", r.Follow}, {"publish", r.Publish}, {"withdraw", r.Withdraw},
		{"back", r.Back}, {"list", r.List}, {"restrict", r.Restrict},
	}
}

// texts are all texts of a step in which values are replaced, by their paths below that of the step.
func (s *Step) texts(at string) map[string]Text {
	list := map[string]Text{at + ".address": s.Address}
	for name, v := range s.Headers {
		list[at+".headers."+name] = v
	}
	for name, v := range s.Form {
		list[at+".form."+name] = v
	}
	for i, p := range s.Parts {
		list[fmt.Sprintf("%s.part[%d].text", at, i)] = p.Text
	}
	if s.JSON != nil {
		textsIn(s.JSON, at+".json", list)
	}
	return list
}

func textsIn(v any, at string, list map[string]Text) {
	switch v := v.(type) {
	case Text:
		list[at] = v
	case map[string]any:
		for name, inner := range v {
			textsIn(inner, at+"."+name, list)
		}
	case []any:
		for i, inner := range v {
			textsIn(inner, fmt.Sprintf("%s[%d]", at, i), list)
		}
	}
}

func (s *Step) files() []string {
	var list []string
	if s.File != "" {
		list = append(list, s.File)
	}
	for _, p := range s.Parts {
		if p.File != "" {
			list = append(list, p.File)
		}
	}
	return list
}
