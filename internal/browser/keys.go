package browser

import (
	"unicode/utf8"

	"github.com/chromedp/chromedp/kb"
)

// keyCodes are how keys with a name are written: for Chromium, and for WebDriver (section 17.4.2, normalised keys).
var keyCodes = map[string]struct{ chromium, bidi string }{
	"Enter": {kb.Enter, "\ue007"}, "Escape": {kb.Escape, "\ue00c"}, "Space": {" ", " "}, "Tab": {kb.Tab, "\ue004"},
	"Backspace": {kb.Backspace, "\ue003"}, "Delete": {kb.Delete, "\ue017"}, "Home": {kb.Home, "\ue011"}, "End": {kb.End, "\ue010"},
	"PageUp": {kb.PageUp, "\ue00e"}, "PageDown": {kb.PageDown, "\ue00f"},
	"ArrowLeft": {kb.ArrowLeft, "\ue012"}, "ArrowUp": {kb.ArrowUp, "\ue013"}, "ArrowRight": {kb.ArrowRight, "\ue014"},
	"ArrowDown": {kb.ArrowDown, "\ue015"}, "Shift": {kb.Shift, "\ue008"}, "Control": {kb.Control, "\ue009"}, "Alt": {kb.Alt, "\ue00a"},
}

// HasKey reports whether there is a key of a name, or for a letter, digit or sign.
func HasKey(name string) bool {
	_, named := keyCodes[name]
	return named || utf8.RuneCountInString(name) == 1
}
