package portal

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"havvel/internal/progress"
	"havvel/internal/rulebook"
	"havvel/internal/rulebook/expression"
)

// A payload is a request's body. It can be read more than once: for a hash, for the request, and for the request made again.
type payload struct {
	open   func() (io.ReadCloser, error)
	length int64
	kind   string // its content type
	says   string // in words, for people
	same   string // what is the same in two processes, and differs where the body does
	file   bool
}

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
	s.tell(t, r, says)
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
			if has && own.String() == "" || !has && s.secretive(text.Names()) && s.away(r.URL) {
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
	if s.secretive(f.Names()) {
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
	if s.away(to) && s.secretive(step.Names()) {
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

// payload makes a turn's body; nil where it has none.
func (s *Session) payload(t *turn, values expression.Values) (*payload, error) {
	switch {
	case t.JSON != nil:
		v, err := s.fillJSON(t.JSON, values)
		if err != nil {
			return nil, err
		}
		var text strings.Builder
		e := json.NewEncoder(&text)
		e.SetEscapeHTML(false)
		if err := e.Encode(v); err != nil {
			return nil, err
		}
		return fixed(strings.TrimSpace(text.String()), "application/json"), nil
	case t.Form != nil:
		form := url.Values{}
		for name, text := range t.Form {
			v, err := text.Fill(values, s.taint)
			if err != nil {
				return nil, err
			}
			form.Set(name, v)
		}
		return fixed(form.Encode(), "application/x-www-form-urlencoded"), nil
	case t.Text.String() != "":
		text, err := t.Text.Fill(values, s.taint)
		return fixed(text, "text/plain; charset=utf-8"), err
	case t.File != nil:
		f, err := fileOf(t.File, values)
		if err != nil {
			return nil, err
		}
		return &payload{
			open: func() (io.ReadCloser, error) { return f.Open() }, length: int64(f.Bytes), kind: "application/octet-stream",
			says: fmt.Sprintf("%d bytes of %s", f.Bytes, filepath.Base(f.Path())), same: identity(f), file: true,
		}, nil
	case len(t.Parts) > 0:
		return s.multipart(t, values)
	}
	return nil, nil
}

func fixed(text, kind string) *payload {
	return &payload{
		open:   func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil },
		length: int64(len(text)), kind: kind, says: text, same: text,
	}
}

func fileOf(f *expression.Formula, values expression.Values) (expression.File, error) {
	v, err := f.Value(values)
	if err != nil {
		return expression.File{}, err
	}
	file, ok := v.(expression.File)
	if !ok {
		return file, fmt.Errorf("%s is no file", f)
	}
	return file, nil
}

func identity(f expression.File) string {
	return fmt.Sprint(f.Name, " ", f.Bytes, " ", f.Offset, " ", f.SHA256, f.Whole())
}

// fillJSON puts values into a JSON body. A text that is nothing but an expression keeps the expression's type.
func (s *Session) fillJSON(v any, values expression.Values) (any, error) {
	switch v := v.(type) {
	case expression.Text:
		if f := v.Alone(); f != nil {
			out, err := f.Value(values)
			if text, is := out.(string); is && err == nil {
				s.taint(f, out, text, "")
			}
			switch out.(type) {
			case expression.Bytes, expression.Escaped:
				return expression.Plain(out)
			}
			return keyed(out), err
		}
		return v.Fill(values, s.taint)
	case map[string]any:
		out := map[string]any{}
		for name, inner := range v {
			var err error
			if out[name], err = s.fillJSON(inner, values); err != nil {
				return nil, err
			}
		}
		return out, nil
	case []any:
		out := make([]any, len(v))
		for i, inner := range v {
			var err error
			if out[i], err = s.fillJSON(inner, values); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	return v, nil
}

// keyed gives objects the keys that JSON has.
func keyed(v any) any {
	switch v := v.(type) {
	case map[any]any:
		out := map[string]any{}
		for name, inner := range v {
			out[fmt.Sprint(name)] = keyed(inner)
		}
		return out
	case []any:
		for i := range v {
			v[i] = keyed(v[i])
		}
	}
	return v
}

// digest gives the hashes of the body to the headers that want them.
func (p *payload) digest(t *turn, values expression.Values) error {
	wanted := slices.Contains(t.Address.Names(), "body")
	for _, text := range t.Headers {
		wanted = wanted || slices.Contains(text.Names(), "body")
	}
	if !wanted {
		return nil
	}
	r := io.ReadCloser(io.NopCloser(strings.NewReader("")))
	if p != nil {
		var err error
		if r, err = p.open(); err != nil {
			return err
		}
	}
	defer r.Close()
	a, b, c := sha256.New(), sha1.New(), md5.New()
	n, err := io.Copy(io.MultiWriter(a, b, c), r)
	hex := func(sum []byte) string { return fmt.Sprintf("%x", sum) }
	values["body"] = map[string]any{"sha256": hex(a.Sum(nil)), "sha1": hex(b.Sum(nil)), "md5": hex(c.Sum(nil)), "bytes": int(n)}
	return err
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

// upload opens a body for sending. Files are reported, and whatever moves is.
func (s *Session) upload(ctx context.Context, p *payload, moved func()) (io.ReadCloser, error) {
	r, err := p.open()
	if err != nil {
		return nil, err
	}
	to := progress.None
	ended := func() {}
	if p.file {
		s.Report.Begin("sending to "+s.Rules.Name, p.length)
		to, ended = s.Report, s.Report.End
	}
	return &upload{Reader: progress.Reader(ctx, r, to), from: r, moved: moved, ended: ended}, nil
}

// multipart makes a multipart/form-data body (RFC 7578) around files without holding it in memory.
func (s *Session) multipart(t *turn, values expression.Values) (*payload, error) {
	p := &payload{}
	var frame bytes.Buffer
	w := multipart.NewWriter(&frame)
	var pieces []func() (io.ReadCloser, error)
	flush := func() {
		data := bytes.Clone(frame.Bytes())
		frame.Reset()
		p.length += int64(len(data))
		pieces = append(pieces, func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil })
	}
	count := 0
	for i := range t.Parts {
		part := &t.Parts[i]
		there, err := part.When.True(values)
		if err != nil {
			return nil, err
		}
		if !there {
			continue
		}
		count++
		file, err := s.part(w, part, values, p)
		if err != nil {
			return nil, err
		}
		if file == nil {
			continue
		}
		flush()
		p.file, p.length = true, p.length+int64(file.Bytes)
		pieces = append(pieces, func() (io.ReadCloser, error) { return file.Open() })
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	flush()
	p.kind, p.says = w.FormDataContentType(), fmt.Sprintf("%d parts", count)
	p.open = func() (io.ReadCloser, error) { return &chain{rest: pieces}, nil }
	return p, nil
}

// quoted escapes a field's name as browsers do.
var quoted = strings.NewReplacer("\\", "\\\\", `"`, "%22", "\r", "%0D", "\n", "%0A")

// part writes one part, or what stands before its file.
func (s *Session) part(w *multipart.Writer, part *rulebook.Part, values expression.Values, p *payload) (*expression.File, error) {
	kind, err := part.Type.Fill(values, nil)
	if err != nil {
		return nil, err
	}
	header := textproto.MIMEHeader{}
	if kind != "" {
		header.Set("Content-Type", kind)
	}
	if part.File == nil {
		text, err := part.Text.Fill(values, s.taint)
		if part.JSON != nil && err == nil {
			var v any
			if v, err = s.fillJSON(part.JSON, values); err == nil {
				var data []byte
				data, err = json.Marshal(v)
				text = string(data)
			}
		}
		if err != nil {
			return nil, err
		}
		header.Set("Content-Disposition", fmt.Sprintf(`form-data; name="%s"`, quoted.Replace(part.Name)))
		to, err := w.CreatePart(header)
		if err == nil {
			_, err = io.WriteString(to, text)
		}
		p.same += part.Name + "\x00" + text + "\x00"
		return nil, err
	}
	file, err := fileOf(part.File, values)
	if err != nil {
		return nil, err
	}
	name, err := part.As.Fill(values, nil)
	if err != nil {
		return nil, err
	}
	if name == "" {
		name = filepath.Base(file.Path())
	}
	header.Set("Content-Disposition", multipart.FileContentDisposition(part.Name, name))
	if kind == "" {
		header.Set("Content-Type", "application/octet-stream")
	}
	p.same += part.Name + "\x00" + identity(file) + "\x00"
	_, err = w.CreatePart(header)
	return &file, err
}
