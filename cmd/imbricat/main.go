// Command imbricat builds layered OCI images reproducibly and ships them to registries.
package main

import (
	"os"

	"imbricat/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args, os.Stdin, os.Stdout, os.Stderr))
}
