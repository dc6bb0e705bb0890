package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/operation"
	"yardbench/internal/core/plain"
	"yardbench/wire"
)

// many is what says of which workspaces a verb is asked, and how it is followed.
type many struct {
	where  []string
	why    string
	noWait bool
}

// flags adds to a verb what says of which workspaces it is asked.
func (m *many) flags(c *cobra.Command) {
	c.Flags().StringArrayVar(&m.where, "where", nil, "instead of names: those that are so, like state=idle,team=Decks; the words are those of list's flags, and all for everybody's")
	c.Flags().StringVar(&m.why, "why", "", "the reason, for the owners and the journal")
	c.Flags().BoolVar(&m.noWait, "no-wait", false, "return as soon as it is accepted")
}

// one tells that a verb is asked of one workspace alone, by its name.
func (m *many) one(args []string) bool {
	return len(args) == 1 && len(m.where) == 0 && m.why == "" && !m.noWait
}

var whereWords = []string{"all", "owner", "team", "repository", "branch", "size", "state", "find", "cause"}

// readWhere reads what --where says.
func readWhere(parts []string) (q client.ListQuery, err error) {
	for _, part := range strings.Split(strings.Join(parts, ","), ",") {
		k, v, _ := strings.Cut(strings.TrimSpace(part), "=")
		to := map[string]*string{"owner": &q.Owner, "team": &q.Team, "repository": &q.Repository, "branch": &q.Branch, "size": &q.Size, "find": &q.Find, "cause": &q.Cause}[k]
		switch {
		case k == "all" && v == "":
			q.All = true
		case k == "state" && v != "":
			q.States = append(q.States, v)
		case to != nil && v != "" && *to == "":
			*to = v
		case to != nil && *to != "":
			return q, usage{fmt.Errorf("--where says twice which %s: say it once", k)}
		case slices.Contains(whereWords, k):
			return q, usage{fmt.Errorf("--where does not say which %s: write %s=…", k, k)}
		default:
			next := "it is one of " + strings.Join(whereWords, ", ")
			if near := plain.Near(k, whereWords); near != "" {
				next = "write " + near + ", if that is meant"
			}
			return q, usage{fmt.Errorf("--where knows no word %q; %s", plain.Line(k, 40), next)}
		}
	}
	return q, nil
}

// ask asks an operation of the workspaces that are named, or that are so, and
// follows it. What is chosen by words is shown before, and asked about; always,
// where the question is not empty. The question's %s is whom it is about.
func (a operationCommands) ask(cmd *cobra.Command, api *client.Client, args []string, m many, in wire.NewOperation, question string) error {
	ctx := cmd.Context()
	if (len(args) > 0) == (len(m.where) > 0) {
		return usage{errors.New("say of which workspaces: either names, or --where")}
	}
	in.Names, in.Reason = args, m.why
	if len(m.where) > 0 {
		q, err := readWhere(m.where)
		if err != nil {
			return err
		}
		rows, err := api.Workspaces.List(ctx, q)
		if err != nil {
			return err
		}
		if len(rows) == 0 {
			return a.print([]wire.Outcome{}, func() { fmt.Fprintln(a.err, "no workspace is so; nothing is done") })
		}
		if !a.json {
			t := a.table(a.err, "NAME", "OWNER", "STATE", "SINCE")
			for _, w := range rows {
				t.row(w.Name, w.Owner, state(w.Phase, w.FailedIn, w.Conditions), when(w.PhaseAt))
			}
			t.print()
		}
		for _, w := range rows {
			in.Names = append(in.Names, w.Name+"."+w.Owner)
		}
		question = cmp.Or(question, strings.ToUpper(in.Verb[:1])+in.Verb[1:]+" %s?")
	}
	if question != "" {
		of := strings.Join(in.Names, ", ")
		if len(in.Names) > 5 {
			of = fmt.Sprintf("these %d workspaces", len(in.Names))
		}
		if err := a.sure(in.Verb+" "+of, fmt.Sprintf(question, clean(of))); err != nil {
			return err
		}
	}
	o, err := api.Operations.Ask(ctx, in)
	if err != nil {
		return err
	}
	if m.noWait {
		return a.print(o, func() {
			if a.quiet {
				fmt.Fprintln(a.out, o.ID)
				return
			}
			fmt.Fprintf(a.out, "operation %s is accepted: %s of %d workspaces; see: yardbench operation show %s\n", o.ID, o.Verb, o.Total, o.ID)
		})
	}
	return a.attend(ctx, api, o)
}

// attend says what comes of an operation until it is over. The exit code is 6
// where one workspace failed, and 4 where one was refused or left alone.
func (a operationCommands) attend(ctx context.Context, api *client.Client, o wire.Operation) error {
	said := map[int]bool{}
	live := isTerminal(a.err) && !a.json && !a.quiet
	for {
		now, err := api.Operations.Show(ctx, o.ID)
		if err == nil {
			o = now
			err = a.newOutcomes(ctx, api, o.ID, said)
		}
		if ctx.Err() != nil {
			fmt.Fprintf(a.err, "\nit goes on by itself; see: yardbench operation show %s; leave the rest alone: yardbench operation cancel %s\n", o.ID, o.ID)
			return exit(exitInterrupt)
		}
		if err != nil {
			return err
		}
		if o.EndedAt != nil {
			break
		}
		if live {
			fmt.Fprintf(a.err, "\r\033[K%d of %d, %d under way\r", o.Total-o.Waiting-o.UnderWay, o.Total, o.UnderWay)
		}
		select {
		case <-ctx.Done():
		case <-time.After(300 * time.Millisecond):
		}
	}
	if live {
		fmt.Fprint(a.err, "\r\033[K")
	}
	if a.json {
		all, err := api.Operations.Outcomes(ctx, o.ID)
		if err != nil {
			return err
		}
		if err := a.print(all, nil); err != nil {
			return err
		}
	} else if !a.quiet {
		fmt.Fprintln(a.err, counted(o))
	}
	switch {
	case o.Failed > 0:
		return exit(exitFailed)
	case o.Refused+o.Cancelled > 0:
		return exit(exitRefused)
	}
	return nil
}

// newOutcomes says what is over and was not said.
func (a operationCommands) newOutcomes(ctx context.Context, api *client.Client, id string, said map[int]bool) error {
	if a.json {
		return nil
	}
	over, err := api.Operations.Outcomes(ctx, id, string(operation.Done), string(operation.Failed), string(operation.Refused), string(operation.Cancelled))
	for _, w := range over {
		if said[w.Number] {
			continue
		}
		said[w.Number] = true
		if a.quiet && w.State == string(operation.Done) {
			continue
		}
		if isTerminal(a.err) {
			fmt.Fprint(a.err, "\r\033[K")
		}
		line := fmt.Sprintf("%-9s  %s", w.State, clean(w.Name))
		if w.Detail != "" {
			line += ": " + clean(strings.ReplaceAll(w.Detail, "\n", " "))
		}
		colour := text.FgRed
		if w.State == string(operation.Done) {
			colour = text.FgGreen
		}
		fmt.Fprintln(a.out, a.paint(colour, line))
	}
	return err
}

// counted says how an operation stands, in numbers.
func counted(o wire.Operation) string {
	var parts []string
	for _, c := range []struct {
		n    int
		what string
	}{{o.Done, "done"}, {o.Failed, "failed"}, {o.Refused, "refused"}, {o.Cancelled, "cancelled"}, {o.UnderWay, "under way"}, {o.Waiting, "waiting"}} {
		if c.n > 0 {
			parts = append(parts, strconv.Itoa(c.n)+" "+c.what)
		}
	}
	return fmt.Sprintf("%s of %d: %s", o.Verb, o.Total, strings.Join(parts, ", "))
}

func (a operationCommands) tell() *cobra.Command {
	var m many
	c := &cobra.Command{
		Use: "tell NAME...", Short: "Put a notice before the owners of workspaces",
		Long:    "Put a notice before the owners of workspaces. It stands beside each workspace wherever that is shown, until its owner has read it.",
		Example: "  yardbench tell tide-board.ingrid --why 'the yard is restarted at 18:00'\n  yardbench tell --where all,team=Decks --why 'please push your work before Friday'", ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if m.why == "" {
				return usage{errors.New("say what, with --why")}
			}
			return a.ask(cmd, api, args, m, wire.NewOperation{Verb: string(operation.Tell)}, "")
		}),
	}
	m.flags(c)
	return c
}

func (a operationCommands) heed() *cobra.Command {
	return &cobra.Command{
		Use: "heed NAME", Short: "Take away a notice at a workspace, read", Example: "  yardbench heed tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := api.Workspaces.Heed(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintln(a.err, "no notice stands at it any more") })
		}),
	}
}

func (a operationCommands) operation() *cobra.Command {
	c := &cobra.Command{Use: "operation", Short: "One verb for many workspaces: what came of it"}
	list := &cobra.Command{
		Use: "list", Short: "List operations, the newest first", Example: "  yardbench operation list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Operations.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none; ask one like: yardbench stop --where state=idle")
					return
				}
				t := a.table(a.out, "ID", "ASKED", "BY", "WHAT CAME OF IT", "REASON")
				for _, o := range all {
					t.row(o.ID, when(o.MadeAt), o.By, counted(o), o.Reason)
				}
				t.print()
			})
		}),
	}
	show := &cobra.Command{
		Use: "show ID", Short: "Show an operation, and how it stands with each workspace", Example: "  yardbench operation show 01JD3V7", Args: cobra.ExactArgs(1), ValidArgsFunction: a.operationIDs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			o, err := api.Operations.Show(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			all, err := api.Operations.Outcomes(cmd.Context(), o.ID)
			if err != nil {
				return err
			}
			return a.print(struct {
				wire.Operation
				Outcomes []wire.Outcome `json:"outcomes"`
			}{o, all}, func() {
				fmt.Fprintf(a.out, "%s\nasked by %s, %s", counted(o), o.By, when(o.MadeAt))
				if o.Reason != "" {
					fmt.Fprintf(a.out, ": %s", clean(o.Reason))
				}
				if o.CancelledBy != "" {
					fmt.Fprintf(a.out, "; cancelled by %s", o.CancelledBy)
				}
				fmt.Fprint(a.out, "\n\n")
				t := a.table(a.out, "WORKSPACE", "STATE", "SINCE", "WHY")
				for _, w := range all {
					t.row(w.Name, w.State, when(w.At), plain.Line(w.Detail, 100))
				}
				t.print()
			})
		}),
	}
	cancel := &cobra.Command{
		Use: "cancel ID", Short: "Leave those workspaces alone whose turn has not come", Example: "  yardbench operation cancel 01JD3V7", Args: cobra.ExactArgs(1), ValidArgsFunction: a.operationIDs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			o, err := api.Operations.Cancel(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(o, func() { fmt.Fprintln(a.out, counted(o)) })
		}),
	}
	c.AddCommand(list, show, cancel)
	return c
}

// operationIDs completes the ids of operations.
func (a *app) operationIDs(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	if api, err := a.client(); err == nil && len(args) == 0 {
		ctx, cancel := context.WithTimeout(cmd.Context(), completionTime)
		defer cancel()
		all, _ := api.Operations.List(ctx) // completion that fails completes nothing
		for _, o := range all {
			out = append(out, o.ID+"\t"+counted(o))
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
