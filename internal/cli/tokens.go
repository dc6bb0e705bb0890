package cli

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/policy"
	"yardbench/wire"
)

// scopes are the words of --scope.
func scopes() (out []string) {
	for _, s := range policy.Scopes {
		out = append(out, string(s))
	}
	return out
}

func (a peopleCommands) token() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Sign-ins, and tokens for programs"}
	var in wire.NewToken
	var of string
	whose := func(c *cobra.Command) {
		c.Flags().StringVar(&of, "of", "", "of an account of programs, not yours (leads, operators)")
	}
	add := &cobra.Command{
		Use: "add NAME", Short: "Make a token; it is shown this once", Args: cobra.ExactArgs(1),
		Long: "Make a token for a program. It may do what its person may, until it expires or is removed; with scopes and repositories less. " +
			"Give it to the program as YARDBENCH_TOKEN, with YARDBENCH_ADDRESS.",
		Example: "  yardbench token add 'nightly report' --days 90 --scope read\n  yardbench token add reviews --of nightwatch --scope launch --scope work --repository tide-board",
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			in.Name = args[0]
			var t wire.MadeToken
			var err error
			if of != "" {
				t, err = api.People.MakeProgramToken(cmd.Context(), of, in)
			} else {
				t, err = api.Self.MakeToken(cmd.Context(), in)
			}
			if err != nil {
				return err
			}
			return a.print(t, func() { fmt.Fprintf(a.out, "%s\n", t.Value) })
		}),
	}
	add.Flags().IntVar(&in.Days, "days", 0, "how long it can be used (default 30)")
	add.Flags().StringSliceVar(&in.Scopes, "scope", nil, "what it reaches: read, work, launch or administer; given again, both (default: all that its person may)")
	add.Flags().StringSliceVar(&in.Repositories, "repository", nil, "only for this repository; given again, for both")
	whose(add)
	_ = add.RegisterFlagCompletionFunc("scope", cobra.FixedCompletions(scopes(), cobra.ShellCompDirectiveNoFileComp)) // the flag is there
	list := &cobra.Command{
		Use: "list", Short: "List your sign-ins and tokens", Example: "  yardbench token list\n  yardbench token list --of nightwatch", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) (err error) {
			var ts []wire.Token
			if of != "" {
				ts, err = api.People.ProgramTokens(cmd.Context(), of)
			} else {
				ts, err = api.Self.Tokens(cmd.Context())
			}
			if err != nil {
				return err
			}
			return a.print(ts, func() {
				if len(ts) == 0 {
					fmt.Fprintf(a.out, "there are none; make one with: yardbench token add NAME --of %s\n", of)
					return
				}
				t := a.table(a.out, "ID", "WHAT", "FROM", "REACHES", "SINCE", "UNTIL", "LAST USED")
				for _, k := range ts {
					what := map[string]string{"console": "console sign-in", "cli": "command-line sign-in", "token": "token " + k.Name, "ssh": "public key " + k.Name}[k.Door]
					if k.Current {
						what += " (this one)"
					}
					until := when(k.ExpiresAt)
					if k.Door == "token" && time.Until(k.ExpiresAt) < 7*24*time.Hour {
						until += ", soon"
					}
					used := "never"
					if k.LastUsedAt != nil {
						used = when(*k.LastUsedAt)
					}
					t.row(k.ID, what, madeFrom(k), reaches(k.Scopes, k.Repositories), when(k.CreatedAt), until, used)
				}
				t.print()
			})
		}),
	}
	whose(list)
	remove := &cobra.Command{
		Use: "remove ID", Short: "End a sign-in or token", Example: "  yardbench token remove 4kq2…", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("end it", "End it? What is signed in with it is signed out."); err != nil {
				return err
			}
			if of != "" {
				return api.People.EndProgramToken(cmd.Context(), of, args[0])
			}
			return api.Self.EndToken(cmd.Context(), args[0])
		}),
	}
	whose(remove)
	c.AddCommand(add, list, remove)
	return c
}

// reaches says what a token reaches.
func reaches(scopes, repositories []string) string {
	s := cmp.Or(strings.Join(scopes, ", "), "everything")
	if len(repositories) > 0 {
		s += " of " + strings.Join(repositories, ", ")
	}
	return s
}

// program are the accounts of programs.
func (a peopleCommands) program() *cobra.Command {
	c := &cobra.Command{Use: "program", Short: "Accounts of programs, which belong to a team (leads, operators)"}
	c.AddCommand(a.addProgram())
	return c
}

func (a peopleCommands) addProgram() *cobra.Command {
	var in wire.NewProgram
	c := &cobra.Command{
		Use: "add NAME", Short: "Make an account for programs, which belongs to a team (leads, operators)",
		Long:    "Make an account for programs. It belongs to a team and to no person: nobody signs in with it, and what it does goes on when the person who made it is gone. Programs use it by tokens.",
		Example: "  yardbench program add nightwatch --team Harbour --purpose 'reviews of pull requests'\n  yardbench token add reviews --of nightwatch --scope launch --scope work", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			in.Name = args[0]
			p, err := api.People.AddProgram(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.print(p, func() {
				if a.quiet {
					fmt.Fprintln(a.out, p.Name)
					return
				}
				fmt.Fprintf(a.out, "%s of %s is made; make it a token with: yardbench token add NAME --of %s\n", p.Name, p.Team, p.Name)
			})
		}),
	}
	c.Flags().StringVar(&in.Team, "team", "", "whose it is")
	c.Flags().StringVar(&in.Purpose, "purpose", "", "what it is for")
	c.Flags().StringVar(&in.Email, "email", "", "the address on its commits (default: one that leads nowhere)")
	c.Flags().StringVar(&in.Role, "role", "", "developer, auditor or operator (default: developer)")
	_ = c.MarkFlagRequired("team") // the flags are there
	_ = c.MarkFlagRequired("purpose")
	return c
}

// madeFrom says from where a sign-in came: its address and provider, and with what.
func madeFrom(k wire.Token) string {
	from := k.Place
	if k.Client != "" {
		from += ", " + shortened(k.Client, 24)
	}
	if k.Provider != "" {
		from += ", by " + k.Provider
	}
	return strings.TrimPrefix(from, ", ")
}
