// Package held holds the records, the journal and a yard against each other,
// once nothing is under way any more: for the tests that try to break them.
package held

import (
	"context"
	"encoding/json"
	"fmt"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// Limits are what a person may have at most; 0 is no limit.
type Limits struct{ Existing, Running int }

// Together says what does not hold, and counts what was looked at. has is
// everything that the yard has, by workspace.
func Together(ctx context.Context, q store.Q, has map[string]yard.Observation, limits Limits) (wrong []string, launches, entries int, err error) {
	tell := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	if err := q.VerifyJournal(ctx); err != nil {
		tell("%v", err)
	}
	unsummed, err := q.Unsummed(ctx)
	if err != nil {
		return nil, 0, 0, err
	}
	for _, id := range unsummed {
		tell("the sums of %s are not those of its intervals", id)
	}
	journal, err := q.Journal(ctx, store.JournalFilter{Limit: 1_000_000})
	if err != nil {
		return nil, 0, 0, err
	}
	phase, launched, owner := map[string]lifecycle.Phase{}, map[string]int{}, map[string]string{}
	for _, e := range journal {
		from := phase[e.Subject]
		switch e.Kind {
		case "workspace.launched":
			launched[e.Subject]++
			phase[e.Subject] = lifecycle.Waiting
			if _, err := q.WorkspaceByID(ctx, e.Subject); err != nil {
				tell("%s was launched and has no row: %v", e.Subject, err)
			}
			owner[e.Subject] = e.OwnerID // "" for a prebuild, which is nobody's
		case "workspace.phase":
			var d struct{ From, To lifecycle.Phase }
			if err := json.Unmarshal(e.Data, &d); err != nil {
				return nil, 0, 0, err
			}
			if from != d.From || !lifecycle.MayBy(d.From, d.To, e.Actor != "service") {
				tell("entry %d moves %s from %s to %s by %s, and it was %s", e.Number, e.Subject, d.From, d.To, e.Actor, from)
			}
			phase[e.Subject] = d.To
		default:
			continue
		}
		existing, running := 0, 0
		for id, o := range owner {
			if p := phase[id]; o == owner[e.Subject] && p != lifecycle.Removed {
				existing++
				if runs(p) {
					running++
				}
			}
		}
		// One that has failed may be stopped, and is on its way to less.
		if more := runs(phase[e.Subject]) && !runs(from) && phase[e.Subject] != lifecycle.Stopping; more && owner[e.Subject] != "" && (limits.Existing > 0 && existing > limits.Existing || limits.Running > 0 && running > limits.Running) {
			tell("with entry %d %d workspaces of one person exist, and %d run", e.Number, existing, running)
		}
	}
	rows, err := q.Workspaces(ctx)
	if err != nil {
		return nil, 0, 0, err
	}
	row := map[string]store.Workspace{}
	want := rules.Amounts{rules.Existing: 0, rules.Running: 0, rules.Cores: 0, rules.Memory: 0}
	for _, w := range rows {
		row[w.ID] = w
		if w.Kind == store.ForPerson {
			want[rules.Existing]++
			if w.Phase == lifecycle.Ready {
				want[rules.Running]++
				want[rules.Cores] += w.CoresMilli
				want[rules.Memory] += w.MemoryBytes
			}
		}
		o := has[w.ID]
		switch {
		case phase[w.ID] != w.Phase:
			tell("%s is %s, and by the journal %s", w.Name, w.Phase, phase[w.ID])
		case !w.Phase.Settled():
			tell("%s (%s) does not come to an end: it is %s, wanted %s", w.Name, w.ID, w.Phase, w.Wanted)
		case w.NextBody != 0 || w.NextPlan != nil:
			tell("%s is %s with a rebuild half done", w.Name, w.Phase)
		case w.Plan.Adopted != nil:
			if w.Phase == lifecycle.Ready && o.Bodies[1] != lifecycle.Running || w.Phase == lifecycle.Stopped && o.Bodies[1] == lifecycle.Running || w.Phase != lifecycle.Failed && len(o.Bodies) != 1 || len(o.Volumes) != 0 || o.Network {
				tell("%s was taken on and is %s, and the yard has %+v", w.Name, w.Phase, o)
			}
		case w.Phase == lifecycle.Ready && (o.Bodies[w.Body] != lifecycle.Running || !o.Volumes[w.Volume] || w.SeededVolume < w.Volume || len(o.Bodies) != 1 || len(o.Volumes) != 1):
			tell("%s is ready with body %d and volume %d, seeded %d, and the yard has %+v", w.Name, w.Body, w.Volume, w.SeededVolume, o)
		case w.Phase == lifecycle.Stopped && (o.Bodies[w.Body] == lifecycle.Running || w.SeededVolume > 0 && !o.Volumes[w.Volume]):
			tell("%s is stopped, and the yard has %+v", w.Name, o)
		case w.Phase == lifecycle.Failed && w.Cause == "":
			tell("%s failed without a cause", w.Name)
		}
	}
	for id := range has {
		if _, ok := row[id]; !ok {
			tell("the yard has something of %s, which is %s: %+v", id, phase[id], has[id])
		}
	}
	for id, p := range phase {
		if launched[id] != 1 {
			tell("%s was launched %d times", id, launched[id])
		}
		if _, ok := row[id]; !ok && p != lifecycle.Removed {
			tell("%s has no row and was last %s", id, p)
		}
	}
	// What is reserved is the sum of what lives.
	if got, err := q.Reserved(ctx, store.Scope{}); err != nil || fmt.Sprint(got) != fmt.Sprint(want) {
		tell("reserved are %v, living come to %v, %v", got, want, err)
	}
	return wrong, len(phase), len(journal), nil
}

// runs tells whether a workspace counts as running in a phase.
func runs(p lifecycle.Phase) bool {
	return p != "" && (!p.Settled() || p == lifecycle.Ready) && p != lifecycle.Removing
}
