package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbench/internal/core/effect"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/rules"
	"yardbench/internal/store"
	"yardbench/wire"
)

// effects says what a change of the house rules would do to what is there now.
func (s *HouseRules) effects(ctx context.Context, people []store.Person, was, would rules.Rules) ([]wire.RulesEffect, error) {
	q := s.store.Read()
	all, err := q.PeoplesWorkspaces(ctx, store.Scope{})
	if err != nil {
		return nil, err
	}
	whose := map[string]store.Person{}
	for _, p := range people {
		whose[p.ID] = p
	}
	holds, err := q.Holds(ctx)
	if err != nil {
		return nil, err
	}
	conditions, err := q.AllConditions(ctx)
	if err != nil {
		return nil, err
	}
	now := s.now().UTC()
	would = would.PutOver(was, now)
	var fleet []effect.Stand
	for _, w := range all {
		x := effect.Stand{Name: w.Name, Owner: whose[w.OwnerID].Name, Team: whose[w.OwnerID].Team, Size: rules.Size{CoresMilli: w.CoresMilli, MemoryBytes: w.MemoryBytes, DiskBytes: w.DiskBytes},
			Counts: w.Phase.Reserves(), Stopped: w.Phase == lifecycle.Stopped && w.Plan.Adopted == nil, Clean: w.SeededVolume == 0 || w.Work != nil && w.Work.Clean()}
		switch {
		case x.Stopped:
			x.Was, x.Would = was.RemovesAt(w.PhaseAt), would.RemovesAt(w.PhaseAt)
		case w.Phase == lifecycle.Ready:
			x.Was, x.Would = s.keeper.Rest.Verdict(was, w, holds[w.ID], conditions[w.ID]).StopAt, s.keeper.Rest.Verdict(would, w, holds[w.ID], conditions[w.ID]).StopAt
		}
		fleet = append(fleet, x)
	}
	out := []wire.RulesEffect{}
	for _, e := range effect.Of(now, was, would, fleet) {
		v := wire.RulesEffect{Kind: string(e.Kind), Names: e.Names, Of: e.Of, Wide: e.Wide, Text: s.effectText(ctx, now, e)}
		if !e.At.IsZero() {
			v.At = &e.At
		}
		out = append(out, v)
	}
	return out, nil
}

func (s *HouseRules) effectText(ctx context.Context, now time.Time, e effect.Effect) string {
	count := fmt.Sprintf("%d of the %d", len(e.Names), e.Of)
	at := s.house.Local(ctx, s.store.Read(), now, e.At)
	switch e.Kind {
	case effect.Rests:
		return count + " that run are put to rest, the first at " + at + ", unless somebody works in them: " + some(e.Names)
	case effect.Removed:
		return count + " that are stopped are removed, the first at " + at + ", unless somebody starts them: " + some(e.Names)
	case effect.Stays:
		return count + " that are stopped would be removed, but for work in them that exists nowhere else: " + some(e.Names)
	}
	var lines []string
	for _, l := range e.Lines {
		lines = append(lines, fmt.Sprintf("%s %s of %s", l.Kind, rules.Amount(l.Kind, l.Used), rules.Amount(l.Kind, l.Allowed)))
	}
	return e.Names[0] + " has more than is allowed then: " + strings.Join(lines, ", ") + "; nothing is taken, and nothing more starts"
}

// unknown says which names in a document are nobody's, and what in it has ended.
func (s *HouseRules) unknown(ctx context.Context, people []store.Person, r rules.Rules) ([]wire.RulesFinding, error) {
	q := s.store.Read()
	known := map[string][]string{}
	closed := map[string]bool{}
	for _, p := range people {
		known["person"] = append(known["person"], p.Name)
		closed[p.Name] = p.ClosedAt != nil
	}
	teams, err := q.Teams(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range teams {
		known["team"] = append(known["team"], t.Name)
	}
	repositories, err := q.Repositories(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range repositories {
		if !r.Removed {
			known["repository"] = append(known["repository"], r.Name)
		}
	}
	out := []wire.RulesFinding{}
	for _, n := range r.Names {
		f := wire.RulesFinding{Line: n.Line, Column: n.Column}
		switch {
		case !slices.Contains(known[n.Kind], n.Name):
			f.What = "there is no " + n.Kind + " " + quote(n.Name)
			if near := plain.Near(n.Name, known[n.Kind]); near != "" {
				f.Fix = "write " + near + ", if that is meant"
			}
		case n.Kind == "person" && closed[n.Name]:
			f.What, f.Fix = "the account of "+n.Name+" is closed", "take it out"
		case !r.Ends[n.Path].IsZero() && !s.now().Before(r.Ends[n.Path]):
			f.What, f.Fix = n.Path+" has ended", "take it out"
		default:
			continue
		}
		out = append(out, f)
	}
	return out, nil
}
