package browser

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"
)

// bidiRequest is what all events of requests have.
type bidiRequest struct {
	Request struct {
		Request, URL, Method, Destination string
		InitiatorType                     string
		Headers                           []bidiHeader
	}
	Response struct {
		Status        int
		MimeType      string
		BytesReceived int64
		Headers       []bidiHeader
	}
	Initiator struct {
		ColumnNumber, LineNumber int
		StackTrace               *bidiStack
	}
	ErrorText string
	Timestamp int64 // milliseconds since 1970
	IsBlocked bool
}

type bidiHeader struct {
	Name  string
	Value struct{ Value string }
}

type bidiStack struct {
	CallFrames []struct {
		URL                      string
		LineNumber, ColumnNumber int
		FunctionName             string
	}
}

func (s *bidiStack) places() []Place {
	if s == nil {
		return nil
	}
	var list []Place
	for _, f := range s.CallFrames {
		list = append(list, Place{f.URL, f.LineNumber + 1, f.ColumnNumber + 1, f.FunctionName})
	}
	return list
}

// event takes what the browser tells of a window.
func (t *firefoxTab) event(method string, params []byte) {
	domain, _, _ := strings.Cut(method, ".")
	switch domain {
	case "network":
		var e bidiRequest
		if json.Unmarshal(params, &e) == nil {
			t.request(method, &e)
		}
		return
	case "log":
		t.logged(params)
		return
	}
	var e struct {
		Context, URL, Channel string
		Type, Message         string
		Data                  struct{ Value json.RawMessage }
	}
	if json.Unmarshal(params, &e) != nil {
		return
	}
	switch method {
	case "script.message":
		var text string
		if e.Channel == Say && json.Unmarshal(e.Data.Value, &text) == nil {
			t.hear(Said{text})
		}
	case "browsingContext.navigationCommitted":
		t.hear(Arrived{Frame(e.Context), Frame(t.parent(e.Context)), e.URL})
	case "browsingContext.userPromptOpened":
		t.hear(Asks{e.Type, e.Message})
		go func() {
			ctx, cancel := limited(context.Background())
			defer cancel()
			t.call(ctx, "browsingContext.handleUserPrompt", map[string]any{"context": e.Context, "accept": false}, nil)
		}()
	case "browsingContext.contextDestroyed":
		t.mu.Lock()
		defer t.mu.Unlock()
		if e.Context == t.context && !t.closed {
			t.gone = true
			t.hear(Crashed{})
		}
	}
}

// request takes what is told of a request.
func (t *firefoxTab) request(method string, e *bidiRequest) {
	id, at := e.Request.Request, time.UnixMilli(e.Timestamp)
	switch method {
	case "network.beforeRequestSent":
		t.hear(Asked{
			ID: id, Address: e.Request.URL, Kind: e.kind(), At: at, By: e.by(), Sends: sends(e.Request.Method) || e.kind() == "WebSocket",
		})
		if e.IsBlocked {
			go t.answer(e)
		}
	case "network.responseStarted":
		t.hear(e.answered())
	case "network.responseCompleted":
		t.hear(e.answered())
		t.hear(Ended{ID: id, At: at, Bytes: e.Response.BytesReceived})
	case "network.fetchError":
		t.hear(Ended{ID: id, At: at, Failed: e.ErrorText})
	}
}

func (e *bidiRequest) answered() Answered {
	kind, _, _ := strings.Cut(e.Response.MimeType, ";")
	a := Answered{ID: e.Request.Request, Status: e.Response.Status, Type: strings.TrimSpace(kind)}
	for _, h := range e.Response.Headers {
		if strings.EqualFold(h.Name, "content-encoding") {
			a.Encoding = h.Value.Value
		}
	}
	return a
}

// destinations are what the Fetch standard calls what something is for, and what that is called here.
var destinations = map[string]string{
	"document": "Document", "iframe": "Document", "frame": "Document", "script": "Script", "worker": "Script", "sharedworker": "Script",
	"serviceworker": "Script", "audioworklet": "Script", "style": "Stylesheet", "image": "Image", "font": "Font", "audio": "Media",
	"video": "Media", "track": "Media", "manifest": "Manifest", "json": "Script",
}

// kind is what a request is for.
func (e *bidiRequest) kind() string {
	if strings.HasPrefix(e.Request.URL, "ws:") || strings.HasPrefix(e.Request.URL, "wss:") {
		return "WebSocket"
	}
	if k := destinations[e.Request.Destination]; k != "" {
		return k
	}
	switch e.Request.InitiatorType {
	case "fetch":
		return "Fetch"
	case "xmlhttprequest":
		return "XHR"
	case "beacon":
		return "Ping"
	case "websocket":
		return "WebSocket"
	}
	return "Other"
}

// by are the places from which something was asked for. Firefox tells the page or script at most, by the Referer.
func (e *bidiRequest) by() []Place {
	if list := e.Initiator.StackTrace.places(); len(list) > 0 {
		return list
	}
	for _, h := range e.Request.Headers {
		if strings.EqualFold(h.Name, "referer") {
			return []Place{{Address: h.Value.Value}}
		}
	}
	return nil
}

// exception is how one begins, also where it comes without a stack, as from a worker.
var exception = regexp.MustCompile(`^(\w+: |uncaught exception)`)

// logged takes exceptions and what pages write to the console.
func (t *firefoxTab) logged(params []byte) {
	var e struct {
		Type, Level, Text, Method string
		StackTrace                *bidiStack
	}
	if json.Unmarshal(params, &e) != nil || e.Level != "error" {
		return
	}
	first, _, _ := strings.Cut(e.Text, "\n")
	switch {
	case e.Type == "console":
		t.hear(Logged{Message: e.Text, Calls: e.StackTrace.places()})
	case e.Type == "javascript" && len(e.StackTrace.places()) == 0 && !exception.MatchString(first):
		t.hear(Complained{Message: first}) // the browser's own words, as of a policy or a line that it can't have
	case e.Type == "javascript":
		t.hear(Thrown{Message: first, Calls: e.StackTrace.places()})
	}
}

// answer gives what stands in for an answer that would come over the line.
func (t *firefoxTab) answer(e *bidiRequest) {
	ctx, cancel := limited(context.Background())
	defer cancel()
	request := map[string]any{"request": e.Request.Request}
	i := slices.IndexFunc(t.window.Answers, func(a Answer) bool { return a.Address == withoutQuery(e.Request.URL) })
	switch {
	case i < 0:
		t.call(ctx, "network.continueRequest", request, nil)
	case t.window.Answers[i].Refuse:
		t.call(ctx, "network.failRequest", request, nil)
	default:
		a := t.window.Answers[i]
		var headers []any
		for _, h := range a.headers() {
			headers = append(headers, map[string]any{"name": h[0], "value": map[string]string{"type": "string", "value": h[1]}})
		}
		request["statusCode"], request["reasonPhrase"], request["headers"] = 200, "OK", headers
		request["body"] = map[string]string{"type": "base64", "value": base64.StdEncoding.EncodeToString([]byte(a.Body))}
		t.call(ctx, "network.provideResponse", request, nil) // a page that is gone needs none
	}
}

// bidiPattern matches an address with any query.
func bidiPattern(address string) map[string]string {
	u, err := url.Parse(address)
	if err != nil {
		return map[string]string{"type": "string", "pattern": address}
	}
	p := map[string]string{"type": "pattern", "protocol": u.Scheme, "hostname": u.Hostname(), "pathname": u.EscapedPath()}
	if u.Port() != "" {
		p["port"] = u.Port()
	}
	return p
}
