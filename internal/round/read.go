package round

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strconv"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"golang.org/x/sync/errgroup"
)

// A Session is what came back of one tester.
type Session struct {
	ID        string
	Opened    time.Time
	Device    Device
	Simulated bool
	Clip      int64   // bytes of its clip; 0 without
	Cut       int     // events that the host had no room for
	Unread    int     // lines that can't be read
	Events    []Event // in the order in which they happened
}

// An Event is one thing that happened.
type Event struct {
	N    int
	At   int64 // milliseconds after the session began
	Kind string
	Data Data
}

// Data is what an event says; each kind has its own. What is of another form than expected is empty.
type Data struct {
	Event    loose `json:"event"`
	Level    loose `json:"level"`
	Won      loose `json:"won"`
	Name     loose `json:"name"` // of a statistic
	Value    loose `json:"value"`
	FPS      loose `json:"fps"`
	Message  loose `json:"message"`
	File     loose `json:"file"`
	Line     loose `json:"line"`
	Column   loose `json:"column"`
	Stack    loose `json:"stack"`
	Count    loose `json:"count"` // of presses
	Cells    loose `json:"cells"` // where on the picture they were: "cell:count" with blanks between, row by row
	Question loose `json:"question"`
	Answer   loose `json:"answer"`
}

// loose is a text, a number, or a yes or no, as people write it.
type loose string

// UnmarshalJSONFrom reads a value of any form.
func (l *loose) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	value, err := d.ReadValue()
	if err != nil {
		return err
	}
	switch value.Kind() {
	case '"':
		*l = loose(unquoted(value))
	case '0', 't', 'f':
		*l = loose(known(value))
	}
	return nil
}

// unquoted is a text without its quotes.
func unquoted(value jsontext.Value) string {
	if inner := value[1 : len(value)-1]; bytes.IndexByte(inner, '\\') < 0 {
		return known(inner)
	}
	text, err := jsontext.AppendUnquote(nil, value)
	if err != nil {
		return ""
	}
	return string(text)
}

// known gives words that come in every session without keeping each of them anew.
func known(word []byte) string {
	switch string(word) {
	case "frames":
		return "frames"
	case "event":
		return "event"
	case "level-begun":
		return "level-begun"
	case "level-ended":
		return "level-ended"
	case "statistic":
		return "statistic"
	case "true":
		return "true"
	case "false":
		return "false"
	}
	return string(word)
}

// UnmarshalJSONFrom reads data of an object, and skips those of another form.
func (v *Data) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	if d.PeekKind() != '{' {
		return d.SkipValue()
	}
	type plain Data
	return json.UnmarshalDecode(d, (*plain)(v))
}

// longestLine is the most that one line may hold, in bytes.
const longestLine = 1 << 20

// Read goes through what came back of a round, as a host exports it, and gives visit each session in its order. Only a few sessions are
// in memory at a time. It ends with the first error, of its own or of visit.
func Read(ctx context.Context, r io.Reader, visit func(*Session) error) error {
	group, ctx := errgroup.WithContext(ctx)
	type work struct {
		text  []byte
		first int // the number of its first line
		done  chan *Session
	}
	parts, order := make(chan work, runtime.NumCPU()), make(chan work, 2*runtime.NumCPU())
	group.Go(func() error {
		defer close(order)
		defer close(parts)
		return split(r, func(text []byte, first int) error {
			w := work{text, first, make(chan *Session, 1)}
			for _, to := range []chan work{order, parts} {
				select {
				case to <- w:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
			return nil
		})
	})
	for range runtime.NumCPU() {
		group.Go(func() error {
			for w := range parts {
				s, err := parse(w.text, w.first)
				if err != nil {
					return err
				}
				w.done <- s
			}
			return nil
		})
	}
	group.Go(func() error {
		for w := range order {
			select {
			case s := <-w.done:
				if err := visit(s); err != nil {
					return err
				}
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	return group.Wait()
}

var headBegins = []byte(`{"round":`)

// split gives the lines of one session at a time, with the number of the first.
func split(r io.Reader, to func(text []byte, first int) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 256<<10), longestLine)
	var text []byte
	first := 1
	n := 0
	for lines.Scan() {
		n++
		if bytes.HasPrefix(lines.Bytes(), headBegins) && len(text) > 0 {
			if err := to(text, first); err != nil {
				return err
			}
			text, first = make([]byte, 0, len(text)), n
		}
		text = append(append(text, lines.Bytes()...), '\n')
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("line %d of what came back can't be read: %w", n+1, err)
	}
	if len(text) == 0 {
		return nil
	}
	return to(text, first)
}

// A line is one as it is read.
type line struct {
	Format    int         `json:"round"`
	Session   string      `json:"session"`
	Opened    time.Time   `json:"opened"`
	Device    looseDevice `json:"device"`
	Simulated bool        `json:"simulated"`
	Clip      int64       `json:"clip"`
	Cut       int         `json:"cut"`
	N         int         `json:"n"`
	At        int64       `json:"at"`
	Kind      string      `json:"kind"`
	Data      Data        `json:"data"`
}

// looseDevice is a device, or something else that says nothing.
type looseDevice Device

// UnmarshalJSONFrom reads a device, and skips what is of another form.
func (v *looseDevice) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	value, err := d.ReadValue()
	if err != nil {
		return err
	}
	json.Unmarshal(value, (*Device)(v), lenient) // a device that can't be read is a desktop
	return nil
}

// quick reads a line as a host writes it, in the order of Line, which saves half of the time; ok is false for any other.
func quick(one, begins []byte) (l line, ok bool) {
	rest, ok := bytes.CutPrefix(one, begins)
	if !ok {
		return l, false
	}
	n, rest, ok1 := bytes.Cut(rest, []byte(`,"at":`))
	at, rest, ok2 := bytes.Cut(rest, []byte(`,"kind":"`))
	kind, rest, ok3 := bytes.Cut(rest, []byte(`","data":`))
	data, ok4 := bytes.CutSuffix(rest, []byte("}"))
	if !ok1 || !ok2 || !ok3 || !ok4 || json.Unmarshal(data, &l.Data, lenient) != nil {
		return l, false
	}
	var err1, err2 error
	l.N, err1 = strconv.Atoi(string(n))
	l.At, err2 = strconv.ParseInt(string(at), 10, 64)
	l.Kind = known(kind)
	return l, err1 == nil && err2 == nil
}

// lenient reads what other programs wrote, and what hosts kept before they tidied it.
var lenient = json.JoinOptions(jsontext.AllowInvalidUTF8(true), jsontext.AllowDuplicateNames(true))

// parse reads the lines of one session. A line that can't be read is counted, and no reason to lose the others.
func parse(text []byte, first int) (*Session, error) {
	var s *Session
	var begins []byte
	ordered := true
	for n := first; len(text) > 0; n++ {
		one, rest, _ := bytes.Cut(text, []byte{'\n'})
		text = rest
		l, ok := quick(one, begins)
		if !ok || s == nil {
			l = line{}
			if err := json.Unmarshal(one, &l, lenient); err != nil {
				if s == nil {
					return nil, fmt.Errorf("line %d of what came back can't be read: %w", n, err)
				}
				s.Unread++
				continue
			}
			switch {
			case l.Format > Format:
				return nil, fmt.Errorf("what came back is of format %d; this havvel reads %d", l.Format, Format)
			case l.Format > 0 && s == nil:
				s = &Session{
					ID: l.Session, Opened: l.Opened, Device: Device(l.Device), Simulated: l.Simulated, Clip: l.Clip, Cut: l.Cut,
					Events: make([]Event, 0, bytes.Count(text, []byte{'\n'})),
				}
				begins = fmt.Appendf(nil, `{"session":%q,"n":`, s.ID)
				continue
			case s == nil || s.ID != l.Session:
				return nil, fmt.Errorf("line %d of what came back is of a session that did not begin", n)
			}
		}
		ordered = ordered && (len(s.Events) == 0 || s.Events[len(s.Events)-1].At <= l.At)
		s.Events = append(s.Events, Event{l.N, l.At, l.Kind, l.Data})
	}
	if !ordered { // the page's own events stand behind the game's
		slices.SortStableFunc(s.Events, func(a, b Event) int { return cmp.Compare(a.At, b.At) })
	}
	return s, nil
}
