// Command evensprout grows reproducible rows for mapped entities and loads them
// into a database.
package main

import (
	"os"

	"evensprout/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
