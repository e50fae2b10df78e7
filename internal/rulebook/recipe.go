package rulebook

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"havvel/internal/rulebook/expression"
	"havvel/internal/rulebook/place"
	"havvel/internal/settings"
)

// Interface says how the portal is asked, and what its answers mean.
type Interface struct {
	Key    Key     `toml:"key"`   // the credentials
	Login  *Login  `toml:"login"` // how one logs in by a standard; a log-in of the portal's own is a recipe, [[enter]]
	Values []Value `toml:"value"` // one value that each destination fills in, such as a release track
	// header fields of every request, but for those of [[enter]]; those that hold a secret go to the portal's own hosts only
	Headers map[string]expression.Text `toml:"headers"`
	Refusal Refusal                    `toml:"refusal"` // how the portal says no
	// the portal's word for a state = ours: sent, verifying, draft, in review, scheduled, public, refused, withdrawn or replaced
	States map[string]string `toml:"states"`
	// values taken from answers that later commands need; they are written to the logbook, so never a secret
	Keep []string `toml:"keep"`
}

// Recipes say, step by step, how things are done.
type Recipes struct {
	Enter []Step `toml:"enter"` // the steps that log in, before all others; what they take is a secret, and is not kept
	Send  []Step `toml:"send"`  // the steps that upload a version; without them a build is checked and packed, and not sent
	// the steps that look whether {version} is there, and take what [[send]] would have taken; they are asked when an answer was lost
	Find     []Step `toml:"find"`
	Follow   []Step `toml:"follow"`   // the steps that ask for a version's state
	Submit   []Step `toml:"submit"`   // the steps that hand a sent version in for review
	Recall   []Step `toml:"recall"`   // the steps that take it back from there
	Publish  []Step `toml:"publish"`  // the steps that make a sent version public
	Schedule []Step `toml:"schedule"` // the steps that make it public at a time, {at}
	Stage    []Step `toml:"stage"`    // the steps that show it to a share of the players, {players} in a hundred
	Withdraw []Step `toml:"withdraw"` // the steps that take the public version offline
	Back     []Step `toml:"back"`     // the steps that make an earlier version public again
	List     []Step `toml:"list"`     // the steps that list the game's versions: they take lists named versions and states
	// the steps that fill in the game's page, after a version was sent; one whose request is the same as last time is not made
	Fill     []Step `toml:"fill"`
	Restrict []Step `toml:"restrict"` // the steps that show a sent version to those who have a {password}
	Testers  []Step `toml:"testers"`  // the steps that show it to those in a list, {testers}
	Replace  []Step `toml:"replace"`  // the steps that upload other files for a version that was sent; without them, [[send]] does
}

// A Recipe is the steps for one purpose.
type Recipe struct {
	Name  string
	Steps []Step
}

// All lists the recipes in the order of the documentation, also those without steps.
func (r *Recipes) All() []Recipe {
	v, list := reflect.ValueOf(r).Elem(), []Recipe{}
	for f := range v.Type().Fields() {
		list = append(list, Recipe{f.Tag.Get("toml"), v.FieldByIndex(f.Index).Interface().([]Step)})
	}
	return list
}

// Steps are those of a recipe; none for one that isn't there.
func (r *Recipes) Steps(name string) []Step {
	for _, x := range r.All() {
		if x.Name == name {
			return x.Steps
		}
	}
	return nil
}

// Key says what credentials the portal wants.
type Key struct {
	Variable  string   `toml:"variable"`   // the environment variable that holds the key, unless a destination names another
	Where     string   `toml:"where"`      // where a developer finds the key, said when it is missing or refused
	Hosts     []string `toml:"hosts"`      // other hosts that may get the key, beside that of the address
	InAddress bool     `toml:"in_address"` // whether the portal wants it in an address, where it gets into the logs of servers
}

// A Value is one that each destination fills in, in [to.NAME.values]; steps use it as {to.NAME}.
type Value struct {
	Name    string   `toml:"name"`    // its name
	Says    string   `toml:"says"`    // what it is, in a sentence
	Secret  bool     `toml:"secret"`  // whether it is kept with the keys, and never shown
	OneOf   []string `toml:"one_of"`  // the only values that there are
	Default string   `toml:"default"` // where a destination names none; left out, it must
}

// Refusal says how the portal says no. Its words are heard in every answer, whatever the status.
type Refusal struct {
	Words  []place.Place `toml:"words"`  // where the portal's reasons are in an answer
	Fields []place.Place `toml:"fields"` // where it names the fields that the reasons are about, side by side with words
	Key    []int         `toml:"key"`    // statuses that mean that the key was refused
}

// A Step is one HTTP request of a recipe. Text in braces, such as {version}, is an expression.
type Step struct {
	Step     string                     `toml:"step"`     // its name, for errors
	When     *expression.Formula        `toml:"when"`     // whether it is made at all
	Each     *Each                      `toml:"each"`     // makes it once for each element of a list, as in "file in files"
	Among    *expression.Formula        `toml:"among"`    // with each: which elements it is made for
	Parallel int                        `toml:"parallel"` // with each: how many requests are made at once; default: 1
	Method   string                     `toml:"method"`   // the HTTP method
	Address  expression.Text            `toml:"address"`  // where the request goes
	Headers  map[string]expression.Text `toml:"headers"`  // header fields
	// the body, as JSON; a text that is nothing but an expression keeps the expression's type
	JSON  any                        `toml:"json"`
	Form  map[string]expression.Text `toml:"form"` // the body, as a form (application/x-www-form-urlencoded)
	Parts []Part                     `toml:"part"` // the body, as parts (multipart/form-data, RFC 7578)
	Text  expression.Text            `toml:"text"` // the body, as text; a header says which type
	File  *expression.Formula        `toml:"file"` // the body, as the bytes of a file: "archive", "entry", "rest", or an element of each
	// the statuses that mean yes
	Expect []int `toml:"expect"`
	Done   []int `toml:"done"` // statuses that mean that it was done before, which is as good
	// what an answer must say to mean yes; beside the values taken, it knows status, headers, answer (JSON) and text
	Yes *expression.Formula `toml:"yes"`
	No  *expression.Formula `toml:"no"` // what means no, likewise
	// "result": an answer 301, 302 or 303 leads to the result, which is fetched; without it, such an answer to a write means no
	Redirect string `toml:"redirect"`
	// value = where it is in the answer. The values state, reasons, draft, link, versions and states are understood, others are for
	// later steps. With each, a value is the list of what all requests took
	Take     map[string]place.Place         `toml:"take"`
	Optional []string                       `toml:"optional"` // values that an answer may lack; they are nil then
	Set      map[string]*expression.Formula `toml:"set"`      // value = what is worked out when all is taken
	// where an answer names the next page of a list: an address, or a value that the address uses as {next}. The lists that are taken go on
	Next *place.Place `toml:"next"`
	// the longest time without an answer or a byte sent, default 30s; and the longest that a portal may have us wait, default 5m
	Limit settings.Span `toml:"limit"`
	// whether a POST or PATCH may be made again after the connection broke off, since doing it twice is the same; GET, PUT and
	// DELETE always may
	Again bool `toml:"again"`
	// whether the file is uploaded by the open protocol for that: POST makes the upload, HEAD tells its offset, PATCH appends; it
	// then goes on after a cut, also in another process
	Resumable bool `toml:"resumable"`
	// of a resumable upload: the most that goes in one request; default: all at once, or 8 MB where the portal takes checksums
	Piece settings.Size `toml:"piece"`

	// of a resumable upload: the archives of earlier versions that the portal still has, a list of SHA-256 in hexadecimal digits. Parts
	// that stand in them don't travel
	Reuse *expression.Formula `toml:"reuse"`

	Repeat *Repeat `toml:"repeat"` // ask again until something is so
}

// A Part is one part of a multipart body.
type Part struct {
	Name string              `toml:"name"` // the field's name
	When *expression.Formula `toml:"when"` // whether it is there
	Text expression.Text     `toml:"text"` // its value, or
	JSON any                 `toml:"json"` // its value as JSON, or
	File *expression.Formula `toml:"file"` // the file that it carries: as in a step
	As   expression.Text     `toml:"as"`   // the file's name; default: its own
	Type expression.Text     `toml:"type"` // the content type
}

// A Repeat asks again until something is so.
type Repeat struct {
	Until *expression.Formula `toml:"until"` // ends the waiting; it knows what yes knows
	Every settings.Span       `toml:"every"` // the time between two requests
	Limit settings.Span       `toml:"limit"` // the longest time in all, unless a flag says otherwise
}

// Each goes through a list: "file in files".
type Each struct {
	Name string // of an element
	List *expression.Formula
}

// UnmarshalText implements encoding.TextUnmarshaler.
func (e *Each) UnmarshalText(source []byte) error {
	name, list, ok := strings.Cut(string(source), " in ")
	if name = strings.TrimSpace(name); !ok || !valueName.MatchString(name) {
		return fmt.Errorf("%q goes through no list; write it as \"file in files\"", source)
	}
	*e = Each{name, expression.New(strings.TrimSpace(list))}
	return nil
}

// MarshalText implements encoding.TextMarshaler: it is what stands in the rulebook.
func (e Each) MarshalText() ([]byte, error) { return []byte(e.Name + " in " + e.List.String()), nil }

// Names lists the values that a step's request uses.
func (s *Step) Names() []string { return s.list((*expression.Formula).Names) }

// Uses lists them as expression.Formula.Uses does.
func (s *Step) Uses() []string { return s.list((*expression.Formula).Uses) }

func (s *Step) list(of func(*expression.Formula) []string) []string {
	var list []string
	for _, p := range s.parts("") {
		list = append(list, of(p.formula)...)
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// located is an expression of a step, and its path.
type located struct {
	path    string
	formula *expression.Formula
}

// parts are all expressions of a step's request, by their paths.
func (s *Step) parts(at string) []located {
	list := texts(at+".address", s.Address)
	for name, v := range s.Headers {
		list = append(list, texts(at+".headers."+name, v)...)
	}
	for name, v := range s.Form {
		list = append(list, texts(at+".form."+name, v)...)
	}
	list = append(list, texts(at+".text", s.Text)...)
	list = append(list, within(at+".json", s.JSON)...)
	if s.File != nil {
		list = append(list, located{at + ".file", s.File})
	}
	if s.Reuse != nil {
		list = append(list, located{at + ".reuse", s.Reuse})
	}
	for i, p := range s.Parts {
		in := fmt.Sprintf("%s.part[%d]", at, i)
		list = append(list, within(in+".json", p.JSON)...)
		for key, text := range map[string]expression.Text{".text": p.Text, ".as": p.As, ".type": p.Type} {
			list = append(list, texts(in+key, text)...)
		}
		for path, f := range map[string]*expression.Formula{in + ".file": p.File, in + ".when": p.When} {
			if f != nil {
				list = append(list, located{path, f})
			}
		}
	}
	return list
}

func texts(path string, t expression.Text) []located {
	var list []located
	for _, f := range t.Formulas() {
		list = append(list, located{path, f})
	}
	return list
}

func within(path string, v any) []located {
	var list []located
	switch v := v.(type) {
	case expression.Text:
		return texts(path, v)
	case map[string]any:
		for name, inner := range v {
			list = append(list, within(path+"."+name, inner)...)
		}
	case []any:
		for i, inner := range v {
			list = append(list, within(fmt.Sprintf("%s[%d]", path, i), inner)...)
		}
	}
	return list
}

// Files lists the expressions that give the files of a step.
func (s *Step) Files() []*expression.Formula {
	var list []*expression.Formula
	if s.File != nil {
		list = append(list, s.File)
	}
	for _, p := range s.Parts {
		if p.File != nil {
			list = append(list, p.File)
		}
	}
	return list
}

// Compiled has the texts in a value of TOML read: each becomes an expression.Text.
func Compiled(v any) any {
	switch v := v.(type) {
	case string:
		return expression.NewText(v)
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, inner := range v {
			out[name] = Compiled(inner)
		}
		return out
	case []any:
		list := make([]any, len(v))
		for i, inner := range v {
			list[i] = Compiled(inner)
		}
		return list
	}
	return v
}

// compile has the JSON bodies of all steps read.
func (r *Recipes) compile() {
	for _, recipe := range r.All() {
		for i := range recipe.Steps {
			s := &recipe.Steps[i]
			s.JSON = Compiled(s.JSON)
			for k := range s.Parts {
				s.Parts[k].JSON = Compiled(s.Parts[k].JSON)
			}
		}
	}
}
