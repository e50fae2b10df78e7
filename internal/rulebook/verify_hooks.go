package rulebook

import (
	"fmt"
	"regexp"
	"slices"

	"havvel/internal/settings"
)

var (
	dotted    = regexp.MustCompile(`^[A-Za-z_$][\w$]*(\.[A-Za-z_$][\w$]*)+$`)
	attribute = regexp.MustCompile(`^[a-z][a-z0-9-]*$`)
)

func (h Hook) verify() error {
	if err := settings.Within("place", h.Place, "head-start", "head-end", "body-end"); err != nil {
		return err
	}
	for name := range h.Attributes {
		if !attribute.MatchString(name) || name == "src" {
			return fmt.Errorf("%q can't be an attribute of a script", name)
		}
	}
	if h.Start != nil && !dotted.MatchString(h.Start.Call) {
		return fmt.Errorf("start.call is %q; it must be a dotted name such as \"Portal.begin\"", h.Start.Call)
	}
	for _, c := range h.Calls {
		if err := c.verify(h); err != nil {
			return fmt.Errorf("call %q: %w", c.Call, err)
		}
	}
	return nil
}

func (c Call) verify(h Hook) error {
	if !dotted.MatchString(c.Call) {
		return fmt.Errorf("it must be a dotted name such as \"Portal.ready\"")
	}
	if len(c.Call) > 8 && c.Call[:8] == "started." && (h.Start == nil || !h.Start.Gives) {
		return fmt.Errorf("there is no start call that gives the object it is made on")
	}
	for _, m := range append(slices.Clone(c.After), c.Moment) {
		if err := settings.Within("moment", m, moments()...); err != nil {
			return err
		}
	}
	if c.Answers != "" {
		return settings.Within("answers", c.Answers, "at-once", "promise")
	}
	return nil
}
