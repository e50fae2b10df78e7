package portal

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// store takes resumable uploads, and can be told to answer otherwise.
type store struct {
	mu    sync.Mutex
	got   []byte
	made  int
	heads int
	odd   func(w http.ResponseWriter, r *http.Request, s *store) bool // answers itself
}

func (s *store) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch r.Method {
	case http.MethodPost:
		s.made++
	case http.MethodHead:
		s.heads++
	}
	if s.odd != nil && s.odd(w, r, s) {
		return
	}
	switch r.Method {
	case http.MethodPost:
		s.got = nil
		w.Header().Set("Location", "/up/1?signature=abc")
		w.WriteHeader(http.StatusCreated)
	case http.MethodHead:
		w.Header().Set("Upload-Offset", strconv.Itoa(len(s.got)))
	case http.MethodPatch:
		if r.Header.Get("Upload-Offset") != strconv.Itoa(len(s.got)) {
			w.WriteHeader(http.StatusConflict)
			return
		}
		data, _ := io.ReadAll(r.Body)
		s.got = append(s.got, data...)
		w.Header().Set("Upload-Offset", strconv.Itoa(len(s.got)))
		w.WriteHeader(http.StatusNoContent)
	default:
		w.WriteHeader(http.StatusMethodNotAllowed)
	}
}

func once(method string, answer func(http.ResponseWriter, *http.Request, *store)) func(http.ResponseWriter, *http.Request, *store) bool {
	done := false
	return func(w http.ResponseWriter, r *http.Request, s *store) bool {
		if r.Method != method || done {
			return false
		}
		done = true
		answer(w, r, s)
		return true
	}
}

// TestResumable: whatever a portal answers, the whole file arrives, once and in order, or the upload ends with words.
func TestResumable(t *testing.T) {
	status := func(n int) func(http.ResponseWriter, *http.Request, *store) {
		return func(w http.ResponseWriter, _ *http.Request, _ *store) { w.WriteHeader(n) }
	}
	always := func(method string, answer func(http.ResponseWriter, *http.Request, *store)) func(http.ResponseWriter, *http.Request,
		*store) bool {
		return func(w http.ResponseWriter, r *http.Request, s *store) bool {
			if r.Method != method {
				return false
			}
			answer(w, r, s)
			return true
		}
	}
	offset := func(text string) func(http.ResponseWriter, *http.Request, *store) {
		return func(w http.ResponseWriter, _ *http.Request, _ *store) { w.Header().Set("Upload-Offset", text) }
	}
	for name, c := range map[string]struct {
		odd   func(http.ResponseWriter, *http.Request, *store) bool
		piece int64
		says  string // of the error; "" when all is well
	}{
		"as it should":             {nil, 0, ""},
		"in pieces":                {nil, 3, ""},
		"no address":               {once("POST", status(201)), 0, "names no Location"},
		"no such game":             {always("POST", status(404)), 0, "status 404"},
		"busy once":                {once("PATCH", status(503)), 0, ""},
		"busy for ever":            {always("PATCH", status(503)), 0, "status 503"},
		"forbidden":                {always("PATCH", status(403)), 0, "status 403"},
		"a piece that is damaged":  {once("PATCH", status(460)), 4, ""},
		"an upload that is gone":   {goneOnce(), 4, ""},
		"one that is always gone":  {goneAlways(), 4, "status 404"},
		"an offset past the end":   {withBroken("PATCH", offset("99")), 4, "no Upload-Offset within the file"},
		"an offset before 0":       {withBroken("PATCH", offset("-1")), 4, "no Upload-Offset within the file"},
		"an offset that is a word": {withBroken("PATCH", offset("soon")), 4, "no Upload-Offset within the file"},
		"one that takes less":      {takesHalf(), 0, ""},
		"a cut that took it all": {once("PATCH", func(w http.ResponseWriter, r *http.Request, s *store) {
			data, _ := io.ReadAll(r.Body)
			s.got = append(s.got, data...)
			panic(http.ErrAbortHandler)
		}), 0, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			kept := &store{odd: c.odd}
			piece := ""
			if c.piece > 0 {
				piece = fmt.Sprintf("\npiece = \"%d B\"", c.piece)
			}
			s := host(t, kept.ServeHTTP, step("send", "method = \"POST\"\naddress = \"{address}/up\"\nfile = \"archive\"\nresumable = "+
				"true\nexpect = [201]\ntake = { at = \"header Location\" }"+piece))
			var remembered []Entry
			s.Ledger = NewLedger(nil)
			s.Ledger.Write = func(_ string, e Entry) { remembered = append(remembered, e) }
			ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
			defer stop()
			_, err := s.Send(ctx, s.Rules.Send)
			if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
				t.Fatalf("%v", err)
			}
			if err == nil && string(kept.got) != "hello world" {
				t.Errorf("arrived: %q", kept.got)
			}
			if at, _ := s.Value("at").(string); err == nil && !strings.HasSuffix(at, "/up/1?signature=abc") {
				t.Errorf("the upload is said to be at %q", at)
			}
			for _, p := range remembered {
				if strings.Contains(fmt.Sprint(p), "signature") {
					t.Errorf("a signed address was to be written down: %+v", p)
				}
			}
		})
	}
}

// withBroken breaks the first piece, and answers the question for the offset oddly from then on.
func withBroken(
	method string,
	head func(http.ResponseWriter, *http.Request, *store),
) func(http.ResponseWriter, *http.Request, *store) bool {
	broken := once(method, func(w http.ResponseWriter, _ *http.Request, _ *store) { w.WriteHeader(http.StatusServiceUnavailable) })
	return func(w http.ResponseWriter, r *http.Request, s *store) bool {
		if r.Method == http.MethodHead {
			head(w, r, s)
			return true
		}
		return broken(w, r, s)
	}
}

// goneOnce forgets the upload after its first piece; it has to be made anew.
func goneOnce() func(http.ResponseWriter, *http.Request, *store) bool {
	pieces := 0
	return func(w http.ResponseWriter, r *http.Request, s *store) bool {
		if r.Method == http.MethodPatch {
			pieces++
		}
		if s.made == 1 && (r.Method == http.MethodPatch && pieces > 1 || r.Method == http.MethodHead) {
			w.WriteHeader(map[string]int{http.MethodPatch: http.StatusConflict, http.MethodHead: http.StatusNotFound}[r.Method])
			return true
		}
		return false
	}
}

func goneAlways() func(http.ResponseWriter, *http.Request, *store) bool {
	return func(w http.ResponseWriter, r *http.Request, _ *store) bool {
		switch r.Method {
		case http.MethodPatch:
			w.WriteHeader(http.StatusConflict)
		case http.MethodHead:
			w.WriteHeader(http.StatusNotFound)
		default:
			return false
		}
		return true
	}
}

// takesHalf takes the first half of the first piece, and says so.
func takesHalf() func(http.ResponseWriter, *http.Request, *store) bool {
	return once(http.MethodPatch, func(w http.ResponseWriter, r *http.Request, s *store) {
		data, _ := io.ReadAll(r.Body)
		s.got = append(s.got, data[:len(data)/2]...)
		w.Header().Set("Upload-Offset", strconv.Itoa(len(s.got)))
		w.WriteHeader(http.StatusNoContent)
	})
}
