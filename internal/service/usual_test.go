package service

import (
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/wire"
)

// What somebody usually wants is held against the house rules, and is there in what is
// begun for them, unless the definition says otherwise.
func TestUsual(t *testing.T) {
	s, ingrid, _ := bare(t)
	ctx := t.Context()
	if u, err := s.Profiles.Usual(ctx, ingrid); err != nil || u != (wire.Usual{}) {
		t.Errorf("who has said nothing wants %+v, %v", u, err)
	}
	for field, in := range map[string]wire.PutUsual{
		"git_name": {GitName: "Ingrid <x>"}, "git_email": {GitEmail: "ingrid at home"}, "shell": {Shell: "zsh; reboot"}, "zone": {Zone: "Europe/Skerry"}, "language": {Language: "norwegian"},
		"size": {Size: "vast"}, "rest_after_s": {RestAfterS: 1000 * 3600},
	} {
		_, err := s.Profiles.PutUsual(ctx, ingrid, in)
		if p := wire.ProblemOf(err); p == nil || p.Status != 422 || len(p.Errors) != 1 || p.Errors[0].Field != "/"+field {
			t.Errorf("%+v is answered %v", in, err)
		}
	}
	for _, zone := range []string{"Local", "../../etc/passwd"} {
		if _, err := s.Profiles.PutUsual(ctx, ingrid, wire.PutUsual{Zone: zone}); status(err) != 422 {
			t.Errorf("zone %q is answered %v", zone, err)
		}
	}
	want := wire.PutUsual{GitName: "I. Solheim", Shell: "zsh", Zone: "Europe/Oslo", Language: "nb_NO.UTF-8", RestAfterS: 1800}
	if u, err := s.Profiles.PutUsual(ctx, ingrid, want); err != nil || u != wire.Usual(want) {
		t.Fatalf("it is %+v, %v", u, err)
	}
	w := addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)
	row, err := s.rooms.Store.Read().WorkspaceByID(ctx, w.ID)
	if err != nil {
		t.Fatal(err)
	}
	p, _, err := s.rooms.Sessions.Of(ctx, row)
	if err != nil || p.Env["TZ"] != "Europe/Oslo" || p.Env["LANG"] != "nb_NO.UTF-8" || p.GitConfig[1] != "I. Solheim" || p.GitConfig[3] != ingrid.Email {
		t.Errorf("what is begun has %v and %v, %v", p.Env, p.GitConfig, err)
	}
	row.Plan.Definition.SessionEnv = map[string]string{"TZ": "UTC"}
	if p, _, err = s.rooms.Sessions.Of(ctx, row); err != nil || p.Env["TZ"] != "UTC" {
		t.Errorf("where the definition says UTC it has %q, %v", p.Env["TZ"], err)
	}
	if script, ok := s.Sessions.greeting(ctx, row); !ok || !strings.Contains(script, "command -v 'zsh'") && !strings.Contains(script, "command -v zsh") {
		t.Errorf("a terminal begins with %q", script)
	}
	// Of launches that name none, as far as the house rules have it.
	house := rules.Rules{Order: []string{"small", "large"}, UsualSize: "small", Idle: rules.Idle{RestAfterMost: time.Hour}}
	usual, err := s.rooms.Store.Read().UsualOf(ctx, ingrid.ID)
	if err != nil {
		t.Fatal(err)
	}
	usual.Size = "large"
	o := order{house: house}
	if o.usually(usual); o.house.UsualSize != "large" || o.rest != 30*time.Minute {
		t.Errorf("a launch has %s, and rests after %s", o.house.UsualSize, o.rest)
	}
	usual.Size, usual.RestAfter = "gone", 2*time.Hour
	o = order{house: house}
	if o.usually(usual); o.house.UsualSize != "small" || o.rest != 0 {
		t.Errorf("what the house rules have no more is taken: %s, %s", o.house.UsualSize, o.rest)
	}
}
