package service

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/page"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/wire"
)

// HouseRules are the use cases of the house rules.
type HouseRules struct {
	house  *house.Book
	keeper *reconcile.Keeper
	store  *store.Store
	now    func() time.Time
}

// FirstRules puts the first house rules into a service that has none.
func (s *HouseRules) FirstRules(ctx context.Context, document string) error {
	if _, err := s.store.Read().Rules(ctx); err == nil {
		return nil
	}
	if _, findings := rules.Parse([]byte(document)); len(findings) > 0 {
		return fmt.Errorf("the first house rules: %s", findings[0])
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		_, err := s.putRules(ctx, tx, store.RulesVersion{Document: document, AuthorID: "service", Reason: "the service's first start"}, nil)
		return err
	})
}

func (s *HouseRules) putRules(ctx context.Context, tx *store.Tx, r store.RulesVersion, changes []string) (int, error) {
	version, err := tx.AddRules(ctx, r)
	if err != nil {
		return 0, err
	}
	return version, tx.Journal(ctx, fmt.Sprint(version), "", r.AuthorID, journal.RulesPut{Reason: r.Reason, Changes: changes})
}

// rulesKind orders the versions of the house rules, the newest first.
var rulesKind = page.Kind[int]{Name: "rules", Usual: "-version", ID: strconv.Itoa,
	Orders: []page.Order[int]{{Name: "version", Key: func(n int) string { return page.Number(int64(n)) }}}}

// Rules lists the versions of the house rules, the newest first.
func (s *HouseRules) Rules(ctx context.Context, a Actor, ask page.Ask) (out Part[wire.RulesVersion], err error) {
	rows, err := s.versions(ctx, a)
	if err != nil {
		return out, err
	}
	at := make([]int, len(rows))
	for n := range at {
		at[n] = n
	}
	part, err := PartOf(rulesKind, at, ask)
	out = Part[wire.RulesVersion]{Items: []wire.RulesVersion{}, Next: part.Next}
	for _, n := range part.Items {
		out.Items = append(out.Items, s.versionView(ctx, rows, n).RulesVersion)
	}
	return out, err
}

// Version is one version of the house rules; 0 is the one in force.
func (s *HouseRules) Version(ctx context.Context, a Actor, number int) (wire.Rules, error) {
	rows, err := s.versions(ctx, a)
	if err != nil {
		return wire.Rules{}, err
	}
	if number == 0 {
		number = len(rows)
	}
	if number < 1 || number > len(rows) {
		return wire.Rules{}, notFound("version of the house rules", strconv.Itoa(number), "see them", fault.Do("list-rules", ""))
	}
	return s.versionView(ctx, rows, number-1), nil
}

// versions are all there were, the oldest first: their numbers go up by one.
func (s *HouseRules) versions(ctx context.Context, a Actor) ([]store.RulesVersion, error) {
	if !a.may(policy.SeeRules) {
		return nil, denied(a, "see the house rules")
	}
	return s.store.Read().RulesVersions(ctx)
}

func (s *HouseRules) versionView(ctx context.Context, rows []store.RulesVersion, n int) wire.Rules {
	r := rows[n]
	v := wire.Rules{RulesVersion: wire.RulesVersion{Version: r.Version, Author: nameOf(ctx, s.store.Read(), r.AuthorID), Reason: r.Reason, At: r.At, Changes: []string{}}, Document: r.Document}
	if n > 0 {
		before, _ := rules.Parse([]byte(rows[n-1].Document)) // what was in force has no mistakes
		now, _ := rules.Parse([]byte(r.Document))
		v.Changes = append(v.Changes, rules.Diff(before, now)...)
	}
	return v
}

// CheckRules says what is wrong with a document, and what it would change.
func (s *HouseRules) CheckRules(ctx context.Context, a Actor, document string) (wire.RulesCheck, error) {
	if !a.may(policy.SeeRules) {
		return wire.RulesCheck{}, denied(a, "see the house rules")
	}
	return s.checkRules(ctx, a, document)
}

// checkRules also tells who may put them what that would do: it names people's workspaces.
func (s *HouseRules) checkRules(ctx context.Context, a Actor, document string) (wire.RulesCheck, error) {
	c := wire.RulesCheck{Findings: []wire.RulesFinding{}, Warnings: []wire.RulesFinding{}, Changes: []string{}, Effects: []wire.RulesEffect{}}
	r, findings := rules.Parse([]byte(document))
	for _, f := range findings {
		c.Findings = append(c.Findings, wire.RulesFinding(f))
	}
	if len(findings) > 0 {
		return c, nil
	}
	now, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return c, err
	}
	whole, err := s.house.Whole(ctx, s.store.Read())
	if err != nil {
		return c, err
	}
	c.Changes = append(c.Changes, rules.Diff(whole, r)...)
	if !a.may(policy.ChangeRules) {
		return c, nil
	}
	people, err := s.store.Read().People(ctx, store.Scope{})
	if err != nil {
		return c, err
	}
	if c.Warnings, err = s.unknown(ctx, people, r); err != nil {
		return c, err
	}
	would, _ := r.At(s.now())
	c.Effects, err = s.effects(ctx, people, now, would)
	return c, err
}

// PutRules makes a document the house rules: in force at once.
func (s *HouseRules) PutRules(ctx context.Context, a Actor, in wire.RulesText) (wire.Rules, error) {
	if !a.may(policy.ChangeRules) {
		return wire.Rules{}, denied(a, "change the house rules")
	}
	in.Reason = strings.TrimSpace(in.Reason)
	if in.Reason == "" || hasControl(in.Reason) {
		return wire.Rules{}, invalid("the reason is missing", "say why the house rules change: it stands in the journal")
	}
	c, err := s.checkRules(ctx, a, in.Document)
	if err != nil {
		return wire.Rules{}, err
	}
	if len(c.Findings) > 0 {
		p := invalidAs("rules", fmt.Sprintf("the document has %d mistakes; nothing is changed", len(c.Findings)), "correct them and put it again")
		for _, f := range c.Findings {
			p.Parts = append(p.Parts, fault.Part{Field: fmt.Sprintf("line %d, column %d", f.Line, f.Column), Detail: strings.TrimSuffix(f.What+"; "+f.Fix, "; ")})
		}
		return wire.Rules{}, p
	}
	if len(c.Changes) == 0 {
		return wire.Rules{}, conflict("no-change", "the document changes nothing", "")
	}
	if !in.Meant && slices.ContainsFunc(c.Effects, func(e wire.RulesEffect) bool { return e.Wide }) {
		p := conflict("far-reaching", "this reaches a large part of the fleet; nothing is changed", "say that it is meant", fault.Do("put-rules", "", "meant"))
		for _, e := range c.Effects {
			p.Parts = append(p.Parts, fault.Part{Field: e.Kind, Detail: e.Text})
		}
		return wire.Rules{}, p
	}
	out := wire.Rules{Effects: c.Effects, RulesVersion: wire.RulesVersion{Author: a.Name, Reason: in.Reason, Changes: c.Changes}, Document: in.Document}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		now, err := tx.Rules(ctx)
		if err != nil {
			return err
		}
		if err := matches(ctx, "the house rules", wire.Rules{RulesVersion: wire.RulesVersion{Version: now.Version, Author: nameOf(ctx, tx.Q, now.AuthorID), Reason: now.Reason, At: now.At, Changes: []string{}}, Document: now.Document}); err != nil {
			return err
		}
		out.At = tx.Now()
		out.Version, err = s.putRules(ctx, tx, store.RulesVersion{Document: in.Document, AuthorID: a.ID, Reason: in.Reason}, c.Changes)
		return err
	})
	if err == nil {
		s.keeper.Status.SecretsChanged(func(store.Workspace) bool { return true }) // they say who is given which
		err = s.keeper.Rejudge(ctx)
	}
	return out, err
}

// Zone is the house's time zone.
func (s *HouseRules) Zone(ctx context.Context) (*time.Location, error) {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	return house.Zone, err
}
