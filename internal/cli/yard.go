package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/internal/serve"
	"yardbench/internal/yard/engine"
)

// leaveMost bounds how long an installation takes to be taken out of an engine.
const leaveMost = 30 * time.Minute

func (a serviceCommands) yard() *cobra.Command {
	c := &cobra.Command{Use: "yard", Short: "What a container engine has of installations; take one out of it for good",
		Long: "What a container engine has of installations of this service, each with its own name; and how all of one is taken out of it, when it is given up. The engine is asked itself, on its machine: no service is."}
	var at string
	c.PersistentFlags().StringVar(&at, "engine", cmp.Or(os.Getenv("DOCKER_HOST"), "unix:///var/run/docker.sock"), "the container engine")
	show := &cobra.Command{Use: "show", Short: "List what an engine has of each installation", Args: cobra.NoArgs, Example: "  yardbench yard show",
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, cancel := context.WithTimeout(cmd.Context(), time.Minute)
			defer cancel()
			all, err := engine.Holdings(ctx, at)
			if err != nil {
				return err
			}
			if all == nil {
				all = []engine.Holding{}
			}
			return a.print(all, func() { a.printYard(at, all) })
		}}
	var keep bool
	clean := &cobra.Command{Use: "clean INSTALLATION", Short: "Take all of an installation out of the engine, with everybody's files", Args: cobra.ExactArgs(1),
		Long:    "Take all of an installation out of the engine, when it is given up: containers, networks, images, and the volumes with everybody's files, but with --keep-files. Its service is stopped first. What other installations and others have there stays as it is. With bounded disks the files themselves lie in the data directory, and stay in it.",
		Example: "  yardbench yard clean p3k6z2q5ma\n  yardbench yard clean p3k6z2q5ma --keep-files",
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, cancel := context.WithTimeout(cmd.Context(), leaveMost)
			defer cancel()
			all, err := engine.Holdings(ctx, at)
			if err != nil {
				return err
			}
			i := slices.IndexFunc(all, func(h engine.Holding) bool { return h.Installation == args[0] })
			if i < 0 {
				return usage{fmt.Errorf("the engine has nothing of an installation %q; see: yardbench yard show", args[0])}
			}
			h := all[i]
			if serve.RunsHere(h.KeptAt) {
				return fmt.Errorf("the service of %s runs, at %s\nstop it first: it would make anew what is taken away", h.Installation, h.KeptAt)
			}
			files := fmt.Sprintf("%s with the files of %s", some(h.Files, "volume"), cmp.Or(strings.Join(h.Owners, ", "), "nobody who is known"))
			if keep || h.Files == 0 {
				files = "no files"
			}
			ask := fmt.Sprintf("Take %s of %s out of %s: %s (%d running), %s, %s, and %s? Nobody has another copy of files.", "everything", h.Installation, at, some(h.Containers, "container"), h.Running, some(h.Networks, "network"), some(h.Images, "image"), files)
			if h.KeptAt != "" {
				ask += " Its service was last at " + h.KeptAt + "."
			}
			if err := a.sure("take it out", ask); err != nil {
				return err
			}
			if err := engine.Leave(ctx, at, h.Installation, keep); err != nil {
				return err
			}
			after, err := engine.Holdings(ctx, at)
			if err != nil {
				return err
			}
			left := slices.IndexFunc(after, func(x engine.Holding) bool { return x.Installation == h.Installation })
			if left >= 0 && (!keep || after[left].Containers+after[left].Networks+after[left].Images > 0) {
				return errors.New("something of it is there again\na service of it runs somewhere: stop that, and ask once more")
			}
			return a.print(h, func() { fmt.Fprintf(a.out, "%s is out of the engine\n", h.Installation) })
		}}
	clean.Flags().BoolVar(&keep, "keep-files", false, "leave the volumes with people's files")
	c.AddCommand(show, clean)
	return c
}

func (a serviceCommands) printYard(at string, all []engine.Holding) {
	if len(all) == 0 {
		fmt.Fprintln(a.out, "the engine at "+at+" has nothing of any installation")
		return
	}
	t := a.table(a.out, "INSTALLATION", "CONTAINERS", "RUNNING", "VOLUMES", "NETWORKS", "IMAGES", "WHOSE FILES", "SERVICE LAST AT")
	for _, h := range all {
		whose := strings.Join(h.Owners, ", ")
		if len(h.Owners) > 4 {
			whose = strings.Join(h.Owners[:4], ", ") + fmt.Sprintf(" and %d more", len(h.Owners)-4)
		}
		t.row(h.Installation, fmt.Sprint(h.Containers), fmt.Sprint(h.Running), fmt.Sprint(h.Files), fmt.Sprint(h.Networks), fmt.Sprint(h.Images), whose, h.KeptAt)
	}
	t.print()
}
