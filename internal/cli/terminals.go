package cli

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a workspaceCommands) terminal() *cobra.Command {
	c := &cobra.Command{Use: "terminal", Short: "The terminals of a workspace"}
	first := &cobra.Command{
		Use: "begin NAME [LINE]", Short: "Say what each new terminal of a workspace runs first",
		Long:    "Say what line each new terminal of a workspace runs first, in its shell, as if it was typed: to be in a project's own environment, say. Without a line it tells which it is; an empty one is none.",
		Example: "  yardbench terminal begin tide-board '. .venv/bin/activate'\n  yardbench terminal begin tide-board ''", Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) (err error) {
			var is wire.FirstLine
			if len(args) == 2 {
				is, err = api.Workspaces.SetFirstLine(cmd.Context(), args[0], wire.NewFirstLine{Line: args[1]})
			} else {
				is, err = api.Workspaces.FirstLine(cmd.Context(), args[0])
			}
			if err != nil {
				return err
			}
			return a.print(is, func() {
				fmt.Fprintln(a.out, cmp.Or(clean(is.Line), "new terminals run nothing first"))
			})
		}),
	}
	c.AddCommand(first)
	c.AddCommand(&cobra.Command{
		Use: "list NAME", Short: "List the terminals that are open in a workspace, with who is at them", Example: "  yardbench terminal list tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			all, err := api.Workspaces.Terminals(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintf(a.out, "none is open; open one with: yardbench enter %s\n", args[0])
					return
				}
				t := a.table(a.out, "TERMINAL", "PROGRAM", "SINCE", "WHO IS AT IT", "RECORDED")
				for _, x := range all {
					t.row(x.Label, x.Program, when(x.Since), cmp.Or(who(x.Lookers), "nobody"), map[bool]string{true: "yes", false: "no"}[x.Recorded])
				}
				t.print()
			})
		}),
	})
	return c
}

// who names those at a terminal.
func who(all []wire.Looker) string {
	var names []string
	for _, l := range all {
		name := clean(l.Person)
		if !l.Writes {
			name += " (looks)"
		}
		names = append(names, name)
	}
	return strings.Join(names, ", ")
}

func (a workspaceCommands) look() *cobra.Command {
	c := &cobra.Command{Use: "look", Short: "Who may look at a terminal with you"}
	var label string
	var writes bool
	var long time.Duration
	add := &cobra.Command{
		Use: "add NAME PERSON", Short: "Let a colleague look at a terminal for a time",
		Long: "Let a colleague look at a terminal of a workspace of yours, for an hour or as long as --for says. They see what it shows, from the scrollback on, and nothing else of the workspace. " +
			"With --write they may type, too: what they do there is done as you, with your secrets. Everybody at a terminal sees who else is. They come with: yardbench enter NAME.YOU --terminal TERMINAL",
		Example: "  yardbench look add tide-board runa\n  yardbench look add tide-board runa --terminal second --write --for 20m", Args: cobra.ExactArgs(2), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if long < 0 || long > 24*time.Hour {
				return usage{fmt.Errorf("%s is not possible; up to 24h is", long)}
			}
			l, err := api.Workspaces.AllowLook(cmd.Context(), args[0], label, args[1], wire.AllowLook{Writes: writes, Seconds: int64(long / time.Second)})
			if err != nil {
				return err
			}
			return a.print(l, func() {
				may := "look at it"
				if l.Writes {
					may = "look at it, and type"
				}
				fmt.Fprintf(a.out, "%s may %s until %s, with: yardbench enter %s.%s --terminal %s\n", l.Person, may, when(l.Until), l.Workspace, l.Owner, l.Terminal)
			})
		}),
	}
	add.Flags().BoolVar(&writes, "write", false, "they may type, too: as you")
	add.Flags().DurationVar(&long, "for", time.Hour, "for how long, up to 24h")
	list := &cobra.Command{
		Use: "list [NAME]", Short: "List who may look at terminals of a workspace; without a name, what others let you look at", Example: "  yardbench look list\n  yardbench look list tide-board", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			var all []wire.Look
			var err error
			if len(args) == 1 {
				all, err = api.Workspaces.Looks(cmd.Context(), args[0])
			} else {
				all, err = api.Self.Looks(cmd.Context())
			}
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none")
					return
				}
				t := a.table(a.out, "WORKSPACE", "TERMINAL", "WHO", "MAY", "UNTIL")
				for _, l := range all {
					may := "look"
					if l.Writes {
						may = "look and type"
					}
					t.row(l.Workspace+"."+l.Owner, l.Terminal, l.Person, may, when(l.Until))
				}
				t.print()
			})
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME PERSON", Short: "Let a colleague look no more; what they look at ends", Example: "  yardbench look remove tide-board runa", Args: cobra.ExactArgs(2), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			return api.Workspaces.EndLook(cmd.Context(), args[0], label, args[1])
		}),
	}
	for _, c := range []*cobra.Command{add, remove} {
		c.Flags().StringVar(&label, "terminal", "main", "which terminal, by its label")
	}
	c.AddCommand(add, list, remove)
	return c
}
