package service

import (
	"slices"
	"strings"
	"testing"
	"time"

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
