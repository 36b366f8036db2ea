// Command imbricat builds layered OCI images reproducibly and ships them to registries.
package main

import (
	"os"

	"imbricat/internal/cli"
	"imbricat/internal/engine/sandbox"
)

func main() {
	if status, child := sandbox.Child(os.Args); child {
		os.Exit(status)
	}
	os.Exit(cli.Main(os.Args, os.Stdin, os.Stdout, os.Stderr))
}
