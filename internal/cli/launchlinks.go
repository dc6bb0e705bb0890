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

func (a linkCommands) launchLink() *cobra.Command {
	c := &cobra.Command{Use: "launch-link", Short: "Prepared launches behind a short address, for whoever may use it"}
	var in wire.NewLaunchLink
	var long, rest, guests time.Duration
	add := &cobra.Command{
		Use: "add REPOSITORY[@BRANCH]", Short: "Make a launch link",
		Long: "Make a launch link: whoever opens its address, and may use it, sees what it comes to and gets a workspace of their own by one press; once: who comes again is led back to theirs. " +
			"It counts for its people's own limits and cost. Paused, ended or withdrawn it launches no more; so it does when its maker's account is closed.",
		Example: "  yardbench launch-link add tide-board --title 'Try the tide board'\n  yardbench launch-link add fare-desk@tariff-2027 --size middle --team Fares --most 20 --for 168h\n  yardbench launch-link add tide-board --size small --most 30 --for 48h --guests 72h", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			in.Launch.Repository, in.Launch.Branch, _ = strings.Cut(args[0], "@")
			in.Launch.RestAfterS, in.Seconds = int64(rest/time.Second), int64(long/time.Second)
			in.GuestS = int64(guests / time.Second)
			l, err := api.LaunchLinks.Make(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.print(l, func() {
				fmt.Fprintln(a.out, clean(l.Address))
				at := strings.TrimSuffix(l.Address, "/go/"+l.ID) + "/api/v1/launch-links/" + l.ID
				fmt.Fprintf(a.err, "it launches %s for %s; for a README:\n  [![%s](%s/badge.svg)](%s)\nas a QR code: %s/qr.png\n", launches(l), clean(forWhom(l)), clean(l.Title), at, l.Address, at)
			})
		}),
	}
	add.Flags().StringVar(&in.Title, "title", "", "what it is called (default: the repository's name)")
	add.Flags().StringVar(&in.Launch.Definition, "definition", "", "which of several definitions")
	add.Flags().StringVar(&in.Launch.Size, "size", "", "the size (default: the usual one)")
	add.Flags().StringSliceVar(&in.Launch.Beside, "beside", nil, "a further repository to clone beside it, as NAME or NAME@BRANCH")
	add.Flags().DurationVar(&rest, "rest-after", 0, "put to rest after so long without work (default: the usual time)")
	add.Flags().StringVar(&in.Team, "team", "", "whose people may use it (default: whoever signs in)")
	add.Flags().IntVar(&in.PeopleMost, "most", 0, "so many people may use it (default: no bound)")
	add.Flags().DurationVar(&long, "for", 0, "it can be used for so long, like 168h (default: no end)")
	add.Flags().DurationVar(&guests, "guests", 0, "whoever has no account sets one up by it, as a guest of the team with access for so long; with --most and --for (default: nobody does)")
	list := &cobra.Command{
		Use: "list", Short: "List the launch links", Example: "  yardbench launch-link list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.LaunchLinks.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none; make one with: yardbench launch-link add REPOSITORY")
					return
				}
				t := a.table(a.out, "LINK", "TITLE", "LAUNCHES", "FOR", "USED", "STATE", "BY")
				for _, l := range all {
					used := strconv.Itoa(l.Used)
					if l.PeopleMost > 0 {
						used += " of " + strconv.Itoa(l.PeopleMost)
					}
					t.row(l.ID, l.Title, launches(l), forWhom(l), used, standing(l), l.MadeBy)
				}
				t.print()
			})
		}),
	}
	show := &cobra.Command{
		Use: "show LINK", Short: "Show who came by a launch link", Example: "  yardbench launch-link show k3v7q2m4xa", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			uses, err := api.LaunchLinks.Uses(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(uses, func() {
				if len(uses) == 0 {
					fmt.Fprintln(a.out, "nobody has used it yet")
					return
				}
				t := a.table(a.out, "PERSON", "WORKSPACE", "STATE", "SINCE")
				for _, u := range uses {
					t.row(u.Person, u.Workspace, u.Phase, when(u.At))
				}
				t.print()
			})
		}),
	}
	use := &cobra.Command{
		Use: "use LINK", Short: "Have a workspace of your own by a launch link, or come back to the one you have", Example: "  yardbench launch-link use k3v7q2m4xa", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			id := args[0][strings.LastIndex(args[0], "/")+1:] // its address does, too
			got, err := api.LaunchLinks.Use(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.print(got, func() {
				name, _, _ := strings.Cut(got.Workspace, ".")
				if got.Fresh {
					fmt.Fprintf(a.out, "%s is launched; see it come up: yardbench wait %s\n", clean(name), clean(name))
				} else {
					fmt.Fprintf(a.out, "you have %s by it: yardbench enter %s\n", clean(name), clean(name))
				}
			})
		}),
	}
	turn := func(verb, short string, paused bool, said string) *cobra.Command {
		return &cobra.Command{
			Use: verb + " LINK", Short: short, Example: "  yardbench launch-link " + verb + " k3v7q2m4xa", Args: cobra.ExactArgs(1),
			RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
				l, err := api.LaunchLinks.Change(cmd.Context(), args[0], wire.LaunchLinkChange{Paused: &paused})
				if err != nil {
					return err
				}
				return a.print(l, func() { fmt.Fprintln(a.err, said) })
			}),
		}
	}
	remove := &cobra.Command{
		Use: "remove LINK", Short: "Withdraw a launch link; the workspaces that came of it stay", Example: "  yardbench launch-link remove k3v7q2m4xa", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("withdraw it", "Withdraw this launch link? The workspaces that came of it stay."); err != nil {
				return err
			}
			if err := api.LaunchLinks.Drop(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintln(a.err, "it is withdrawn") })
		}),
	}
	c.AddCommand(add, list, show, use, turn("pause", "Have a launch link launch nothing for a time", true, "it launches nothing now"), turn("resume", "Have a paused launch link launch again", false, "it launches again"), remove)
	return c
}

// forWhom says who may use a launch link.
func forWhom(l wire.LaunchLink) string {
	if l.GuestS > 0 {
		long := time.Duration(l.GuestS) * time.Second
		each := took(long)
		if days := int(long / (24 * time.Hour)); long == time.Duration(days)*24*time.Hour {
			each = map[bool]string{true: "a day", false: fmt.Sprintf("%d days", days)}[days == 1]
		}
		return fmt.Sprintf("%s and guests of theirs, each for %s", l.Team, each)
	}
	return cmp.Or(l.Team, "whoever signs in")
}

// launches says what a launch link launches.
func launches(l wire.LaunchLink) string {
	s := l.Launch.Repository
	if l.Launch.Branch != "" {
		s += "@" + l.Launch.Branch
	}
	if l.Launch.Size != "" {
		s += ", " + l.Launch.Size
	}
	return clean(s)
}

// standing says how a launch link is.
func standing(l wire.LaunchLink) string {
	switch {
	case l.PausedAt != nil:
		return "paused since " + when(*l.PausedAt)
	case l.Until != nil && !time.Now().Before(*l.Until):
		return "ended " + when(*l.Until)
	case l.PeopleMost > 0 && l.Used >= l.PeopleMost:
		return "used up"
	case l.Until != nil:
		return "until " + when(*l.Until)
	}
	return "open"
}
