package portal

import (
	"bytes"
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"havvel/internal/progress"
	"havvel/internal/rulebook"
)

// Progress says how far an upload is. It holds no secret, and may be written down.
type Progress struct {
	Done     int               `json:"done"` // steps that need not be made again
	Values   map[string]string `json:"values"`
	Location string            `json:"location,omitempty"` // of a resumable upload that is under way
}

// Send goes through the steps of an upload, from where an earlier try got to. When the portal does not know that try any
// more, it begins anew.
func (s *Session) Send(ctx context.Context, steps []rulebook.Step, from Progress) (*Answer, error) {
	if err := s.enter(ctx); err != nil {
		return nil, err
	}
	a := &Answer{}
	if from.Done >= len(steps) {
		from = Progress{}
	}
	own := map[string]string{}
	for name, v := range from.Values {
		s.Values[name], own[name] = v, v
	}
	s.location = from.Location
	for i := from.Done; i < len(steps); i++ {
		s.remember(i, own)
		err := s.each(ctx, &steps[i], a)
		var refused *Refused
		if errors.As(err, &refused) && !refused.Key && i == from.Done && from.Done > 0 && refused.Status/100 == 4 &&
			refused.Status != http.StatusTooManyRequests {
			return s.Send(ctx, steps, Progress{})
		}
		if err != nil {
			return nil, err
		}
		for name := range steps[i].Take {
			own[name] = s.Values[name]
		}
		s.location = ""
	}
	return a, nil
}

// each makes a step, or makes it for every file of a folder.
func (s *Session) each(ctx context.Context, step *rulebook.Step, a *Answer) error {
	if len(s.Folder) == 0 ||
		step.File != rulebook.Each && !slices.ContainsFunc(step.Parts, func(p rulebook.Part) bool { return p.File == rulebook.Each }) {
		return s.do(ctx, step, a)
	}
	for _, f := range s.Folder {
		s.Files[rulebook.Each] = f
		s.Values["file.name"], s.Values["file.bytes"], s.Values["file.sha256"], s.Values["file.type"] = f.Name, strconv.FormatInt(
			f.Bytes,
			10,
		), f.SHA256, f.Type
		if err := s.do(ctx, step, a); err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
	}
	return nil
}

// remember tells how far the upload is; never with what may be a secret, such as a signed address.
func (s *Session) remember(done int, values map[string]string) {
	if s.Remember == nil {
		return
	}
	s.at.done, s.at.values = done, values
	for name, v := range values {
		if s.hidden[name] || strings.Contains(v, "?") {
			return
		}
	}
	p := Progress{Done: done, Values: values}
	if !strings.Contains(s.location, "?") {
		p.Location = s.location
	}
	s.Remember(p)
}

// The open protocol for resumable uploads, version 1.0.0: POST makes an upload, HEAD tells its offset, PATCH appends.
const (
	protocolVersion  = "1.0.0"
	checksumMismatch = 460
	pieceBytes       = 8 << 20 // of a file, when pieces have checksums
	firstPiece       = 256 << 10
	leastPiece       = 64 << 10
	quickPiece       = 2 * time.Second // an answer within this asks for larger pieces
	mostFailures     = 6               // without a byte of progress
)

// resumable uploads a file, and goes on from the portal's offset whenever the connection breaks off.
func (s *Session) resumable(ctx context.Context, step *rulebook.Step, a *Answer) error {
	file, ok := s.Files[step.File]
	if !ok {
		return &Puzzled{s.Rules.Name, step.Step, fmt.Sprintf("there is no file %q to send", step.File)}
	}
	f, err := os.Open(file.Path)
	if err != nil {
		return err
	}
	defer f.Close()
	u := &resumableUpload{s: s, step: step, answer: a, file: f, size: file.Bytes, piece: firstPiece}
	s.Report.Begin("sending to "+s.Rules.Name, file.Bytes)
	defer s.Report.End()
	waits := backoff.NewExponentialBackOff()
	waits.InitialInterval, waits.MaxInterval = s.pause, 15*time.Second
	for failures := 0; ; {
		before := u.offset
		done, err := u.advance(ctx)
		if done {
			return nil
		}
		if u.offset > before {
			failures = 0
			waits.Reset()
		}
		if err == nil {
			continue
		}
		if failures++; failures > mostFailures || ctx.Err() != nil || !u.goesOn(err) {
			return err
		}
		wait := waits.NextBackOff()
		var refused *Refused
		if errors.As(err, &refused) && refused.after > 0 && refused.after <= longestWait {
			wait = refused.after
		}
		u.known, u.piece = false, max(leastPiece, u.piece/4)
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(wait):
		}
	}
}

type resumableUpload struct {
	s      *Session
	step   *rulebook.Step
	answer *Answer
	file   *os.File
	size   int64

	offset int64
	known  bool // the offset is what the portal says
	sum    string
	shown  int64 // what was reported as sent
	// of what has a checksum: more while answers come quickly, less while the line is bad, since a piece arrives whole or not at all
	piece    int64
	restarts int
}

// goesOn reports whether it makes sense to ask for the offset and go on.
func (u *resumableUpload) goesOn(err error) bool {
	var refused *Refused
	if errors.As(err, &refused) {
		switch refused.Status {
		case http.StatusConflict,
			http.StatusLocked,
			checksumMismatch,
			http.StatusTooManyRequests,
			http.StatusInternalServerError,
			http.StatusBadGateway,
			http.StatusServiceUnavailable,
			http.StatusGatewayTimeout:
			return true
		}
		return false
	}
	var gone *Unreachable
	return errors.As(err, &gone) && (u.s.location != "" || safeAgain(&rulebook.Step{Again: true}, err))
}

// advance makes the next request: to make the upload, to ask for its offset, or to send the next piece.
func (u *resumableUpload) advance(ctx context.Context) (done bool, err error) {
	switch {
	case u.s.location == "":
		return false, u.create(ctx)
	case !u.known:
		return u.ask(ctx)
	}
	return u.append(ctx)
}

func (u *resumableUpload) request(
	ctx context.Context,
	method, address string,
	body io.Reader,
	headers map[string]string,
) (*http.Request, error) {
	to, err := u.s.address(u.step.Address)
	if err != nil {
		return nil, err
	}
	if address != "" {
		ref, err := url.Parse(address)
		if err != nil {
			return nil, errors.New("the address of the upload can't be read")
		}
		to = to.ResolveReference(ref)
	}
	if err := u.s.guard(u.step, to); err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, method, to.String(), body)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Tus-Resumable", protocolVersion)
	r.Header.Set("User-Agent", "havvel")
	for name, text := range u.step.Headers {
		r.Header.Set(name, u.s.fill(text, noEscape))
	}
	for name, v := range headers {
		r.Header.Set(name, v)
	}
	return r, nil
}

// create makes the upload, and asks which checksums the portal takes.
func (u *resumableUpload) create(ctx context.Context) error {
	response, body, err := u.s.exchange(ctx, u.step, func(ctx context.Context, _ func()) (*http.Request, error) {
		return u.request(ctx, u.step.Method, "", http.NoBody, map[string]string{"Upload-Length": strconv.FormatInt(u.size, 10)})
	})
	if err != nil {
		return err
	}
	if !slices.Contains(u.step.Expect, response.StatusCode) {
		return u.s.refused(u.step, response, parseBody(response, body))
	}
	location := response.Header.Get("Location")
	if location == "" {
		return &Puzzled{u.s.Rules.Name, u.step.Step, "its answer names no Location for the upload"}
	}
	if to, err := response.Request.URL.Parse(location); err == nil {
		location = to.String()
	}
	u.s.location, u.offset, u.known = location, 0, true
	u.s.remember(u.s.at.done, u.s.at.values) // now with its location
	return nil
}

// ask asks for the offset. An upload that the portal does not know any more is made anew, once.
func (u *resumableUpload) ask(ctx context.Context) (done bool, err error) {
	response, body, err := u.s.exchange(ctx, u.step, func(ctx context.Context, _ func()) (*http.Request, error) {
		return u.request(ctx, http.MethodHead, u.s.location, nil, nil)
	})
	if err != nil {
		return false, err
	}
	switch {
	case response.StatusCode == http.StatusNotFound || response.StatusCode == http.StatusGone:
		if u.restarts++; u.restarts > 1 {
			return false, u.s.refused(u.step, response, parseBody(response, body))
		}
		u.s.location = ""
		return false, nil
	case response.StatusCode/100 != 2:
		return false, u.s.refused(u.step, response, parseBody(response, body))
	}
	at, err := strconv.ParseInt(response.Header.Get("Upload-Offset"), 10, 64)
	if err != nil || at < 0 || at > u.size {
		return false, &Puzzled{u.s.Rules.Name, u.step.Step, "its answer names no Upload-Offset within the file"}
	}
	u.offset, u.known = at, true
	u.s.Report.Advance(at - u.shown)
	u.shown = at
	if at < u.size {
		return false, nil
	}
	return true, u.s.take(u.step, response.Header, parseBody(response, body), u.answer) // all is there already
}

// append sends what comes after the offset: a piece with a checksum where the portal takes one, or all that is left.
func (u *resumableUpload) append(ctx context.Context) (done bool, err error) {
	if u.sum == "" {
		u.sum = u.checksums(ctx)
	}
	length := u.size - u.offset
	if u.sum != "none" {
		length = min(length, u.piece)
	}
	if u.step.Piece > 0 {
		length = min(length, int64(u.step.Piece))
	}
	headers := map[string]string{"Content-Type": "application/offset+octet-stream", "Upload-Offset": strconv.FormatInt(u.offset, 10)}
	var whole []byte
	if u.sum != "none" {
		whole = make([]byte, length)
		if _, err := u.file.ReadAt(whole, u.offset); err != nil && !errors.Is(err, io.EOF) {
			return false, err
		}
		headers["Upload-Checksum"] = u.sum + " " + digest(u.sum, whole)
	}
	began := time.Now()
	response, body, err := u.s.exchange(ctx, u.step, func(ctx context.Context, moved func()) (*http.Request, error) {
		var from io.Reader = io.NewSectionReader(u.file, u.offset, length)
		if whole != nil {
			from = bytes.NewReader(whole)
		}
		r, err := u.request(ctx, http.MethodPatch, u.s.location, progress.Reader(ctx, from, progress.Count(func(n int64) {
			moved()
			u.shown += n
			u.s.Report.Advance(n)
		})), headers)
		if err == nil {
			r.ContentLength = length
		}
		return r, err
	})
	if err != nil {
		return false, err
	}
	if response.StatusCode/100 != 2 {
		return false, u.s.refused(u.step, response, parseBody(response, body))
	}
	u.offset += length
	if time.Since(began) < quickPiece {
		u.piece = min(pieceBytes, 2*u.piece)
	}
	if said, err := strconv.ParseInt(response.Header.Get("Upload-Offset"), 10, 64); err == nil && said != u.offset {
		u.known = false // it took less, or more: ask
		return false, nil
	}
	if u.offset < u.size {
		return false, nil
	}
	return true, u.s.take(u.step, response.Header, parseBody(response, body), u.answer)
}

// checksums is the algorithm that the portal offers for pieces, or "none".
func (u *resumableUpload) checksums(ctx context.Context) string {
	response, _, err := u.s.exchange(ctx, u.step, func(ctx context.Context, _ func()) (*http.Request, error) {
		return u.request(ctx, http.MethodOptions, "", nil, nil)
	})
	if err != nil || response.StatusCode/100 != 2 || !strings.Contains(response.Header.Get("Tus-Extension"), "checksum") {
		return "none"
	}
	for _, name := range []string{"sha256", "sha1"} {
		if slices.Contains(strings.Split(response.Header.Get("Tus-Checksum-Algorithm"), ","), name) {
			return name
		}
	}
	return "none"
}

func digest(name string, data []byte) string {
	if name == "sha256" {
		sum := sha256.Sum256(data)
		return base64.StdEncoding.EncodeToString(sum[:])
	}
	sum := sha1.Sum(data)
	return base64.StdEncoding.EncodeToString(sum[:])
}
