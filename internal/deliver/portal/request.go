package portal

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"havvel/internal/progress"
	"havvel/internal/rulebook"
)

// request makes a step's request. moved is called whenever bytes of its body have gone out.
func (s *Session) request(ctx context.Context, step *rulebook.Step, moved func()) (*http.Request, error) {
	address, err := s.address(step.Address)
	if err != nil {
		return nil, err
	}
	body, length, kind, err := s.body(ctx, step, moved)
	if err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, step.Method, address.String(), body)
	if err != nil {
		return nil, err
	}
	r.ContentLength = length
	if kind != "" {
		r.Header.Set("Content-Type", kind)
	}
	r.Header.Set("Accept", "application/json")
	r.Header.Set("User-Agent", "havvel")
	for name, text := range step.Headers {
		r.Header.Set(name, s.fill(text, noEscape))
	}
	if err := s.guard(step, address); err != nil {
		if body != nil {
			body.Close()
		}
		return nil, err
	}
	return r, nil
}

// guard refuses to send the key to another host than the destination's.
func (s *Session) guard(step *rulebook.Step, to *url.URL) error {
	home, err := url.Parse(s.Address)
	if err != nil {
		return err
	}
	if home.Scheme == to.Scheme && home.Host == to.Host {
		return nil
	}
	for _, name := range step.Values() {
		if s.hidden[name] {
			return fmt.Errorf("it would send the key to another host, %s", to.Host)
		}
	}
	return nil
}

// address fills in a step's address; one that the portal handed out may be relative.
func (s *Session) address(text rulebook.Text) (*url.URL, error) {
	home, err := url.Parse(s.Address)
	if err != nil {
		return nil, err
	}
	escape := func(name, value, before string) string {
		switch {
		case name == "file.name" && before != "" && !strings.Contains(before, "?"):
			return (&url.URL{Path: value}).EscapedPath() // with its slashes
		case before == "":
			return value // a whole address
		case strings.Contains(before, "?"):
			return url.QueryEscape(value)
		}
		return url.PathEscape(value)
	}
	u, err := url.Parse(s.fill(text, escape))
	if err != nil {
		return nil, fmt.Errorf("its address can't be read")
	}
	u = home.ResolveReference(u)
	if u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("its address is not an http address")
	}
	return u, nil
}

func noEscape(_, value, _ string) string { return value }

// fill replaces the values in a text. escape is given a value's name, the value, and the text before it.
func (s *Session) fill(text rulebook.Text, escape func(name, value, before string) string) string {
	return text.Fill(func(name, before string) string { return escape(name, s.Values[name], before) })
}

// body returns a step's body, its length (-1 when not known) and its content type.
func (s *Session) body(ctx context.Context, step *rulebook.Step, moved func()) (io.ReadCloser, int64, string, error) {
	switch {
	case step.JSON != nil:
		data, err := json.Marshal(s.fillJSON(step.JSON))
		return io.NopCloser(bytes.NewReader(data)), int64(len(data)), "application/json", err
	case step.Form != nil:
		form := url.Values{}
		for name, text := range step.Form {
			form.Set(name, s.fill(text, noEscape))
		}
		data := form.Encode()
		return io.NopCloser(strings.NewReader(data)), int64(len(data)), "application/x-www-form-urlencoded", nil
	case step.File != "":
		s.Report.Begin("sending to "+s.Rules.Name, s.Files[step.File].Bytes)
		f, err := s.open(ctx, step.File, moved, s.Report.End)
		return f, s.Files[step.File].Bytes, "application/octet-stream", err
	case len(step.Parts) > 0:
		return s.multipart(ctx, step.Parts, moved)
	}
	return nil, 0, "", nil
}

// sizes are values that are numbers of bytes.
var sizes = []string{"archive.bytes", "entry.bytes", "rest.bytes", "file.bytes"}

// fillJSON replaces the values in a JSON body. A text that is nothing but archive.bytes, or that of a part, becomes a number.
func (s *Session) fillJSON(v any) any {
	switch v := v.(type) {
	case rulebook.Text:
		alone := v.Alone()
		if slices.Contains(sizes, alone) && s.Values[alone] != "" {
			return json.Number(s.Values[alone])
		}
		if whole, ok := s.Whole[alone]; ok {
			return whole
		}
		return s.fill(v, noEscape)
	case map[string]any:
		out := map[string]any{}
		for name, inner := range v {
			out[name] = s.fillJSON(inner)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, inner := range v {
			out[i] = s.fillJSON(inner)
		}
		return out
	}
	return v
}

// open opens a file of the hand-over; reading it is reported, and ended when it is closed.
func (s *Session) open(ctx context.Context, name string, moved, ended func()) (io.ReadCloser, error) {
	file, ok := s.Files[name]
	if !ok {
		ended()
		return nil, fmt.Errorf("there is no file %q to send", name)
	}
	f, err := os.Open(file.Path)
	if err != nil {
		ended()
		return nil, err
	}
	return &upload{Reader: progress.Reader(ctx, f, s.Report), file: f, moved: moved, ended: ended}, nil
}

type upload struct {
	io.Reader
	file   *os.File
	moved  func()
	ended  func()
	closed sync.Once // an HTTP client may close a body more than once
}

func (u *upload) Read(p []byte) (int, error) {
	n, err := u.Reader.Read(p)
	u.moved()
	return n, err
}

func (u *upload) Close() (err error) {
	u.closed.Do(func() {
		u.ended()
		err = u.file.Close()
	})
	return err
}

// closers are closed together.
type closers []io.Closer

// Close implements io.Closer.
func (all closers) Close() error {
	var errs []error
	for _, c := range all {
		errs = append(errs, c.Close())
	}
	return errors.Join(errs...)
}

// multipart makes a multipart/form-data body (RFC 7578) around files without holding it in memory.
func (s *Session) multipart(ctx context.Context, parts []rulebook.Part, moved func()) (io.ReadCloser, int64, string, error) {
	var frame bytes.Buffer
	w := multipart.NewWriter(&frame)
	var readers []io.Reader
	var files closers
	var whole int64
	for _, p := range parts {
		whole += s.Files[p.File].Bytes
	}
	ended := func() {}
	if whole > 0 {
		s.Report.Begin("sending to "+s.Rules.Name, whole)
		ended = s.Report.End
	}
	length := int64(0)
	flush := func() {
		length += int64(frame.Len())
		readers = append(readers, bytes.NewReader(bytes.Clone(frame.Bytes())))
		frame.Reset()
	}
	for _, p := range parts {
		if p.File == "" {
			if err := w.WriteField(p.Name, s.fill(p.Text, noEscape)); err != nil {
				return nil, 0, "", err
			}
			continue
		}
		header := textproto.MIMEHeader{}
		header.Set("Content-Disposition", multipart.FileContentDisposition(p.Name, filepath.Base(s.Files[p.File].Path)))
		header.Set("Content-Type", p.Type)
		if _, err := w.CreatePart(header); err != nil {
			return nil, 0, "", err
		}
		flush()
		f, err := s.open(ctx, p.File, moved, ended)
		ended = func() {}
		if err != nil {
			files.Close()
			return nil, 0, "", err
		}
		readers, length, files = append(readers, f), length+s.Files[p.File].Bytes, append(files, f)
	}
	if err := w.Close(); err != nil {
		return nil, 0, "", err
	}
	flush()
	all := struct {
		io.Reader
		io.Closer
	}{io.MultiReader(readers...), files}
	return all, length, w.FormDataContentType(), nil
}
