// Havvel takes the web export of a game to the portals that show it.
package main

import (
	"os"

	"havvel/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
