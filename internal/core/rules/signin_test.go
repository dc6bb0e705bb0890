package rules

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/policy"
)

func TestSignIn(t *testing.T) {
	const providers = "sign_in:\n  again_after: 15 min\n  console: {longest: 8 h, idle: 2 h}\n  providers:\n    skerry-id:\n      groups:\n      - {group: yard-crew, role: operator}\n      - {group: leads, role: lead}\n      - {group: timetable, team: Timetable}\n      - {group: fares, role: auditor, team: Fares}\n      otherwise: developer\n"
	r, findings := Parse([]byte(First + providers))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	if r.SignIn.Console != (Ends{8 * time.Hour, 2 * time.Hour}) || r.SignIn.CommandLine != commandEnds || r.SignIn.NoPasswords || r.SignIn.AgainAfter != 15*time.Minute {
		t.Errorf("it ends as %+v, %+v", r.SignIn.Console, r.SignIn.CommandLine)
	}
	for groups, want := range map[string]string{
		"":                     "developer  true",
		"timetable":            "developer Timetable true",
		"fares timetable":      "auditor Timetable true", // in the document's order, not theirs
		"leads yard-crew":      "operator  true",
		"nobody-knows-of-this": "developer  true",
	} {
		p, ok := r.SignIn.Providers["skerry-id"].Place(strings.Fields(groups))
		if got := fmt.Sprint(p.Role, " ", p.Team, " ", ok); got != want {
			t.Errorf("who is in %q is %s, not %s", groups, got, want)
		}
	}
	many := Groups{Say: []GroupSays{{"decks", policy.Developer, "Decks"}, {"harbour", "", "Harbour"}, {"harbour-leads", policy.Lead, "Harbour"}, {"decks-leads", policy.Lead, "Decks"}, {"watch", policy.Auditor, "Fares"}}}
	for groups, want := range map[string]string{
		"decks harbour":               "{developer Decks [{Harbour false}]}",
		"harbour-leads decks harbour": "{developer Decks [{Harbour true}]}",
		"harbour decks-leads":         "{lead Harbour [{Decks true}]}",
		"decks decks-leads":           "{developer Decks []}",
		"watch":                       "{auditor Fares []}",
		"harbour-leads watch":         "{lead Harbour [{Fares false}]}",
	} {
		if p, ok := many.Place(strings.Fields(groups)); !ok || fmt.Sprint(p) != want {
			t.Errorf("who is in %q is %v, not %s", groups, p, want)
		}
	}
	if _, ok := (Groups{Say: []GroupSays{{Group: "fares", Team: "Fares"}}}).Place([]string{"fares"}); ok {
		t.Error("a team alone lets in")
	}
	if first, _ := Parse([]byte(First)); first.SignIn.Console != consoleEnds || len(Diff(first, r)) == 0 {
		t.Error("the usual ends are others, or what is different is not told")
	}
	for _, wrong := range []string{
		"sign_in: {passwords: false}", "sign_in: {console: {idle: 1 min}}", "sign_in: {providers: {Skerry: {otherwise: developer}}}", "sign_in: {providers: {x: {}}}",
		"sign_in: {providers: {x: {otherwise: operator}}}", "sign_in: {providers: {x: {otherwise: king}}}", "sign_in: {providers: {x: {groups: [{group: a}]}}}", "sign_in: {providers: {x: {groups: {a: b}}}}", "sign_in: x", "sign_in: {again_after: 1 s}",
	} {
		if _, findings := Parse([]byte(First + wrong + "\n")); len(findings) == 0 {
			t.Errorf("nothing is wrong with %s", wrong)
		}
	}
}
