package service

import (
	"strings"
	"testing"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/store"
)

// Everybody reads what they did themselves, whosever matter it is, and of others' doings
// what is theirs to see; each once and in order.
func TestOwnActsAreRead(t *testing.T) {
	s, ingrid, astrid := bare(t)
	mats := addPersonTo(t, s, "mats", policy.Developer)
	for _, e := range []struct{ owner, actor, team string }{{"", ingrid.ID, "one"}, {mats.ID, ingrid.ID, "two"}, {ingrid.ID, mats.ID, "three"}, {ingrid.ID, ingrid.ID, "four"}, {mats.ID, mats.ID, "five"}, {"", astrid.ID, "six"}} {
		if err := s.rooms.Store.Write(t.Context(), func(tx *store.Tx) error {
			return tx.Journal(t.Context(), "subject", e.owner, e.actor, journal.TeamAdded{Name: e.team})
		}); err != nil {
			t.Fatal(err)
		}
	}
	read := func(a Actor, in JournalQuery) string {
		t.Helper()
		in.Kind, in.Limit = "team.added", 100
		rows, err := s.Service.Journal.Journal(t.Context(), a, in)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, r := range rows {
			out = append(out, r.Data["name"].(string))
		}
		return strings.Join(out, " ")
	}
	for _, c := range []struct {
		who  Actor
		in   JournalQuery
		want string
	}{
		{ingrid, JournalQuery{}, "one two three four"}, {mats, JournalQuery{}, "two three five"}, {astrid, JournalQuery{}, "one two three four five six"},
		{ingrid, JournalQuery{Newest: true}, "four three two one"}, {mats, JournalQuery{Person: "mats"}, "two three five"}, {astrid, JournalQuery{Person: "mats"}, "two three five"},
	} {
		if got := read(c.who, c.in); got != c.want {
			t.Errorf("%s asks for %+v and reads %q, want %q", c.who.Name, c.in, got, c.want)
		}
	}
}
