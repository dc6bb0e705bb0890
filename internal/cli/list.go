package cli

import (
	"context"
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
	c := &cobra.Command{
		Use: "list", Short: "List workspaces", Example: "  yardbench list\n  yardbench list --all --state failed --state \"disk full\"\n  yardbench list --all --team Harbour --sort -cost", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			ws, err := api.List(cmd.Context(), q)
			if err != nil {
				return err
			}
			return a.print(ws, func() {
				a.troubles(cmd.Context(), api)
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
				t := newTable(a.out, head...)
				for _, w := range ws {
					row := []string{w.Name, state(w.Phase, w.FailedIn, w.Conditions), when(w.PhaseAt), w.Repository, w.Branch, w.Size, money(w.HourMicros, w.Currency), money(w.CostMicros, w.Currency), dayMarks(w.Day)}
					if q.All {
						row = append([]string{w.Owner}, row...)
					}
					t.row(row...)
				}
				t.print()
			})
		}),
	}
	c.Flags().BoolVar(&q.All, "all", false, "everybody's whom you may see")
	c.Flags().StringArrayVar(&q.States, "state", nil, "a phase or condition, like ready or \"set-up failed\"; given again, one of them")
	c.Flags().StringVar(&q.Owner, "owner", "", "of one person")
	c.Flags().StringVar(&q.Team, "team", "", "of one team")
	c.Flags().StringVar(&q.Repository, "repository", "", "of one repository")
	c.Flags().StringVar(&q.Branch, "branch", "", "of one branch")
	c.Flags().StringVar(&q.Size, "size", "", "of one size")
	c.Flags().StringVar(&q.Find, "find", "", "a part of the name, the owner, the repository or the branch")
	c.Flags().StringVar(&q.Sort, "sort", "", "name, owner, team, repository, branch, phase, size, phase_at, hour or cost; with a minus before it turned about")
	return c
}

// troubles says what keeps the service from being well.
func (a workspaceCommands) troubles(ctx context.Context, api *client.Client) {
	if h, err := api.Health(ctx); err == nil { // who cannot ask learns it from what they asked for
		for _, t := range h.Troubles {
			fmt.Fprintf(a.out, "%s\n", a.paint(text.FgRed, fmt.Sprintf("since %s %s", when(t.Since), clean(t.Text))))
		}
	}
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
