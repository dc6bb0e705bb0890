package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"yardbench/client"
)

func (a rulesCommands) cost() *cobra.Command {
	var q client.CostQuery
	var asCSV bool
	c := &cobra.Command{
		Use: "cost", Short: "What was used, and what it cost",
		Long:    "What was used, and what it cost, of those whom you may see: yourself, a lead's team, or everybody. Hours in which nobody worked stand apart.",
		Example: "  yardbench cost\n  yardbench cost --by person --from 2026-11-01 --to 2026-12-01\n  yardbench cost --by workspace --person jonas\n  yardbench cost --by day --csv > november.csv", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			if asCSV {
				return api.Costs.CSV(cmd.Context(), q, a.out)
			}
			r, err := api.Costs.Report(cmd.Context(), q)
			if err != nil {
				return err
			}
			return a.print(r, func() {
				fmt.Fprintf(a.out, "from %s to %s, in %s\n", when(r.From), when(r.To), r.Currency)
				t := a.table(a.out, strings.ToUpper(r.By), "ACTIVE", "IDLE", "PREBUILDS", "ACTIVE "+r.Currency, "IDLE "+r.Currency, "STORAGE "+r.Currency, "PREBUILDS "+r.Currency, "TOTAL "+r.Currency)
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
	c.Flags().StringVar(&q.Team, "team", "", "only what was this team's")
	c.Flags().StringVar(&q.Person, "person", "", "only what was theirs")
	c.Flags().StringVar(&q.Repository, "repository", "", "only what was of this repository")
	c.Flags().StringVar(&q.Workspace, "workspace", "", "only this workspace, NAME.OWNER")
	c.Flags().BoolVar(&asCSV, "csv", false, "print comma-separated values")
	return c
}

func hours(s int64) string { return fmt.Sprintf("%d:%02d h", s/3600, s%3600/60) }

func cents(micros int64) string {
	return fmt.Sprintf("%d.%02d", (micros+5_000)/1_000_000, (micros+5_000)/10_000%100)
}
