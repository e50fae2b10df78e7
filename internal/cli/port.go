package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"
)

// withPort adds a port of this machine; more is how many ports after it are taken, too.
func (a *console) withPort(c *cobra.Command, port *int, usual, more int, what string) {
	*port = usual
	c.Flags().Var(&portNumber{port, more}, "port", what)
}

// portNumber is a flag that holds a port.
type portNumber struct {
	port *int
	more int
}

func (p *portNumber) Type() string   { return "port" }
func (p *portNumber) String() string { return strconv.Itoa(*p.port) }
func (p *portNumber) Set(text string) error {
	n, err := strconv.Atoi(text)
	if most := 65535 - p.more; err != nil || n < 0 || n > most {
		return fmt.Errorf("ports go from 0 to %d", most)
	}
	*p.port = n
	return nil
}
