// Command yardbench is the service and its command line.
package main

import (
	"os"

	"yardbench/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
