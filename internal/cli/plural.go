package cli

import (
	"fmt"
	"strings"

	"havvel/internal/inwords"
	"havvel/internal/project"
)

// portalNames names the portals of a project.
func portalNames(p *project.Project) string {
	var names []string
	all, _ := p.Destinations(nil) // naming none is never wrong
	for _, d := range all {
		names = append(names, d.Rules.Name)
	}
	if len(names) == 0 {
		return "a host"
	}
	return inwords.List(names)
}

// argument repeats an argument for a command line that is offered to the user.
func argument(args []string) string {
	if len(args) == 0 {
		return ""
	}
	if strings.ContainsAny(args[0], " '\"()&;") {
		return fmt.Sprintf(" %q", args[0])
	}
	return " " + args[0]
}
