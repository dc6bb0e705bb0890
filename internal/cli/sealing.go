package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a serviceCommands) keys() *cobra.Command {
	c := &cobra.Command{Use: "keys", Short: "The keys that everything secret in the records is sealed with (operators)"}
	list := &cobra.Command{
		Use: "list", Short: "List the keys, and what still needs older ones", Example: "  yardbench keys list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.SealingKeys.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				t := a.table(a.out, "KEY", "MADE", "WHAT IT IS FOR")
				for _, k := range all {
					made := "with the records"
					if k.MadeAt != nil {
						made = when(*k.MadeAt)
					}
					t.row(k.ID, made, keyUse(k))
				}
				t.print()
			})
		}),
	}
	var in wire.NewSealingKey
	rotate := &cobra.Command{
		Use: "rotate", Short: "Make another key while the service runs; older ones are retired once nothing needs them",
		Long: "Make another key, by which everything is sealed from now on. What older ones sealed is sealed anew while the service runs, and nobody notices. Older ones are retired after two days; with --at-once as soon as all is sealed anew, when whoever looks at a port signs in there again. " +
			"A backup opens with the key file of its time alone: keep a copy of that as long as the backup.",
		Example: "  yardbench keys rotate\n  yardbench keys rotate --at-once", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			k, err := api.SealingKeys.Make(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.print(k, func() {
				fmt.Fprintf(a.out, "everything is sealed by %s from now on; see how far older ones are with: yardbench keys list\nkeep a copy of the key file, apart from the records\n", k.ID)
			})
		}),
	}
	rotate.Flags().BoolVar(&in.AtOnce, "at-once", false, "retire older ones as soon as all is sealed anew")
	c.AddCommand(list, rotate)
	return c
}

// keyUse says what a key is for.
func keyUse(k wire.SealingKey) string {
	switch {
	case k.Current:
		return "seals what is sealed now"
	case k.Seals > 0:
		return fmt.Sprintf("opens what could not be sealed anew: %d", k.Seals)
	case k.RetiresAt != nil:
		return "opens what older ones sealed, until " + when(*k.RetiresAt)
	}
	return "opens what older ones sealed"
}
