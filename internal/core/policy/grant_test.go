package policy

import (
	"slices"
	"testing"
)

// What a token may never do, whatever the tables come to say.
func TestGrants(t *testing.T) {
	if whole := (Grant{}); !whole.Whole() || !whole.Holds("r") {
		t.Error("a sign-in without bounds is not everything")
	}
	for a := range Table {
		if !(Grant{}).Reaches(a) {
			t.Errorf("a sign-in without bounds does not reach %s", a)
		}
		in := slices.Contains(looked, a)
		for _, s := range Scopes {
			in = in || slices.Contains(scoped[s], a)
			g := Grant{Scopes: []Scope{s}}
			changes := !slices.Contains([]Action{SeeSelf, SeeWorkspace, SeeRepositories, SeePrebuilds, SeeRules, SeeSecrets, SeeRepoSecrets, SeeTeamSecrets, SeeHouseSecrets, SeePeople, SeeCost, SeeJournal, SeeWholeJournal, SeeWebhooks, SeeProviders, SeeLinks}, a)
			if s == Read && changes && g.Reaches(a) {
				t.Errorf("what only reads may %s", a)
			}
			if s != Administer && slices.Contains([]Action{ChangePeople, ChangeRules, ChangeSecrets, ChangeRepoSecret, ChangeTeamSecret, ChangeHouseSecret, ChangeServices, AdoptContainers, ChangeWebhooks, ChangeProviders, ChangeKeys, SyncDirectory}, a) && g.Reaches(a) {
				t.Errorf("%s may %s", s, a)
			}
			if s != Work && (a == UseWorkspace || a == VisitPort) && g.Reaches(a) {
				t.Errorf("%s gets into workspaces", s)
			}
			if g.Whole() || (a == ChangeSelf || a == EnterWorkspace) && g.Reaches(a) {
				t.Errorf("%s may change what it stands on, or enters others'", s)
			}
		}
		if !in && a != ChangeSelf && a != EnterWorkspace {
			t.Errorf("no scope has %s", a)
		}
	}
	one := Grant{Repositories: []string{"r1", "r2"}}
	if one.Whole() || !one.Holds("r2") || one.Holds("r3") || one.Holds("") {
		t.Error("a grant of two repositories is of others, or not of them")
	}
	for _, a := range []Action{SeeJournal, SeeCost, SeePeople, ChangePeople, ChangeSelf, SeeSecrets, ChangeSecrets, ChangeRules, AdoptContainers, SeeWebhooks, ChangeRepository} {
		if one.Reaches(a) {
			t.Errorf("what is for some repositories may %s", a)
		}
	}
	if !one.Reaches(Launch) || !(Grant{Scopes: []Scope{Read, Launching}}).Reaches(Launch) || (Grant{Scopes: []Scope{Read, Work}, Repositories: []string{"r1"}}).Reaches(Launch) {
		t.Error("scopes are not added up, or narrowed")
	}
}

func TestCovers(t *testing.T) {
	all, read, some := Grant{}, Grant{Scopes: []Scope{Read}}, Grant{Scopes: []Scope{Read, Work}, Repositories: []string{"r1"}}
	for _, c := range []struct {
		has, wants Grant
		want       bool
	}{
		{all, all, true}, {all, some, true}, {read, all, false}, {read, read, true}, {read, some, false}, {some, read, false},
		{some, Grant{Scopes: []Scope{Work}, Repositories: []string{"r1"}}, true}, {some, Grant{Scopes: []Scope{Work}, Repositories: []string{"r1", "r2"}}, false},
		{some, Grant{Repositories: []string{"r1"}}, false},
	} {
		if got := c.has.Covers(c.wants); got != c.want {
			t.Errorf("%+v covers %+v: %v", c.has, c.wants, got)
		}
	}
}
