package policy

import (
	"slices"
	"strings"
	"testing"
)

// What must never be allowed, whatever the table comes to say; and what must.
func TestWhatMustHold(t *testing.T) {
	if Guest.Valid() || !Developer.Valid() {
		t.Error("somebody can be given the role of a guest")
	}
	for _, r := range Roles {
		for a, rights := range Table {
			for role := range rights {
				if !slices.Contains(Roles, role) {
					t.Errorf("%s is given to %q, which is no role", a, role)
				}
			}
			if May("captain", a, House|Own|Team|Other) {
				t.Errorf("a role that is none may %s", a)
			}
			if a == SeeWorkspace || a == VisitPort || r != Auditor {
				continue
			}
			if May(Auditor, a, Team|Other) && a != SeePeople && a != SeeCost && a != SeeJournal && a != SeeRecordings && a != SeeLinks && a != SeeTeamSecrets {
				t.Errorf("an auditor may %s", a)
			}
		}
		for _, rel := range []Relation{Team, Other} {
			if May(r, UseWorkspace, rel) {
				t.Errorf("%s gets into somebody else's workspace", r)
			}
			if May(r, ChangeSecrets, rel) || May(r, SeeSecrets, rel) {
				t.Errorf("%s gets at somebody else's secrets", r)
			}
		}
		if r != Operator && (May(r, ChangePeople, Own) || May(r, ChangeRules, House) || May(r, ChangeRepository, House)) {
			t.Errorf("%s does what only operators do", r)
		}
	}
	if May(Developer, SeeWorkspace, Team) || May(Lead, SeeWorkspace, Other) || !May(Lead, StopWorkspace, Team) || May(Lead, RemoveWorkspace, Team) {
		t.Error("a team's workspaces are not their lead's to see and stop, or more")
	}
	if May(Developer, ChangeTeamSecret, Team) || May(Lead, ChangeTeamSecret, Other) || May(Lead, SeeTeamSecrets, Other) || May(Lead, ChangeHouseSecret, House) {
		t.Error("a team's secrets are not its lead's alone, or the house's not the operators'")
	}
	if May(Operator, "unheard of", House|Own) {
		t.Error("an action that is not in the table is allowed")
	}
}

func TestRelations(t *testing.T) {
	for _, c := range []struct {
		person, team, owner, ownerTeam string
		want                           Relation
	}{{"a", "x", "", "", House}, {"a", "x", "a", "x", Own}, {"a", "x", "b", "x", Team}, {"a", "x", "b", "y", Other}, {"a", "x y", "b", "y", Team}, {"a", "", "b", "", Other}, {"a", "", "a", "", Own}} {
		if got := Between(c.person, strings.Fields(c.team), c.owner, c.ownerTeam); got != c.want {
			t.Errorf("%+v is taken for %b", c, got)
		}
	}
	if Widest(Operator, SeeWorkspace) != Other || Widest(Lead, SeeWorkspace) != Team || Widest(Developer, SeeWorkspace) != Own || Widest(Auditor, Launch) != 0 {
		t.Error("the widest relation is not what the table says")
	}
}
