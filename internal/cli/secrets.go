package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a peopleCommands) secret() *cobra.Command {
	c := &cobra.Command{Use: "secret", Short: "Secrets: given to terminals, runs and set-up commands, never shown again",
		Long: "Secrets are given to terminals, runs and set-up commands, as variables or as files on tmpfs, and never shown again. " +
			"Your own go to the repositories you name, or everywhere; a repository's go to everybody who works in it. Your own count before the repository's."}
	var of string
	var in wire.SecretValue
	var asFile, asVariable bool
	put := &cobra.Command{
		Use: "put NAME", Short: "Set a secret, read from the terminal without echo or from standard input",
		Example: "  yardbench secret put TIDE_API_KEY --for tide-board\n  yardbench secret put SIGNING_KEY --everywhere --as-file < key.pem\n  yardbench secret put BERTH_TOKEN --of-repository berth-planner", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) (err error) {
			if asFile {
				in.Form = "file"
			} else if asVariable {
				in.Form = "variable"
			}
			if in.Value, err = a.readHidden("Value of " + args[0] + ": "); err != nil {
				return err
			}
			s, err := api.Secrets.Put(cmd.Context(), of, args[0], in)
			if err != nil {
				return err
			}
			return a.print(s, func() {
				fmt.Fprintf(a.err, "%s, version %d, is set for %s; terminals and runs opened from now on have it, as %s\n", s.Name, s.Version, givenTo(s), formOf(s.Name, s.Form))
			})
		}),
	}
	put.Flags().StringSliceVar(&in.Repositories, "for", nil, "the repositories whose workspaces of yours get it")
	put.Flags().BoolVar(&in.Everywhere, "everywhere", false, "all your workspaces get it")
	put.Flags().StringVar(&of, "of-repository", "", "set the repository's own, for everybody who works in it (leads, operators)")
	put.Flags().BoolVar(&asFile, "as-file", false, "hand it over as a file, with its path in NAME_FILE")
	put.Flags().BoolVar(&asVariable, "as-variable", false, "hand it over as a variable (the default for a new one)")
	put.MarkFlagsMutuallyExclusive("as-file", "as-variable")
	put.MarkFlagsMutuallyExclusive("for", "everywhere", "of-repository")
	list := &cobra.Command{
		Use: "list", Short: "List your secrets, or a repository's", Example: "  yardbench secret list\n  yardbench secret list --of-repository berth-planner", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			secrets, err := api.Secrets.List(cmd.Context(), of)
			if err != nil {
				return err
			}
			return a.print(secrets, func() {
				if len(secrets) == 0 {
					fmt.Fprintln(a.out, "there are none; set one with: yardbench secret put NAME --for REPOSITORY")
					return
				}
				t := a.table(a.out, "NAME", "FORM", "GIVEN TO", "VERSION", "SET")
				for _, s := range secrets {
					t.row(s.Name, s.Form, givenTo(s), fmt.Sprint(s.Version), when(s.UpdatedAt))
				}
				t.print()
			})
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove a secret", Example: "  yardbench secret remove TIDE_API_KEY", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("remove "+args[0], "Remove secret "+clean(args[0])+"?"); err != nil {
				return err
			}
			return api.Secrets.Drop(cmd.Context(), of, args[0])
		}),
	}
	for _, s := range []*cobra.Command{list, remove} {
		s.Flags().StringVar(&of, "of-repository", "", "the repository's own, instead of yours")
	}
	explain := &cobra.Command{
		Use: "explain REPOSITORY", Short: "Say which secrets your workspaces of a repository get, and why", Example: "  yardbench secret explain tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			cs, err := api.Secrets.Explain(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(cs, func() {
				if len(cs) == 0 {
					fmt.Fprintf(a.out, "workspaces of %s get no secrets, and its definition asks for none\n", args[0])
					return
				}
				t := a.table(a.out, "NAME", "GIVEN", "LEVEL", "ASKED FOR", "WHY")
				for _, s := range cs {
					given := "no"
					if s.Given {
						given = "yes, as " + formOf(s.Name, s.Form)
					}
					t.row(s.Name, given, s.Level, map[bool]string{true: "yes", false: "no"}[s.Wanted], s.Why)
				}
				t.print()
				for _, s := range cs {
					if s.Wanted && s.Level == "none" {
						fmt.Fprintf(a.out, "give yours with: yardbench secret put %s --for %s\n", s.Name, args[0])
					}
				}
			})
		}),
	}
	c.AddCommand(put, list, remove, explain)
	return c
}

func givenTo(s wire.Secret) string {
	switch {
	case s.Level == "repository":
		return "everybody in " + s.Repository
	case s.Everywhere:
		return "all your workspaces"
	}
	return strings.Join(s.Repositories, ", ")
}

func formOf(name, form string) string {
	if form == "file" {
		return "a file ($" + name + "_FILE)"
	}
	return "$" + name
}
