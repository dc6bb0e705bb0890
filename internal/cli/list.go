package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a workspaceCommands) list() *cobra.Command {
	var q client.ListQuery
	var watch bool
	c := &cobra.Command{
		Use: "list", Short: "List workspaces", Example: "  yardbench list\n  yardbench list --all --state failed --state \"disk full\"\n  yardbench list --all --team Harbour --sort -cost", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			if watch {
				return a.watchList(cmd.Context(), api, q)
			}
			ws, err := api.Workspaces.List(cmd.Context(), q)
			if err != nil {
				return err
			}
			return a.print(ws, func() {
				a.troubles(cmd.Context(), api)
				a.workspaces(ws, q)
			})
		}),
	}
	c.Flags().BoolVar(&watch, "watch", false, "go on as they change; with -o jsonl each row that is another, and {\"id\", \"gone\"} for one that is there no more")
	c.Flags().BoolVar(&q.All, "all", false, "everybody's whom you may see")
	c.Flags().StringArrayVar(&q.States, "state", nil, "a phase or condition, like ready or \"set-up failed\"; given again, one of them")
	c.Flags().StringVar(&q.Owner, "owner", "", "of one person")
	c.Flags().StringVar(&q.Team, "team", "", "of one team")
	c.Flags().StringVar(&q.Repository, "repository", "", "of one repository")
	c.Flags().StringVar(&q.Branch, "branch", "", "of one branch")
	c.Flags().StringVar(&q.Size, "size", "", "of one size")
	c.Flags().StringVar(&q.Cause, "cause", "", "those that need somebody for this, by its id; see: yardbench attention")
	c.Flags().StringVar(&q.Find, "find", "", "a part of the name, the owner, the repository or the branch")
	c.Flags().StringVar(&q.Sort, "sort", "", "name, owner, team, repository, branch, phase, size, phase_at, hour or cost; with a minus before it turned about")
	return c
}

// workspaces prints a list of workspaces.
func (a workspaceCommands) workspaces(ws []wire.WorkspaceRow, q client.ListQuery) {
	if len(ws) == 0 && q.Wide() {
		fmt.Fprintln(a.out, "no workspaces; launch one with: yardbench launch REPOSITORY")
		return
	} else if len(ws) == 0 {
		fmt.Fprintln(a.out, "no workspace is so")
		return
	}
	head := []string{"NAME", "STATE", "SINCE", "REPOSITORY", "BRANCH", "SIZE", "AN HOUR", "SO FAR", "LAST 24 HOURS"}
	if q.All {
		head = append([]string{"OWNER"}, head...)
	}
	if a.wide {
		head = append(head, "TEAM", "ID", "WHY")
	}
	t := a.table(a.out, head...)
	for _, w := range ws {
		row := []string{w.Name, state(w.Phase, w.FailedIn, w.Conditions), when(w.PhaseAt), w.Repository, w.Branch, w.Size, money(w.HourMicros, w.Currency), money(w.CostMicros, w.Currency), dayMarks(w.Day)}
		if q.All {
			row = append([]string{w.Owner}, row...)
		}
		if a.wide {
			why := w.Cause
			for _, c := range w.Conditions {
				why = strings.TrimPrefix(why+"; "+c.Kind+": "+c.Reason, "; ")
			}
			row = append(row, w.Team, w.ID, why)
		}
		t.row(row...)
	}
	t.print()
}

// watchPause is how long after a list was shown it is shown again at the earliest.
const watchPause = time.Second

// watchList shows a list, and again whenever it has changed.
func (a workspaceCommands) watchList(ctx context.Context, api *client.Client, q client.ListQuery) error {
	if a.json && a.form != "jsonl" || !a.json && !isTerminal(a.out) {
		return usage{errors.New("--watch is for a terminal, or for programs with -o jsonl")}
	}
	shown, last := map[string]string{}, ""
	var at time.Time
	return api.Watch(ctx, func() (bool, error) {
		select {
		case <-ctx.Done():
			return true, ctx.Err()
		case <-time.After(time.Until(at.Add(watchPause))):
		}
		at = time.Now()
		ws, err := api.Workspaces.List(ctx, q)
		if err != nil {
			return false, err
		}
		if !a.json {
			var b bytes.Buffer
			still := *a.app
			still.out = &b
			workspaceCommands{&still}.workspaces(ws, q)
			if b.String() != last {
				last = b.String()
				_, err = fmt.Fprint(a.out, "\x1b[H\x1b[2J"+last)
			}
			return false, err
		}
		now := map[string]string{}
		for _, w := range ws {
			told := w
			told.CostMicros, told.Day = 0, "" // they change with the time alone
			text, err := json.Marshal(told)
			if err != nil {
				return false, err
			}
			if now[w.ID] = string(text); shown[w.ID] != now[w.ID] {
				if err := a.toProgram(w); err != nil {
					return false, err
				}
			}
		}
		for id := range shown {
			if _, there := now[id]; !there {
				if err := a.toProgram(map[string]any{"id": id, "gone": true}); err != nil {
					return false, err
				}
			}
		}
		shown = now
		return false, nil
	})
}

// troubles says what the house announces, and what keeps the service from being well.
func (a workspaceCommands) troubles(ctx context.Context, api *client.Client) {
	if h, err := api.Health(ctx); err == nil { // who cannot ask learns it from what they asked for
		if h.Announcement != nil {
			fmt.Fprintf(a.out, "%s%s\n", a.paint(text.Bold, clean(h.Announcement.Text)), pausing(*h.Announcement))
		}
		for _, t := range h.Troubles {
			if !t.Grave { // an operator is told by doctor and attention
				continue
			}
			fmt.Fprintf(a.out, "%s\n", a.paint(text.FgRed, fmt.Sprintf("since %s %s", when(t.Since), clean(t.Text))))
		}
	}
}

// pausing says what an announcement pauses, and until when it stands.
func pausing(of wire.Announcement) string {
	var says []string
	switch of.Pauses {
	case "launches":
		says = append(says, "nothing new is launched")
	case "starts":
		says = append(says, "nothing is launched or started")
	case "changes":
		says = append(says, "nothing is changed; what runs is worked in")
	}
	if of.Until != nil {
		says = append(says, "until "+when(*of.Until))
	}
	if len(says) == 0 {
		return ""
	}
	return " (" + strings.Join(says, ", ") + ")"
}

// dayMarks draws a day of half hours as one of hours.
func dayMarks(day string) string {
	var b strings.Builder
	for h := 0; h+1 < len(day); h += 2 {
		switch two := day[h : h+2]; {
		case strings.Contains(two, "a"):
			b.WriteByte('#')
		case strings.Contains(two, "i"):
			b.WriteByte('-')
		default:
			b.WriteByte('.')
		}
	}
	return b.String()
}

// strip draws a day: a mark for each hour, # where it was worked in, - where
// it only ran, . at rest.
func strip(day []wire.Stretch, now time.Time) string {
	var b strings.Builder
	for h := 24; h > 0; h-- {
		from, to := now.Add(-time.Duration(h)*time.Hour), now.Add(-time.Duration(h-1)*time.Hour)
		mark := byte('.')
		for _, s := range day {
			if s.From.Before(to) && s.To.After(from) {
				if s.State == "active" {
					mark = '#'
				} else if mark == '.' {
					mark = '-'
				}
			}
		}
		b.WriteByte(mark)
	}
	return b.String()
}
