package cli

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"yardbench/internal/client"
	"yardbench/internal/wire"
)

func (a *app) signIn() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use:   "sign-in [ADDRESS]",
		Short: "Sign in to a service",
		Long:  "Sign in to a service. The password is read from the terminal without echo, or from standard input.",
		Example: "  yardbench sign-in http://127.0.0.1:7080 --as ingrid\n" +
			"  yardbench sign-in --as ingrid < password-file",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			address := a.address
			if len(args) == 1 {
				address = args[0]
			}
			if address == "" {
				address = os.Getenv("YARDBENCH_ADDRESS")
			}
			if address == "" {
				address = readSignIn().Address
			}
			if address == "" {
				return usage{fmt.Errorf("name the service's address: yardbench sign-in http://127.0.0.1:7080")}
			}
			api, err := client.New(address, "")
			if err != nil {
				return usage{err}
			}
			if name == "" && !isTerminal(a.in) {
				return usage{fmt.Errorf("say who you are with --as NAME")}
			}
			if name == "" {
				fmt.Fprint(a.err, "Name: ")
				line, err := bufio.NewReader(a.in).ReadString('\n')
				if err != nil {
					return err
				}
				name = strings.TrimSpace(line)
			}
			password, err := a.readHidden("Password for " + name + ": ")
			if err != nil {
				return err
			}
			in, err := api.SignIn(cmd.Context(), name, password)
			if err != nil {
				return err
			}
			if err := (signInFile{Address: address, Name: in.Person.Name, Token: in.Token}).save(); err != nil {
				return fmt.Errorf("keep the sign-in: %w", err)
			}
			in.Token = ""
			return a.print(in, func() {
				fmt.Fprintf(a.out, "signed in to %s as %s (%s), until %s\n", address, in.Person.FullName, in.Person.Role, in.ExpiresAt.Local().Format("2 January 15:04"))
			})
		},
	}
	c.Flags().StringVar(&name, "as", "", "the name to sign in with")
	return c
}

func (a *app) signOut() *cobra.Command {
	return &cobra.Command{
		Use: "sign-out", Short: "End this sign-in, here and at the service", Example: "  yardbench sign-out", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			err = api.SignOut(cmd.Context())
			if p, perr := signInPath(); perr == nil {
				if rerr := os.Remove(p); rerr != nil && !os.IsNotExist(rerr) {
					return rerr
				}
			}
			return err
		},
	}
}

func (a *app) secret() *cobra.Command {
	c := &cobra.Command{Use: "secret", Short: "Your secrets: given to your terminals, runs and set-up commands"}
	c.AddCommand(
		&cobra.Command{
			Use: "put NAME", Short: "Set a secret, read from the terminal without echo or from standard input",
			Example: "  yardbench secret put TIDE_API_KEY\n  yardbench secret put TIDE_API_KEY < key-file", Args: cobra.ExactArgs(1),
			RunE: func(cmd *cobra.Command, args []string) error {
				api, err := a.client()
				if err != nil {
					return err
				}
				value, err := a.readHidden("Value of " + args[0] + ": ")
				if err != nil {
					return err
				}
				if err := api.PutSecret(cmd.Context(), args[0], value); err != nil {
					return err
				}
				fmt.Fprintf(a.err, "%s is set; terminals and runs opened from now on have it\n", args[0])
				return nil
			},
		},
		&cobra.Command{
			Use: "list", Short: "List the names of your secrets", Example: "  yardbench secret list", Args: cobra.NoArgs,
			RunE: func(cmd *cobra.Command, _ []string) error {
				api, err := a.client()
				if err != nil {
					return err
				}
				secrets, err := api.Secrets(cmd.Context())
				if err != nil {
					return err
				}
				return a.print(secrets, func() {
					if len(secrets) == 0 {
						fmt.Fprintln(a.out, "you have no secrets; set one with: yardbench secret put NAME")
						return
					}
					t := newTable(a.out, "NAME", "VERSION", "SET")
					for _, s := range secrets {
						t.row(s.Name, fmt.Sprint(s.Version), when(s.UpdatedAt))
					}
					t.print()
				})
			},
		},
		&cobra.Command{
			Use: "remove NAME", Short: "Remove a secret", Example: "  yardbench secret remove TIDE_API_KEY", Args: cobra.ExactArgs(1),
			RunE: func(cmd *cobra.Command, args []string) error {
				api, err := a.client()
				if err != nil {
					return err
				}
				return api.DropSecret(cmd.Context(), args[0])
			},
		})
	return c
}

func (a *app) credential() *cobra.Command {
	c := &cobra.Command{Use: "credential", Short: "What you sign in to git hosts with"}
	var username string
	put := &cobra.Command{
		Use: "put HOST", Short: "Set your credential for a git host; the password or token is read without echo or from standard input",
		Example: "  yardbench credential put git.skerryline.example --username ingrid", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			password, err := a.readHidden("Password or token for " + args[0] + ": ")
			if err != nil {
				return err
			}
			if username == "" {
				username = readSignIn().Name
			}
			return api.PutGitCredential(cmd.Context(), args[0], wire.GitCredential{Username: username, Password: password})
		},
	}
	put.Flags().StringVar(&username, "username", "", "your name at the git host (default: your name here)")
	c.AddCommand(put)
	return c
}

func (a *app) repos() *cobra.Command {
	c := &cobra.Command{
		Use: "repos", Short: "List the registered repositories", Example: "  yardbench repos", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			rs, err := api.Repositories(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(rs, func() {
				if len(rs) == 0 {
					fmt.Fprintln(a.out, "no repository is registered; an operator does so with: yardbench repos add ADDRESS")
					return
				}
				t := newTable(a.out, "REPOSITORY", "DEFAULT BRANCH", "ADDRESS")
				for _, r := range rs {
					t.row(r.Name, r.DefaultBranch, r.URL)
				}
				t.print()
			})
		},
	}
	var in wire.NewRepository
	add := &cobra.Command{
		Use: "add ADDRESS", Short: "Register a repository (operators)", Example: "  yardbench repos add https://git.skerryline.example/tide-board.git", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := a.client()
			if err != nil {
				return err
			}
			in.URL = args[0]
			r, err := api.AddRepository(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.print(r, func() { fmt.Fprintf(a.out, "%s is registered; try: yardbench launch %s\n", r.Name, r.Name) })
		},
	}
	add.Flags().StringVar(&in.Name, "name", "", "what to call it (default: the last part of the address)")
	c.AddCommand(add)
	return c
}
