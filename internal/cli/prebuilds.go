package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a prebuildCommands) prebuild() *cobra.Command {
	c := &cobra.Command{Use: "prebuild", Short: "Prepared images: plans, and their runs"}
	list := &cobra.Command{
		Use: "list [REPOSITORY]", Short: "List the plans with their newest runs", Example: "  yardbench prebuild list\n  yardbench prebuild list tide-board", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			plans, err := api.Prebuilds.Plans(cmd.Context(), strings.Join(args, ""))
			if err != nil {
				return err
			}
			return a.print(plans, func() {
				if len(plans) == 0 {
					fmt.Fprintln(a.out, "there is no plan; a lead or operator makes one with: yardbench prebuild put REPOSITORY --on-push")
				}
				for n, p := range plans {
					if n > 0 {
						fmt.Fprintln(a.out)
					}
					fmt.Fprintf(a.out, "%s, branch %s: %s; the last %d good are kept\n", p.Repository, p.Branch, triggers(p), p.Keep)
					if p.UsualMS > 0 && p.ScratchMS > 0 {
						fmt.Fprintf(a.out, "  a launch from it is usually ready in %s, one from scratch in %s\n", took(time.Duration(p.UsualMS)*time.Millisecond), took(time.Duration(p.ScratchMS)*time.Millisecond))
					}
					if len(p.Runs) == 0 {
						fmt.Fprintf(a.out, "  no run yet; begin one with: yardbench prebuild run %s --branch %s\n", p.Repository, p.Branch)
						continue
					}
					t := a.table(a.out, "  RUN", "BEGUN", "TOOK", "OUTCOME", "COMMIT", "ID", "REASON")
					for _, r := range p.Runs {
						outcome, span := "under way", time.Since(r.StartedAt)
						if r.EndedAt != nil {
							outcome, span = r.Outcome, r.EndedAt.Sub(r.StartedAt)
						}
						if r.Serves {
							outcome += ", serves"
						}
						t.row(fmt.Sprintf("  %d", r.Number), when(r.StartedAt), took(span), outcome, fmt.Sprintf("%.10s", r.Commit), r.ID, r.Reason)
					}
					t.print()
				}
			})
		}),
	}
	var in wire.PutPlan
	plan := &cobra.Command{
		Use: "put REPOSITORY", Short: "Make or change the plan of a branch (leads, operators)",
		Example: "  yardbench prebuild put tide-board --on-push\n  yardbench prebuild put berth-planner --at '30 5 * * 1-5' --keep 3", Args: cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			p, err := api.Prebuilds.PutPlan(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.print(p, func() {
				fmt.Fprintf(a.out, "%s, branch %s: %s; the last %d good are kept\n", p.Repository, p.Branch, triggers(p), p.Keep)
			})
		}),
	}
	plan.Flags().BoolVar(&in.OnPush, "on-push", false, "on every push that its git host tells of (see: yardbench repository push-key)")
	plan.Flags().StringVar(&in.Timetable, "at", "", "by the clock: minute, hour, day of the month, month, day of the week")
	plan.Flags().IntVar(&in.Keep, "keep", 0, "how many good prepared images are kept (default 2)")
	var branch string
	run := &cobra.Command{
		Use: "run REPOSITORY", Short: "Make a prepared image now, and watch it (leads, operators)", Example: "  yardbench prebuild run tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			r, err := api.Prebuilds.RunPlan(cmd.Context(), args[0], branch)
			if err != nil {
				return err
			}
			return a.followRun(cmd.Context(), api, r, args[0])
		}),
	}
	drop := &cobra.Command{
		Use: "remove REPOSITORY", Short: "Remove a plan with its prepared images (leads, operators)", Example: "  yardbench prebuild remove tide-board --branch main", Args: cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("drop the plan of "+args[0], "Remove the plan of "+clean(args[0])+" with its prepared images?"); err != nil {
				return err
			}
			return api.Prebuilds.DropPlan(cmd.Context(), args[0], branch)
		}),
	}
	for _, s := range []*cobra.Command{run, drop} {
		s.Flags().StringVar(&branch, "branch", "", "the branch (default: the repository's own)")
	}
	plan.Flags().StringVar(&in.Branch, "branch", "", "the branch (default: the repository's own)")
	var follow bool
	log := &cobra.Command{
		Use: "log RUN-ID", Short: "Print the log of a run", Example: "  yardbench prebuild log 4kq2… --follow", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			return api.Prebuilds.CopyRunLog(cmd.Context(), args[0], follow, a.forPeople())
		}),
	}
	log.Flags().BoolVarP(&follow, "follow", "f", false, "go on until the run has ended")
	c.AddCommand(list, plan, run, log, drop)
	return c
}

func triggers(p wire.PrebuildPlan) string {
	var parts []string
	if p.OnPush {
		parts = append(parts, "on push")
	}
	if p.Timetable != "" && p.NextAt != nil {
		parts = append(parts, fmt.Sprintf("by timetable %s, next %s", p.Timetable, when(*p.NextAt)))
	}
	return strings.Join(append(parts, "by hand"), ", ")
}

// followRun shows the launch sheet of a prebuild run until it has ended.
func (a prebuildCommands) followRun(ctx context.Context, api *client.Client, r wire.PrebuildRun, repository string) error {
	p := &progress{a: a.app, said: map[string]bool{}, live: isTerminal(a.out) && !a.json}
	defer p.tick()()
	err := api.Watch(ctx, func() (bool, error) {
		sh, err := api.Prebuilds.RunSheet(ctx, r.ID)
		if err != nil {
			return false, err
		}
		p.show(sh)
		p.sheet = sh
		return sh.EndedAt != nil, nil
	})
	p.end()
	if ctx.Err() != nil {
		fmt.Fprintf(a.err, "\nthe run goes on by itself; see how it is with: yardbench prebuild list %s\n", repository)
		return exit(exitInterrupt)
	}
	if err != nil {
		return err
	}
	if a.json {
		if err := a.print(p.sheet, nil); err != nil {
			return err
		}
	}
	if p.sheet.Outcome != "done" {
		fmt.Fprintf(a.err, "yardbench: run %d failed: %s\nthe whole log: yardbench prebuild log %s\nearlier prepared images go on serving\n", r.Number, clean(p.sheet.Cause), r.ID)
		return exit(exitFailed)
	}
	if !a.json {
		fmt.Fprintf(a.out, "prepared image %d of %s is kept; launches that fit it are served by it\n", r.Number, repository)
	}
	return nil
}
