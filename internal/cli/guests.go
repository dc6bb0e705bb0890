package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a guestCommands) guest() *cobra.Command {
	c := &cobra.Command{Use: "guest", Short: "Guests: people whose access ends by itself, for named repositories (leads, operators)",
		Long: "A guest is of a team and works in named repositories until a day, with their own secrets alone. Three days before its end it is told of; then what they are signed in with ends, and their workspaces are stopped and kept."}
	c.AddCommand(a.inviteGuest(), a.listGuests(), a.extendGuest(), a.endGuest())
	return c
}

// untilOf reads a day, to whose end it is meant, or a time.
func untilOf(text string, now time.Time) (time.Time, error) {
	if t, err := time.ParseInLocation("2006-01-02", text, now.Location()); err == nil {
		return t.AddDate(0, 0, 1), nil
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return now.Add(d), nil
	}
	return time.Time{}, errors.New("--until takes a day like 2027-01-31, which counts whole, a time like 2027-01-31T12:00:00Z, or how long, like 72h")
}

func (a guestCommands) inviteGuest() *cobra.Command {
	var in wire.NewGuest
	var until string
	c := &cobra.Command{
		Use: "invite", Short: "Make a link by which a guest sets up their account", Args: cobra.NoArgs,
		Example: "  yardbench guest invite --team Harbour --for berth-planner --until 2027-01-31\n  yardbench guest invite --team Harbour --for berth-planner,deck-log --size small --until 72h",
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) (err error) {
			if in.Until, err = untilOf(until, time.Now()); err != nil {
				return err
			}
			e, err := api.Guests.Invite(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.print(e, func() {
				fmt.Fprintln(a.out, e.Link)
				fmt.Fprintf(a.err, "whoever opens it becomes a guest of %s until %s; it can be used once, until %s\n", e.Team, when(in.Until), when(e.ExpiresAt))
			})
		}),
	}
	c.Flags().StringVar(&in.Team, "team", "", "whose guest it is")
	c.Flags().StringVar(&until, "until", "", "when the access ends: a day, which counts whole, a time, or how long")
	c.Flags().StringSliceVar(&in.Repositories, "for", nil, "the repositories they may work in")
	c.Flags().StringSliceVar(&in.Sizes, "size", nil, "the sizes they may have; without it every size")
	c.Flags().IntVar(&in.Hours, "hours", 0, "how long the link can be used (72 by itself)")
	for _, f := range []string{"team", "until", "for"} {
		_ = c.MarkFlagRequired(f) // it is one of these
	}
	return c
}

func (a guestCommands) listGuests() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the guests of your team", Example: "  yardbench guest list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Guests.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none; bring one in with: yardbench guest invite --team TEAM --for REPOSITORY --until DAY")
					return
				}
				t := a.table(a.out, "NAME", "FULL NAME", "TEAM", "UNTIL", "REPOSITORIES", "SIZES", "BY")
				for _, g := range all {
					t.row(g.Name, g.FullName, g.Team, guestUntil(g), strings.Join(g.Repositories, ", "), guestSizes(g), g.By)
				}
				t.print()
			})
		}),
	}
}

func guestUntil(g wire.Guest) string {
	if g.Over {
		return "over since " + when(g.Until)
	}
	return when(g.Until)
}

func guestSizes(g wire.Guest) string {
	if len(g.Sizes) == 0 {
		return "every size"
	}
	return strings.Join(g.Sizes, ", ")
}

func (a guestCommands) extendGuest() *cobra.Command {
	var until string
	var repositories, sizes []string
	c := &cobra.Command{
		Use: "extend NAME", Short: "Have a guest's access last until another day, or be for other repositories or sizes", Args: cobra.ExactArgs(1),
		Example: "  yardbench guest extend tormod --until 2027-02-28\n  yardbench guest extend tormod --for berth-planner,deck-log --size ''",
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			var in wire.GuestChange
			if until != "" {
				t, err := untilOf(until, time.Now())
				if err != nil {
					return err
				}
				in.Until = &t
			}
			given := func(flag string, all []string) *[]string {
				if !cmd.Flags().Changed(flag) {
					return nil
				}
				out := []string{}
				for _, v := range all {
					if v != "" {
						out = append(out, v)
					}
				}
				return &out
			}
			in.Repositories, in.Sizes = given("for", repositories), given("size", sizes)
			g, err := api.Guests.Change(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.print(g, func() {
				fmt.Fprintf(a.err, "%s is a guest of %s until %s, in %s, with %s\n", g.Name, g.Team, when(g.Until), strings.Join(g.Repositories, ", "), guestSizes(g))
			})
		}),
	}
	c.Flags().StringVar(&until, "until", "", "when the access ends: a day, which counts whole, a time, or how long")
	c.Flags().StringSliceVar(&repositories, "for", nil, "the repositories they may work in, in place of those before")
	c.Flags().StringSliceVar(&sizes, "size", nil, "the sizes they may have, in place of those before; '' is every size")
	c.MarkFlagsOneRequired("until", "for", "size")
	return c
}

func (a guestCommands) endGuest() *cobra.Command {
	return &cobra.Command{
		Use: "end NAME", Short: "End a guest's access now; their workspaces are stopped and kept", Example: "  yardbench guest end tormod", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("end the access of "+args[0], "End the access of "+clean(args[0])+" now?"); err != nil {
				return err
			}
			return api.Guests.End(cmd.Context(), args[0])
		}),
	}
}
