package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"yardbench/client"
)

func (a peopleCommands) branch() *cobra.Command {
	c := &cobra.Command{Use: "branch", Short: "The branches of repositories"}
	c.AddCommand(&cobra.Command{
		Use: "list REPOSITORY", Short: "List a repository's branches, those with the newest commits first", Example: "  yardbench branch list tide-board", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			all, err := api.Repositories.Branches(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(all, func() {
				t := a.table(a.out, "BRANCH", "NEWEST COMMIT", "WHAT", "PREPARED")
				for _, b := range all {
					name, prepared := clean(b.Name), ""
					if b.Default {
						name += " (the default)"
					}
					if b.Prepared != nil {
						prepared = fmt.Sprintf("image %d", b.Prepared.Number)
						if !b.Prepared.Head {
							prepared += ", of an older commit"
						}
					}
					t.row(name, when(b.At), clean(b.Subject), prepared)
				}
				t.print()
			})
		}),
	})
	return c
}
