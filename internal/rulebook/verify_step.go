package rulebook

import (
	"fmt"
	"mime"
	"net"
	"net/url"
	"reflect"
	"slices"
	"strings"

	"github.com/expr-lang/expr/types"
	"golang.org/x/net/http/httpguts"

	"havvel/internal/rulebook/expression"
	"havvel/internal/settings"
)

var boolean = reflect.TypeFor[bool]()

// verifyStep checks a step that knows these values, and returns what it adds to them.
func (r *Rulebook) verifyStep(d *settings.Document, at string, s *Step, known names) names {
	if d.Must(at+".method", s.Method) {
		d.Within(at+".method", s.Method, "GET", "POST", "PUT", "PATCH", "DELETE")
	}
	r.verifyTo(d, at, s)
	s.verifyStatuses(d, at)
	s.verifyBody(d, at)
	for name, value := range s.Headers {
		verifyHeader(d, at+".headers."+name, name, value)
	}
	verifyFormula(d, at+".when", s.When, known, boolean)
	if s.When != nil && len(s.When.Names()) == 0 {
		if yes, err := s.When.True(expression.Values{}); err == nil && !yes {
			d.Wrong(at+".when", "is never true, so the step is never made")
		}
	}
	inside := s.verifyEach(d, at, known)
	if s.Next != nil {
		inside["next"] = types.Any
	}
	for _, x := range s.parts(at) {
		wanted := reflect.Type(nil)
		if strings.HasSuffix(x.path, ".file") {
			wanted = reflect.TypeFor[expression.File]()
		}
		verifyFormula(d, x.path, x.formula, inside, wanted)
	}
	r.verifyRepeat(d, at, s)
	return s.verifyTaken(d, at, inside)
}

// verifyEach checks how often a step is made, and returns the values that are known in it.
func (s *Step) verifyEach(d *settings.Document, at string, known names) names {
	inside := known.clone()
	if s.Each == nil {
		if s.Among != nil || s.Parallel != 0 {
			d.Wrong(at, "has among or parallel, but no each that they belong to")
		}
		return inside
	}
	verifyFormula(d, at+".each", s.Each.List, known, nil)
	inside[s.Each.Name] = types.Any
	if of := s.Each.List.Type(); of != nil && of.Kind() == reflect.Slice && of.Elem() == reflect.TypeFor[expression.File]() {
		inside[s.Each.Name] = file
	}
	inside["number"], inside["index"] = number, number
	verifyFormula(d, at+".among", s.Among, inside, boolean)
	for _, f := range s.Address.Formulas() {
		if f.String() == s.Each.Name+".name" && slices.Contains(s.Each.List.Names(), "files") {
			d.Inside(at+".address", f.String(), 0, "address has {%s}, and a file's name has slashes", f).
				Then("write {path(%s)}, which keeps them", f)
		}
	}
	return inside
}

func verifyHeader(d *settings.Document, path, name string, value expression.Text) {
	if !httpguts.ValidHeaderFieldName(name) {
		d.Wrong(path, "is no name of a header field")
	}
	if strings.ContainsAny(value.Plain(), "\r\n") {
		d.Wrong(path, "has a line break, which ends a header")
	}
}

// verifyTaken checks what a step takes and judges by, and returns the values that it adds.
func (s *Step) verifyTaken(d *settings.Document, at string, inside names) names {
	judging, taken := with(inside, ofAnswer()), names{}
	for name, where := range s.Take {
		if !valueName.MatchString(name) {
			d.Wrong(at+".take."+name, "is no name for a value; it must be in small letters, digits and underscores")
		}
		judging[name], taken[name] = types.Any, types.Any
		if where.Many() || s.Each != nil {
			judging[name], taken[name] = anyOf, anyOf
		}
	}
	for i, name := range s.Optional {
		d.Within(fmt.Sprintf("%s.optional[%d]", at, i), name, append(keysOf(s.Take), keysOf(s.Set)...)...)
	}
	for name, f := range s.Set {
		verifyFormula(d, at+".set."+name, f, judging, nil)
		taken[name] = types.Any
	}
	for name := range s.Set {
		judging[name] = types.Any
	}
	verifyFormula(d, at+".yes", s.Yes, judging, boolean)
	verifyFormula(d, at+".no", s.No, judging, boolean)
	if s.Repeat != nil {
		verifyFormula(d, at+".repeat.until", s.Repeat.Until, judging, boolean)
	}
	return taken
}

func keysOf[V any](m map[string]V) []string {
	var list []string
	for k := range m {
		list = append(list, k)
	}
	slices.Sort(list)
	return list
}

// verifyTo checks where a step goes.
func (r *Rulebook) verifyTo(d *settings.Document, at string, s *Step) {
	address := s.Address.String()
	if !d.Must(at+".address", address) {
		return
	}
	if !strings.HasPrefix(address, "{") {
		verifyAddress(d, at+".address", address)
	}
	for _, name := range s.Address.Uses() {
		own := slices.ContainsFunc(r.Values, func(v Value) bool { return v.Secret && name == "to."+v.Name })
		if (own || strings.HasPrefix(name, "key") || name == "token") && !r.Key.InAddress {
			d.Wrong(at+".address", "has {%s}, a secret, and addresses get into the logs of servers", name).
				Then("portals take it in a header; if this one doesn't, say so: in_address = true in [key]")
		}
	}
}

// verifyAddress reports an address that can't be one, or over which secrets would go in the open.
func verifyAddress(d *settings.Document, path, address string) {
	scheme, rest, ok := strings.Cut(address, "://")
	if !ok {
		d.Wrong(path, "is %q, which is no whole address; it begins with https:// or {address}", address)
		return
	}
	d.Within(path, scheme, "https", "http")
	if scheme != "http" {
		return
	}
	u, err := url.Parse("http://" + strings.SplitN(strings.SplitN(rest, "/", 2)[0], "{", 2)[0])
	if err != nil {
		d.Wrong(path, "is %q, which can't be read", address)
		return
	}
	if ip := net.ParseIP(u.Hostname()); u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
		d.Wrong(path, "is over plain HTTP, where everybody on the way can read the key").Then("write https://; plain HTTP is for this machine")
	}
}

func (s *Step) verifyStatuses(d *settings.Document, at string) {
	if len(s.Expect) == 0 {
		d.Wrong(at+".expect", "is missing: which statuses mean yes?")
	}
	for key, list := range map[string][]int{"expect": s.Expect, "done": s.Done} {
		for i, status := range list {
			if status < 200 || status > 599 {
				d.Wrong(fmt.Sprintf("%s.%s[%d]", at, key, i), "is %d; the last answer to a request has a status from 200 to 599", status)
			} else if status >= 300 && status < 400 {
				d.Wrong(fmt.Sprintf("%s.%s[%d]", at, key, i), "is %d, which leads elsewhere and is no yes", status).
					Then("redirect = \"result\" goes on to where it leads, and expect is about the answer there")
			}
		}
	}
	d.Within(at+".redirect", s.Redirect, "result")
}

func (s *Step) verifyBody(d *settings.Document, at string) {
	bodies := 0
	for _, has := range []bool{s.JSON != nil, s.Form != nil, len(s.Parts) > 0, s.File != nil, s.Text.String() != ""} {
		if has {
			bodies++
		}
	}
	if bodies > 1 {
		d.Wrong(at, "has %d bodies; choose one of json, form, part, text and file", bodies)
	}
	if bodies > 0 && s.Method == "GET" {
		d.Wrong(at+".method", "is GET, which carries no body; POST, PUT and PATCH do")
	}
	for i, p := range s.Parts {
		in := fmt.Sprintf("%s.part[%d]", at, i)
		d.Must(in+".name", p.Name)
		if p.Type.String() != "" {
			verifyType(d, in+".type", p.Type)
		}
	}
	for name, v := range s.Headers {
		if strings.EqualFold(name, "Content-Type") {
			verifyType(d, at+".headers."+name, v)
		}
	}
	if s.Resumable && (s.File == nil || s.Method != "POST") {
		d.Wrong(at+".resumable", "is for a POST with a file")
	}
	if s.Reuse != nil && !s.Resumable {
		d.Wrong(at+".reuse", "is for a resumable upload")
	}
}

// verifyType checks a content type, where it is written as it is.
func verifyType(d *settings.Document, at string, t expression.Text) {
	if len(t.Formulas()) > 0 {
		return
	}
	if _, _, err := mime.ParseMediaType(t.String()); err != nil || !strings.Contains(t.String(), "/") {
		d.Wrong(at, "is %q, which is no content type such as \"application/zip\"", t)
	}
}

// verifyRepeat checks that a step that is repeated comes to an end.
func (r *Rulebook) verifyRepeat(d *settings.Document, at string, s *Step) {
	x := s.Repeat
	if x == nil {
		return
	}
	if x.Until == nil || x.Every <= 0 || x.Limit <= 0 {
		d.Wrong(at+".repeat", "needs until, every and limit, as in { until = 'state in [\"live\"]', every = \"2s\", limit = \"2m\" }")
		return
	}
	own := slices.Concat(keysOf(s.Take), keysOf(s.Set), ofAnswer().list(), []string{"headers"})
	if !slices.ContainsFunc(x.Until.Names(), func(n string) bool { return slices.Contains(own, n) }) {
		d.Wrong(at+".repeat.until", "asks for nothing that this step's answer can change, so the waiting can't end")
	}
	ends := len(x.Until.Words("state")) == 0
	for _, word := range x.Until.Words("state") {
		ours, known := r.States[word]
		if !known && s.Take["state"].String() != "" {
			f := d.Inside(at+".repeat.until", word, 0, "repeat.until has %q, which [states] doesn't know", word)
			if near := settings.Nearest(word, keysOf(r.States)); near != "" {
				f.Then("did you mean %q?", near)
			}
		}
		ends = ends || !known || !Undecided(ours)
	}
	if !ends {
		d.Wrong(at+".repeat.until", "waits for words that all mean that the portal has not decided yet")
	}
}
