// Package portal talks to a portal by the recipe in its rulebook: HTTP requests (RFC 9110), one a step.
// It knows no portal. What a delivery is, and what is written down of it, is left to deliver.
package portal

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"havvel/internal/pieces"
	"havvel/internal/progress"
	"havvel/internal/rulebook"
	"havvel/internal/rulebook/expression"
)

// A Session runs recipes of one portal.
type Session struct {
	Rules   *rulebook.Rulebook
	Address string // of the portal's interface
	Key     string // never in an error or a value
	Report  progress.Reporter
	Trace   Trace   // hears requests and answers; may be nil
	Ledger  *Ledger // of requests that need not be made again; may be nil
	Again   bool    // a write whose answer was lost may be repeated, since the developer looked
	Prompt  Prompt  // asks the developer to confirm a log-in; nil where nobody can
	Vault   Vault   // keeps such a log-in; may be nil
	// which pieces the archives consist of that were sent, so that the next one's need not all be
	Sketches pieces.Book
	// no request is made: Trace hears each, and what its answer would give is named in its place, as in (id)
	Pretend bool
	Entered bool // likewise, the log-in alone

	client *http.Client
	pause  time.Duration // before a request is made again for the first time

	mu      sync.Mutex
	values  expression.Values
	secrets []string // what must never be shown
	hidden  map[string]bool
	entry   entrance
}

// NewSession returns a session that knows the given values, by the names that rulebooks use.
func NewSession(rules *rulebook.Rulebook, address, key string, values expression.Values) (*Session, error) {
	s := &Session{Rules: rules, Address: address, Key: key, Report: progress.None, values: maps.Clone(values), hidden: map[string]bool{},
		pause: 500 * time.Millisecond}
	if s.values == nil {
		s.values = expression.Values{}
	}
	s.values["address"] = strings.TrimSuffix(address, "/")
	s.Hide("key", key)
	id, secret, _ := strings.Cut(key, ":")
	s.values["key_id"] = id
	s.Hide("key_secret", secret)
	s.hide(base64.StdEncoding.EncodeToString([]byte(key)))
	jar, err := cookiejar.New(nil) // some portals know by a cookie who logged in
	if err != nil {
		return nil, err
	}
	s.client = &http.Client{Jar: jar, Transport: newTransport()}
	return s, s.prepare()
}

// Know gives a value.
func (s *Session) Know(name string, value any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.values[name] = value
}

// Value is one that is known; nil where it isn't.
func (s *Session) Value(name string) any {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.values[name]
}

// Secret reports whether a value must not be written down: by its name, by where it was taken, or since it is an address with a query,
// which may hold a signature.
func (s *Session) Secret(name string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.hidden[name] || private(name, s.values[name])
}

// private reports whether a value may be a secret, by its name or since a signature may be in it.
func private(name string, v any) bool {
	return rulebook.Secretive(name) || name != "link" && queried(v) // the public link is for everybody
}

// queried reports whether there is an address with a query in a value.
func queried(v any) bool {
	switch v := v.(type) {
	case string:
		u, err := url.Parse(v)
		return err == nil && u.RawQuery != "" && (u.Host != "" || strings.HasPrefix(v, "/"))
	case []any:
		return slices.ContainsFunc(v, queried)
	case map[string]any:
		for _, inner := range v {
			if queried(inner) {
				return true
			}
		}
	}
	return false
}

// env is what expressions know: the session's values, and those of one turn.
func (s *Session) env(turn expression.Values) expression.Values {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := maps.Clone(s.values)
	maps.Copy(all, turn)
	return all
}

// Hide gives a value that must never be shown or written down.
func (s *Session) Hide(name, value string) {
	s.Know(name, value)
	s.Conceal(name, value)
}

// Conceal says that a value, or a member of one, is a secret.
func (s *Session) Conceal(name, value string) {
	whole, _, _ := strings.Cut(name, ".")
	s.mu.Lock()
	s.hidden[name], s.hidden[whole] = true, true
	s.mu.Unlock()
	s.hide(value)
}

// shortest is the least length of a secret that is looked for in what is shown: one of a few letters would be found in words that have
// nothing to do with it.
const shortest = 6

func (s *Session) hide(value string) {
	if len(value) < shortest {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	quoted, _ := json.Marshal(value) // a text has a JSON form
	for _, form := range []string{value, url.PathEscape(value), url.QueryEscape(value), strings.Trim(string(quoted), `"`)} {
		if !slices.Contains(s.secrets, form) {
			s.secrets = append(s.secrets, form)
		}
	}
	slices.SortFunc(s.secrets, func(a, b string) int { return len(b) - len(a) }) // one may be part of another
}

// masked takes secrets out of what is shown.
func (s *Session) masked(text string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, secret := range s.secrets {
		text = strings.ReplaceAll(text, secret, "(key)")
	}
	return text
}

// An Answer is what the portal said, in our words.
type Answer struct {
	State   string   // of the delivery; "" when no step told it
	Reasons []string // why it was refused
	Draft   string   // where its owner can look at it
	Link    string   // where everybody can
	Asked   bool     // the last answer was 202: it was asked for, and not done yet

	Versions, States []string // of a list, side by side
}

// ByRulebook has each step that is repeated take as long as the rulebook allows.
const ByRulebook time.Duration = -1

// Run goes through the steps of a recipe. A step with repeat is repeated for wait at most: 0 asks once, ByRulebook takes the
// rulebook's limit. When that is over, the answer is the last one, without error. Errors are *Refused, *Unreachable, *Lost or *Puzzled,
// or that of the context.
func (s *Session) Run(ctx context.Context, steps []rulebook.Step, wait time.Duration) (*Answer, error) {
	a := &Answer{}
	if err := s.enter(ctx); err != nil {
		return nil, err
	}
	if err := s.walk(ctx, steps, way{a, wait, s.Ledger}); err != nil {
		return nil, err
	}
	return a, nil
}

// Send goes through the steps of an upload; what the ledger knows is not made again. When the portal does not know that try any more, it
// begins anew.
func (s *Session) Send(ctx context.Context, steps []rulebook.Step) (*Answer, error) {
	a, err := s.Run(ctx, steps, ByRulebook)
	var refused *Refused
	if errors.As(err, &refused) && !refused.Key && !refused.busy && refused.Status/100 == 4 && s.Ledger != nil && s.Ledger.stale() {
		s.Ledger.clear()
		return s.Run(ctx, steps, ByRulebook)
	}
	return a, err
}

// newTransport writes large bodies in large pieces.
func newTransport() *http.Transport {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.WriteBufferSize = largeWrite
	dial := t.DialContext
	t.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return wide{c}, nil
	}
	return t
}

// wide copies a body in large pieces while the line takes them quickly, and in small ones where it doesn't: what has left is seen
// after each piece.
type wide struct{ net.Conn }

const smallWrite, largeWrite = 4 << 10, 256 << 10 // bytes

// ReadFrom implements io.ReaderFrom.
func (w wide) ReadFrom(r io.Reader) (n int64, err error) {
	buffer := make([]byte, largeWrite)
	for size := 8 * smallWrite; ; {
		began := time.Now()
		got, ended := r.Read(buffer[:size])
		gone, err := w.Write(buffer[:got])
		if n += int64(gone); err != nil {
			return n, err
		}
		if ended != nil {
			if ended == io.EOF {
				ended = nil
			}
			return n, ended
		}
		switch took := time.Since(began); {
		case took < 20*time.Millisecond:
			size = min(2*size, largeWrite)
		case took > time.Second:
			size = max(size/2, smallWrite)
		}
	}
}
