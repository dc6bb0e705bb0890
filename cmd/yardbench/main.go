// Command yardbench is the service and its command line.
package main

import (
	"io"
	"os"

	"github.com/sirupsen/logrus"

	"yardbench/internal/cli"
)

func main() {
	logrus.SetOutput(io.Discard) // the compose loader's only way to warn; its findings are ours
	os.Exit(cli.Main(os.Args[1:]))
}
