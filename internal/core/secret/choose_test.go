package secret

import (
	"strings"
	"testing"
)

// Mine before the repository's, mine only where I gave it, and each with why.
func TestWhichSecretIsGiven(t *testing.T) {
	all := []Secret{
		{Level: OfRepository, Name: "KEY", Repository: "tide-board", Version: 4},
		{Level: OfRepository, Name: "KEY", Repository: "fare-desk"},
		{Level: OfPerson, Name: "KEY", Repositories: []string{"tide-board"}, Version: 2},
		{Level: OfPerson, Name: "PIN", Everywhere: true},
		{Level: OfPerson, Name: "MAP", Repositories: []string{"fare-desk"}},
	}
	for repository, want := range map[string]string{
		"tide-board": "KEY person 2 true, KEY repository 4 false, MAP person 0 false, PIN person 0 true",
		"fare-desk":  "KEY repository 0 true, KEY person 2 false, MAP person 0 true, PIN person 0 true",
		"deck-log":   "KEY person 2 false, MAP person 0 false, PIN person 0 true",
	} {
		var got []string
		for _, c := range Choose(repository, all) {
			got = append(got, strings.Join([]string{c.Name, string(c.Level), string(rune('0' + c.Version)), map[bool]string{true: "true", false: "false"}[c.Given]}, " "))
			if c.Why == "" {
				t.Errorf("%s in %s has no reason", c.Name, repository)
			}
		}
		if s := strings.Join(got, ", "); s != want {
			t.Errorf("%s gets %s", repository, s)
		}
	}
	if m := Missing([]string{"KEY", "MAP", "NEW"}, Choose("tide-board", all)); strings.Join(m, " ") != "MAP NEW" {
		t.Errorf("missing are %v", m)
	}
}
