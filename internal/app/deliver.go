package app

import (
	"fmt"
	"strings"
	"time"

	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/inwords"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// awaited reports whether a destination can be asked when it decides on a version.
func awaited(d *project.Destination, state string) bool {
	return deliver.Undecided(state) && state != rulebook.Unknown && deliver.Can(d, deliver.Follow)
}

// decided is the error for a delivery that was refused, or is not decided within the limit.
func decided(d *project.Destination, s *deliver.Status, limit time.Duration) error {
	switch {
	case s.State == rulebook.Refused:
		return fault.Said
	case awaited(d, s.State):
		return NotDecided(d.Rules.Name, s.Version, s.State, limit).Then("nothing is lost; havvel where --wait asks again")
	}
	return nil
}

// NotDecided says that a portal took longer than we wanted to wait.
func NotDecided(portal, version, state string, limit time.Duration) *fault.Error {
	return fault.New(fault.Unreachable, "%s has not decided on version %s within %s (state: %s)", portal, version, inwords.Span(limit), state)
}

// Last is the last delivery to a destination.
func Last(courier *deliver.Courier, d *project.Destination) (*logbook.Delivery, error) {
	latest, err := courier.Latest([]*project.Destination{d})
	if err != nil {
		return nil, err
	}
	if len(latest) == 0 {
		return nil, fault.New(fault.No, "nothing was sent to %s yet", d.Name).Then("havvel send uploads this version")
	}
	return latest[0], nil
}

// publishable says why a delivery can't be made public.
func publishable(d *project.Destination, s *deliver.Status) error {
	switch {
	case s.State == rulebook.Refused:
		reasons := ""
		for _, r := range s.Reasons {
			reasons += "\n  - " + r
		}
		return fault.New(fault.No, "%s refused version %s, so it can't be made public%s", d.Rules.Name, s.Version, reasons)
	case deliver.Undecided(s.State):
		return fault.New(
			fault.No,
			"%s has not decided on version %s yet (state: %s)",
			d.Rules.Name,
			s.Version,
			s.State,
		).Then("havvel where --wait waits for it")
	}
	return nil
}

// Next says what to do about the deliveries that wait for the developer: those that can be made public first.
func Next(p *project.Project, shown []*deliver.Status) string {
	if len(shown) == 0 {
		return "havvel send"
	}
	in := map[string][]string{} // destinations, by what to do
	until := ""
	for _, st := range shown {
		what := waitsFor(p.To[st.Destination], st.State)
		in[what] = append(in[what], st.Destination)
		if what == "publish" && st.Draft != "" {
			until = "; until then only people with the link see it"
		}
	}
	switch {
	case len(in["lost"]) > 0:
		return fmt.Sprintf("look at your page there; where the version is missing, havvel send --again%s", toFlags(p, in["lost"]))
	case len(in["publish"]) > 0:
		return fmt.Sprintf("havvel publish%s  (makes it public%s)", toFlags(p, in["publish"]), until)
	case len(in["wait"]) > 0:
		return fmt.Sprintf("havvel where --wait%s", toFlags(p, in["wait"]))
	case len(in["share"]) > 0 && p.To[in["share"][0]].Rules.Rounds:
		return fmt.Sprintf("havvel round open%s  (gives it to testers, and brings back how it went)", toFlags(p, in["share"][:1]))
	case len(in["share"]) > 0:
		return fmt.Sprintf("havvel where --share%s  (lines with the link, to paste)", toFlags(p, in["share"]))
	case len(in["look"]) > 0:
		var names []string
		for _, name := range in["look"] {
			names = append(names, p.To[name].Rules.Name)
		}
		return fmt.Sprintf("look at your page on %s; the rulebook doesn't say how a version is followed there", inwords.List(names))
	case len(in["fix"]) > 0:
		return "fix what is named above, export again, and send it as a new version"
	}
	return ""
}

// waitsFor says what a delivery waits for the developer to do; "" for nothing.
func waitsFor(d *project.Destination, state string) string {
	switch {
	case state == rulebook.Draft && !deliver.Can(d, deliver.Publish):
		return "share"
	case state == rulebook.Draft:
		return "publish"
	case state == rulebook.Unknown:
		return "lost"
	case awaited(d, state):
		return "wait"
	case deliver.Undecided(state):
		return "look"
	case state == rulebook.Refused:
		return "fix"
	}
	return ""
}

// toFlags names destinations on a command line; nothing when they are all that the project has.
func toFlags(p *project.Project, names []string) string {
	if len(names) == len(p.To) {
		return ""
	}
	return " --to " + strings.Join(names, " --to ")
}
