package browser

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/cdproto"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/cdproto/inspector"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/chromedp"
)

// event takes what the browser tells of a window.
func (t *chromiumTab) event(ev any) {
	switch e := ev.(type) {
	case *page.EventScreencastFrame:
		go t.shown(e)
	case *fetch.EventRequestPaused:
		go t.answer(e)
	case *page.EventJavascriptDialogOpening:
		t.hear(Asks{string(e.Type), e.Message})
		go call(t.inside, t, page.HandleJavaScriptDialog, page.HandleJavaScriptDialogParams{})
	case *page.EventFrameNavigated:
		t.hear(Arrived{Frame(e.Frame.ID), Frame(e.Frame.ParentID), e.Frame.URL})
	case *inspector.EventDetached:
		t.mu.Lock()
		defer t.mu.Unlock()
		t.gone = true
	case *inspector.EventTargetCrashed:
		t.hear(Crashed{})
	case *runtime.EventBindingCalled:
		if e.Name == Say {
			t.hear(Said{e.Payload})
		}
	case *runtime.EventExecutionContextCreated:
		t.began(e.Context)
	case *runtime.EventExecutionContextDestroyed:
		t.mu.Lock()
		defer t.mu.Unlock()
		maps.DeleteFunc(t.contexts, func(_ cdp.FrameID, c *runtime.ExecutionContextDescription) bool {
			return c.UniqueID == e.ExecutionContextUniqueID
		})
	case *target.EventAttachedToTarget:
		go t.watchWorker([]target.SessionID{e.SessionID})
	case *target.EventReceivedMessageFromTarget:
		t.fromWorker(e, nil)
	default:
		t.told(ev, false)
	}
}

// fromWorker takes what a worker tells; path leads to the worker that made it, and is empty where the page did.
func (t *chromiumTab) fromWorker(e *target.EventReceivedMessageFromTarget, path []target.SessionID) {
	var m cdproto.Message
	if json.Unmarshal([]byte(e.Message), &m) != nil || m.Method == "" {
		return
	}
	inner, err := cdproto.UnmarshalMessage(&m, chromedp.DefaultUnmarshalOptions)
	if err != nil {
		return // an event of a browser that is newer than this program
	}
	path = append(slices.Clone(path), e.SessionID)
	switch inner := inner.(type) {
	case *target.EventAttachedToTarget:
		go t.watchWorker(append(path, inner.SessionID))
	case *target.EventReceivedMessageFromTarget:
		t.fromWorker(inner, path)
	default:
		t.told(inner, true)
	}
}

// watchWorker has a worker tell what it does, and its own workers, and lets it run.
func (t *chromiumTab) watchWorker(path []target.SessionID) {
	for _, c := range [][2]string{
		{"Runtime.enable", "{}"}, {"Network.enable", "{}"},
		{"Target.setAutoAttach", `{"autoAttach":true,"waitForDebuggerOnStart":true,"flatten":false}`}, {"Runtime.runIfWaitingForDebugger", "{}"},
	} {
		method, params := c[0], json.RawMessage(c[1])
		for _, session := range slices.Backward(path) {
			t.mu.Lock()
			t.sent++
			id := t.sent
			t.mu.Unlock()
			message, err := json.Marshal(map[string]any{"id": id, "method": method, "params": params})
			if err != nil {
				return
			}
			method = "Target.sendMessageToTarget"
			if params, err = json.Marshal(map[string]any{"message": string(message), "sessionId": session}); err != nil {
				return
			}
		}
		ctx, cancel := limited(t.inside)
		t.target.Call(ctx, method, params, nil) // one that ended is not there
		cancel()
	}
}

// began notes in which context the scripts of a frame run.
func (t *chromiumTab) began(c *runtime.ExecutionContextDescription) {
	var about struct {
		IsDefault bool        `json:"isDefault"`
		FrameID   cdp.FrameID `json:"frameId"`
	}
	if json.Unmarshal(c.AuxData, &about) == nil && about.IsDefault {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.contexts[about.FrameID] = c
	}
}

// told takes what a window and its workers tell alike. A worker's own script is asked for by the window, and answered to the worker.
func (t *chromiumTab) told(ev any, worker bool) {
	switch e := ev.(type) {
	case *network.EventRequestWillBeSent:
		t.mu.Lock()
		if t.offset == 0 {
			t.offset = e.WallTime.Float64() - e.Timestamp.Float64()
		}
		t.mu.Unlock()
		t.hear(Asked{
			string(e.RequestID), e.Request.URL, string(e.Type), t.at(e.Timestamp.Float64()), worker,
			initiator(e.Initiator), sends(e.Request.Method),
		})
	case *network.EventResponseReceived:
		a := Answered{ID: string(e.RequestID), Status: int(e.Response.Status), Type: e.Response.MimeType}
		for name, v := range e.Response.Headers {
			if strings.EqualFold(name, "content-encoding") {
				a.Encoding = fmt.Sprint(v)
			}
		}
		t.hear(a)
	case *network.EventResponseReceivedExtraInfo: // all that is told of an answer that the browser refuses for its type
		if e.StatusCode >= 400 {
			t.hear(Answered{ID: string(e.RequestID), Status: int(e.StatusCode)})
		}
	case *network.EventLoadingFinished:
		t.hear(Ended{string(e.RequestID), t.at(e.Timestamp.Float64()), int64(e.EncodedDataLength), ""})
	case *network.EventLoadingFailed:
		t.hear(Ended{string(e.RequestID), t.at(e.Timestamp.Float64()), 0, e.ErrorText})
	case *network.EventWebSocketCreated:
		t.hear(Asked{string(e.RequestID), e.URL, "WebSocket", time.Now(), worker, initiator(e.Initiator), true})
	case *network.EventWebSocketHandshakeResponseReceived:
		t.hear(Answered{ID: string(e.RequestID), Status: int(e.Response.Status)})
	case *network.EventWebSocketFrameError:
		t.hear(Ended{string(e.RequestID), t.at(e.Timestamp.Float64()), 0, e.ErrorMessage})
	case *network.EventWebSocketClosed:
		t.hear(Ended{string(e.RequestID), t.at(e.Timestamp.Float64()), 0, ""})
	default:
		t.complained(ev, worker)
	}
}

// complained takes what scripts and the browser find wrong.
func (t *chromiumTab) complained(ev any, worker bool) {
	switch e := ev.(type) {
	case *runtime.EventExceptionThrown:
		d := e.ExceptionDetails
		x := Thrown{Message: thrown(d), Worker: worker, Calls: calls(d.StackTrace)}
		if len(x.Calls) == 0 && d.URL != "" {
			x.Calls = []Place{{Address: d.URL, Line: int(d.LineNumber) + 1, Column: int(d.ColumnNumber) + 1}}
		}
		t.hear(x)
	case *runtime.EventConsoleAPICalled:
		if e.Type == "error" || e.Type == "assert" {
			t.hear(Logged{written(e.Args), worker, calls(e.StackTrace)})
		}
	case *log.EventEntryAdded:
		t.logged(e.Entry)
	}
}

func (t *chromiumTab) logged(l *log.Entry) {
	switch l.Source {
	case "network", "javascript", "worker":
		return // requests and exceptions are told one by one
	}
	if l.Level != "error" && l.Source != "security" && l.Source != "intervention" && l.Source != "violation" {
		return
	}
	c := Complained{Message: l.Text}
	if l.URL != "" {
		c.Place = Place{Address: l.URL, Line: int(l.LineNumber) + 1}
	}
	t.hear(c)
}

// at is a time of the browser's clock, in seconds.
func (t *chromiumTab) at(seconds float64) time.Time {
	t.mu.Lock()
	defer t.mu.Unlock()
	return time.UnixMicro(int64((seconds + t.offset) * 1e6))
}

// thrown is an exception's first line.
func thrown(d *runtime.ExceptionDetails) string {
	message := d.Text
	if d.Exception != nil && d.Exception.Description != "" {
		message, _, _ = strings.Cut(d.Exception.Description, "\n")
	} else if d.Exception != nil && len(d.Exception.Value) > 0 {
		message += " " + strings.Trim(string(d.Exception.Value), `"`)
	}
	return message
}

// written is what a page wrote to the console.
func written(args []*runtime.RemoteObject) string {
	var words []string
	for _, a := range args {
		text := strings.Trim(string(a.Value), `"`)
		if text == "" {
			text, _, _ = strings.Cut(a.Description, "\n")
		}
		words = append(words, text)
	}
	return strings.Join(words, " ")
}

// calls are the places of a stack, the innermost first.
func calls(s *runtime.StackTrace) []Place {
	var list []Place
	for ; s != nil; s = s.Parent {
		for _, f := range s.CallFrames {
			list = append(list, Place{f.URL, int(f.LineNumber) + 1, int(f.ColumnNumber) + 1, f.FunctionName})
		}
	}
	return list
}

// initiator are the places from which something was asked for: calls, or a line of a page.
func initiator(i *network.Initiator) []Place {
	if i == nil {
		return nil
	}
	list := calls(i.Stack)
	if i.URL != "" {
		list = append(list, Place{Address: i.URL, Line: int(i.LineNumber) + 1, Column: int(i.ColumnNumber) + 1})
	}
	return list
}
