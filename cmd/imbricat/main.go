// Command imbricat builds layered OCI images reproducibly and ships them to registries.
package main

import (
	"os"

	"imbricat/internal/cli"
	"imbricat/internal/sandbox"
)

func main() {
	sandbox.Child() // where this is one of its processes, that is all
	os.Exit(cli.Main(os.Args, os.Stdin, os.Stdout, os.Stderr))
}
