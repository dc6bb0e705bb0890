package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/lifecycle"
	"yardbench/wire"
)

func (a workspaceCommands) wait() *cobra.Command {
	var until string
	var most time.Duration
	c := &cobra.Command{
		Use: "wait NAME", Short: "Wait until a workspace is ready, stopped or removed",
		Long:    "Wait until a workspace is ready, stopped or removed. One that can no longer come to that by itself ends the waiting: exit code 6; and so does the time, with 8.",
		Example: "  yardbench wait tide-board && yardbench run tide-board -- make check\n  yardbench wait tide-board --until removed --timeout 2m", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			wanted := lifecycle.Phase(until)
			if wanted != lifecycle.Ready && wanted != lifecycle.Stopped && wanted != lifecycle.Removed {
				return usage{fmt.Errorf("%q cannot be waited for: say ready, stopped or removed", until)}
			}
			ctx := cmd.Context()
			if most > 0 {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, most)
				defer cancel()
			}
			var last wire.Workspace
			came := false
			err := api.Watch(ctx, func() (bool, error) {
				w, err := api.Workspaces.Show(ctx, args[0])
				if gone := (&wire.Problem{}); errors.As(err, &gone) && gone.Status == http.StatusNotFound && last.ID != "" {
					came, last.Phase = wanted == lifecycle.Removed, string(lifecycle.Removed)
					return true, nil
				}
				if err != nil {
					return false, err
				}
				last = w
				came = lifecycle.Phase(w.Phase) == wanted && !w.Rebuilding
				return came || !comesTo(w, wanted), nil
			})
			switch {
			case cmd.Context().Err() != nil:
				return exit(exitInterrupt)
			case errors.Is(err, context.DeadlineExceeded):
				fmt.Fprintf(a.err, "yardbench: %s is %s after %s\n", args[0], last.Phase, most)
				return exit(exitLater)
			case err != nil:
				return err
			case !came:
				fmt.Fprintf(a.err, "yardbench: %s is %s, and does not come to be %s by itself\n", args[0], state(last.Phase, last.FailedIn, nil), wanted)
				return exit(exitFailed)
			}
			return a.print(last, func() {
				if !a.quiet {
					fmt.Fprintf(a.out, "%s is %s\n", args[0], last.Phase)
				}
			})
		}),
	}
	c.Flags().StringVar(&until, "until", "ready", "ready, stopped or removed")
	c.Flags().DurationVar(&most, "timeout", 0, "wait no longer than this, like 90s or 10m (default: as long as it takes)")
	_ = c.RegisterFlagCompletionFunc("until", cobra.FixedCompletions([]string{"ready", "stopped", "removed"}, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
	return c
}

// comesTo tells whether a workspace is on its way to a phase.
func comesTo(w wire.Workspace, wanted lifecycle.Phase) bool {
	if w.Rebuilding {
		return true
	}
	switch lifecycle.Phase(w.Phase) {
	case lifecycle.Waiting, lifecycle.Preparing, lifecycle.Starting:
		return wanted == lifecycle.Ready || w.Wanted == string(wanted)
	case lifecycle.Stopping:
		return wanted == lifecycle.Stopped || w.Wanted == string(wanted)
	case lifecycle.Removing:
		return wanted == lifecycle.Removed
	case lifecycle.Ready:
		return wanted == lifecycle.Ready // who waits for rest or removal waits for whoever asks for it
	}
	return false
}

func (a portCommands) open() *cobra.Command {
	return &cobra.Command{
		Use: "open NAME [PORT]", Short: "Open a workspace, or one of its ports, in the browser",
		Long:    "Open a workspace, or one of its ports, in the browser: by the program that this machine opens addresses with. Where there is none, the address is printed.",
		Example: "  yardbench open tide-board\n  yardbench open tide-board 8000", Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			w, err := api.Workspaces.Show(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			address := api.Address() + "/bench/" + name(w)
			if len(args) == 2 {
				n, err := strconv.Atoi(args[1])
				if err != nil {
					return usage{fmt.Errorf("%q is no number of a port", args[1])}
				}
				p, err := api.Ports.Show(cmd.Context(), args[0], n)
				if err != nil {
					return err
				}
				address = p.Address
			}
			if !strings.HasPrefix(address, "http://") && !strings.HasPrefix(address, "https://") {
				return fmt.Errorf("the service gives %q, which no browser should open", clean(address))
			}
			if program, err := exec.LookPath("xdg-open"); err == nil && !a.json && isTerminal(a.err) && exec.CommandContext(cmd.Context(), program, address).Run() == nil {
				return nil
			}
			return a.print(map[string]string{"address": address}, func() { fmt.Fprintln(a.out, address) })
		}),
	}
}

func (a serviceCommands) version() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Say what this program and the service were built from", Example: "  yardbench version", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			v := struct {
				Own     string `json:"own_version"`
				Service string `json:"version,omitempty"`
				Address string `json:"address,omitempty"`
			}{Own: wire.Version()}
			if api, err := a.client(); err == nil {
				ctx, cancel := context.WithTimeout(cmd.Context(), 3*time.Second)
				defer cancel()
				if h, err := api.Health(ctx); err == nil { // the program's own is told without it
					v.Service, v.Address = h.Version, api.Address()
				}
			}
			return a.print(v, func() {
				fmt.Fprintf(a.out, "yardbench %s\n", orUnknown(v.Own))
				if v.Address != "" {
					fmt.Fprintf(a.out, "the service at %s %s\n", v.Address, orUnknown(v.Service))
				}
			})
		},
	}
}

func (a peopleCommands) whoami() *cobra.Command {
	return &cobra.Command{
		Use: "whoami", Short: "Say as whom you are signed in, and where", Example: "  yardbench whoami", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			me, err := api.Self.Me(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(me, func() {
				if a.quiet {
					fmt.Fprintln(a.out, me.Name)
					return
				}
				team := ""
				if all := teamsOf(me.Person); all != "" {
					team = ", " + all
				}
				fmt.Fprintf(a.out, "%s (%s, %s%s) at %s\n", me.Name, me.FullName, me.Role, team, api.Address())
				if len(me.Scopes)+len(me.Repositories) > 0 {
					fmt.Fprintf(a.out, "by a token that reaches %s\n", reaches(me.Scopes, me.Repositories))
				}
				if me.AccessUntil != nil {
					fmt.Fprintf(a.out, "you are a guest here until %s\n", when(*me.AccessUntil))
				}
				for _, g := range me.EndingGuests {
					fmt.Fprintf(a.out, "the access of %s, a guest, ends %s; extend it: yardbench guest extend %s --until DAY\n", g.Name, when(g.Until), g.Name)
				}
				for _, s := range me.AgingSecrets {
					of := map[string]string{"team": " --of-team " + s.Team, "house": " --of-house"}[s.Level]
					fmt.Fprintf(a.out, "the secret %s was set %s; set it anew where it comes from, and here: yardbench secret put %s%s\n", s.Name, when(s.UpdatedAt), s.Name, of)
				}
				for _, t := range me.Expiring {
					if t.Door == "ssh" {
						fmt.Fprintf(a.out, "the key %q for SSH lets you in until %s; remove it and add it again, or another: yardbench key add FILE\n", clean(t.Name), when(t.ExpiresAt))
						continue
					}
					fmt.Fprintf(a.out, "the token %q expires %s; make another: yardbench token add NAME\n", clean(t.Name), when(t.ExpiresAt))
				}
			})
		}),
	}
}
