package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/policy"
	"yardbench/internal/reach"
	"yardbench/wire"
)

// doctor is what stands between somebody and their service, and what of the
// service is open.
type doctor struct {
	Address    string   `json:"address"`
	Version    string   `json:"version"`     // of the service
	OwnVersion string   `json:"own_version"` // of this program
	ClockAhead int      `json:"clock_ahead_s"`
	Name       string   `json:"name,omitempty"`
	Role       string   `json:"role,omitempty"`
	SSH        string   `json:"ssh,omitempty"` // where its door is, and by which key it is known
	Problems   []string `json:"problems"`
	Warnings   []string `json:"warnings,omitempty"` // of the service, that nobody feels yet
	// Openings are told to operators alone; null where nobody may be told.
	Openings []wire.Opening `json:"openings"`
}

// clockMost is how far clocks may lie apart before anybody is told: signed news
// of pushes may be five minutes old.
const clockMost = time.Minute

func (a serviceCommands) doctor() *cobra.Command {
	return &cobra.Command{
		Use: "doctor", Short: "Say what stands between you and the service; and to operators, what of it is open",
		Long:    "Say what stands between you and the service: address, answer, version, clock, sign-in. Operators are told besides what of their installation is open, and how each is closed: of the house rules, of the way people come, of what they were given, of the yard.",
		Example: "  yardbench doctor\n  yardbench doctor --json", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			ctx := cmd.Context()
			d := doctor{Address: api.Address(), OwnVersion: wire.Version(), Problems: []string{}}
			asked := time.Now()
			h, err := api.Health(ctx)
			if err != nil {
				return err
			}
			ahead := asked.Add(time.Since(asked) / 2).Sub(h.At)
			d.Version = h.Version
			for _, t := range h.Troubles {
				if t.Grave {
					d.Problems = append(d.Problems, "the service is troubled: "+t.Text)
				} else {
					d.Warnings = append(d.Warnings, fmt.Sprintf("since %s: %s", when(t.Since), t.Text))
				}
			}
			if d.Version != d.OwnVersion {
				d.Problems = append(d.Problems, fmt.Sprintf("the service is of version %s and this program of %s: take the program of the service", orUnknown(d.Version), orUnknown(d.OwnVersion)))
			}
			if d.ClockAhead = int(ahead.Round(time.Second) / time.Second); ahead.Abs() > clockMost {
				d.Problems = append(d.Problems, fmt.Sprintf("the clock of this machine and the service's lie %s apart: set the one that is wrong", ahead.Abs().Round(time.Second)))
			}
			if !reach.SafeWay(d.Address) {
				d.Problems = append(d.Problems, "you reach the service without TLS: whoever sits between reads what you send")
			}
			me, err := api.Self.Me(ctx)
			if p := (&wire.Problem{}); errors.As(err, &p) && p.Status == http.StatusUnauthorized {
				d.Problems, err = append(d.Problems, p.Detail+": "+p.Next), nil
			}
			if err != nil {
				return err
			}
			if d.Name, d.Role = me.Name, me.Role; d.Name != "" {
				door, err := api.Self.SSHDoor(ctx)
				if err != nil {
					return err
				}
				d.SSH = sshAt(ctx, door)
			}
			if me.Role == string(policy.Operator) {
				if d.Openings, err = api.Openings(ctx); err != nil {
					return err
				}
			}
			if err := a.print(d, func() { a.printDoctor(d) }); err != nil || len(d.Problems) == 0 {
				return err
			}
			return exit(exitError)
		}),
	}
}

func orUnknown(version string) string {
	if version == "" {
		return "unknown"
	}
	return version
}

func (a serviceCommands) printDoctor(d doctor) {
	from := "from your sign-in"
	switch {
	case a.address != "":
		from = "from --address"
	case os.Getenv("YARDBENCH_ADDRESS") != "":
		from = "from YARDBENCH_ADDRESS"
	}
	fmt.Fprintf(a.out, "the service   %s, %s\n", d.Address, from)
	fmt.Fprintf(a.out, "versions      %s there, %s here\n", orUnknown(d.Version), orUnknown(d.OwnVersion))
	fmt.Fprintf(a.out, "clocks        %d s apart\n", max(d.ClockAhead, -d.ClockAhead))
	if d.Name != "" {
		fmt.Fprintf(a.out, "you           %s, %s\n", d.Name, d.Role)
		fmt.Fprintf(a.out, "SSH           %s\n", d.SSH)
	}
	for _, p := range d.Problems {
		fmt.Fprintf(a.out, "  %s\n", clean(p))
	}
	for _, p := range d.Warnings {
		fmt.Fprintf(a.out, "  %s\n", clean(p))
	}
	if len(d.Problems) == 0 {
		fmt.Fprintln(a.out, "nothing stands between you and the service")
	}
	if d.Openings == nil {
		return
	}
	fmt.Fprintf(a.out, "\n%d things are open here, and how each is closed:\n", len(d.Openings))
	area := ""
	for _, o := range d.Openings {
		if o.Area != area {
			area = o.Area
			fmt.Fprintf(a.out, "\n%s\n", area)
		}
		how := clean(o.Close)
		if o.Action != nil {
			how += " with: " + commandFor(*o.Action)
		}
		fmt.Fprintf(a.out, "  %s\n      %s\n", clean(o.What), how)
	}
}

// sshAt is where the door of SSH is, whether it can be reached from here, and by
// which key it is known.
func sshAt(ctx context.Context, door wire.SSHDoor) string {
	at := "over the HTTP door"
	if door.Address != "" {
		at = door.Address
		if _, _, err := reachable(ctx, door); err != nil {
			at += ", which cannot be reached from here: over the HTTP door"
		}
	}
	return at + ", known by " + door.Fingerprint
}
