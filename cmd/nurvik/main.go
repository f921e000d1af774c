// Nurvik audits TLS certificates from the command line.
package main

import (
	"os"

	"nurvik/internal/cli"
)

func main() {
	cli.LimitMemory()
	os.Exit(cli.Main())
}
