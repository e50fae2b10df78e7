package portal

import (
	"bytes"
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"havvel/internal/deliver/neterr"
	"havvel/internal/pieces"
	"havvel/internal/progress"
	"havvel/internal/rulebook/expression"
	"havvel/internal/rulebook/place"
)

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

// resumable uploads a file, and goes on from the portal's offset whenever the connection breaks off. location is where an earlier try
// got to.
func (s *Session) resumable(ctx context.Context, t *turn, location string) error {
	file, err := fileOf(t.File, s.known(t))
	if err != nil {
		return s.puzzled(t.Step, err)
	}
	f, err := os.Open(file.Path())
	if err != nil {
		return err
	}
	defer f.Close()
	u := &resumableUpload{s: s, turn: t, whole: file, file: f, from: f, size: int64(file.Bytes), piece: firstPiece, location: location}
	s.Report.Begin("sending to "+s.Rules.Name, u.size)
	defer s.Report.End()
	if location == "" {
		if err := u.plan(ctx, s.known(t)); err != nil {
			return err
		}
	}
	waits := backoff.NewExponentialBackOff()
	waits.InitialInterval, waits.MaxInterval = s.pause, 15*time.Second
	for failures := 0; ; {
		before := u.offset
		done, err := u.advance(ctx)
		if done {
			return err
		}
		if u.offset > before {
			failures = 0
			waits.Reset()
		}
		if err == nil {
			continue
		}
		if failures++; failures > mostFailures || ctx.Err() != nil || !u.goesOn(err) {
			return u.gone(err)
		}
		wait, ok := asked(err, waits.NextBackOff(), waitable(t.Step))
		if !ok {
			return err
		}
		u.known, u.piece = false, max(leastPiece, u.piece/4)
		if err := s.sleep(ctx, t, wait); err != nil {
			return err
		}
	}
}

// asked is how long to wait after a failure: as long as the portal asks for, or else usual. It is false where that is more than most.
func asked(err error, usual, most time.Duration) (time.Duration, bool) {
	var refused *Refused
	if errors.As(err, &refused) && refused.after > 0 {
		return refused.after, refused.after <= most
	}
	return usual, true
}

// gone says that an upload broke off; what arrived of it is asked for the next time, so nothing is unknown.
func (u *resumableUpload) gone(err error) error {
	var lost *Lost
	if errors.As(err, &lost) {
		return lost.again()
	}
	return err
}

type resumableUpload struct {
	s        *Session
	turn     *turn
	whole    expression.File
	file     io.ReaderAt   // it, open
	joint    *pieces.Joint // which of its bytes travel; nil for all
	from     io.ReaderAt   // those
	size     int64         // how many
	location string
	made     http.Header // of the answer that made the upload

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
	var lost *Lost
	return errors.As(err, &lost) || errors.As(err, &gone) && (u.location != "" || !neterr.Nobody(gone.Cause))
}

// advance makes the next request: to make the upload, to ask for its offset, or to send the next piece.
func (u *resumableUpload) advance(ctx context.Context) (done bool, err error) {
	switch {
	case u.location == "":
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
	values := u.s.known(u.turn)
	to, err := u.s.address(u.turn.Address, values)
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
	r, err := http.NewRequestWithContext(ctx, method, to.String(), body)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Tus-Resumable", protocolVersion)
	r.Header.Set("User-Agent", "havvel")
	if err := u.s.headers(u.turn, r, values); err != nil {
		return nil, err
	}
	for name, v := range headers {
		r.Header.Set(name, v)
	}
	u.s.tell(u.turn, r, headers["Upload-Offset"], values)
	return r, nil
}

// create makes the upload, and asks which checksums the portal takes.
func (u *resumableUpload) create(ctx context.Context) error {
	answer, response, err := u.s.exchange(ctx, u.turn, func(ctx context.Context, _ func()) (*http.Request, error) {
		headers := map[string]string{"Upload-Length": strconv.FormatInt(u.size, 10)}
		if text := u.metadata(); text != "" {
			headers["Upload-Metadata"] = text
		}
		return u.request(ctx, u.turn.Method, "", http.NoBody, headers)
	})
	if err != nil {
		return err
	}
	if u.joint != nil && response.StatusCode/100 == 4 {
		u.use(nil) // something that it was to take parts from may be gone
		return nil
	}
	if !slices.Contains(u.turn.Expect, response.StatusCode) || u.s.says(u.turn, answer) {
		return u.s.refusal(u.turn, response, answer, "")
	}
	location := response.Header.Get("Location")
	if location == "" {
		return u.s.odd(u.turn.Step, "its answer names no Location for the upload")
	}
	if to, err := response.Request.URL.Parse(location); err == nil {
		location = to.String()
	}
	u.location, u.offset, u.known, u.made = location, 0, u.size > 0, response.Header
	return u.remember()
}

// remember writes down where the upload is; never an address that may hold a signature.
func (u *resumableUpload) remember() error {
	if u.s.Ledger == nil || queried(u.location) {
		return nil
	}
	hash, err := u.s.fingerprint(u.turn)
	if err == nil {
		u.s.Ledger.keep(u.turn.key, Entry{Hash: hash, Location: u.location, Open: true})
	}
	return err
}

// end judges the last answer like that of every other step. What the answer that made the upload said in its header counts, too, and
// the address is that of the upload.
func (u *resumableUpload) end(answer *place.Answer, response *http.Response) error {
	header := u.made.Clone()
	if header == nil {
		header = http.Header{}
	}
	header.Set("Location", u.location)
	for name, v := range answer.Header {
		header[name] = v
	}
	last := *response
	last.StatusCode = u.turn.Expect[0] // 2xx by its own protocol
	return u.s.judge(u.turn, &place.Answer{
		Status: last.StatusCode, Header: header, Address: u.location, Cookies: answer.Cookies, Body: answer.Body, Cut: answer.Cut,
	}, &last)
}

// ask asks for the offset. An upload that the portal does not know any more is made anew, once.
func (u *resumableUpload) ask(ctx context.Context) (done bool, err error) {
	answer, response, err := u.s.exchange(ctx, u.turn, func(ctx context.Context, _ func()) (*http.Request, error) {
		return u.request(ctx, http.MethodHead, u.location, nil, nil)
	})
	if err != nil {
		return false, err
	}
	switch {
	case response.StatusCode == http.StatusNotFound || response.StatusCode == http.StatusGone:
		if u.restarts++; u.restarts > 1 {
			return false, u.s.refusal(u.turn, response, answer, "")
		}
		u.location = ""
		return false, nil
	case response.StatusCode/100 != 2:
		return false, u.s.refusal(u.turn, response, answer, "")
	}
	if err := u.agree(response.Header.Get("Upload-Metadata")); err != nil {
		return false, u.s.odd(u.turn.Step, "what its answer says of the upload can't be read: "+err.Error())
	}
	at, err := strconv.ParseInt(response.Header.Get("Upload-Offset"), 10, 64)
	if err != nil || at < 0 || at > u.size {
		return false, u.s.odd(u.turn.Step, "its answer names no Upload-Offset within the file")
	}
	u.offset, u.known = at, true
	u.s.Report.Advance(at - u.shown)
	u.shown = at
	if at < u.size {
		return false, nil
	}
	return true, u.end(answer, response) // all is there already
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
	if u.turn.Piece > 0 {
		length = min(length, int64(u.turn.Piece))
	}
	headers := map[string]string{"Content-Type": "application/offset+octet-stream", "Upload-Offset": strconv.FormatInt(u.offset, 10)}
	var whole []byte
	if u.sum != "none" {
		whole = make([]byte, length)
		if _, err := u.from.ReadAt(whole, u.offset); err != nil && !errors.Is(err, io.EOF) {
			return false, err
		}
		headers["Upload-Checksum"] = u.sum + " " + checksum(u.sum, whole)
	}
	began := time.Now()
	answer, response, err := u.s.exchange(ctx, u.turn, func(ctx context.Context, moved func()) (*http.Request, error) {
		var from io.Reader = io.NewSectionReader(u.from, u.offset, length)
		if whole != nil {
			from = bytes.NewReader(whole)
		}
		r, err := u.request(ctx, http.MethodPatch, u.location, progress.Reader(ctx, from, progress.Count(func(n int64) {
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
		return false, u.s.refusal(u.turn, response, answer, "")
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
	return true, u.end(answer, response)
}

// checksums is the algorithm that the portal offers for pieces, or "none".
func (u *resumableUpload) checksums(ctx context.Context) string {
	_, response, err := u.s.exchange(ctx, u.turn, func(ctx context.Context, _ func()) (*http.Request, error) {
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

func checksum(name string, data []byte) string {
	if name == "sha256" {
		sum := sha256.Sum256(data)
		return base64.StdEncoding.EncodeToString(sum[:])
	}
	sum := sha1.Sum(data)
	return base64.StdEncoding.EncodeToString(sum[:])
}
