package fault

import (
	"context"
	"errors"
	"fmt"
	"syscall"
	"testing"
)

type busy struct{ who string }

func (b *busy) Error() string { return b.who + " is sending to it now" }
func (b *busy) Fault() *Error { return New(No, "%s", b.Error()).Then("wait") }

// TestOf: kind, place and next step come from the innermost error that says them; the words are those of the outermost.
func TestOf(t *testing.T) {
	placed := New(Usage, "there is no key %q", "titel").Then("did you mean %q?", "title")
	placed.At = Position{"havvel.toml", 3, 1}
	for name, c := range map[string]struct {
		err  error
		want string
	}{
		"any":     {errors.New("it broke"), "here|it broke||"},
		"wrapped": {fmt.Errorf("to.shed: %w", placed), `usage|to.shed: there is no key "titel"|did you mean "title"?|havvel.toml:3:1`},
		"teller":  {fmt.Errorf("sending: %w", &busy{"Moor"}), "no|sending: Moor is sending to it now|wait|"},
		"full": {fmt.Errorf("writing a.zip: %w", syscall.ENOSPC),
			"here|writing a.zip: no space left on device|the disk is full: free some space there and try again; what was there before is " +
				"unchanged|"},
	} {
		f := Of(c.err)
		if got := fmt.Sprintf("%s|%s|%s|%s", f.Kind, f.What, f.Next, f.At); got != c.want {
			t.Errorf("%s: %s, want %s", name, got, c.want)
		}
		if !errors.Is(f, c.err) {
			t.Errorf("%s: the cause is lost", name)
		}
	}
	if Of(nil) != nil {
		t.Error("nil is a fault")
	}
	both := All(errors.Join(placed, fmt.Errorf("b: %w", errors.Join(context.Canceled, &busy{"Moor"})), placed))
	if len(both) != 2 || both[0].At.Line != 3 || !errors.Is(both[1], context.Canceled) {
		t.Errorf("%v", both)
	}
}
