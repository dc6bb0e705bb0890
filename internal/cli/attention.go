package cli

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a attentionCommands) attention() *cobra.Command {
	list := a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
		all, err := api.Attention.List(cmd.Context())
		if err != nil {
			return err
		}
		return a.print(all, func() {
			if len(all) == 0 {
				fmt.Fprintln(a.out, "nothing needs anybody")
				return
			}
			t := a.table(a.out, "CAUSE", "WHAT", "SINCE", "HOW MANY", "PEOPLE WAIT", "QUIET")
			for _, v := range all {
				t.row(v.ID, whatNeeds(v), when(v.Since), howMany(v), strconv.Itoa(v.People), quietOf(v))
			}
			t.print()
		})
	})
	c := &cobra.Command{Use: "attention", Short: "What needs somebody, grouped by cause", Example: "  yardbench attention", Args: cobra.NoArgs, RunE: list}
	c.AddCommand(&cobra.Command{
		Use: "list", Short: "List what needs somebody, what holds up most people for longest first", Args: cobra.NoArgs, RunE: list,
		Long: "List what needs somebody, of what you may see: what failed and what stands beside workspaces, what has the same cause told once, what holds up most people for longest first. " +
			"Something is asked of all that have it with: yardbench start --where all,cause=CAUSE",
		Example: "  yardbench attention list",
	}, &cobra.Command{
		Use: "show CAUSE", Short: "Show a cause: what has it, what the logs have in common, what was changed before", Example: "  yardbench attention show 5f0c2a91d2b3", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			v, err := api.Attention.Show(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(v, func() { a.cause(v) })
		}),
	})
	var long time.Duration
	var why string
	var end bool
	quiet := &cobra.Command{
		Use: "quiet CAUSE", Short: "Have a cause need nobody for a time, with a reason", Example: "  yardbench attention quiet 5f0c2a91d2b3 --for 2h --why 'moving day'\n  yardbench attention quiet 5f0c2a91d2b3 --end", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if end {
				return api.Attention.Again(cmd.Context(), args[0])
			}
			v, err := api.Attention.Quiet(cmd.Context(), args[0], wire.NewQuiet{Reason: why, Seconds: int64(long / time.Second)})
			if err != nil {
				return err
			}
			return a.print(v, func() { fmt.Fprintf(a.out, "%s is quiet until %s\n", v.ID, when(v.Quiet.Until)) })
		}),
	}
	quiet.Flags().DurationVar(&long, "for", 2*time.Hour, "for so long, up to 720h")
	quiet.Flags().StringVar(&why, "why", "", "the reason, for the journal")
	quiet.Flags().BoolVar(&end, "end", false, "it needs somebody again")
	c.AddCommand(quiet)
	return c
}

// whatNeeds says a cause in a line.
func whatNeeds(v wire.Attention) string {
	what := v.Kind
	if v.Of != "workspace" {
		what = v.Of + " " + v.Kind
	}
	if v.Step != "" {
		what += " at " + clean(v.Step)
	}
	return strings.TrimSuffix(what+": "+clean(v.Cause), ": ")
}

func howMany(v wire.Attention) string {
	of := v.Of
	if v.Count != 1 && of != "service" {
		of += "s"
	}
	return fmt.Sprintf("%d %s", v.Count, of)
}

func quietOf(v wire.Attention) string {
	if v.Quiet == nil {
		return ""
	}
	return fmt.Sprintf("until %s: %s", when(v.Quiet.Until), clean(v.Quiet.Reason))
}

func (a attentionCommands) cause(v wire.AttentionCause) {
	fmt.Fprintf(a.out, "%s\n%s since %s, the newest %s; %d wait\n", whatNeeds(v.Attention), howMany(v.Attention), when(v.Since), when(v.Newest), v.People)
	if v.Quiet != nil {
		fmt.Fprintf(a.out, "quiet until %s, by %s: %s\n", when(v.Quiet.Until), clean(v.Quiet.By), clean(v.Quiet.Reason))
	}
	if len(v.Lines) > 0 {
		fmt.Fprintln(a.out, "\nwhat their logs have in common:")
		for _, l := range v.Lines {
			fmt.Fprintln(a.out, "  "+clean(l))
		}
	}
	if len(v.Before) > 0 {
		fmt.Fprintln(a.out, "\nwhat was changed before:")
		for _, e := range v.Before {
			fmt.Fprintf(a.out, "  %s  %s  by %s\n", when(e.At), e.Kind, clean(cmp.Or(e.ActorName, e.Actor)))
		}
	}
	fmt.Fprintln(a.out)
	t := a.table(a.out, "WHO HAS IT", "SINCE", "WHAT IS WRITTEN")
	for _, c := range v.Cases[:min(len(v.Cases), 100)] {
		t.row(c.Name, when(c.Since), clean(c.Cause))
	}
	t.print()
	if n := len(v.Cases); n > 100 {
		fmt.Fprintf(a.out, "and %d more\n", n-100)
	}
	for _, verb := range v.Verbs {
		fmt.Fprintf(a.err, "of all: yardbench %s --where all,cause=%s\n", verb, v.ID)
	}
}
