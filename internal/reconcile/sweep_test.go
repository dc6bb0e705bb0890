package reconcile

import (
	"errors"
	"testing"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
	"yardbench/internal/yard"
	"yardbench/internal/yard/sim"
)

// What nothing is known of goes, but for files; what was removed goes whole;
// what lives is left alone. Done again it changes nothing, and a yard that
// does not always answer is asked again.
func TestSweep(t *testing.T) {
	y, err := sim.New("a", nil, sim.Options{Images: map[string]yard.Image{"base:1": {}}})
	if err != nil {
		t.Fatal(err)
	}
	b := newBench(t, func(r *Rooms) { r.Yard = y })
	ctx := t.Context()
	b.write(func(tx *store.Tx) error {
		return tx.AddWorkspace(ctx, &store.Workspace{ID: "gone", OwnerID: "p", Name: "gone", RepositoryID: "r", Phase: lifecycle.Removed, Wanted: lifecycle.WantRemoved, StewardToken: []byte{1}, PortKey: "g"})
	})
	for _, id := range []string{"w", "gone", "unknown", "empty"} {
		err := errors.Join(y.Make(ctx, yard.Network{Workspace: id}), y.Make(ctx, yard.Body{Workspace: id, Number: 1, Image: "base:1"}), y.Start(ctx, id, 1))
		if id != "empty" {
			err = errors.Join(err, y.Make(ctx, yard.Volume{Workspace: id, Number: 1, SizeBytes: 1}))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	y.Faults = 40
	for range 2 {
		if err := b.sweeper.sweep(ctx); err != nil {
			t.Fatal(err)
		}
	}
	y.Faults = 0
	for id, want := range map[string]struct{ network, volume, body bool }{"w": {true, true, true}, "gone": {}, "unknown": {volume: true}, "empty": {}} {
		o, err := y.Observe(ctx, id)
		if err != nil || o.Network != want.network || o.Volumes[1] != want.volume || (len(o.Bodies) > 0) != want.body {
			t.Errorf("of %s there is %+v, %v", id, o, err)
		}
	}
	told, err := b.Store.Read().Journal(ctx, store.JournalFilter{Kind: "yard.", Limit: 10})
	if err != nil || len(told) != 1 || told[0].Subject != "unknown" || told[0].Kind != "yard.quarantined" {
		t.Errorf("it is journalled as %+v, %v", told, err)
	}
}
