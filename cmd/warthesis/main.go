// Command warthesis is a private OCI registry and its client.
package main

import (
	"os"

	"warthesis/internal/cli"
)

// version is set by the build.
var version = "development"

func main() { os.Exit(cli.Main(os.Args[1:], version)) }
