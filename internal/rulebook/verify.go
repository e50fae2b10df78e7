package rulebook

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"havvel/internal/settings"
)

// The words for what became of a delivery, to which a rulebook brings the portal's own.
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
	"address", "key", "key.id", "key.secret", "key.basic", "game.title", "game.short", "game.studio", "game.statistics", "version", "fingerprint", "archive.bytes", "archive.sha256",
	"entry.bytes", "entry.sha256", "rest.bytes", "rest.sha256",
}

// Braces matches one value in the text of a step.
var Braces = regexp.MustCompile(`\{([a-z][a-z0-9_.]*)\}`)

func (r *Rulebook) verify() error {
	if r.Format != Format {
		return fmt.Errorf("format is %q; this havvel reads %q", r.Format, Format)
	}
	if r.Name == "" {
		return fmt.Errorf("name is missing")
	}
	if err := settings.Within("archive.hand_over", r.Archive.HandOver, "zip", "entry-apart", "one-page", "folder"); err != nil {
		return err
	}
	if r.Archive.Names != "" {
		if err := settings.Within("archive.names", r.Archive.Names, "any", "plain"); err != nil {
			return err
		}
	}
	for _, e := range r.Serves.Encodings {
		if err := settings.Within("serves.encodings", e, "gzip", "br"); err != nil {
			return err
		}
	}
	for _, h := range r.Hooks {
		if h.Script == "" {
			return fmt.Errorf("hook %q has no script", h.Name)
		}
		if err := h.verify(); err != nil {
			return fmt.Errorf("hook %q: %w", h.Name, err)
		}
	}
	for _, v := range r.Views {
		if v.Size[0] <= 0 || v.Size[1] <= 0 {
			return fmt.Errorf("view %q has no size", v.Name)
		}
	}
	for id, level := range r.Levels {
		if err := settings.Within("levels."+id, level, "error", "warning", "note"); err != nil {
			return err
		}
	}
	for theirs, ours := range r.States {
		if err := settings.Within("states."+theirs, ours, states...); err != nil {
			return err
		}
	}
	if err := r.verifyPage(); err != nil {
		return err
	}
	return r.verifyRecipes()
}

func (r *Rulebook) verifyRecipes() error {
	entered, err := verifySteps("enter", r.Enter, given, nil)
	if err != nil {
		return err
	}
	afterSend, err := verifySteps("send", r.Send, entered, r.Archive.handed())
	if err != nil {
		return err
	}
	for _, k := range r.Keep {
		if !slices.Contains(afterSend, k) || slices.Contains(entered, k) {
			return fmt.Errorf("keep names %q, which no [[send]] step takes", k)
		}
	}
	kept := slices.Concat(entered, r.Keep)
	for name, steps := range map[string][]Step{"follow": r.Follow, "publish": r.Publish, "withdraw": r.Withdraw, "back": r.Back, "list": r.List} {
		if _, err := verifySteps(name, steps, kept, nil); err != nil {
			return err
		}
	}
	if _, err := verifySteps("fill", r.Fill, slices.Concat(kept, r.ofPage()), []string{PictureStep}); err != nil {
		return err
	}
	_, err = verifySteps("restrict", r.Restrict, append(kept, "password"), nil)
	return err
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
func verifySteps(recipe string, steps []Step, known, handed []string) ([]string, error) {
	for i, s := range steps {
		if err := s.verify(known, handed); err != nil {
			name := s.Step
			if name == "" {
				name = fmt.Sprint(i + 1)
			}
			return nil, fmt.Errorf("[[%s]] step %q: %w", recipe, name, err)
		}
		for name := range s.Take {
			known = append(slices.Clip(known), name)
		}
	}
	return known, nil
}

func (s *Step) verify(known, handed []string) error {
	if err := settings.Within("method", s.Method, "GET", "POST", "PUT", "PATCH", "DELETE"); err != nil {
		return err
	}
	if s.Address == "" {
		return fmt.Errorf("address is missing")
	}
	if len(s.Expect) == 0 {
		return fmt.Errorf("expect is missing: which statuses mean yes?")
	}
	bodies := 0
	for _, has := range []bool{s.JSON != nil, s.Form != nil, len(s.Parts) > 0, s.File != ""} {
		if has {
			bodies++
		}
	}
	if bodies > 1 {
		return fmt.Errorf("it has %d bodies; take one of json, form, part and file", bodies)
	}
	if slices.Contains(s.files(), Each) {
		known = slices.Concat(known, ofEach)
	}
	if slices.Contains(s.files(), PictureStep) {
		known = slices.Concat(known, ofPicture)
	}
	for _, text := range s.texts() {
		for _, m := range Braces.FindAllStringSubmatch(text, -1) {
			if !slices.Contains(known, m[1]) {
				return unknownValue(m[1], known)
			}
		}
	}
	for _, file := range s.files() {
		if err := settings.Within("file", file, handed...); err != nil {
			return err
		}
	}
	for name, where := range s.Take {
		if !strings.HasPrefix(where, "/") && !strings.HasPrefix(where, "header ") {
			return fmt.Errorf("take.%s is %q; it must be a JSON pointer such as \"/id\", or \"header NAME\"", name, where)
		}
	}
	if s.Resumable && (s.File == "" || s.Method != "POST") {
		return fmt.Errorf("a resumable upload is a POST with a file")
	}
	if s.Repeat != nil {
		if _, ok := s.Take[s.Repeat.Value]; !ok || len(s.Repeat.Until) == 0 || s.Repeat.Every == 0 || s.Repeat.Limit == 0 {
			return fmt.Errorf("repeat needs value (one that this step takes), until, every and limit")
		}
	}
	return nil
}

func unknownValue(name string, known []string) error {
	near := settings.Nearest(name, known)
	if near == "" {
		return fmt.Errorf("{%s} is not known there; known: %s", name, strings.Join(known, ", "))
	}
	return fmt.Errorf("{%s} is not known there; did you mean {%s}?", name, near)
}

// WantsKey reports whether a step uses the destination's key.
func (r *Rulebook) WantsKey() bool {
	for _, s := range slices.Concat(r.Enter, r.Send, r.Fill, r.Follow, r.Publish, r.Withdraw, r.Back, r.List, r.Restrict) {
		for _, text := range s.texts() {
			if strings.Contains(text, "{key") {
				return true
			}
		}
	}
	return false
}

// texts lists every text of a step in which values are replaced.
func (s *Step) texts() []string {
	list := []string{s.Address}
	for _, v := range s.Headers {
		list = append(list, v)
	}
	for _, v := range s.Form {
		list = append(list, v)
	}
	for _, p := range s.Parts {
		list = append(list, p.Text)
	}
	return append(list, textsIn(s.JSON)...)
}

func textsIn(v any) []string {
	var list []string
	switch v := v.(type) {
	case string:
		list = append(list, v)
	case map[string]any:
		for _, inner := range v {
			list = append(list, textsIn(inner)...)
		}
	case []any:
		for _, inner := range v {
			list = append(list, textsIn(inner)...)
		}
	}
	return list
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
