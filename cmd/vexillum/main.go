// Command vexillum is the service, the node process and the command line of
// a render farm.
package main

import (
	"os"

	"vexillum/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
