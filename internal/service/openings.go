package service

import (
	"context"
	"fmt"
	"time"

	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/reach"
	"yardbench/internal/store"
	"yardbench/internal/yard"
	"yardbench/wire"
)

// Openings tells operators what of their installation is open.
type Openings struct {
	address string
	perHour int
	yard    yard.Examiner // nil where the yard can say nothing
	house   *house.Book
	store   *store.Store
	now     func() time.Time
	// lastBackup is when the newest backup was made; zero for never, nil where nobody
	// could make one.
	lastBackup func() (time.Time, error)
	// undecided counts what the yard has of workspaces that no record knows and nobody has
	// looked at.
	undecided func(ctx context.Context) (int, error)
}

// oldBackup is how old the newest backup may be before it is told.
const oldBackup = 48 * time.Hour

// Openings lists what is open, and how each is closed: of the yard, of the house
// rules, of the way people come, of what people were given.
func (s *Openings) Openings(ctx context.Context, a Actor) (out []wire.Opening, err error) {
	if !a.may(policy.ChangeRules) {
		return nil, denied(a, "see what is open")
	}
	say := func(is bool, area, kind, what, how string) {
		if is {
			out = append(out, wire.Opening{Area: area, Kind: kind, What: what, Close: how})
		}
	}
	out = []wire.Opening{}
	say(!reach.SafeWay(s.address), "way in", "no-tls", "people reach "+s.address+" without TLS: whoever sits between reads passwords and secrets", "give the service a certificate, or put a proxy before it, and start it with that address; see docs/proxies.md")
	say(s.perHour == 0, "way in", "no-pace", "nobody is held to a pace: one person can fill the journal", "start the service with --changes-per-hour")
	if s.lastBackup != nil {
		at, err := s.lastBackup()
		if err != nil {
			return nil, err
		}
		how := "have one made each day; see docs/operating.md, Backup"
		say(at.IsZero(), "records", "no-backup", "no backup was ever made of the records: whoever loses this disk loses them", how)
		say(!at.IsZero() && s.now().Sub(at) > oldBackup, "records", "old-backup", fmt.Sprintf("the newest backup of the records is of %s", at.UTC().Format("2006-01-02 15:04 MST")), how)
	}
	open, err := s.store.Read().Enrolments(ctx, s.now())
	if err != nil {
		return nil, err
	}
	for _, e := range open {
		say(e.Role == policy.Operator, "people", "operator-link", fmt.Sprintf("an enrolment link for an operator is open until %s: whoever has it is one", e.ExpiresAt.UTC().Format("2006-01-02 15:04 MST")), "use it, or take it back")
		if e.Role == policy.Operator {
			do := wire.Action(fault.Do("end-enrolment", e.ID))
			out[len(out)-1].Action = &do
		}
	}
	rules, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return nil, err
	}
	for _, o := range rules.Openings() {
		say(true, "house rules", o.Kind, o.What, o.Close)
	}
	say(true, "git", "git-as-owner", "what runs in a workspace fetches and pushes as its owner, in every repository of the host that the owner's credential opens", "have people connect with the host, or give tokens, for as little as git needs")
	if s.yard != nil {
		of, err := s.yard.Examine(ctx)
		if err != nil {
			return nil, fromRoom(err)
		}
		for _, o := range of {
			say(true, "yard", o.Kind, o.What, o.Close)
		}
	}
	n, err := s.undecided(ctx)
	if err != nil {
		return nil, fromRoom(err)
	}
	what := "a workspace that no record knows is"
	if n > 1 {
		what = fmt.Sprintf("%d workspaces that no record knows are", n)
	}
	if say(n > 0, "yard", "unknown-files", what+" in the yard, with somebody's files", "look at what there is, and give, keep or remove each"); n > 0 {
		do := wire.Action(fault.Do("list-quarantine", ""))
		out[len(out)-1].Action = &do
	}
	return out, nil
}
