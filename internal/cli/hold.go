package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/rules"
	"yardbench/wire"
)

func (a workspaceCommands) hold() *cobra.Command {
	var why string
	var end bool
	c := &cobra.Command{
		Use: "hold NAME [TIME]", Short: "Keep a workspace from being put to rest for a time", Example: "  yardbench hold tide-board 2h --why 'a long test runs'\n  yardbench hold tide-board --end", Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			var w wire.Workspace
			var err error
			if end {
				if err = api.EndHold(cmd.Context(), args[0]); err == nil {
					w, err = api.Show(cmd.Context(), args[0])
				}
			} else {
				if len(args) < 2 || why == "" {
					return usage{fmt.Errorf("say how long and why: yardbench hold %s 2h --why 'a long test runs'", args[0])}
				}
				d, derr := rules.ParseDuration(args[1])
				if derr != nil {
					return usage{derr}
				}
				w, err = api.Hold(cmd.Context(), args[0], wire.Hold{Seconds: int64(d / time.Second), Why: why})
			}
			if err != nil {
				return err
			}
			return a.print(w, func() {
				if w.Rest != nil && w.Rest.HeldUntil != nil {
					fmt.Fprintf(a.out, "%s is not put to rest before %s\n", w.Name, when(*w.Rest.HeldUntil))
				} else if w.Rest != nil {
					fmt.Fprintf(a.out, "%s is put to rest %s, without another sign of work\n", w.Name, when(w.Rest.StopsAt))
				}
			})
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for others to read")
	c.Flags().BoolVar(&end, "end", false, "let it be put to rest again")
	return c
}
