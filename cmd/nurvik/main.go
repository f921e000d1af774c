// Nurvik audits TLS certificates from the command line.
package main

import (
	"os"

	"nurvik/internal/cli"
)

func main() { os.Exit(cli.Main()) }
