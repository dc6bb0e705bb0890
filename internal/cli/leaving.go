package cli

import (
	"context"
	"fmt"
	"strings"

	"yardbench/client"
	"yardbench/internal/core/lifecycle"
	"yardbench/wire"
)

// runsStill says what of somebody whose account is closed runs on, and stops it where that is wanted.
func (a peopleCommands) runsStill(ctx context.Context, api *client.Client, owner string, stop bool) error {
	rows, err := api.Workspaces.List(ctx, client.ListQuery{All: true, Owner: owner})
	if err != nil {
		return err
	}
	var names []string
	hour, currency := int64(0), ""
	for _, w := range rows {
		if lifecycle.Phase(w.Phase).Reserves() && w.Phase != string(lifecycle.Stopping) {
			names = append(names, w.Name+"."+w.Owner)
			hour, currency = hour+w.HourMicros, w.Currency
		}
	}
	if len(names) == 0 {
		return nil
	}
	if stop {
		o, err := api.Operations.Ask(ctx, wire.NewOperation{Verb: "stop", Names: names, Reason: "the account of " + owner + " was closed"})
		if err == nil && !a.json {
			fmt.Fprintf(a.out, "what runs of theirs is stopped, and its files stay: %s; see: yardbench operation show %s\n", clean(strings.Join(names, ", ")), o.ID)
		}
		return err
	}
	if !a.json {
		fmt.Fprintf(a.out, "of theirs there runs, at %s an hour: %s\nstop it with: yardbench stop --where all,owner=%s --why REASON\n", money(hour, currency), clean(strings.Join(names, ", ")), owner)
	}
	return nil
}
