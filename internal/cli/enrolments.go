package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a peopleCommands) enrolment() *cobra.Command {
	c := &cobra.Command{Use: "enrolment", Short: "Links by which people set up their accounts, or new passwords (operators)"}
	var in wire.NewEnrolment
	var file, mails string
	add := &cobra.Command{
		Use: "add", Short: "Make a link by which somebody sets up their account, or a new password (operators)",
		Long:    "Make a link by which somebody sets up their account, or a new password. With --name the account has that name and no other. --file makes one for each in a file of people, as CSV: its first line has the columns' names, of name, full_name, email, role and team; what is printed is the same with each link, and --mails writes a message for each, which any mail program sends.",
		Example: "  yardbench enrolment add --role developer --team Harbour\n  yardbench enrolment add --name ingrid --full-name 'Ingrid Solheim' --email ingrid@skerryline.example --team Timetable\n  yardbench enrolment add --file people.csv --mails letters > links.csv\n  yardbench enrolment add --for ingrid", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			if file != "" {
				if in.Name+in.FullName+in.Email+in.Person != "" {
					return usage{errors.New("--file says for whom the links are; give --role, --team and --hours at most beside it")}
				}
				return a.enrolFile(cmd, api, file, mails, in)
			}
			if mails != "" {
				return usage{errors.New("--mails wants --file")}
			}
			e, err := api.People.Enrol(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.print(e, func() {
				what := "a new account: " + e.Role
				if e.Team != "" {
					what += ", " + e.Team
				}
				if e.Name != "" {
					what = e.Name + ", " + what
				}
				if e.Person != "" {
					what = "a new password for " + e.Person
				}
				fmt.Fprintf(a.out, "%s\nfor %s; it can be used once, until %s\n", e.Link, what, when(e.ExpiresAt))
			})
		}),
	}
	add.Flags().StringVar(&in.Role, "role", "", "operator, lead, developer or auditor (default: developer)")
	add.Flags().StringVar(&in.Team, "team", "", "their team")
	add.Flags().StringVar(&in.Name, "name", "", "the name to sign in with that the account is to have")
	add.Flags().StringVar(&in.FullName, "full-name", "", "with --name: the name that stands on their commits")
	add.Flags().StringVar(&in.Email, "email", "", "with --name: the address that stands on their commits")
	add.Flags().StringVar(&file, "file", "", "a file of people, as CSV; - is standard input; --role and --team hold for whom it says none of")
	add.Flags().StringVar(&mails, "mails", "", "with --file: a folder for a message to each, NAME.eml")
	add.Flags().StringVar(&in.Person, "for", "", "somebody who has an account: the link sets a new password")
	add.Flags().IntVar(&in.Hours, "hours", 0, "how long it can be used (default 72)")
	list := &cobra.Command{
		Use: "list", Short: "List the enrolment links that can still be used (operators)", Example: "  yardbench enrolment list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.People.Enrolments(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "no link can be used; make one with: yardbench enrolment add")
					return
				}
				t := a.table(a.out, "LINK", "FOR", "MADE BY", "UNTIL")
				for _, e := range all {
					what := strings.TrimSuffix("a new "+e.Role+", "+e.Team, ", ")
					if e.Name != "" {
						what = e.Name + ", " + what
					}
					if e.Person != "" {
						what = "a new password for " + e.Person
					}
					t.row(e.ID, what, e.MadeBy, when(e.ExpiresAt))
				}
				t.print()
			})
		}),
	}
	remove := &cobra.Command{
		Use: "remove LINK", Short: "Take back an enrolment link that nobody has used (operators)", Example: "  yardbench enrolment list\n  yardbench enrolment remove wmx4vs34hsxmuwwm", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("take it back", "Take the link back?"); err != nil {
				return err
			}
			if err := api.People.EndEnrolment(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintln(a.out, "the link cannot be used any more") })
		}),
	}
	c.AddCommand(add, list, remove)
	return c
}

func (a peopleCommands) team() *cobra.Command {
	c := &cobra.Command{Use: "team", Short: "The teams"}
	list := &cobra.Command{
		Use: "list", Short: "List the teams", Example: "  yardbench team list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			ts, err := api.People.Teams(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(ts, func() {
				for _, t := range ts {
					fmt.Fprintln(a.out, clean(t.Name))
				}
			})
		}),
	}
	add := &cobra.Command{
		Use: "add NAME", Short: "Add a team (operators)", Example: "  yardbench team add Harbour", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			t, err := api.People.AddTeam(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(t, func() { fmt.Fprintln(a.out, "team "+t.Name+" is added") })
		}),
	}
	rename := &cobra.Command{
		Use: "rename NAME NEW", Short: "Give a team another name (operators)", Example: "  yardbench team rename Harbour Quays", Args: cobra.ExactArgs(2),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			t, err := api.People.RenameTeam(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.print(t, func() { fmt.Fprintln(a.out, "the team is "+clean(t.Name)+" now") })
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove a team that has nothing and nobody any more (operators)", Example: "  yardbench team remove Harbour", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("remove it", "Remove the team "+args[0]+"? What was spent under it keeps its name."); err != nil {
				return err
			}
			if err := api.People.RemoveTeam(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintln(a.out, "the team "+clean(args[0])+" is removed") })
		}),
	}
	c.AddCommand(list, add, rename, remove)
	return c
}
