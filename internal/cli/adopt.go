package cli

import (
	"cmp"
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/rules"
	"yardbench/wire"
)

func (a adoptCommands) adopt() *cobra.Command {
	var in wire.Adopt
	c := &cobra.Command{
		Use: "adopt CONTAINER", Short: "Take a container that others started on as a workspace (operators)",
		Long: "Take a container that runs in the yard, and that others started, on as somebody's workspace: with terminals, ports, limits and cost. " +
			"Nothing in it changes but that a steward comes in. It gets nobody's secrets, and is not put to rest, rebuilt or removed; let-go gives it up again.",
		Example: "  yardbench container list\n  yardbench adopt quay-clock --for peder --repository deck-log --size small", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if in.Owner == "" || in.Repository == "" {
				return usage{fmt.Errorf("say whose it becomes and what it is counted under: yardbench adopt %s --for PERSON --repository REPOSITORY", args[0])}
			}
			w, err := api.Containers.Adopt(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			if !a.json {
				fmt.Fprintf(a.out, "%s is taken on as %s, counted as size %s at %s an hour\n", args[0], name(w), w.Size, money(w.HourMicros, w.Currency))
			}
			return a.follow(cmd.Context(), api, w)
		}),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
			if api, err := a.client(); err == nil && len(args) == 0 {
				ctx, cancel := context.WithTimeout(cmd.Context(), completionTime)
				defer cancel()
				all, _ := api.Containers.List(ctx) // completion that fails completes nothing
				for _, c := range all {
					out = append(out, c.Name)
				}
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
	}
	c.Flags().StringVar(&in.Owner, "for", "", "whose workspace it becomes")
	c.Flags().StringVar(&in.Repository, "repository", "", "what it is counted under")
	c.Flags().StringVar(&in.Name, "name", "", "the workspace's name (default: the container's)")
	c.Flags().StringVar(&in.Size, "size", "", "what it counts for (default: the smallest size that its own bounds fit in)")
	c.Flags().StringVar(&in.User, "user", "", "who its terminals are (default: the container's own user)")
	c.Flags().StringVar(&in.Folder, "folder", "", "where they begin (default: the container's own folder)")
	return c
}

// container lists what could be taken on.
func (a adoptCommands) container() *cobra.Command {
	c := &cobra.Command{Use: "container", Short: "Containers in the yard that others started and that belong to nobody (operators)"}
	c.AddCommand(&cobra.Command{
		Use: "list", Short: "List those that could be taken on", Example: "  yardbench container list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Containers.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() { a.containers(all) })
		}),
	})
	return c
}

func (a adoptCommands) containers(all []wire.Container) {
	if len(all) == 0 {
		fmt.Fprintln(a.out, "no container runs in the yard but those of workspaces")
		return
	}
	t := a.table(a.out, "CONTAINER", "IMAGE", "STARTED", "CORES", "MEMORY", "SIZE")
	for _, c := range all {
		bounds := []string{"no bound", "no bound"}
		if c.CoresMilli > 0 {
			bounds[0] = rules.Thousandths(c.CoresMilli)
		}
		if c.MemoryBytes > 0 {
			bounds[1] = rules.Bytes(c.MemoryBytes)
		}
		t.row(clean(c.Name), clean(c.Image), when(c.StartedAt), bounds[0], bounds[1], cmp.Or(c.Size, "to be given"))
	}
	t.print()
	fmt.Fprintln(a.out, "take one on with: yardbench adopt CONTAINER --for PERSON --repository REPOSITORY")
}

func (a adoptCommands) letGo() *cobra.Command {
	return &cobra.Command{
		Use: "let-go NAME", Short: "Let an adopted container go; it goes on as it is (operators)",
		Long:    "Let an adopted container go. Its steward ends, with the terminals and commands that were opened through it, and its files are taken out; the container itself goes on.",
		Example: "  yardbench let-go quay-clock.peder", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("let it go", "Let "+clean(args[0])+" go? The terminals in it end."); err != nil {
				return err
			}
			w, err := api.Containers.LetGo(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.follow(cmd.Context(), api, w)
		}),
	}
}
