package deliver

import (
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/andybalholm/brotli"

	"havvel/internal/deliver/site"
)

// fetched is an answer.
type fetched struct {
	status     int
	header     http.Header
	bytes      int64
	start      []byte // its first bytes
	sum, plain string // SHA-256 of what came, and of what that is without its Content-Encoding
}

// fetch gets an address; fresh goes around caches.
func (v *visitor) fetch(ctx context.Context, address string, fresh bool) (*fetched, error) {
	if fresh {
		address += fmt.Sprintf("?fresh=%d", time.Now().UnixNano())
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept-Encoding", "gzip, br")
	if fresh {
		r.Header.Set("Cache-Control", "no-cache")
	}
	if v.password != "" {
		r.SetBasicAuth(PagesUser, v.password)
	}
	answer, err := v.client.Do(r)
	if err != nil {
		return nil, &site.Unreachable{Host: r.URL.Host + ", where players go", Cause: err}
	}
	defer answer.Body.Close()
	got := &fetched{status: answer.StatusCode, header: answer.Header}
	raw, keep := sha256.New(), &beginning{}
	body := io.TeeReader(answer.Body, io.MultiWriter(raw, keep))
	plain := sha256.New()
	var decoded io.Reader = body
	switch answer.Header.Get("Content-Encoding") {
	case "gzip":
		if decoded, err = gzip.NewReader(body); err != nil {
			decoded = body
		}
	case "br":
		decoded = brotli.NewReader(body)
	}
	if _, err := io.Copy(plain, decoded); err == nil {
		got.plain = hex.EncodeToString(plain.Sum(nil))
	}
	if _, err := io.Copy(io.Discard, body); err != nil {
		return nil, &site.Unreachable{Host: r.URL.Host, Cause: err}
	}
	got.bytes, got.start, got.sum = keep.n, keep.data, hex.EncodeToString(raw.Sum(nil))
	return got, nil
}

// beginning keeps the first bytes of what is written to it, and counts all.
type beginning struct {
	data []byte
	n    int64
}

func (b *beginning) Write(p []byte) (int, error) {
	b.n += int64(len(p))
	if room := 1<<20 - len(b.data); room > 0 {
		b.data = append(b.data, p[:min(room, len(p))]...)
	}
	return len(p), nil
}
