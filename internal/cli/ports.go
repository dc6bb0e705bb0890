package cli

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"strings"

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
	change := func(use, short string, shared bool) *cobra.Command {
		return &cobra.Command{
			Use: use + " NAME PORT", Short: short, Example: "  yardbench port " + use + " tide-board 8000", Args: cobra.ExactArgs(2), ValidArgsFunction: a.names,
			RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
				n, err := strconv.ParseUint(args[1], 10, 16)
				if err != nil || n == 0 {
					return usage{fmt.Errorf("%q is no port; write one like 8000", args[1])}
				}
				p, err := api.Ports.Share(cmd.Context(), args[0], int(n), shared)
				if err != nil {
					return err
				}
				return a.print(p, func() { a.portTable([]wire.Port{p}) })
			}),
		}
	}
	c.AddCommand(list, change("share", "Let everybody signed in visit a port", true), change("keep-private", "Let only yourself visit a port", false))
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
		t.row(strconv.Itoa(p.Number), p.Label, listens, map[bool]string{true: "everybody signed in", false: "only you"}[p.Shared], p.Address)
	}
	t.print()
}

func (a portCommands) forward() *cobra.Command {
	return &cobra.Command{
		Use: "forward NAME PORT[:LOCAL]", Short: "Bring a port of a workspace to this machine's localhost",
		Long:    "Bring a port of a workspace to this machine's localhost, until Ctrl-C. What listens on loopback only in the workspace is reached too.",
		Example: "  yardbench forward tide-board 8000\n  yardbench forward tide-board 8000:9000", Args: cobra.ExactArgs(2), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			remote, local, other := strings.Cut(args[1], ":")
			if !other {
				local = remote
			}
			port, err1 := strconv.ParseUint(remote, 10, 16)
			_, err2 := strconv.ParseUint(local, 10, 16)
			if err1 != nil || err2 != nil || port == 0 {
				return usage{fmt.Errorf("%q is no port; write 8000, or 8000:9000 for another port here", args[1])}
			}
			w, err := api.Workspaces.Show(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if w.Phase != "ready" {
				return &wire.Problem{Status: 409, Detail: fmt.Sprintf("%s is %s", w.Name, w.Phase), Next: "start it first: yardbench start " + w.Name}
			}
			l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", local))
			if err != nil {
				return fmt.Errorf("cannot listen here: %w\nchoose another port here: yardbench forward %s %s:9000", err, args[0], remote)
			}
			ctx := cmd.Context()
			stop := context.AfterFunc(ctx, func() { l.Close() })
			defer stop()
			fmt.Fprintf(a.err, "%s is port %d of %s, until Ctrl-C\n", l.Addr(), port, w.Name)
			for {
				conn, err := l.Accept()
				if err != nil {
					return ctx.Err()
				}
				go func() {
					defer conn.Close()
					if err := api.Ports.Tunnel(ctx, args[0], int(port), conn); err != nil && ctx.Err() == nil {
						a.say(a.told(err))
					}
				}()
			}
		}),
	}
}
