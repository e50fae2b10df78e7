// Package hooks finds and plants the scripts that a portal wants in a game's entry page. Which
// scripts, and where, is the rulebook's business.
package hooks

import (
	"bytes"
	"fmt"
	"html"

	"havvel/internal/export/web"
	"havvel/internal/rulebook"
)

// Present reports whether the page already names the hook's script.
func Present(page *web.Page, h rulebook.Hook) bool {
	for _, l := range page.Links {
		if l.Use == "script" && l.Target == h.Script {
			return true
		}
	}
	return false
}

// Plant returns the page's bytes with the hook's script in its place, between marks that say where
// it came from. data must be what page was read from.
func Plant(data []byte, page *web.Page, h rulebook.Hook) []byte {
	at := map[string]int{"head-start": page.HeadStart, "head-end": page.HeadEnd, "body-end": page.BodyEnd}[h.Place]
	var out bytes.Buffer
	out.Write(data[:at])
	fmt.Fprintf(&out, "\n<!-- havvel: %s --><script src=\"%s\"></script><!-- /havvel -->\n", html.EscapeString(h.Name), html.EscapeString(h.Script))
	out.Write(data[at:])
	return out.Bytes()
}
