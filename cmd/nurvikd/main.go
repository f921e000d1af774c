// Nurvikd is the service of Nurvik.
package main

import (
	"os"

	"nurvik/internal/daemon"
)

func main() { os.Exit(daemon.Main()) }
