package secret

import (
	"fmt"
	"strings"
	"testing"
)

// The nearest level counts, mine only where I gave it, on the branches that were
// said, and each with why.
func TestWhichSecretIsGiven(t *testing.T) {
	all := []Secret{
		{Level: OfHouse, Name: "KEY", Everywhere: true, Version: 9},
		{Level: OfTeam, Name: "KEY", Whose: "Harbour", Everywhere: true, Version: 7},
		{Level: OfTeam, Name: "KEY", Whose: "Decks", Everywhere: true, Version: 6},
		{Level: OfRepository, Name: "KEY", Whose: "tide-board", Version: 4},
		{Level: OfRepository, Name: "KEY", Whose: "fare-desk"},
		{Level: OfPerson, Name: "KEY", Repositories: []string{"tide-board"}, Version: 2},
		{Level: OfPerson, Name: "PIN", Everywhere: true},
		{Level: OfHouse, Name: "PIN", Repositories: []string{"deck-log"}, Version: 3},
		{Level: OfHouse, Name: "SHIP", Everywhere: true, Branches: []string{"release/*"}},
		{Level: OfHouse, Name: "MIRROR", Everywhere: true, Form: Build},
		{Level: OfHouse, Name: "PROMPT_COMMAND", Everywhere: true},
	}
	never := ", MIRROR house 0 false, "
	for place, want := range map[[2]string]string{
		{"tide-board", "main"}:      "KEY person 2 true > repository team house, KEY repository 4 false, KEY team 7 false, KEY house 9 false" + never + "PIN person 0 true, PIN house 3 false, PROMPT_COMMAND house 0 false, SHIP house 0 false",
		{"fare-desk", "main"}:       "KEY repository 0 true > team house, KEY person 2 false, KEY team 7 false, KEY house 9 false" + never + "PIN person 0 true, PIN house 3 false, PROMPT_COMMAND house 0 false, SHIP house 0 false",
		{"deck-log", "release/7"}:   "KEY team 7 true > house, KEY person 2 false, KEY house 9 false" + never + "PIN person 0 true > house, PIN house 3 false, PROMPT_COMMAND house 0 false, SHIP house 0 true",
		{"deck-log", "release/7/x"}: "KEY team 7 true > house, KEY person 2 false, KEY house 9 false" + never + "PIN person 0 true > house, PIN house 3 false, PROMPT_COMMAND house 0 false, SHIP house 0 false",
	} {
		var got []string
		for _, c := range Choose(Place{Repository: place[0], Branch: place[1], Teams: []string{"Harbour"}}, all) {
			line := fmt.Sprintf("%s %s %d %t", c.Name, c.Level, c.Version, c.Given)
			for i, h := range c.Hides {
				line += map[bool]string{true: " > ", false: " "}[i == 0] + string(h)
			}
			got = append(got, line)
			if c.Why == "" {
				t.Errorf("%s in %s has no reason", c.Name, place)
			}
		}
		if s := strings.Join(got, ", "); s != want {
			t.Errorf("%s gets\n%s, not\n%s", place, s, want)
		}
	}
	choices := Choose(Place{Repository: "tide-board"}, all)
	if m := Missing([]string{"KEY", "MAP", "SHIP"}, choices); strings.Join(m, " ") != "MAP SHIP" {
		t.Errorf("missing are %v", m)
	}
	// Of several teams the first counts.
	both := Choose(Place{Repository: "x", Teams: []string{"Harbour", "Decks"}}, all[:3])
	if both[0].Whose != "Decks" || both[0].Why != "it is your team Decks's, for all repositories" || !strings.Contains(both[1].Why, "the team's of the same name") {
		t.Errorf("of two teams it says %+v", both)
	}
}

// The making of images is given what is for it: builds what they mount and what signs in
// to registries, set-up of prepared images what is marked; nothing inside signs in.
func TestWhatImagesAreGiven(t *testing.T) {
	all := []Secret{
		{Level: OfHouse, Name: "LAMPS", Everywhere: true, Form: Registry, Path: "robot@fare@images.skerryline.example:5000"},
		{Level: OfHouse, Name: "MIRROR", Everywhere: true, Form: Build},
		{Level: OfRepository, Name: "SHELF", Whose: "deck-log", Prebuilds: true},
		{Level: OfRepository, Name: "TIDE", Whose: "deck-log"},
	}
	for want, place := range map[string]Place{
		"LAMPS MIRROR": {Repository: "deck-log", Build: true},
		"SHELF":        {Repository: "deck-log", Prebuild: true},
		"SHELF TIDE":   {Repository: "deck-log"},
	} {
		var got []string
		for _, c := range Choose(place, all) {
			if c.Given {
				got = append(got, c.Name)
			} else if c.Name == "LAMPS" && !place.Prebuild && c.Why != "it is the house's, and signs in to images.skerryline.example:5000 for images alone" {
				t.Errorf("of what signs in it says %q", c.Why)
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%+v is given %v, not %s", place, got, want)
		}
	}
	if host, who := all[0].SignsIn(); host != "images.skerryline.example:5000" || who != "robot@fare" {
		t.Errorf("it signs in to %q as %q", host, who)
	}
	for host, bad := range map[string]bool{"images.skerryline.example": false, "10.1.2.3:5000": false, "https://images.skerryline.example": true, "images.skerryline.example/fare": true, "": true, "IMAGES.example": true, "-x": true, "x:": true} {
		if err := CheckSignIn(host, "reader"); (err != nil) != bad {
			t.Errorf("a registry %q: %v", host, err)
		}
	}
	for who, bad := range map[string]bool{"robot$tide": false, "reader@fare": false, "": true, "a:b": true, "a\nb": true} {
		if err := CheckSignIn("images.skerryline.example", who); (err != nil) != bad {
			t.Errorf("who signs in as %q: %v", who, err)
		}
	}
}

// A pattern is for one part of a branch's name, and in the end for all that follows.
func TestBranches(t *testing.T) {
	for _, c := range []struct {
		pattern, branch string
		fits            bool
	}{
		{"main", "main", true}, {"main", "main2", false}, {"*", "main", true}, {"*", "a/b", false}, {"release/*", "release/7", true}, {"release/*", "release/7/hot", false},
		{"release/**", "release/7/hot", true}, {"release/**", "release/7", true}, {"release/**", "release", false}, {"release/**", "prerelease/7", false}, {"*/**", "a/b/c", true}, {"**", "main", true}, {"v[0-9]", "v7", true},
	} {
		if got := OnBranch([]string{"no-such", c.pattern}, c.branch); got != c.fits {
			t.Errorf("%s on %s is %t", c.pattern, c.branch, got)
		}
	}
	if !OnBranch(nil, "any/thing") {
		t.Error("no pattern is not every branch")
	}
	for _, bad := range []string{"", "[", strings.Repeat("x", 201)} {
		if CheckBranches([]string{bad}) == nil {
			t.Errorf("%q is taken", bad)
		}
	}
	if CheckBranches(make([]string, 21)) == nil || CheckBranches([]string{"main", "release/**"}) != nil {
		t.Error("the patterns are not bounded")
	}
}

// Why a name is not there says where it was looked for, and what is written nearly so.
func TestAbsent(t *testing.T) {
	choices := Choose(Place{Repository: "r", Teams: []string{"Harbour"}}, []Secret{{Level: OfPerson, Name: "TIDE_API_KEY", Everywhere: true}})
	for name, want := range map[string]string{"TIDE_APIKEY": "is it TIDE_API_KEY?", "tide_api_key": "is it TIDE_API_KEY?", "TIDE_API_KEYS": "is it TIDE_API_KEY?", "TIDE_API_KEX": "is it TIDE_API_KEY?", "OTHER": "nobody gives it: neither yourself, the repository, team Harbour nor the house"} {
		if got := Absent(name, Place{Teams: []string{"Harbour"}}, choices); !strings.HasSuffix(got, want) {
			t.Errorf("of %s it says %q", name, got)
		}
	}
}

// A file stands in its folder; a person's own at a place in the home folder too.
func TestWhereFilesStand(t *testing.T) {
	for _, c := range []struct {
		level Level
		path  string
		mode  uint32
		fine  bool
	}{
		{OfPerson, "", 0, true}, {OfPerson, "~/.config/tide/key", 0o440, true}, {OfTeam, "", 0o444, true}, {OfTeam, "~/.bashrc", 0, false}, {OfPerson, "/etc/passwd", 0, false}, {OfPerson, "~/../x", 0, false},
		{OfPerson, "~/a/../../x", 0, false}, {OfPerson, "~/", 0, false}, {OfPerson, "~//etc", 0, false}, {OfPerson, "key", 0, false}, {OfPerson, "~/a\nb", 0, false}, {OfPerson, "", 0o600, false}, {OfPerson, "", 0o040, false}, {OfPerson, "", 0o4400, false},
	} {
		if err := CheckFile(c.level, c.path, c.mode); (err == nil) != c.fine {
			t.Errorf("%s at %q with %o: %v", c.level, c.path, c.mode, err)
		}
	}
	for v, is := range map[string]bool{"changeme": true, "<token>": true, "YOUR_KEY": true, "xxxx": true, "${KEY}": true, "hunter2": false, "sk-test-1": false, "": false} {
		if Placeholder(v) != is {
			t.Errorf("%q as a placeholder is %t", v, !is)
		}
	}
}
