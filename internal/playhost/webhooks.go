package playhost

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"havvel/internal/round"
)

// What a round's webhook is told of, each once.
const (
	toldError = "error" // the game met its first error
	toldFull  = "full"  // the last tester that there was room for has come
)

// columns note what was told.
var toldIn = map[string]string{toldError: "told_error", toldFull: "told_full"}

// hooked says so where a round may not tell an address: the host's owner names those that may be told, and nothing else is ever asked, so
// that nobody has the host ask machines that only it reaches.
func (h *Host) hooked(address string) error {
	if address == "" {
		return nil
	}
	u, err := url.Parse(address)
	if err == nil && u.User == nil && u.Fragment == "" && (u.Scheme == "https" || u.Scheme == "http") {
		for _, allowed := range h.options.Webhooks {
			a, err := url.Parse(allowed)
			if err == nil && a.Scheme == u.Scheme && strings.EqualFold(a.Host, u.Host) && strings.HasPrefix(u.Path, a.Path) &&
				!strings.Contains(u.Path, "..") {
				return nil
			}
		}
	}
	return &refusal{
		http.StatusUnprocessableEntity, "this host tells no such address; those that it may tell are named by havvel host --webhook",
	}
}

// tell tells a round's webhook that something happened, once, beside all else.
func (h *Host) tell(x *playRound, what string) {
	if x.webhook == "" {
		return
	}
	h.work.Go(func() {
		ctx, cancel := context.WithTimeout(h.running, time.Minute)
		defer cancel()
		column := toldIn[what]
		done, err := h.data.exec(ctx, "UPDATE rounds SET "+column+" = 1 WHERE id = ? AND "+column+" = 0", x.id)
		if err = one(done, err, errTold); err != nil { // another one did
			return
		}
		if err := h.post(ctx, x, what); err != nil {
			h.options.Log.Warn("telling a webhook", "round", x.id, "error", h.withoutAddresses(err.Error()))
		}
	})
}

var errTold = errors.New("it was told")

// post makes the request, a few times where it isn't taken. It follows no redirect: that could lead to an address that nobody allowed.
func (h *Host) post(ctx context.Context, x *playRound, what string) error {
	body, err := json.Marshal(round.Notice{Round: x.id, What: what, Testers: x.testers})
	if err != nil {
		return err
	}
	client := &http.Client{
		Timeout:       10 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	_, err = backoff.Retry(ctx, func() (struct{}, error) {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, x.webhook, bytes.NewReader(body))
		if err != nil {
			return struct{}{}, backoff.Permanent(err)
		}
		r.Header.Set("Content-Type", "application/json")
		answer, err := client.Do(r)
		if err != nil {
			return struct{}{}, err
		}
		defer answer.Body.Close()
		io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10))
		if answer.StatusCode >= 300 {
			return struct{}{}, fmt.Errorf("it answers with status %d", answer.StatusCode)
		}
		return struct{}{}, nil
	}, backoff.WithMaxTries(4))
	return err
}
