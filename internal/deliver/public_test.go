package deliver

import (
	"context"
	"io"
	"net/http"
	"strings"
	"testing"

	"havvel/internal/rulebook"
)

// TestPublicOpens: a version is public once the portal says so and its link opens as a page for a stranger.
func TestPublicOpens(t *testing.T) {
	page := func(text string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			io.WriteString(w, text)
		}
	}
	for name, c := range map[string]struct {
		lane  http.HandlerFunc
		state string
		says  string
	}{
		"a page":         {page("<title>Lane</title><input type=password>"), rulebook.Public, ""},
		"not there":      {http.NotFound, rulebook.Verifying, "status 404"},
		"a log-in":       {func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/enter", http.StatusFound) }, rulebook.Verifying, "leads to a log-in"},
		"moved":          {func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/lane/", http.StatusFound) }, rulebook.Public, ""},
		"no page":        {func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, `{"soon":true}`) }, rulebook.Verifying, "it is JSON"},
		"nobody answers": {func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }, rulebook.Verifying, "doesn't open yet"},
	} {
		t.Run(name, func(t *testing.T) {
			c1, d, h := world(t)
			h.lane = func(w http.ResponseWriter, r *http.Request) {
				switch r.URL.Path {
				case "/enter":
					page("<form><input type='password'></form>")(w, r)
				case "/lane/":
					page("<title>Lane</title>")(w, r)
				default:
					c.lane(w, r)
				}
			}
			sent, err := c1.Send(context.Background(), d, parcel(t, "1"))
			if err != nil {
				t.Fatal(err)
			}
			now, err := c1.Publish(context.Background(), d, sent.Delivery)
			if err != nil || now.State != c.state || !strings.Contains(now.Note, c.says) || (c.says == "") != (now.Note == "") {
				t.Errorf("%s, %q, %v", now.State, now.Note, err)
			}
		})
	}
}
