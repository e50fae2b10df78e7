package rulebook

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"havvel/internal/fault"
	"havvel/internal/release"
	"havvel/internal/rulebook/expression"
	"havvel/internal/settings"
)

// The states of a delivery. A rulebook maps the portal's words to them; unknown is our own, of one whose answer was lost.
const (
	Sent      = "sent"
	Verifying = "verifying"
	Draft     = "draft"
	InReview  = "in review"
	Scheduled = "scheduled"
	Public    = "public"
	Refused   = "refused"
	Withdrawn = "withdrawn"
	Replaced  = "replaced"
	Unknown   = "unknown"
)

var states = []string{Sent, Verifying, Draft, InReview, Scheduled, Public, Refused, Withdrawn, Replaced}

// undecided are the states in which the portal has still to decide.
var undecided = []string{Sent, Verifying, InReview, Unknown}

// Undecided reports whether the portal has still to say what becomes of a version in this state.
func Undecided(state string) bool { return slices.Contains(undecided, state) }

// verify reports every mistake of meaning.
func (r *Rulebook) verify(d *settings.Document) {
	r.verifyFormat(d)
	d.Must("name", r.Name)
	if r.Address != "" {
		verifyAddress(d, "address", r.Address)
	}
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
	for i, v := range r.Values {
		at := fmt.Sprintf("value[%d]", i)
		if d.Must(at+".name", v.Name) && !valueName.MatchString(v.Name) {
			d.Wrong(at+".name", "is %q; it must be in small letters, digits and underscores", v.Name)
		}
		d.Must(at+".says", v.Says)
		if len(v.OneOf) > 0 {
			d.Within(at+".default", v.Default, v.OneOf...)
		}
	}
	r.verifyPage(d)
	r.verifyRecipes(d)
}

// former is the version of the format before this one.
const former = "havvel-rulebook/1"

func (r *Rulebook) verifyFormat(d *settings.Document) {
	switch {
	case r.Format == Format:
	case r.Format == former:
		d.Wrong("format", "is %q; this havvel reads %q", former, Format).
			Then("what else has to change is said below; docs/formats/rulebook.md, \"From version 1\", has the whole list")
	case strings.HasPrefix(r.Format, "havvel-rulebook/"):
		d.Wrong("format", "is %q; this havvel reads %q", r.Format, Format).Then("a newer havvel reads it")
	default:
		d.Wrong("format", "is %q; write %q", r.Format, Format)
	}
}

// tooNew says that a rulebook needs a newer havvel, before anything else is said of it.
func (r *Rulebook) tooNew(d *settings.Document) error {
	switch {
	case r.Needs != "" && !release.IsNumber(r.Needs):
		d.Wrong("needs", "is %q, which is no version of havvel, such as \"1.4.0\"", r.Needs)
	case release.Older(r.Needs):
		return &fault.Error{Kind: fault.Usage, What: fmt.Sprintf("it needs havvel %s or later; this is havvel %s", r.Needs, release.Version()),
			Next: "get a newer havvel, or ask for a rulebook that this havvel reads", At: d.At("needs")}
	}
	return nil
}

func (r *Rulebook) verifyRecipes(d *settings.Document) {
	base := r.given()
	if r.Login != nil {
		r.Login.verify(d, base)
	}
	if r.Login.Tokens() {
		base["token"] = text
	}
	if base.has("key") && r.WantsKey() && r.Key.Where == "" && r.Key.Variable == "" {
		d.Wrong("key", "is missing: steps use {key}, so say in [key] where a developer finds it (where), and the environment variable that "+
			"holds it (variable)")
	}
	entered := r.verifySteps(d, "enter", r.Enter, base)
	for name, value := range r.Headers {
		verifyHeader(d, "headers."+name, name, value)
		for _, x := range texts("headers."+name, value) {
			verifyFormula(d, x.path, x.formula, entered, nil)
		}
	}
	afterSend := r.verifySteps(d, "send", r.Send, with(entered, r.handed()))
	r.verifySent(d)
	kept := r.verifyKeep(d, entered, afterSend)
	more := map[string]names{
		"find": r.handed(), "fill": r.ofPage(), "restrict": {"password": text}, "schedule": {"at": text}, "stage": {"players": number},
		"testers": {"testers": textList}, "replace": r.handed(),
	}
	for _, x := range r.Recipes.All() {
		if x.Name != "enter" && x.Name != "send" {
			r.verifySteps(d, x.Name, x.Steps, with(kept, more[x.Name]))
		}
	}
}

// verifyKeep checks the values that are kept of an upload, and returns those that later steps know.
func (r *Rulebook) verifyKeep(d *settings.Document, entered, afterSend names) names {
	kept := entered.clone()
	for i, k := range r.Keep {
		at := fmt.Sprintf("keep[%d]", i)
		switch t, taken := afterSend[k]; {
		case !taken || entered.has(k):
			d.Wrong(at, "has %q, which no [[send]] step takes", k)
		case Secretive(k):
			d.Wrong(at, "has %q, which is a secret by its name, and what is kept is written down", k).Then("take it anew where it is needed")
		default:
			kept[k] = t
		}
	}
	return kept
}

// verifySent reports recipes that send no archive.
func (r *Rulebook) verifySent(d *settings.Document) {
	if len(r.Send) == 0 {
		return
	}
	for _, s := range r.Send {
		if len(s.Files()) > 0 || slices.ContainsFunc(s.Names(), func(n string) bool { return n == "content" }) {
			return
		}
	}
	d.Wrong("send[0]", "begins a recipe in which no step sends the archive").Then("one needs file = \"archive\", as its body or in a part")
}

// verifySteps checks the steps of one recipe and returns the values known at its end.
func (r *Rulebook) verifySteps(d *settings.Document, recipe string, steps []Step, known names) names {
	known = known.clone()
	for i := range steps {
		s, at := &steps[i], fmt.Sprintf("%s[%d]", recipe, i)
		if d.Must(at+".step", s.Step) && slices.ContainsFunc(steps[:i], func(o Step) bool { return o.Step == s.Step }) {
			d.Wrong(at+".step", "is %q, and so is another step's", s.Step)
		}
		taken := r.verifyStep(d, at, s, known)
		for name, t := range taken {
			if _, given := r.given()[name]; given || name == "status" || name == "headers" || name == "answer" {
				path := at + ".take." + name
				if _, set := s.Set[name]; set {
					path = at + ".set." + name
				}
				d.Wrong(path, "would hide {%s}, which every step knows; choose another name", name)
			}
			known[name] = t
		}
	}
	return known
}

// verifyFormula reports what is wrong with an expression.
func verifyFormula(d *settings.Document, path string, f *expression.Formula, known names, wanted reflect.Type) {
	m := f.Check(expression.Names(known), wanted)
	if m == nil {
		return
	}
	wrong := d.Inside(path, f.String(), m.Offset, "%s", m.Message)
	if m.Name == "" {
		return
	}
	if hint := formerly(f.String(), m.Name); hint != "" {
		wrong.Then("%s", hint)
	} else if near := settings.Nearest(m.Name, known.list()); near != "" {
		wrong.Then("did you mean {%s}?", near)
	} else {
		wrong.Then("known: %s", strings.Join(known.list(), ", "))
	}
}

// formerly says how version 2 writes what version 1 had.
func formerly(source, name string) string {
	switch {
	case name == "each":
		return "since version 2 a step goes through a list by each = \"file in files\", and its file is \"file\""
	case name == "picture":
		return "since version 2 a step goes through the pictures by each = \"picture in pictures\""
	case strings.HasPrefix(source, "key."):
		return "since version 2 it is {key_id}, {key_secret} or {base64(key)}"
	}
	return ""
}

// WantsKey reports whether something uses the destination's key.
func (r *Rulebook) WantsKey() bool {
	if r.Login != nil {
		return true
	}
	for _, text := range r.Headers {
		if slices.ContainsFunc(text.Names(), func(name string) bool { return strings.HasPrefix(name, "key") }) {
			return true
		}
	}
	for _, recipe := range r.Recipes.All() {
		for i := range recipe.Steps {
			if slices.ContainsFunc(recipe.Steps[i].Names(), func(name string) bool { return strings.HasPrefix(name, "key") }) {
				return true
			}
		}
	}
	return false
}
