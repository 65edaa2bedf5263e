// Isonomos: least-privilege security groups as code.
package main

import (
	"os"

	"isonomos/cli"
)

// version is set when a release is built: -ldflags "-X main.version=1.2.3".
var version = "dev"

func main() { os.Exit(cli.Main(version)) }
