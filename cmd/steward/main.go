// Command steward runs inside every workspace and does there what the service
// asks. It is carried in the yardbench binary and has no use by itself.
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"yardbench/internal/steward"
	"yardbench/internal/steward/inside"
)

func main() {
	if filepath.Base(os.Args[0]) == steward.AskName {
		os.Exit(inside.AskSecret(os.Args[1:], os.Stdout, os.Stderr))
	}
	verb := ""
	if len(os.Args) > 1 {
		verb = os.Args[1]
	}
	switch verb {
	case "init":
		os.Exit(inside.Init(os.Args[2:]))
	case "serve":
		os.Exit(inside.Serve())
	case "stay":
		os.Exit(inside.Stay())
	case "bridge":
		os.Exit(inside.Bridge(os.Stdin, os.Stdout))
	case "leave":
		os.Exit(inside.Leave())
	case "environment":
		os.Exit(inside.PrintEnvironment())
	case "sockets":
		os.Exit(inside.Sockets())
	case "clone-without-git":
		os.Exit(inside.CloneWithoutGit(os.Args[2:], os.Stdout))
	case steward.Tree:
		os.Exit(inside.Tree(os.Args[2:]))
	case steward.SFTP:
		os.Exit(inside.SFTP())
	case steward.Connect:
		os.Exit(inside.Connect(os.Args[2:]))
	case steward.LuggageOut:
		os.Exit(inside.LuggageOut(os.Stdin, os.Stdout, os.Stderr))
	case steward.LuggageIn:
		os.Exit(inside.LuggageIn(os.Args[2:], os.Stdin, os.Stdout))
	case steward.Listen:
		os.Exit(inside.Listen(os.Args[2:]))
	case "git-ssh":
		os.Exit(inside.GitSSH(os.Args[2:], os.Stdin, os.Stdout, os.Stderr))
	case "-Y": // as git runs ssh-keygen
		os.Exit(inside.SignAs(os.Args[2:], os.Stdin, os.Stdout, os.Stderr))
	case "report-without-git":
		os.Exit(inside.ReportWithoutGit(os.Args[2:], os.Stdout))
	}
	fmt.Fprintln(os.Stderr, "steward: runs inside a workspace; the service starts it")
	os.Exit(2)
}
