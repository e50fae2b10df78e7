package portal

import (
	"net/http"
	"regexp"
	"strings"

	"havvel/internal/rulebook/expression"
)

// signed is the query of an address in a text, which may hold a signature.
var signed = regexp.MustCompile(`\?[A-Za-z0-9_.~%\[\]-]+=[^"\s<]*`)

// A Trace is told of requests and answers, with all secrets masked.
type Trace interface {
	Asked(step, method, address string, headers map[string]string, body string)
	Answered(r *http.Response, body string)
}

func (s *Session) tell(t *turn, r *http.Request, body string, values expression.Values) {
	if s.Trace == nil {
		return
	}
	headers := map[string]string{}
	for name := range r.Header {
		headers[name] = s.masked(r.Header.Get(name))
	}
	for _, list := range []map[string]expression.Text{s.Rules.Headers, t.Headers} {
		for name, text := range list {
			if _, sent := headers[http.CanonicalHeaderKey(name)]; !sent || !s.secretive(text.Uses()) {
				continue
			}
			shown, err := text.Fill(values, func(f *expression.Formula, _ any, value, _ string) string {
				if s.secretive(f.Uses()) {
					return "(key)" // however short it is
				}
				return value
			})
			if err == nil {
				headers[http.CanonicalHeaderKey(name)] = s.masked(shown)
			}
		}
	}
	address := *r.URL
	if address.RawQuery != "" && !s.Pretend {
		address.RawQuery = "(query)" // it may hold a signature
	}
	if t.inside {
		body = "(not shown: it holds credentials)"
	}
	where := address.String()
	if s.Pretend {
		where = strings.NewReplacer("%28", "(", "%29", ")").Replace(where) // values that are not known yet
	}
	s.Trace.Asked(t.Step.Step, r.Method, s.masked(where), headers, s.masked(body))
}

func (s *Session) told(t *turn, r *http.Response, body []byte) {
	if s.Trace == nil {
		return
	}
	text := signed.ReplaceAllString(s.masked(string(body)), "?(query)")
	if t.inside {
		text = "(not shown: it holds credentials)"
	}
	s.Trace.Answered(r, text)
}
