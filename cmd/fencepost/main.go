// Command fencepost is a tool for people who answer for DNS zones: it writes,
// checks, signs, serves and verifies them.
package main

import (
	"os"

	"fencepost/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr)) }
