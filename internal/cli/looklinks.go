package cli

import (
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a portCommands) lookLink() *cobra.Command {
	c := &cobra.Command{Use: "look-link", Short: "Links that show a port to people who are not signed in"}
	var long time.Duration
	var visits int
	var wakes bool
	add := &cobra.Command{
		Use: "add NAME PORT", Short: "Make a link that shows a port to whoever holds it",
		Long: "Make a link that shows one port of a workspace of yours to whoever holds it, signed in or not, for a day or as long as --for says. The house rules say whether that may be, and for how long. " +
			"The address is shown this once. Each opening is counted; with --visits there are so many. A visit neither starts the workspace nor keeps it from rest, unless you say --wakes.",
		Example: "  yardbench look-link add tide-board 8000\n  yardbench look-link add tide-board 8000 --for 2h --visits 5", Args: cobra.ExactArgs(2), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			port, err := portOf(args[1])
			if err != nil {
				return err
			}
			l, err := api.Ports.AddLookLink(cmd.Context(), args[0], wire.NewLookLink{Port: port, Seconds: int64(long / time.Second), VisitsMost: visits, Wakes: wakes})
			if err != nil {
				return err
			}
			return a.print(l, func() {
				fmt.Fprintf(a.out, "whoever holds this sees port %d of %s until %s:\n%s\n", l.Port, l.Workspace, when(l.Until), l.Address)
				fmt.Fprintf(a.err, "it is shown this once; to end it: yardbench look-link remove %s %s\n", l.Workspace, l.ID)
			})
		}),
	}
	add.Flags().DurationVar(&long, "for", 0, "for so long, like 90m or 48h (default: a day, or as long as the house rules allow)")
	add.Flags().IntVar(&visits, "visits", 0, "how often it may be opened (default: without bound)")
	add.Flags().BoolVar(&wakes, "wakes", false, "a visit starts the workspace, and keeps it from rest")
	list := &cobra.Command{
		Use: "list NAME", Short: "List the look links to ports of a workspace", Example: "  yardbench look-link list tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			all, err := api.Ports.LookLinks(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none")
					return
				}
				t := a.table(a.out, "LINK", "PORT", "OPENED", "LAST", "WAKES IT", "UNTIL")
				for _, l := range all {
					t.row(l.ID, strconv.Itoa(l.Port), opened(l), lastOpened(l), map[bool]string{true: "yes", false: "no"}[l.Wakes], when(l.Until))
				}
				t.print()
			})
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME LINK", Short: "End a look link: whoever came by it is let in no more", Example: "  yardbench look-link remove tide-board 01JD2B7W0F3K5M8Q9R1S2T4V6X", Args: cobra.ExactArgs(2), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			return api.Ports.EndLookLink(cmd.Context(), args[0], args[1])
		}),
	}
	c.AddCommand(add, list, remove)
	return c
}

// opened says how often a link was, of how often it may be.
func opened(l wire.LookLink) string {
	if l.VisitsMost > 0 {
		return fmt.Sprintf("%d of %d", l.Visits, l.VisitsMost)
	}
	return strconv.Itoa(l.Visits)
}

func lastOpened(l wire.LookLink) string {
	if l.VisitedAt == nil {
		return "never"
	}
	return when(*l.VisitedAt)
}

// portOf reads a port's number.
func portOf(arg string) (int, error) {
	n, err := strconv.ParseUint(arg, 10, 16)
	if err != nil || n == 0 {
		return 0, usage{fmt.Errorf("%q is no port; write one like 8000", arg)}
	}
	return int(n), nil
}
