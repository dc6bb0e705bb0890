package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
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
			ps, err := api.Ports.List(cmd.Context(), args[0])
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

func (a portCommands) forward() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use: "forward NAME [PORT[:LOCAL]...]", Short: "Bring ports of a workspace to this machine's localhost",
		Long: "Bring ports of a workspace to this machine's localhost, until Ctrl-C. What listens on loopback only in the workspace is reached too. " +
			"It goes on over a rebuild, a stop and a start of the workspace, and a restart of the service: each connection is made anew.",
		Example: "  yardbench forward tide-board 8000\n  yardbench forward tide-board 8000:9000 5432\n  yardbench forward tide-board --all", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			ctx, name := cmd.Context(), args[0]
			ways, err := waysOf(args[1:])
			if err != nil {
				return usage{err}
			}
			if len(ways) == 0 && !all {
				return usage{errors.New("say which ports: yardbench forward NAME 8000, or --all")}
			}
			w, err := api.Workspaces.Show(ctx, name)
			if err != nil {
				return err
			}
			if w.Phase != "ready" {
				return &wire.Problem{Status: 409, Detail: fmt.Sprintf("%s is %s", w.Name, w.Phase), Next: "start it first: yardbench start " + w.Name}
			}
			if all {
				ports, err := api.Ports.List(ctx, name)
				if err != nil {
					return err
				}
				for _, p := range ports {
					if !slices.ContainsFunc(ways, func(f way) bool { return f.remote == p.Number }) {
						ways = append(ways, way{p.Number, p.Number})
					}
				}
				if len(ways) == 0 {
					return &wire.Problem{Status: 409, Detail: w.Name + " declares no port, and nothing listens in it", Next: "name one: yardbench forward " + w.Name + " 8000"}
				}
			}
			return a.forwardAll(ctx, api, w, ways)
		}),
	}
	c.Flags().BoolVar(&all, "all", false, "those that its definition declares and that something listens on, each at the same number here")
	return c
}

// way is a port there and here; here 0 is any.
type way struct{ remote, local int }

// waysOf reads 8000 and 8000:9000.
func waysOf(args []string) (out []way, err error) {
	for _, arg := range args {
		remote, local, other := strings.Cut(arg, ":")
		if !other {
			local = remote
		}
		r, err1 := strconv.ParseUint(remote, 10, 16)
		l, err2 := strconv.ParseUint(local, 10, 16)
		if err1 != nil || err2 != nil || r == 0 {
			return nil, fmt.Errorf("%q is no port; write 8000, or 8000:9000 for another port here", arg)
		}
		out = append(out, way{int(r), int(l)})
	}
	return out, nil
}

// forwardAll brings ports here until ctx ends. It begins with all of them or none.
func (a portCommands) forwardAll(ctx context.Context, api *client.Client, w wire.Workspace, ways []way) error {
	var on []net.Listener
	defer func() {
		for _, l := range on {
			l.Close()
		}
	}()
	for _, f := range ways {
		l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(f.local)))
		if err != nil {
			return fmt.Errorf("cannot listen here: %w\nchoose another port here: yardbench forward %s %d:9000", err, w.Name, f.remote)
		}
		on = append(on, l)
	}
	var wg sync.WaitGroup
	for i, l := range on {
		stop := context.AfterFunc(ctx, func() { l.Close() })
		defer stop()
		fmt.Fprintf(a.err, "%s is port %d of %s, until Ctrl-C\n", l.Addr(), ways[i].remote, w.Name)
		wg.Go(func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					defer conn.Close()
					if err := api.Ports.Tunnel(ctx, w.Name+"."+w.Owner, ways[i].remote, conn); err != nil && ctx.Err() == nil {
						a.say(a.told(err))
					}
				}()
			}
		})
	}
	wg.Wait()
	return ctx.Err()
}
