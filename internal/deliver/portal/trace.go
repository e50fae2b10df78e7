package portal

import (
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strings"

	"havvel/internal/rulebook"
)

// signed is the query of an address in a text, which may hold a signature.
var signed = regexp.MustCompile(`\?[A-Za-z0-9_.~%-]+=[^"\s]*`)

// A Trace is told of requests and answers, with all secrets masked.
type Trace interface {
	Asked(step, method, address string, headers map[string]string, body string)
	Answered(r *http.Response, body string)
}

func (s *Session) tell(step *rulebook.Step, r *http.Request) {
	if s.Trace == nil {
		return
	}
	headers := map[string]string{}
	for name := range r.Header {
		headers[name] = s.masked(r.Header.Get(name))
	}
	address := *r.URL
	if address.RawQuery != "" {
		address.RawQuery = "(query)" // it may hold a signature
	}
	body := ""
	switch {
	case step.JSON != nil:
		var text strings.Builder
		e := json.NewEncoder(&text)
		e.SetEscapeHTML(false)
		if e.Encode(s.fillJSON(step.JSON)) == nil {
			body = strings.TrimSpace(text.String())
		}
	case step.Form != nil:
		body = fmt.Sprintf("a form with %d fields", len(step.Form))
	case step.File != "" && r.ContentLength > 0:
		body = fmt.Sprintf("%d bytes of the %s", r.ContentLength, step.File)
	case len(step.Parts) > 0:
		body = fmt.Sprintf("%d parts", len(step.Parts))
	}
	s.Trace.Asked(step.Step, r.Method, s.masked(address.String()), headers, s.masked(body))
}
