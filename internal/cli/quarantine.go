package cli

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a adoptCommands) quarantine() *cobra.Command {
	c := &cobra.Command{Use: "quarantine", Short: "What the yard has of workspaces that no record knows (operators)",
		Long: "What the yard has of workspaces that no record knows: those that were launched after the backup that the records were restored from, say. Nothing of it becomes anybody's, or goes, " +
			"but by an operator's word: it is given to somebody, stays where it is, or is removed with its files."}
	c.AddCommand(a.listQuarantine(), a.giveStray(), a.keepStray(), a.removeStray())
	return c
}

func (a adoptCommands) listQuarantine() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List what there is, and whose it was", Example: "  yardbench quarantine list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Quarantine.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() { a.strays(all) })
		}),
	}
}

func (a adoptCommands) strays(all []wire.Stray) {
	if len(all) == 0 {
		fmt.Fprintln(a.out, "the records know everything that the yard has")
		return
	}
	t := a.table(a.out, "ID", "WHOSE", "NAME", "REPOSITORY", "BRANCH", "MADE", "WHAT THERE IS", "LOOKED AT")
	for _, s := range all {
		made, looked := "", ""
		if s.MadeAt != nil {
			made = when(*s.MadeAt)
		}
		if s.Kept != nil {
			looked = clean(s.Kept.Reason) + " (" + s.Kept.By + ", " + when(s.Kept.At) + ")"
		}
		t.row(s.ID, clean(cmp.Or(s.Owner, "unknown")), clean(cmp.Or(s.Name, "unknown")), clean(cmp.Or(s.Repository, "unknown")), clean(s.Branch), made, strayHas(s), looked)
	}
	t.print()
	fmt.Fprintln(a.out, "give one to somebody: yardbench quarantine give ID; have it stay: quarantine keep ID --why REASON; take it away: quarantine remove ID")
}

// strayHas says what is there of one.
func strayHas(s wire.Stray) string {
	var has []string
	for _, h := range []struct {
		is   bool
		what string
	}{{s.Files, "files"}, {s.OtherFiles, "named volumes"}, {s.Runs, "it runs"}} {
		if h.is {
			has = append(has, h.what)
		}
	}
	return cmp.Or(strings.Join(has, ", "), "no files")
}

func (a adoptCommands) giveStray() *cobra.Command {
	var in wire.GiveStray
	c := &cobra.Command{
		Use: "give ID", Short: "Make it somebody's workspace, stopped, with its files",
		Long: "Make it somebody's workspace, stopped, with the files of its folder. What runs of it ends; its container is made anew by the definition as it is started, so what was written elsewhere in it is gone. " +
			"What is not said is taken from what its files were told when they were made.",
		Example: "  yardbench quarantine give ctalj4xa5ieggzl3\n  yardbench quarantine give ctalj4xa5ieggzl3 --to peder --name tide-board-hauk", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			w, err := api.Quarantine.Give(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.print(w, func() {
				fmt.Fprintf(a.out, "it is %s now, of %s at %s, size %s; started, it has its files: yardbench start %s\n", w.Name+"."+w.Owner, w.Repository, w.Branch, w.Size, w.Name)
			})
		}),
	}
	c.Flags().StringVar(&in.To, "to", "", "whose it becomes (default: whose it was)")
	c.Flags().StringVar(&in.Name, "name", "", "the workspace's name (default: what it was called)")
	c.Flags().StringVar(&in.Repository, "repository", "", "the repository it is of (default: the one it was launched from)")
	c.Flags().StringVar(&in.Branch, "branch", "", "the branch whose definition its container is made by (default: the one it was launched from)")
	c.Flags().StringVar(&in.Size, "size", "", "its size (default: the one it had, else the usual one)")
	return c
}

func (a adoptCommands) keepStray() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "keep ID", Short: "Have it stay where it is, running or not", Example: "  yardbench quarantine keep ctalj4xa5ieggzl3 --why 'peder looks through it on Monday'", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			s, err := api.Quarantine.Keep(cmd.Context(), args[0], why)
			if err != nil {
				return err
			}
			return a.print(s, func() { fmt.Fprintln(a.out, "it stays where it is") })
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for whoever comes upon it")
	return c
}

func (a adoptCommands) removeStray() *cobra.Command {
	return &cobra.Command{
		Use: "remove ID", Short: "Take it out of the yard, its files too", Example: "  yardbench quarantine remove ctalj4xa5ieggzl3 --yes", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("remove it", "Remove "+clean(args[0])+" with its files? Nobody has another copy of them."); err != nil {
				return err
			}
			if err := api.Quarantine.Remove(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintln(a.err, "it is gone") })
		}),
	}
}
