// Nexlin moves folders to another drive and leaves a link behind.
package main

import (
	"os"

	"nexlin/internal/cli"
)

func main() { os.Exit(cli.Main(cli.Words(os.Args), os.Stdin, os.Stdout, os.Stderr)) }
