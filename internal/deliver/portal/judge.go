package portal

import (
	"errors"
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strings"
	"time"

	"havvel/internal/rulebook"
	"havvel/internal/rulebook/expression"
	"havvel/internal/rulebook/place"
)

// streams reports whether an answer is a stream of server-sent events.
func streams(r *http.Response) bool {
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	return kind == "text/event-stream"
}

// judge decides whether an answer means yes, and takes from it what the rulebook says.
func (s *Session) judge(t *turn, answer *place.Answer, response *http.Response) error {
	t.last = answer
	done := slices.Contains(t.Done, answer.Status)
	if err := s.no(t, answer, response, done); err != nil {
		return err
	}
	if err := s.take(t); err != nil {
		if !done {
			return s.unread(t, response, err)
		}
		t.before = true // it was there before, and what it says of that need not be what a new one gets
	}
	if err := s.decide(t, response); err != nil {
		return err
	}
	t.a.Asked = answer.Status == http.StatusAccepted
	for name, v := range t.taken {
		s.learn(t, name, v)
	}
	err := s.understand(t, "", nil)
	var odd *Puzzled
	if errors.As(err, &odd) {
		odd.yes = true
	}
	return err
}

// no is the error for an answer that is no yes by its status, or by what it says; nil for one that is. done is that its status says that
// there was nothing left to do.
func (s *Session) no(t *turn, answer *place.Answer, response *http.Response, done bool) error {
	if answer.Status/100 == 3 && t.Method != http.MethodGet {
		return s.refusal(t, response, answer, fmt.Sprintf("it sends us to %s, and that is no yes to a write", s.masked(plainAddress(response))))
	}
	if done {
		return nil
	}
	expected := slices.Contains(t.Expect, answer.Status)
	if !expected && (ambiguous(t.Step, answer.Status) && !s.says(t, answer) || turned(t, response) && !repeatable(t.Step)) {
		return &Lost{Portal: s.Rules.Name, Step: t.Step.Step, Host: hostOf(response.Request.URL),
			Cause: fmt.Errorf("status %d %s", answer.Status, http.StatusText(answer.Status))}
	}
	if !expected || s.says(t, answer) {
		return s.refusal(t, response, answer, "")
	}
	return nil
}

// unread is the error for an answer that should mean yes, and doesn't hold what it must. A write that can't be made twice may have been
// done, or may not.
func (s *Session) unread(t *turn, r *http.Response, err error) error {
	if repeatable(t.Step) || t.Resumable {
		return s.puzzled(t.Step, err)
	}
	return &Lost{Portal: s.Rules.Name, Step: t.Step.Step, Host: hostOf(r.Request.URL), Cause: s.puzzled(t.Step, err)}
}

// ambiguous reports whether a status leaves open whether a write was done: the portal broke while it was at it, something between us and
// it answered, or it says yes in another way than the rulebook expects. Its own words for no settle that.
func ambiguous(step *rulebook.Step, status int) bool {
	odd := []int{http.StatusInternalServerError, http.StatusBadGateway, http.StatusGatewayTimeout}
	return (status/100 == 2 || slices.Contains(odd, status)) && !repeatable(step)
}

func plainAddress(r *http.Response) string {
	to, err := r.Location()
	if err != nil {
		return "an address that can't be read"
	}
	to.RawQuery, to.User = "", nil
	return to.String()
}

// says reports whether an answer holds the portal's words for no. Where a step takes a state and the reasons for it, they belong to that.
func (s *Session) says(t *turn, answer *place.Answer) bool {
	_, state := t.Take["state"]
	if _, reasons := t.Take["reasons"]; state && reasons {
		return false
	}
	for _, where := range s.Rules.Refusal.Words {
		if len(place.Beside(where, nil, answer)) > 0 {
			return true
		}
	}
	return false
}

// decide hears what a step's own conditions say.
func (s *Session) decide(t *turn, response *http.Response) error {
	if t.Yes == nil && t.No == nil {
		return nil
	}
	values := s.env(t.judged())
	yes, err := t.Yes.True(values)
	if err != nil {
		return s.puzzled(t.Step, err)
	}
	no := false
	if t.No != nil {
		if no, err = t.No.True(values); err != nil {
			return s.puzzled(t.Step, err)
		}
	}
	switch {
	case no:
		return s.refusal(t, response, t.last, fmt.Sprintf("its answer means no: %s", t.No))
	case !yes:
		return s.refusal(t, response, t.last, fmt.Sprintf("its answer is no yes: %s is false", t.Yes))
	}
	return nil
}

// judged are the values that yes, no, until and set know: those taken, and the answer itself.
func (t *turn) judged() expression.Values {
	all := expression.Values{}
	for name, v := range t.values {
		all[name] = v
	}
	headers := map[string]any{}
	all["status"], all["headers"], all["answer"], all["text"] = 0, headers, nil, ""
	if t.last != nil {
		for name := range t.last.Header {
			headers[strings.ToLower(name)] = t.last.Header.Get(name)
		}
		v, _ := t.last.JSON()
		all["status"], all["answer"], all["text"] = t.last.Status, v, string(t.last.Body)
	}
	for name := range t.Take {
		all[name] = nil
	}
	for name, v := range t.taken {
		all[name] = v
	}
	return all
}

// asked is how long the portal wants us to wait before we ask again.
func (t *turn) asked() time.Duration {
	if t.last == nil {
		return 0
	}
	return min(retryAfter(t.last.Header), waitable(t.Step))
}

func (s *Session) keyRefused(status int) bool {
	if len(s.Rules.Refusal.Key) == 0 {
		return status == http.StatusUnauthorized
	}
	return slices.Contains(s.Rules.Refusal.Key, status)
}

func (s *Session) refusal(t *turn, r *http.Response, answer *place.Answer, why string) error {
	e := &Refused{
		Portal: s.Rules.Name, Step: t.Step.Step, Status: r.StatusCode, after: retryAfter(r.Header), why: why, Key: s.keyRefused(r.StatusCode),
	}
	waits := []int{http.StatusForbidden, http.StatusServiceUnavailable} // a secondary limit, and a portal at work
	e.busy = e.Status == http.StatusTooManyRequests || e.after > 0 && slices.Contains(waits, e.Status)
	e.Key = e.Key && !e.busy
	for i, where := range s.Rules.Refusal.Words {
		var about *place.Place
		if i < len(s.Rules.Refusal.Fields) {
			about = &s.Rules.Refusal.Fields[i]
		}
		for _, pair := range place.Beside(where, about, answer) {
			e.Reasons, e.Fields = append(e.Reasons, s.masked(pair[0])), append(e.Fields, s.masked(pair[1]))
		}
	}
	if len(e.Reasons) == 0 && why == "" {
		e.why = s.masked(inShort(answer))
		if s.Trace != nil && len(s.Rules.Refusal.Words) > 0 {
			e.why = strings.TrimPrefix(e.why+"; words of [refusal] find nothing in this answer", "; ")
		}
	}
	return e
}

// inShort is what an answer says that holds no words the rulebook knows.
func inShort(a *place.Answer) string {
	if a.Page() {
		return "its answer is " + a.Kind()
	}
	text := strings.Join(strings.Fields(signed.ReplaceAllString(string(a.Body), "?(query)")), " ")
	if a.Kind() == "no text" || text == "" {
		return ""
	}
	const most = 200
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + " …"
	}
	return text
}

// missing says that an answer lacks a value.
type missing struct {
	name, where, is string
}

func (m *missing) Error() string {
	return fmt.Sprintf("its answer has no %s (at %s); it is %s", m.name, m.where, m.is)
}

// meanings are the values with a meaning of their own, which not every answer must have.
var meanings = []string{"draft", "link", "reasons"}

// take takes from an answer what the rulebook says.
func (s *Session) take(t *turn) error {
	taken := expression.Values{}
	t.taken = taken
	for _, name := range keys(t.Take) {
		v, err := s.taken(t, name, t.Take[name])
		if err != nil {
			return err
		}
		taken[name] = v
	}
	if t.Next == nil {
		return s.compute(t)
	}
	t.following = nil // what is computed is, once all pages are there
	if found, err := t.Next.Find(t.last); err == nil && len(found) > 0 {
		t.following = found[0]
	}
	return nil
}

// taken is what an answer has at a place.
func (s *Session) taken(t *turn, name string, where place.Place) (any, error) {
	found, err := where.Find(t.last)
	optional := slices.Contains(t.Optional, name) || slices.Contains(meanings, name)
	if err != nil && !optional {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	for i := range found {
		if text, ok := found[i].(string); ok && !t.inside {
			found[i] = s.masked(text)
		}
	}
	switch {
	case where.Many() || slices.Contains([]string{"reasons", "versions", "states"}, name):
		return append([]any{}, found...), nil
	case len(found) > 0 && found[0] != "":
		return found[0], nil
	case optional:
		return nil, nil
	}
	return nil, &missing{name, where.String(), t.last.Kind()}
}

// compute works out what a step makes of the values that it took.
func (s *Session) compute(t *turn) error {
	values := s.env(t.judged())
	for _, name := range keys(t.Set) {
		v, err := t.Set[name].Value(values)
		if err != nil {
			return err
		}
		if v == nil && !slices.Contains(t.Optional, name) {
			return &missing{name, t.Set[name].String(), "not there"}
		}
		t.taken[name] = v
	}
	return nil
}

// learn keeps a value for later steps.
func (s *Session) learn(t *turn, name string, v any) {
	text, isText := v.(string)
	switch {
	case isText && (t.inside || rulebook.Secretive(name)):
		if t.loop {
			s.hide(text)
			return
		}
		s.Hide(name, text)
	case !t.loop:
		s.Know(name, v)
	}
}

// understand brings the values that have a meaning for us into the answer. state and reasons are those of an answer that the ledger knows.
func (s *Session) understand(t *turn, state string, reasons []string) error {
	a := t.a
	if state != "" {
		a.State, a.Reasons = state, reasons
	}
	for name, v := range t.taken {
		switch name {
		case "reasons":
			a.Reasons = textsOf(v)
		case "versions":
			a.Versions = textsOf(v)
		case "states":
			a.States = s.ours(textsOf(v))
		case "draft":
			a.Draft, _ = v.(string)
		case "link":
			a.Link, _ = v.(string)
		case "state":
			word := fmt.Sprint(v)
			ours, ok := s.Rules.States[word]
			if !ok {
				return s.odd(t.Step, fmt.Sprintf("it says %q, which [states] in the rulebook doesn't know", word))
			}
			a.State = ours
		}
	}
	return nil
}

func textsOf(v any) []string {
	list, _ := v.([]any)
	out := []string{}
	for _, x := range list {
		text, err := expression.Plain(x)
		if err != nil {
			text = ""
		}
		out = append(out, text)
	}
	return out
}

// ours brings the portal's words for states to ours; those that the rulebook doesn't know stay.
func (s *Session) ours(words []string) []string {
	list := make([]string, len(words))
	for i, w := range words {
		if list[i] = s.Rules.States[w]; list[i] == "" {
			list[i] = w
		}
	}
	return list
}
