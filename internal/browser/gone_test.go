package browser

import (
	"os"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/chromedp"
)

// TestGone: a window that somebody closes is gone, as when a recording ends.
func TestGone(t *testing.T) {
	path, err := Find("chromium", "the test")
	if err != nil && os.Getenv("CI") == "" {
		t.Skip(err)
	}
	b, err := Start(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	tab, err := b.Open(t.Context(), Window{Width: 300, Height: 200}, func(Event) {})
	if err != nil {
		t.Fatal(err)
	}
	c := tab.(*chromiumTab)
	if tab.Gone() {
		t.Error("an open window is gone")
	}
	if _, err := cdp.Call(t.Context(), chromedp.FromContext(c.inside).Browser, target.CloseTarget,
		target.CloseTargetParams{TargetID: c.target.TargetID}); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(5 * time.Second); !tab.Gone(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("a closed window is not gone")
		}
	}
}
