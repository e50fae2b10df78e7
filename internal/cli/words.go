package cli

import (
	"fmt"
	"strings"

	"havvel/internal/project"
)

// files counts files in words.
func files(n int) string { return does(n, "1 file", fmt.Sprintf("%d files", n)) }

// does picks a wording by number.
func does(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// list joins names as people do: a, b and c.
func list(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

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
	return list(names)
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
