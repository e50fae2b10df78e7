package cli

import (
	"net"
	"net/url"
	"strings"

	"rsc.io/qr"

	"havvel/internal/cli/term"
)

// code draws a link as phones read it. A link to this machine alone leads nowhere from a phone, and is not drawn.
func (a *console) code(link string) {
	if u, err := url.Parse(link); err != nil || u.Hostname() == "localhost" || net.ParseIP(u.Hostname()).IsLoopback() {
		return
	}
	a.screen.Line("")
	if code, err := qr.Encode(link, qr.L); err == nil {
		for _, line := range blocks(code) {
			a.screen.Line("  %s", a.screen.In(term.Stark, line))
		}
	}
}

// blocks draws a code with two rows of it in each line of text, light on dark with its quiet edge, as cameras want it.
func blocks(code *qr.Code) []string {
	const edge = 2
	var lines []string
	for y := -edge; y < code.Size+edge; y += 2 {
		var line strings.Builder
		for x := -edge; x < code.Size+edge; x++ {
			above, below := !code.Black(x, y), !code.Black(x, y+1) && y+1 < code.Size+edge
			line.WriteString(
				map[[2]bool]string{{true, true}: "█", {true, false}: "▀", {false, true}: "▄", {false, false}: " "}[[2]bool{above, below}],
			)
		}
		lines = append(lines, line.String())
	}
	return lines
}
