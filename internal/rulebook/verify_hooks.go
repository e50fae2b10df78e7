package rulebook

import (
	"fmt"
	"regexp"
	"strings"

	"havvel/internal/settings"
)

var (
	dotted    = regexp.MustCompile(`^[A-Za-z_$][\w$]*(\.[A-Za-z_$][\w$]*)+$`)
	attribute = regexp.MustCompile(`^[a-z][a-z0-9-]*$`)
)

func (h Hook) verify(d *settings.Document, at string) {
	d.Must(at+".script", h.Script)
	if d.Must(at+".place", h.Place) {
		d.Within(at+".place", h.Place, "head-start", "head-end", "body-end")
	}
	for name := range h.Attributes {
		if !attribute.MatchString(name) || name == "src" {
			d.Wrong(at+".attributes."+name, "can't be an attribute of a script")
		}
	}
	if h.Start != nil && !dotted.MatchString(h.Start.Call) {
		d.Wrong(at+".start.call", "is %q; it must be a dotted name such as \"Portal.begin\"", h.Start.Call)
	}
	for i, c := range h.Calls {
		c.verify(d, fmt.Sprintf("%s.call[%d]", at, i), h)
	}
}

func (c Call) verify(d *settings.Document, at string, h Hook) {
	if !dotted.MatchString(c.Call) {
		d.Wrong(at+".call", "is %q; it must be a dotted name such as \"Portal.ready\"", c.Call)
	}
	if strings.HasPrefix(c.Call, "started.") && (h.Start == nil || !h.Start.Gives) {
		d.Wrong(at+".call", "is made on what the start call gives, but there is no start call with gives = true")
	}
	if d.Must(at+".event", c.Event) {
		d.Within(at+".event", c.Event, events()...)
	}
	d.Each(at+".after", c.After, events()...)
	d.Within(at+".answers", c.Answers, "at-once", "promise", "callback")
}
