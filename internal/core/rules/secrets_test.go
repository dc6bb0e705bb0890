package rules

import (
	"slices"
	"testing"
	"time"

	"yardbench/internal/core/secret"
)

// What strangers' branches and guests are given is nothing, until the rules open a level.
func TestSecrets(t *testing.T) {
	r, findings := Parse([]byte(First + "secrets:\n  pull_requests: [house]\n  guests: [repository, house]\n  remind_after: 180 days\n"))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	if r.Secrets.RemindAfter != 180*24*time.Hour {
		t.Errorf("it reminds after %s", r.Secrets.RemindAfter)
	}
	for _, c := range []struct {
		of             Secrets
		guest, request bool
		want           []secret.Level
	}{
		{Secrets{}, false, false, secret.Levels}, {Secrets{}, true, false, []secret.Level{secret.OfPerson}}, {Secrets{}, false, true, nil}, {Secrets{}, true, true, nil},
		{r.Secrets, true, false, []secret.Level{secret.OfPerson, secret.OfRepository, secret.OfHouse}}, {r.Secrets, false, true, []secret.Level{secret.OfHouse}}, {r.Secrets, true, true, []secret.Level{secret.OfHouse}},
		{Secrets{PullRequests: []secret.Level{secret.OfTeam}}, true, true, nil},
	} {
		if got := c.of.Levels(c.guest, c.request); !slices.Equal(got, c.want) {
			t.Errorf("%+v gives %v, not %v", c, got, c.want)
		}
	}
	if first, _ := Parse([]byte(First)); len(Diff(first, r)) != 3 {
		t.Errorf("the differences are %v", Diff(first, r))
	}
	for _, bad := range []string{"secrets: {guests: [person]}", "secrets: {guests: [all]}", "secrets: {pull_requests: house}", "secrets: {remind_after: 1 h}", "secrets: {rotate: yes}"} {
		if _, findings := Parse([]byte(First + bad + "\n")); len(findings) == 0 {
			t.Errorf("%s is taken", bad)
		}
	}
}
