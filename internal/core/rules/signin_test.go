package rules

import (
	"fmt"
	"strings"
	"testing"
	"time"
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
		role, team, ok := r.SignIn.Providers["skerry-id"].Place(strings.Fields(groups))
		if got := fmt.Sprint(role, " ", team, " ", ok); got != want {
			t.Errorf("who is in %q is %s, not %s", groups, got, want)
		}
	}
	if _, _, ok := (Groups{Say: []GroupSays{{Group: "fares", Team: "Fares"}}}).Place([]string{"fares"}); ok {
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
