package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a peopleCommands) me() *cobra.Command {
	c := &cobra.Command{Use: "me", Short: "What of your own comes into your workspaces"}
	var in wire.PutOwnFiles
	var none bool
	files := &cobra.Command{
		Use: "files [ADDRESS]", Short: "Have a repository with your own files brought into each of your workspaces",
		Long: "Have a repository with your own files, settings of shells and tools, brought into each of your workspaces from its next start on: it is cloned to ~/.own-files, as you, after the definition's set-up, while the workspace is ready already. " +
			"What puts them in place is --run, else the first of install.sh, install, setup.sh, setup, bootstrap.sh and bootstrap in it, else links in your home folder. Where that fails the workspace is there all the same; the launch sheet has it. Without an address it says what is set.",
		Example: "  yardbench me files https://git.skerryline.example/ingrid-files.git\n  yardbench me files https://git.skerryline.example/ingrid-files.git --branch boards --run 'make links' --each-start\n  yardbench me files --none", Args: cobra.MaximumNArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if none && len(args) > 0 {
				return usage{errors.New("give an address, or --none")}
			}
			var p wire.Profile
			var err error
			switch {
			case none:
				p, err = api.Self.PutProfile(cmd.Context(), wire.PutProfile{})
			case len(args) == 1:
				in.Repository = args[0]
				p, err = api.Self.PutProfile(cmd.Context(), wire.PutProfile{Files: &in})
			default:
				p, err = api.Self.Profile(cmd.Context())
			}
			if err != nil {
				return err
			}
			return a.print(p, func() { fmt.Fprintln(a.out, ownFiles(p)) })
		}),
	}
	files.Flags().StringVar(&in.Branch, "branch", "", "the branch (default: its default branch)")
	files.Flags().StringVar(&in.Run, "run", "", "what puts them in place, by /bin/sh in the clone")
	files.Flags().BoolVar(&in.EachStart, "each-start", false, "bring them up to date at each start; else once for each container")
	files.Flags().BoolVar(&none, "none", false, "bring none")
	c.AddCommand(files)
	return c
}

// ownFiles says in a line what of somebody's own comes into their workspaces.
func ownFiles(p wire.Profile) string {
	if p.Files == nil {
		return "none; bring some with: yardbench me files ADDRESS"
	}
	s := clean(p.Files.Repository)
	if p.Files.Branch != "" {
		s += " at " + clean(p.Files.Branch)
	}
	if p.Files.Run != "" {
		s += ", by " + clean(p.Files.Run)
	}
	if p.Files.EachStart {
		return s + ", at each start"
	}
	return s + ", once for each container"
}
