package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/operation"
	"yardbench/internal/core/rules"
	"yardbench/wire"
)

func (a workspaceCommands) allowPush() *cobra.Command {
	var end bool
	c := &cobra.Command{
		Use: "allow-push NAME", Short: "Let what is in a workspace push for a quarter of an hour",
		Long:    "Let what is in a workspace push to its git host for a quarter of an hour, where the house rules have pushes confirmed. Nothing in the workspace can do this itself.",
		Example: "  yardbench allow-push tide-board\n  yardbench allow-push tide-board --end", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if end {
				if err := api.Workspaces.RefusePush(cmd.Context(), args[0]); err != nil {
					return err
				}
				return a.print(struct{}{}, func() {
					fmt.Fprintf(a.err, "nothing in %s may push, where the house rules have it confirmed\n", args[0])
				})
			}
			w, err := api.Workspaces.AllowPush(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(w, func() {
				for _, c := range w.Conditions {
					if c.Kind == string(lifecycle.PushAllowed) {
						fmt.Fprintf(a.out, "%s: %s\n", w.Name, c.Reason)
					}
				}
			})
		}),
	}
	c.Flags().BoolVar(&end, "end", false, "let nothing in it push any more")
	return c
}

func (a workspaceCommands) hold() *cobra.Command {
	var m many
	var end bool
	c := &cobra.Command{
		Use: "hold NAME... TIME", Short: "Keep workspaces from being put to rest for a time",
		Example: "  yardbench hold tide-board 2h --why 'a long test runs'\n  yardbench hold --where all,team=Fares 4h --why 'the fares are closed tonight'\n  yardbench hold tide-board --end", ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			ctx := cmd.Context()
			in := wire.NewOperation{Verb: string(operation.LetRest)}
			if !end {
				if len(args) == 0 || m.why == "" {
					return usage{errors.New("say of which, how long and why: yardbench hold NAME 2h --why 'a long test runs'")}
				}
				d, err := rules.ParseDuration(args[len(args)-1])
				if err != nil {
					return usage{err}
				}
				args = args[:len(args)-1]
				in = wire.NewOperation{Verb: string(operation.Hold), Seconds: int64(d / time.Second)}
			}
			if len(args) != 1 || len(m.where) > 0 || m.noWait {
				return operationCommands{a.app}.ask(cmd, api, args, m, in, "")
			}
			var w wire.Workspace
			var err error
			if end {
				if err = api.Workspaces.EndHold(ctx, args[0]); err == nil {
					w, err = api.Workspaces.Show(ctx, args[0])
				}
			} else {
				w, err = api.Workspaces.Hold(ctx, args[0], wire.Hold{Seconds: in.Seconds, Why: m.why})
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
	c.Flags().BoolVar(&end, "end", false, "let them be put to rest again")
	m.flags(c)
	return c
}
