package cli

import (
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a portCommands) port() *cobra.Command {
	c := &cobra.Command{Use: "port", Short: "The ports of a workspace"}
	list := &cobra.Command{
		Use: "list NAME", Short: "List a workspace's ports with their addresses", Example: "  yardbench port list tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			ps, err := api.Ports.List(cmd.Context(), args[0], false)
			if err != nil {
				return err
			}
			return a.print(ps, func() {
				if len(ps) == 0 {
					fmt.Fprintln(a.out, "its definition forwards no port, and nothing listens in it")
					return
				}
				a.portTable(ps)
			})
		}),
	}
	var team, public bool
	var long time.Duration
	change := func(use, short, long_ string) *cobra.Command {
		return &cobra.Command{
			Use: use + " NAME PORT", Short: short, Long: long_, Example: "  yardbench port " + use + " tide-board 8000", Args: cobra.ExactArgs(2), ValidArgsFunction: a.names,
			RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
				n, err := portOf(args[1])
				if err != nil {
					return err
				}
				in := wire.PortChange{Visitors: "owner", Seconds: int64(long / time.Second)}
				if use == "share" {
					switch {
					case team:
						in.Visitors = "team"
					case public:
						in.Visitors = "public"
					default:
						in.Visitors = "everybody"
					}
				}
				if long < 0 || long > 365*24*time.Hour {
					return usage{fmt.Errorf("%s is not possible; up to a year is", long)}
				}
				p, err := api.Ports.Share(cmd.Context(), args[0], n, in)
				if err != nil {
					return err
				}
				return a.print(p, func() { a.portTable([]wire.Port{p}) })
			}),
		}
	}
	share := change("share", "Let others visit a port", "Let everybody signed in visit a port, or only your team, for good or for a time. Where the house rules allow it, anybody at all for a time, with --public.")
	share.Example += "\n  yardbench port share tide-board 8000 --team --for 8h\n  yardbench port share tide-board 8000 --public --for 2h"
	share.Flags().BoolVar(&team, "team", false, "only your team")
	share.Flags().BoolVar(&public, "public", false, "anybody at all, signed in or not")
	share.MarkFlagsMutuallyExclusive("team", "public")
	share.Flags().DurationVar(&long, "for", 0, "for so long, like 90m or 8h (default: for good; with --public as long as the house rules allow)")
	c.AddCommand(list, share, change("keep-private", "Let only yourself visit a port", ""))
	return c
}

func (a portCommands) portTable(ps []wire.Port) {
	t := a.table(a.out, "PORT", "LABEL", "LISTENS", "WHO MAY VISIT", "ADDRESS")
	for _, p := range ps {
		listens := "nothing"
		if p.Listening {
			listens = p.Process
			if p.Loopback {
				listens += ", on loopback"
			}
		}
		t.row(strconv.Itoa(p.Number), p.Label, listens, visitors(p), p.Address)
	}
	t.print()
}

// visitors says who may visit a port.
func visitors(p wire.Port) string {
	who := map[string]string{"owner": "only you", "team": "your team", "everybody": "everybody signed in", "public": "anybody at all"}[p.Visitors]
	if p.Until != nil {
		who += ", until " + when(*p.Until)
	}
	return who
}
