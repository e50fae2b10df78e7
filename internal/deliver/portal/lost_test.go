package portal

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
)

// TestSettled: a lost answer is settled by what the portal shows, compared with what it showed before; a version that was there already
// proves nothing.
func TestSettled(t *testing.T) {
	const list = "[[list]]\nstep = \"list\"\nmethod = \"GET\"\naddress = \"{address}/all\"\nexpect = [200]\ntake = { versions = \"$[*].v\" }\n"
	const find = "[[find]]\nstep = \"find\"\nmethod = \"GET\"\naddress = \"{address}/all\"\nexpect = [200]\n" +
		"take = { all_of_them = \"$[*]\" }\nset = { id = \"findLast(all_of_them, .v == version)?.id\" }\n"
	for name, c := range map[string]struct {
		take, more string
		there      bool // a version of that name, before
		done       bool // the request whose answer is lost
		unknown    bool
	}{
		"find, done":                {`take = { id = "/id" }`, find, false, true, false},
		"find, not done":            {`take = { id = "/id" }`, find, false, false, false},
		"find, there before, done":  {`take = { id = "/id" }`, find, true, true, false},
		"find, there before":        {`take = { id = "/id" }`, find, true, false, false},
		"list, done":                {"", list, false, true, false},
		"list, there before, done":  {"", list, true, true, false},
		"list, not done":            {"", list, false, false, true},
		"list, there before":        {"", list, true, false, true},
		"a value that nobody finds": {`take = { other = "/id" }`, find, false, true, true},
		"nobody to ask":             {`take = { id = "/id" }`, "", false, true, true},
	} {
		t.Run(name, func(t *testing.T) {
			made, lost := []string{}, false
			var mu sync.Mutex
			if c.there {
				made = append(made, `{"v":"0.4.0","id":100}`)
			}
			s := host(t, func(w http.ResponseWriter, r *http.Request) {
				if r.Method == "GET" {
					mu.Lock()
					defer mu.Unlock()
					io.WriteString(w, "["+strings.Join(made, ",")+"]")
					return
				}
				io.Copy(io.Discard, r.Body)
				mu.Lock()
				defer mu.Unlock()
				first := !lost
				if lost = true; !first || c.done {
					made = append(made, fmt.Sprintf(`{"v":"0.4.0","id":%d}`, len(made)))
				}
				if first {
					panic(http.ErrAbortHandler)
				}
				fmt.Fprintf(w, `{"id":%d}`, len(made)-1)
			}, step("send", "method = \"POST\"\nfile = \"archive\"\n"+c.take)+c.more)
			s.Ledger = NewLedger(nil)
			before := len(made)
			_, err := s.Send(context.Background(), s.Rules.Send)
			var unknown *Lost
			if errors.As(err, &unknown) != c.unknown || err != nil && !c.unknown {
				t.Fatalf("%v", err)
			}
			mu.Lock()
			defer mu.Unlock()
			if n := len(made) - before; err == nil && n != 1 || n > 1 {
				t.Errorf("%d versions were made", n)
			}
			if id := s.Value("id"); err == nil && c.take != "" && id != len(made)-1 {
				t.Errorf("it is taken for version %v of %d", id, len(made))
			}
		})
	}
}
