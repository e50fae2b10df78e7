package portal

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

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
