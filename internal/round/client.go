package round

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"havvel/internal/fault"
)

// A Client asks a host about rounds.
type Client struct {
	Address string // of the host's interface
	Token   string // never in an error
}

// A Refused says that the host said no.
type Refused struct {
	Status int
	Words  string
}

func (e *Refused) Error() string {
	return fmt.Sprintf("the host said no (status %d): %s", e.Status, e.Words)
}

// Fault tells it.
func (e *Refused) Fault() *fault.Error { return fault.Tell(e, fault.No, "") }

// An Unreachable says that the host could not be reached, or broke off.
type Unreachable struct {
	Address string
	Cause   error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("can't reach the host at %s: %v", e.Address, e.Cause)
}
func (e *Unreachable) Unwrap() error { return e.Cause }

// Fault tells it.
func (e *Unreachable) Fault() *fault.Error {
	return fault.Tell(e, fault.Unreachable, "nothing was lost; run the same command again when it can be reached")
}

// Open opens a round.
func (c *Client) Open(ctx context.Context, o Opening) (*Opened, error) {
	var out Opened
	return &out, c.ask(ctx, http.MethodPost, "/api/rounds", o, &out)
}

// List lists the rounds of a game, the last first.
func (c *Client) List(ctx context.Context, game string) ([]Round, error) {
	var out struct{ Rounds []Round }
	err := c.ask(ctx, http.MethodGet, "/api/rounds?game="+url.QueryEscape(game), nil, &out)
	return out.Rounds, err
}

// Invitations says who was invited to a round, and what they did.
func (c *Client) Invitations(ctx context.Context, id string) ([]Invitation, error) {
	var out struct{ Invitations []Invitation }
	err := c.ask(ctx, http.MethodGet, "/api/rounds/"+url.PathEscape(id)+"/invitations", nil, &out)
	return out.Invitations, err
}

// Pause has a round show nothing for a while, or again.
func (c *Client) Pause(ctx context.Context, id string, paused bool) error {
	return c.ask(ctx, http.MethodPost, "/api/rounds/"+url.PathEscape(id)+"/pause", map[string]bool{"paused": paused}, nil)
}

// Extend has a round end so many seconds from now, and returns when that is.
func (c *Client) Extend(ctx context.Context, id string, seconds int64) (time.Time, error) {
	var out struct{ Until time.Time }
	err := c.ask(ctx, http.MethodPost, "/api/rounds/"+url.PathEscape(id)+"/extend", map[string]int64{"seconds": seconds}, &out)
	return out.Until, err
}

// Share has the host show a page of a report to those who have the link that it returns.
func (c *Client) Share(ctx context.Context, id string, page []byte) (link string, err error) {
	var out struct{ Link string }
	err = c.send(ctx, http.MethodPut, "/api/rounds/"+url.PathEscape(id)+"/report", page, &out)
	return out.Link, err
}

// Unshare takes that page back.
func (c *Client) Unshare(ctx context.Context, id string) error {
	return c.ask(ctx, http.MethodDelete, "/api/rounds/"+url.PathEscape(id)+"/report", nil, nil)
}

// Close ends a round at once.
func (c *Client) Close(ctx context.Context, id string) error {
	return c.ask(ctx, http.MethodPost, "/api/rounds/"+url.PathEscape(id)+"/close", nil, nil)
}

// Forget deletes all that came back of a round, closes it, and tells how many sessions that were.
func (c *Client) Forget(ctx context.Context, id string) (int, error) {
	var out struct{ Forgotten int }
	err := c.ask(ctx, http.MethodPost, "/api/rounds/"+url.PathEscape(id)+"/forget", nil, &out)
	return out.Forgotten, err
}

// Clip writes the clip of a session, in WebM.
func (c *Client) Clip(ctx context.Context, id, session string, to io.Writer) error {
	return c.ask(ctx, http.MethodGet, "/api/rounds/"+url.PathEscape(id)+"/clips/"+url.PathEscape(session), nil, to)
}

// Events writes all that came back of a round, as JSON Lines.
func (c *Client) Events(ctx context.Context, id string, to io.Writer) error {
	return c.ask(ctx, http.MethodGet, "/api/rounds/"+url.PathEscape(id)+"/events", nil, to)
}

// ask makes a request. into is a writer for the answer as it is, or what its JSON is read into.
func (c *Client) ask(ctx context.Context, method, path string, body, into any) error {
	data, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return c.send(ctx, method, path, data, into)
}

// patience is how long an answer may take.
const patience = 2 * time.Minute

// send makes a request with a body as it is.
func (c *Client) send(ctx context.Context, method, path string, data []byte, into any) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, c.Address+path, bytes.NewReader(data))
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+c.Token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return &Unreachable{c.Address, cause(err)}
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		var said struct{ Error string }
		json.NewDecoder(io.LimitReader(answer.Body, 64<<10)).Decode(&said) // without words there is the status
		return &Refused{answer.StatusCode, strings.TrimSpace(said.Error)}
	}
	if w, ok := into.(io.Writer); ok {
		_, err = io.Copy(w, answer.Body)
	} else if into != nil {
		err = json.NewDecoder(answer.Body).Decode(into)
	}
	if err != nil {
		return &Unreachable{c.Address, err}
	}
	return nil
}

// cause takes the address, which the error names itself, out of an error.
func cause(err error) error {
	if u, ok := err.(*url.Error); ok {
		return u.Err
	}
	return err
}
