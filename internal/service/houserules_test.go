package service

import (
	"slices"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/page"
	"yardbench/internal/core/rules"
	"yardbench/wire"
)

// A document with mistakes changes nothing; a good one is in force at once,
// with its reason, and not over a newer one.
func TestHouseRules(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	good := strings.Replace(rules.First, "rest_after: 1 h ", "rest_after: 30 min ", 1)
	for _, c := range []struct {
		what   string
		who    Actor
		in     wire.RulesText
		status int
		says   string
	}{
		{"a developer", ingrid, wire.RulesText{Document: good, Reason: "why"}, 403, ""},
		{"no reason", astrid, wire.RulesText{Document: good}, 422, "reason"},
		{"a unit slip", astrid, wire.RulesText{Document: strings.Replace(good, "2 GiB", "2 GB", 1), Reason: "why"}, 422, "line 8, column 30"},
		{"nothing new", astrid, wire.RulesText{Document: rules.First, Reason: "why"}, 409, "changes nothing"},
	} {
		if _, err := s.HouseRules.PutRules(ctx, c.who, c.in); status(err) != c.status || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s is answered %v", c.what, err)
		}
	}
	for _, tags := range [][]string{{"v9"}, {"v0", "v2"}} {
		_, err := s.HouseRules.PutRules(IfMatch(ctx, tags), astrid, wire.RulesText{Document: good, Reason: "why"})
		if now, ok := wire.ProblemOf(err).Now.(wire.Rules); status(err) != 412 || !ok || now.Version != 1 || now.Document == "" {
			t.Errorf("from %v: %v, with %+v", tags, err, now)
		}
	}
	v, err := s.HouseRules.PutRules(IfMatch(ctx, []string{"v1"}), astrid, wire.RulesText{Document: good, Reason: "shorter evenings"})
	if err != nil || v.Version != 2 || !slices.Equal(v.Changes, []string{"idle.rest_after: 1 h → 30 min"}) {
		t.Fatalf("put %+v, %v", v, err)
	}
	if house, version, err := s.rooms.House.Rules(ctx, s.rooms.Store.Read()); err != nil || version != 2 || house.Idle.RestAfter != 30*time.Minute {
		t.Errorf("in force is version %d: %+v, %v", version, house.Idle, err)
	}
	if all, err := s.HouseRules.Rules(ctx, ingrid, page.Ask{}); err != nil || len(all.Items) != 2 || all.Items[0].Author != "astrid" || all.Items[0].Reason != "shorter evenings" || len(all.Items[0].Changes) != 1 {
		t.Errorf("the versions are %+v, %v", all, err)
	}
}

func second[T any](_ T, err error) error { return err }

// What a change does to what is there is told to who may make it, with names that
// nobody has; what reaches much of the fleet wants to be meant, and warns first.
func TestRulesWithConsequences(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	for _, name := range []string{"quay", "pier"} {
		addWorkspace(t, s, ingrid, name, lifecycle.Ready)
	}
	document := strings.NewReplacer("rest_after: 1 h ", "rest_after: 1 min ", "quiet_after: 5 min", "quiet_after: 1 min", "  person: {existing: 8, running: 4}", "  person: {existing: 8, running: 1}\n  people:\n    ingrit: {running: 9, until: 2026-01-01}\n    ingrid: {cores: 99, until: 2026-01-01}\n  teams: {Ghosts: {running: 1}}").Replace(rules.First)
	c, err := s.HouseRules.CheckRules(ctx, astrid, document)
	if err != nil || len(c.Findings) > 0 || len(c.Warnings) != 3 || c.Warnings[0].Fix != "write ingrid, if that is meant" || !strings.Contains(c.Warnings[1].What, "has ended") || !strings.Contains(c.Warnings[2].What, "there is no team “Ghosts”") {
		t.Fatalf("it is told %+v, %v", c, err)
	}
	if len(c.Effects) != 2 || c.Effects[0].Kind != "rests" || !c.Effects[0].Wide || c.Effects[0].Of != 2 || !strings.Contains(c.Effects[0].Text, "2 of the 2 that run are put to rest") || !strings.Contains(c.Effects[1].Text, "ingrid has more than is allowed then: running 2 of 1") {
		t.Fatalf("its effects are %+v", c.Effects)
	}
	if left := time.Until(*c.Effects[0].At); left < 4*time.Minute || left > 6*time.Minute {
		t.Errorf("they rest in %v", left)
	}
	// Whose workspaces there are is not for everybody who may see the rules.
	if c, err := s.HouseRules.CheckRules(ctx, ingrid, document); err != nil || len(c.Effects)+len(c.Warnings) > 0 || len(c.Changes) == 0 {
		t.Errorf("a developer is told %+v, %v", c, err)
	}
	in := wire.RulesText{Document: document, Reason: "a slip"}
	if _, err := s.HouseRules.PutRules(ctx, astrid, in); status(err) != 409 || wire.ProblemOf(err).Type != wire.ProblemPrefix+"far-reaching" || len(wire.ProblemOf(err).Errors) != 2 {
		t.Fatalf("put without a word it is answered %v", err)
	}
	in.Meant = true
	if v, err := s.HouseRules.PutRules(ctx, astrid, in); err != nil || v.Version != 2 || len(v.Effects) != 2 {
		t.Fatalf("meant, it is %+v, %v", v, err)
	}
	// What has ended is not in force, and no change when it is put once more.
	if house, _, err := s.rooms.House.Rules(ctx, s.rooms.Store.Read()); err != nil || house.Limits.OfPerson("ingrid")[rules.Cores] != 0 || house.Limits.OfTeam("Ghosts")[rules.Running] != 1 {
		t.Errorf("in force is %+v, %v", house.Limits, err)
	}
	if _, err := s.HouseRules.PutRules(ctx, astrid, in); status(err) != 409 || !strings.Contains(err.Error(), "changes nothing") {
		t.Errorf("put again it is answered %v", err)
	}
}
