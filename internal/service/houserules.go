package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

// HouseRules are the use cases of the house rules.
type HouseRules struct {
	house  *house.Book
	keeper *reconcile.Keeper
	store  *store.Store
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

// Rules gives every version of the house rules, the newest first.
func (s *HouseRules) Rules(ctx context.Context, a Actor) ([]wire.Rules, error) {
	if !a.may(policy.SeeRules) {
		return nil, denied(a, "see the house rules")
	}
	rows, err := s.store.Read().RulesVersions(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.Rules{}
	var before rules.Rules
	for n, r := range rows {
		v := wire.Rules{Version: r.Version, Document: r.Document, Author: nameOf(ctx, s.store.Read(), r.AuthorID), Reason: r.Reason, At: r.At, Changes: []string{}}
		now, _ := rules.Parse([]byte(r.Document))
		if n > 0 {
			v.Changes = append(v.Changes, rules.Diff(before, now)...)
		}
		before = now
		out = append(out, v)
	}
	slices.Reverse(out)
	return out, nil
}

// CheckRules says what is wrong with a document, and what it would change.
func (s *HouseRules) CheckRules(ctx context.Context, a Actor, document string) (wire.RulesCheck, error) {
	if !a.may(policy.SeeRules) {
		return wire.RulesCheck{}, denied(a, "see the house rules")
	}
	return s.checkRules(ctx, document)
}

func (s *HouseRules) checkRules(ctx context.Context, document string) (wire.RulesCheck, error) {
	c := wire.RulesCheck{Findings: []wire.RulesFinding{}, Changes: []string{}}
	r, findings := rules.Parse([]byte(document))
	for _, f := range findings {
		c.Findings = append(c.Findings, wire.RulesFinding(f))
	}
	if len(findings) > 0 {
		return c, nil
	}
	now, _, err := s.house.Rules(ctx, s.store.Read())
	if err == nil {
		c.Changes = append(c.Changes, rules.Diff(now, r)...)
	}
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
	c, err := s.checkRules(ctx, in.Document)
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
	out := wire.Rules{Document: in.Document, Author: a.Name, Reason: in.Reason, Changes: c.Changes}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		now, err := tx.Rules(ctx)
		if err != nil {
			return err
		}
		if in.Base != 0 && in.Base != now.Version {
			return conflict("newer-rules", fmt.Sprintf("version %d was put meanwhile, and this was made from version %d", now.Version, in.Base), "look at what changed and make yours from it")
		}
		out.At = tx.Now()
		out.Version, err = s.putRules(ctx, tx, store.RulesVersion{Document: in.Document, AuthorID: a.ID, Reason: in.Reason}, c.Changes)
		return err
	})
	if err == nil {
		err = s.keeper.Rejudge(ctx)
	}
	return out, err
}

// Zone is the house's time zone.
func (s *HouseRules) Zone(ctx context.Context) (*time.Location, error) {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	return house.Zone, err
}
