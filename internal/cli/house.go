package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"yardbench/internal/client"
	"yardbench/internal/core/rules"
	"yardbench/internal/wire"
)

func (a *app) hold() *cobra.Command {
	var why string
	var end bool
	c := &cobra.Command{
		Use: "hold NAME [TIME]", Short: "Keep a workspace from being put to rest for a time", Example: "  yardbench hold tide-board 2h --why 'a long test runs'\n  yardbench hold tide-board --end", Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			var w wire.Workspace
			var err error
			if end {
				w, err = api.EndHold(cmd.Context(), args[0])
			} else {
				if len(args) < 2 || why == "" {
					return usage{fmt.Errorf("say how long and why: yardbench hold %s 2h --why 'a long test runs'", args[0])}
				}
				d, derr := rules.ParseDuration(args[1])
				if derr != nil {
					return usage{derr}
				}
				w, err = api.Hold(cmd.Context(), args[0], wire.Hold{Seconds: int64(d / time.Second), Why: why})
			}
			if err != nil {
				return err
			}
			return a.print(w, func() {
				if w.Rest != nil && w.Rest.HeldUntil != nil {
					fmt.Fprintf(a.out, "%s is not put to rest before %s\n", w.Name, when(*w.Rest.HeldUntil))
				} else if w.Rest != nil {
					fmt.Fprintf(a.out, "%s is put to rest %s, without another sign of work\n", w.Name, when(w.Rest.StopsAt))
				}
			})
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for others to read")
	c.Flags().BoolVar(&end, "end", false, "let it be put to rest again")
	return c
}

func (a *app) ports() *cobra.Command {
	var share, unshare int
	c := &cobra.Command{
		Use: "ports NAME", Short: "List a workspace's ports with their addresses, or say who may visit one",
		Example: "  yardbench ports tide-board\n  yardbench ports tide-board --share 8000\n  yardbench ports tide-board --keep-private 8000", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) (err error) {
			var ps []wire.Port
			switch {
			case share != 0:
				ps, err = api.SharePort(cmd.Context(), args[0], share, true)
			case unshare != 0:
				ps, err = api.SharePort(cmd.Context(), args[0], unshare, false)
			default:
				ps, err = api.Ports(cmd.Context(), args[0])
			}
			if err != nil {
				return err
			}
			return a.print(ps, func() {
				if len(ps) == 0 {
					fmt.Fprintln(a.out, "its definition forwards no port, and nothing listens in it")
					return
				}
				t := newTable(a.out, "PORT", "LABEL", "LISTENS", "WHO MAY VISIT", "ADDRESS")
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
			})
		}),
	}
	c.Flags().IntVar(&share, "share", 0, "let everybody signed in visit this port")
	c.Flags().IntVar(&unshare, "keep-private", 0, "let only yourself visit this port")
	c.MarkFlagsMutuallyExclusive("share", "keep-private")
	return c
}

func (a *app) forward() *cobra.Command {
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
			w, err := api.Show(cmd.Context(), args[0])
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
					if err := api.Tunnel(ctx, args[0], int(port), conn); err != nil && ctx.Err() == nil {
						a.say(err)
					}
				}()
			}
		}),
	}
}

func (a *app) cost() *cobra.Command {
	var q client.CostQuery
	var asCSV bool
	c := &cobra.Command{
		Use: "cost", Short: "What was used, and what it cost",
		Long:    "What was used, and what it cost, of those whom you may see: yourself, a lead's team, or everybody. Hours in which nobody worked stand apart.",
		Example: "  yardbench cost\n  yardbench cost --by person --from 2026-11-01 --to 2026-12-01\n  yardbench cost --by day --csv > november.csv", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			if asCSV {
				return api.CostCSV(cmd.Context(), q, a.out)
			}
			r, err := api.Cost(cmd.Context(), q)
			if err != nil {
				return err
			}
			return a.print(r, func() {
				fmt.Fprintf(a.out, "from %s to %s, in %s\n", when(r.From), when(r.To), r.Currency)
				t := newTable(a.out, strings.ToUpper(r.By), "ACTIVE", "IDLE", "PREBUILDS", "ACTIVE "+r.Currency, "IDLE "+r.Currency, "STORAGE "+r.Currency, "PREBUILDS "+r.Currency, "TOTAL "+r.Currency)
				t.right(2, 3, 4, 5, 6, 7, 8, 9)
				for _, row := range append(r.Rows, r.Total) {
					key := row.Key
					if key == "" {
						key = "(prebuilds, or no team)"
					}
					t.row(key, hours(row.ActiveS), hours(row.IdleS), hours(row.PrebuildS), cents(row.ActiveMicros), cents(row.IdleMicros), cents(row.StorageMicros), cents(row.PrebuildMicros), cents(row.TotalMicros))
				}
				t.print()
			})
		}),
	}
	c.Flags().StringVar(&q.By, "by", "", "person, team, repository, workspace or day (default: team)")
	c.Flags().StringVar(&q.From, "from", "", "the first day (default: the first of this month)")
	c.Flags().StringVar(&q.To, "to", "", "the day after the last (default: the end of this month)")
	c.Flags().BoolVar(&asCSV, "csv", false, "print comma-separated values")
	return c
}

func hours(s int64) string { return fmt.Sprintf("%d:%02d h", s/3600, s%3600/60) }

func cents(micros int64) string {
	return fmt.Sprintf("%d.%02d", (micros+5_000)/1_000_000, (micros+5_000)/10_000%100)
}

func (a *app) rules() *cobra.Command {
	c := &cobra.Command{Use: "rules", Short: "The house rules: sizes, limits, rest, rates"}
	var version int
	show := &cobra.Command{
		Use: "show", Short: "Print the house rules in force, or an older version", Example: "  yardbench rules show > rules.yaml\n  yardbench rules show --version 3", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			vs, err := api.Rules(cmd.Context())
			if err != nil {
				return err
			}
			for _, v := range vs {
				if version == 0 || v.Version == version {
					return a.print(v, func() { fmt.Fprint(a.out, v.Document) })
				}
			}
			return &wire.Problem{Status: 404, Detail: fmt.Sprintf("there is no version %d of the house rules", version), Next: "see them with: yardbench rules versions"}
		}),
	}
	show.Flags().IntVar(&version, "version", 0, "an older version")
	versions := &cobra.Command{
		Use: "versions", Short: "List the versions with who made them, why, and what they changed", Example: "  yardbench rules versions", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			vs, err := api.Rules(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(vs, func() {
				for _, v := range vs {
					fmt.Fprintf(a.out, "%d   %s   %s   %s\n", v.Version, when(v.At), v.Author, clean(v.Reason))
					for _, ch := range v.Changes {
						fmt.Fprintf(a.out, "      %s\n", clean(ch))
					}
				}
			})
		}),
	}
	check := &cobra.Command{
		Use: "check FILE", Short: "Say what is wrong with a document, and what it would change", Example: "  yardbench rules check rules.yaml", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			document, err := readDocument(args[0], a.in)
			if err != nil {
				return err
			}
			r, err := api.CheckRules(cmd.Context(), document)
			if err != nil {
				return err
			}
			if err := a.print(r, func() {
				for _, f := range r.Findings {
					fmt.Fprintf(a.out, "%s:%s\n", args[0], clean(rules.Finding(f).String()))
				}
				if len(r.Findings) == 0 && len(r.Changes) == 0 {
					fmt.Fprintln(a.out, "nothing is wrong with it, and it changes nothing")
				}
				for _, ch := range r.Changes {
					fmt.Fprintln(a.out, clean(ch))
				}
			}); err != nil {
				return err
			}
			if len(r.Findings) > 0 {
				return exit(exitRefused)
			}
			return nil
		}),
	}
	var in wire.RulesText
	put := &cobra.Command{
		Use: "put FILE", Short: "Make a document the house rules: in force at once (operators)", Example: "  yardbench rules put rules.yaml --why 'smaller teams rest sooner'", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) (err error) {
			if in.Reason == "" {
				return usage{fmt.Errorf("say why with --why: it stands in the journal")}
			}
			if in.Document, err = readDocument(args[0], a.in); err != nil {
				return err
			}
			v, err := api.PutRules(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.print(v, func() {
				fmt.Fprintf(a.out, "version %d is in force\n", v.Version)
				for _, ch := range v.Changes {
					fmt.Fprintf(a.out, "  %s\n", clean(ch))
				}
			})
		}),
	}
	put.Flags().StringVar(&in.Reason, "why", "", "the reason, for others to read")
	put.Flags().IntVar(&in.Base, "base", 0, "the version it was made from: refused when there is a newer one")
	c.AddCommand(show, versions, check, put)
	return c
}

func readDocument(path string, in io.Reader) (string, error) {
	if path == "-" {
		b, err := io.ReadAll(io.LimitReader(in, rules.MaxBytes+1))
		return string(b), err
	}
	b, err := os.ReadFile(path)
	return string(b), err
}

func (a *app) journal() *cobra.Command {
	q := client.JournalQuery{Newest: true}
	follow := false
	c := &cobra.Command{
		Use: "journal", Short: "Who did what, and what happened, the newest first", Example: "  yardbench journal\n  yardbench journal --workspace tide-board\n  yardbench journal --person ingrid --kind secret --from 2026-11-02\n  yardbench journal --kind workspace.phase --follow", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			if follow {
				return a.followJournal(cmd.Context(), api, q)
			}
			es, err := api.Journal(cmd.Context(), q)
			if err != nil {
				return err
			}
			return a.print(es, func() {
				t := newTable(a.out, "NO.", "TIME", "KIND", "SUBJECT", "BY", "DETAILS")
				for _, e := range es {
					t.row(strconv.FormatInt(e.Number, 10), when(e.At), e.Kind, about(e), e.ActorName, details(e.Data))
				}
				t.print()
			})
		}),
	}
	c.AddCommand(a.journalHead(), a.journalVerify(), a.journalExport())
	c.Flags().StringVar(&q.Workspace, "workspace", "", "of one workspace")
	c.Flags().StringVar(&q.Person, "person", "", "whose matter it is, or who did it")
	c.Flags().StringVar(&q.Kind, "kind", "", "what the kind begins with, like workspace.phase")
	c.Flags().StringVar(&q.From, "from", "", "from this time or day on")
	c.Flags().StringVar(&q.To, "to", "", "until before this time or day")
	c.Flags().IntVar(&q.Limit, "limit", 40, "how many, at most 1000")
	c.Flags().BoolVar(&follow, "follow", false, "print the newest, the oldest of them first, and go on as more come")
	return c
}

// about says what an entry is about.
func about(e wire.JournalEntry) string { return cmp.Or(e.SubjectName, e.OwnerName) }

// followJournal prints the newest entries and each that comes, one a line,
// until it is ended.
func (a *app) followJournal(ctx context.Context, api *client.Client, q client.JournalQuery) error {
	es, err := api.Journal(ctx, q)
	if err != nil {
		return err
	}
	slices.Reverse(es)
	q.Newest, q.Limit = false, 1000
	tell := func() error {
		for _, e := range es {
			q.After = e.Number
			if a.json {
				if err := json.NewEncoder(a.out).Encode(e); err != nil {
					return err
				}
				continue
			}
			if _, err := fmt.Fprintf(a.out, "%-6d %s  %-22s %-16s %-10s %s\n", e.Number, when(e.At), e.Kind, about(e), e.ActorName, details(e.Data)); err != nil {
				return err
			}
		}
		return nil
	}
	if err := tell(); err != nil {
		return err
	}
	err = api.Watch(ctx, func() (bool, error) {
		var err error
		if es, err = api.Journal(ctx, q); err == nil {
			err = tell()
		}
		return err != nil, err
	})
	if ctx.Err() != nil {
		return nil // it was ended by hand
	}
	return err
}

// details puts an entry's data on one line.
func details(data map[string]any) string {
	keys := make([]string, 0, len(data))
	for k := range data {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	var parts []string
	for _, k := range keys {
		v := data[k]
		if v == nil || v == "" || v == false {
			continue
		}
		s, ok := v.(string)
		if !ok {
			b, _ := json.Marshal(v) // it came from JSON
			s = string(b)
		}
		parts = append(parts, k+" "+s)
	}
	return text.Trim(strings.Join(parts, ", "), 110)
}

func (a *app) prebuild() *cobra.Command {
	c := &cobra.Command{Use: "prebuild", Short: "Prepared images: plans, and their runs"}
	list := &cobra.Command{
		Use: "list [REPOSITORY]", Short: "List the plans with their newest runs", Example: "  yardbench prebuild list\n  yardbench prebuild list tide-board", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			plans, err := api.Plans(cmd.Context(), strings.Join(args, ""))
			if err != nil {
				return err
			}
			return a.print(plans, func() {
				if len(plans) == 0 {
					fmt.Fprintln(a.out, "there is no plan; a lead or operator makes one with: yardbench prebuild plan REPOSITORY --on-push")
				}
				for n, p := range plans {
					if n > 0 {
						fmt.Fprintln(a.out)
					}
					fmt.Fprintf(a.out, "%s, branch %s: %s; the last %d good are kept\n", p.Repository, p.Branch, triggers(p), p.Keep)
					if len(p.Runs) == 0 {
						fmt.Fprintf(a.out, "  no run yet; begin one with: yardbench prebuild run %s --branch %s\n", p.Repository, p.Branch)
						continue
					}
					t := newTable(a.out, "  RUN", "BEGUN", "TOOK", "OUTCOME", "COMMIT", "ID", "REASON")
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
		Use: "plan REPOSITORY", Short: "Make or change the plan of a branch (leads, operators)",
		Example: "  yardbench prebuild plan tide-board --on-push\n  yardbench prebuild plan berth-planner --at '30 5 * * 1-5' --keep 3", Args: cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			p, err := api.PutPlan(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.print(p, func() {
				fmt.Fprintf(a.out, "%s, branch %s: %s; the last %d good are kept\n", p.Repository, p.Branch, triggers(p), p.Keep)
			})
		}),
	}
	plan.Flags().BoolVar(&in.OnPush, "on-push", false, "on every push that its git host tells of (see: yardbench repos push-key)")
	plan.Flags().StringVar(&in.Timetable, "at", "", "by the clock: minute, hour, day of the month, month, day of the week")
	plan.Flags().IntVar(&in.Keep, "keep", 0, "how many good prepared images are kept (default 2)")
	var branch string
	run := &cobra.Command{
		Use: "run REPOSITORY", Short: "Make a prepared image now, and watch it (leads, operators)", Example: "  yardbench prebuild run tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			r, err := api.RunPlan(cmd.Context(), args[0], branch)
			if err != nil {
				return err
			}
			return a.followRun(cmd.Context(), api, r, args[0])
		}),
	}
	drop := &cobra.Command{
		Use: "drop REPOSITORY", Short: "Remove a plan with its prepared images (leads, operators)", Example: "  yardbench prebuild drop tide-board --branch main", Args: cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			return api.DropPlan(cmd.Context(), args[0], branch)
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
			return api.CopyRunLog(cmd.Context(), args[0], follow, a.out)
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
func (a *app) followRun(ctx context.Context, api *client.Client, r wire.PrebuildRun, repository string) error {
	p := &progress{a: a, said: map[string]bool{}, live: isTerminal(a.out) && !a.json}
	defer p.tick()()
	err := api.Watch(ctx, func() (bool, error) {
		sh, err := api.RunSheet(ctx, r.ID)
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
