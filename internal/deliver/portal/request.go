package portal

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"havvel/internal/rulebook"
	"havvel/internal/rulebook/expression"
)

// known are the values that a turn's request can use.
func (s *Session) known(t *turn) expression.Values {
	all := s.env(t.values)
	at := time.Now().UTC()
	all["now"] = func(form ...string) (string, error) { return written(at, form...) }
	all["uuid"] = func() string { return s.uuid(t) }
	return all
}

// written writes a time in one of the ways that interfaces want.
func written(at time.Time, form ...string) (string, error) {
	if len(form) == 0 {
		return at.Format(time.RFC3339), nil
	}
	switch form[0] {
	case "http":
		return at.Format(http.TimeFormat), nil
	case "unix":
		return fmt.Sprint(at.Unix()), nil
	case "milliseconds":
		return fmt.Sprint(at.UnixMilli()), nil
	case "basic":
		return at.Format("20060102T150405Z"), nil
	case "date":
		return at.Format(time.DateOnly), nil
	}
	return "", fmt.Errorf("now is written as \"http\", \"unix\", \"milliseconds\", \"basic\" or \"date\", not as %q", form[0])
}

// uuid is the turn's own (RFC 9562, version 4): the same when its request is made again.
func (s *Session) uuid(t *turn) string {
	if s.Ledger != nil {
		if e, _ := s.Ledger.Look(t.key); e.UUID != "" {
			return e.UUID
		}
	}
	if t.id == "" {
		var b [16]byte
		rand.Read(b[:])
		b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
		t.id = fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
	}
	if s.Ledger != nil && !t.inside {
		e, _ := s.Ledger.Look(t.key)
		e.UUID = t.id
		s.Ledger.keep(t.key, e)
	}
	return t.id
}

// request makes a turn's request. moved is called whenever bytes of its body have gone out.
func (s *Session) request(ctx context.Context, t *turn, moved func()) (*http.Request, error) {
	values := s.known(t)
	to, err := s.address(t.Address, values)
	if err != nil {
		return nil, err
	}
	p, err := s.payload(t, values)
	if err != nil {
		return nil, err
	}
	if err := p.digest(t, values); err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, t.Method, to.String(), nil)
	if err != nil {
		return nil, err
	}
	if p != nil {
		r.ContentLength = p.length
		r.GetBody = func() (io.ReadCloser, error) { return s.upload(ctx, p, moved) }
		if p.length == 0 {
			r.Body = http.NoBody
		} else if r.Body, err = r.GetBody(); err != nil {
			return nil, err
		}
		r.Header.Set("Content-Type", p.kind)
	}
	if err := s.headers(t, r, values); err != nil {
		if r.Body != nil {
			r.Body.Close()
		}
		return nil, err
	}
	says := ""
	if p != nil {
		says = p.says
	}
	s.tell(t, r, says, values)
	return r, nil
}

// headers sets those of a step, and guards the key.
func (s *Session) headers(t *turn, r *http.Request, values expression.Values) error {
	r.Header.Set("Accept", "application/json, */*;q=0.5")
	r.Header.Set("User-Agent", "havvel")
	usual := s.Rules.Headers
	if t.inside {
		usual = nil
	}
	for _, list := range []map[string]expression.Text{usual, t.Headers} {
		for name, text := range list {
			own, has := t.Headers[name]
			if has && own.String() == "" || !has && s.secretive(text.Uses()) && s.away(r.URL) {
				continue // an address that the portal gave has its own signature
			}
			value, err := text.Fill(values, s.taint)
			if err != nil {
				return err
			}
			r.Header.Set(name, value)
		}
	}
	return s.guard(t.Step, r.URL)
}

// taint hides what an expression makes of a secret.
func (s *Session) taint(f *expression.Formula, value any, text, _ string) string {
	if s.secretive(f.Uses()) {
		s.hide(text)
	}
	return text
}

func (s *Session) secretive(names []string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.ContainsFunc(names, func(n string) bool { return s.hidden[n] || n == "key" || n == "token" })
}

// guard refuses to send the key to another host than the destination's, and those that the rulebook names.
func (s *Session) guard(step *rulebook.Step, to *url.URL) error {
	if s.away(to) && s.secretive(step.Uses()) {
		return fmt.Errorf("it would send the key to another host, %s; hosts in [key] names others that may get it", to.Host)
	}
	return nil
}

// away reports whether an address is on a host that must not get the key.
func (s *Session) away(to *url.URL) bool {
	home, err := url.Parse(s.Address)
	if err != nil || home.Scheme == to.Scheme && home.Host == to.Host {
		return err != nil
	}
	named := slices.Contains(s.Rules.Key.Hosts, to.Host) || slices.Contains(s.Rules.Key.Hosts, to.Hostname())
	return !named || to.Scheme != "https" && home.Scheme != "http"
}

// address fills in an address; one that the portal handed out may be relative.
func (s *Session) address(text expression.Text, values expression.Values) (*url.URL, error) {
	home, err := url.Parse(s.Address)
	if err != nil {
		return nil, err
	}
	filled, err := text.Fill(values, func(f *expression.Formula, v any, text, before string) string {
		s.taint(f, v, text, before)
		_, escaped := v.(expression.Escaped)
		switch {
		case before == "" || escaped:
			return text // a whole address
		case strings.Contains(before, "?"):
			return url.QueryEscape(text)
		}
		return url.PathEscape(text)
	})
	if err != nil {
		return nil, err
	}
	u, err := url.Parse(filled)
	if err != nil {
		return nil, fmt.Errorf("its address can't be read")
	}
	u = home.ResolveReference(u)
	if u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("its address is not an http address")
	}
	return u, nil
}

// fingerprint is a hash of all that a request says, but for what differs each time, and for secrets.
func (s *Session) fingerprint(t *turn) (string, error) {
	values := s.known(t)
	values["now"] = func(...string) (string, error) { return "now", nil }
	values["uuid"] = func() string { return "uuid" }
	if _, paged := values["next"]; t.Next != nil && !paged {
		values["next"] = nil
	}
	values["body"] = map[string]any{"sha256": "", "sha1": "", "md5": "", "bytes": 0}
	to, err := s.address(t.Address, values)
	if err != nil {
		return "", err
	}
	p, err := s.payload(t, values)
	if err != nil {
		return "", err
	}
	signed := *to
	if t.Method != http.MethodGet && queried(to.String()) {
		signed.RawQuery = ""
	}
	said := []string{t.Method, signed.String()}
	for _, name := range slices.Sorted(maps.Keys(t.Headers)) {
		if t.Headers[name].String() == "" {
			continue
		}
		text, err := t.Headers[name].Fill(values, s.taint)
		if err != nil {
			return "", err
		}
		if !strings.HasPrefix(strings.ToLower(name), "if-") {
			said = append(said, name, text)
		}
	}
	if p != nil {
		said = append(said, p.same)
	}
	sum := sha256.Sum256([]byte(s.masked(strings.Join(said, "\x00"))))
	return fmt.Sprintf("%x", sum[:12]), nil
}
