package browser

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/coder/websocket"
)

// bidi is a session of WebDriver BiDi (W3C), over which a browser is asked and tells.
type bidi struct {
	line *websocket.Conn
	over chan struct{} // closed when the line is lost

	mu    sync.Mutex
	next  int64
	waits map[int64]chan bidiReply
	tell  map[string]func(method string, params []byte) // by the context that an event is of
	above map[string]string                             // of each frame, the context of its window
}

type bidiReply struct {
	ID     int64           `json:"id"`
	Type   string          `json:"type"`
	Error  string          `json:"error"`
	Result json.RawMessage `json:"result"`

	Message string          `json:"message"`
	Method  string          `json:"method"`
	Params  json.RawMessage `json:"params"`
}

// bidiError is what a browser answers where it doesn't do what it was asked.
type bidiError struct{ method, code, message string }

func (e *bidiError) Error() string { return fmt.Sprintf("%s: %s: %s", e.method, e.code, e.message) }

// mostTold is the longest thing that a browser may tell, in bytes: a picture of a large window.
const mostTold = 128 << 20

func dialBidi(ctx context.Context, address string) (*bidi, error) {
	line, _, err := websocket.Dial(ctx, address+"/session", nil)
	if err != nil {
		return nil, err
	}
	line.SetReadLimit(mostTold)
	b := &bidi{
		line: line, over: make(chan struct{}),
		waits: map[int64]chan bidiReply{}, tell: map[string]func(string, []byte){}, above: map[string]string{},
	}
	go b.read()
	return b, nil
}

// read takes what the browser says, until the line is lost.
func (b *bidi) read() {
	defer close(b.over)
	for {
		_, data, err := b.line.Read(context.Background()) // ends with close
		if err != nil {
			return
		}
		var m bidiReply
		if json.Unmarshal(data, &m) != nil {
			continue
		}
		if m.Type == "event" {
			b.event(m.Method, m.Params)
			continue
		}
		b.mu.Lock()
		wait := b.waits[m.ID]
		delete(b.waits, m.ID)
		b.mu.Unlock()
		if wait != nil {
			wait <- m
		}
	}
}

// event hands an event to the window that it is of.
func (b *bidi) event(method string, params []byte) {
	var of struct {
		Context, Parent string
		Source          struct{ Context string }
	}
	if json.Unmarshal(params, &of) != nil {
		return
	}
	if of.Context == "" {
		of.Context = of.Source.Context
	}
	b.mu.Lock()
	if of.Parent != "" {
		b.above[of.Context] = of.Parent
	}
	window := of.Context
	for b.above[window] != "" {
		window = b.above[window]
	}
	tell := b.tell[window]
	b.mu.Unlock()
	if tell != nil {
		tell(method, params)
	}
}

// parent is the frame around one; "" for a window's own page.
func (b *bidi) parent(frame string) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.above[frame]
}

// call asks for something, and reads the result into a pointer where there is one.
func (b *bidi) call(ctx context.Context, method string, params, into any) error {
	return b.callFor(ctx, answerLimit, method, params, into)
}

// callFor does so with a limit of its own, for what takes longer.
func (b *bidi) callFor(ctx context.Context, limit time.Duration, method string, params, into any) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	if params == nil {
		params = struct{}{}
	}
	wait := make(chan bidiReply, 1)
	b.mu.Lock()
	b.next++
	id := b.next
	b.waits[id] = wait
	b.mu.Unlock()
	defer func() {
		b.mu.Lock()
		delete(b.waits, id)
		b.mu.Unlock()
	}()
	data, err := json.Marshal(map[string]any{"id": id, "method": method, "params": params})
	if err != nil {
		return err
	}
	if err := b.line.Write(ctx, websocket.MessageText, data); err != nil {
		return fmt.Errorf("%s: %w", method, err)
	}
	select {
	case <-b.over:
		return errors.New("the line to it was lost")
	case <-ctx.Done():
		return fmt.Errorf("%w: %w", ErrNoAnswer, ctx.Err())
	case r := <-wait:
		if r.Error != "" {
			return &bidiError{method, r.Error, r.Message}
		}
		return decode(r.Result, into)
	}
}
