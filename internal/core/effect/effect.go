// Package effect says what a change of the house rules would do to what is there
// now: what rests, what is removed, who is over their limits.
//
// It is part of the core: plain functions, with the time as an argument.
package effect

import (
	"maps"
	"slices"
	"time"

	"yardbench/internal/core/quota"
	"yardbench/internal/core/rules"
)

// Stand is how a workspace stands, by the rules that are and by those that would be.
type Stand struct {
	Name, Owner, Team string
	Size              rules.Size
	Counts            bool // it runs, or is to: it counts for limits as one that does
	Stopped           bool // it is stopped, and removed after a while
	Clean             bool // no work in it exists nowhere else
	// Was and Would are when it is put to rest, or removed, without another sign of work: as it is,
	// and as it would be. Zero is never.
	Was, Would time.Time
}

// Kind is what happens.
type Kind string

// What a change can do.
const (
	Rests   Kind = "rests"      // they are put to rest, unless somebody works in them
	Removed Kind = "removed"    // they are removed
	Stays   Kind = "stays"      // they would be removed, but for work that exists nowhere else
	Over    Kind = "over limit" // somebody has more than they may: nothing is taken, and nothing more starts
)

// Effect is one thing that a change does.
type Effect struct {
	Kind Kind
	// Of is out of how many; Names are which, or whose limits, in order.
	Of    int
	Names []string
	At    time.Time // when, of what rests and what is removed: the first of them
	// Lines are the limits that are exceeded.
	Lines []quota.Line
	// Wide tells that it reaches so much that whoever asks for it must say that it is meant.
	Wide bool
}

// share is the part of the fleet that nobody puts to rest or removes by one change
// without saying that it is meant: a quarter, and two at least.
const share = 4

// soon is how much later than at the earliest something happens and still comes of the change.
const soon = time.Minute

// Of says what comes of a change at a time.
func Of(now time.Time, was, would rules.Rules, fleet []Stand) (out []Effect) {
	rests, removed, stays := Effect{Kind: Rests}, Effect{Kind: Removed}, Effect{Kind: Stays}
	for _, s := range fleet {
		e, within := &rests, would.Idle.WarnBefore
		switch {
		case s.Stopped:
			e, within = &removed, rules.RemovalNotice
			stays.Of++
		case !s.Counts:
			continue
		}
		e.Of++
		due := now.Add(within + soon)
		if s.Would.IsZero() || s.Would.After(due) || !s.Was.IsZero() && !s.Was.After(due) {
			continue
		}
		if s.Stopped && !s.Clean {
			e = &stays
		}
		e.Names = append(e.Names, s.Name+"."+s.Owner)
		if e.At.IsZero() || s.Would.Before(e.At) {
			e.At = s.Would
		}
	}
	for _, e := range []Effect{rests, removed, stays} {
		if len(e.Names) == 0 {
			continue
		}
		slices.Sort(e.Names)
		e.Wide = e.Kind != Stays && len(e.Names) > 1 && len(e.Names)*share > e.Of
		out = append(out, e)
	}
	return append(out, over(was, would, fleet)...)
}

// over says who would be over a limit and is not now.
func over(was, would rules.Rules, fleet []Stand) (out []Effect) {
	people, teams := map[string]rules.Amounts{}, map[string]rules.Amounts{}
	add := func(to map[string]rules.Amounts, name string, s Stand) {
		if to[name] == nil {
			to[name] = rules.Amounts{}
		}
		to[name][rules.Existing]++
		if s.Counts {
			for k, n := range quota.Start(s.Size) {
				to[name][k] += n
			}
		}
	}
	for _, s := range fleet {
		add(people, s.Owner, s)
		if s.Team != "" {
			add(teams, s.Team, s)
		}
	}
	look := func(whose string, used, was, would rules.Amounts) {
		e := Effect{Kind: Over, Names: []string{whose}}
		for _, k := range rules.Kinds {
			before, limited := was[k]
			now, limits := would[k]
			if limits && used[k] > now && (!limited || used[k] <= before) {
				e.Lines = append(e.Lines, quota.Line{Kind: k, Whose: whose, Used: used[k], Allowed: now})
			}
		}
		if len(e.Lines) > 0 {
			out = append(out, e)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(people)) {
		look(name, people[name], was.Limits.OfPerson(name), would.Limits.OfPerson(name))
	}
	for _, name := range slices.Sorted(maps.Keys(teams)) {
		look("team "+name, teams[name], was.Limits.OfTeam(name), would.Limits.OfTeam(name))
	}
	return out
}
