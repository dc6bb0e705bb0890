package cli

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"yardbench/client"
)

func (a workspaceCommands) bench() *cobra.Command {
	c := &cobra.Command{Use: "bench", Short: "The work area of a workspace in the browser"}
	show := &cobra.Command{
		Use: "show NAME", Short: "Show which languages are served there, what debugs, and how its editor writes",
		Long: "Show what the work area of a workspace does: which program serves which language, by what something can be debugged, and what its definition's customizations say of the editor, those that mean nothing here included. " +
			"The definition counts as it stands in the workspace now.",
		Example: "  yardbench bench show tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			b, err := api.Bench.Show(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(b, func() {
				t := a.table(a.out, "LANGUAGE", "FILES", "SERVED BY", "OF THE DEFINITION")
				yes := map[bool]string{true: "yes"}
				none := 0
				for _, l := range b.Languages {
					if l.Program == "" && !l.Own {
						none++
						continue
					}
					t.row(l.ID, strings.Join(l.Files, " "), cmp.Or(l.Program, "nothing: it is not there"), yes[l.Own])
				}
				t.print()
				if none > 0 {
					fmt.Fprintf(a.out, "%d other languages could be served, and nothing that does is there (--json has what to add for each)\n", none)
				}
				for _, x := range b.Adapters {
					if x.There {
						fmt.Fprintf(a.out, "debugs: %s\n", x.ID)
					}
				}
				for _, d := range b.Debugging {
					from := ""
					if d.Found {
						from = ", found in the tree"
					}
					fmt.Fprintf(a.out, "to debug: %s (%s%s)\n", d.Name, d.Adapter, from)
				}
				if len(b.PassedOver) > 0 {
					fmt.Fprintf(a.out, "settings that mean nothing here: %s\n", strings.Join(b.PassedOver, ", "))
				}
				for _, p := range b.Problems {
					fmt.Fprintf(a.err, "not understood: %s\n", p)
				}
			})
		}),
	}
	c.AddCommand(show)
	return c
}
