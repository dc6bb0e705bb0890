package serve_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"yardbench/client"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/demo"
	"yardbench/wire"
)

// lights is a repository whose definition a simulated yard can make.
var lights = map[string]map[string]string{"lights": {file: `{"image": "skerryline/base:1", "remoteUser": "crew"}`}}

// over waits until an operation is over.
func over(t *testing.T, c *client.Client, id string) wire.Operation {
	t.Helper()
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		o, err := c.Operations.Show(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		if o.EndedAt != nil {
			return o
		}
	}
	t.Fatal("the operation does not come to an end")
	return wire.Operation{}
}

// as is a client for somebody of the demo.
func as(t *testing.T, c *client.Client, name string) *client.Client {
	t.Helper()
	open, err := client.New(c.Address(), "")
	if err != nil {
		t.Fatal(err)
	}
	who, err := open.Self.SignIn(t.Context(), name, demo.Password)
	if err != nil {
		t.Fatal(err)
	}
	c, err = client.New(c.Address(), who.Token)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// some launches workspaces of some people from lights, until they are ready.
func some(t *testing.T, c *client.Client, people ...string) {
	t.Helper()
	for _, p := range people {
		person, n, _ := strings.Cut(p, "/")
		mine := as(t, c, person)
		if _, err := mine.Workspaces.Launch(t.Context(), wire.Launch{Repository: "lights", Name: "lights" + n}); err != nil {
			t.Fatal(err)
		}
		until(t, mine, "lights"+n, func(w wire.Workspace) bool { return w.Phase == string(lifecycle.Ready) })
	}
}

// One verb for many: each is asked once, with the reason, by the right of whoever
// asks; what one may not do to one workspace keeps it from none of the others.
func TestOperations(t *testing.T) {
	c, _ := simulated(t, lights)
	ctx := t.Context()
	some(t, c, "ingrid/a", "ingrid/b", "mats/a", "runa/a")
	astrid, ingrid, audun := as(t, c, "astrid"), as(t, c, "ingrid"), as(t, c, "audun")
	ask := func(by *client.Client, in wire.NewOperation) wire.Operation {
		t.Helper()
		o, err := by.Operations.Ask(ctx, in)
		if err != nil {
			t.Fatal(err)
		}
		return over(t, by, o.ID)
	}
	o := ask(astrid, wire.NewOperation{Verb: "stop", Where: &wire.WorkspaceWhere{All: true, Repository: "lights", States: []string{"ready"}}, Reason: "the yard is full"})
	if o.Total != 4 || o.Done != 4 || o.By != "astrid" || o.Reason != "the yard is full" {
		t.Errorf("the stop of all came to %+v", o)
	}
	entries, err := astrid.Journal.List(ctx, client.JournalQuery{Kind: "workspace.asked", Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	stops := 0
	for _, e := range entries {
		if e.Data["operation"] == o.ID && e.Data["verb"] == "stop" && e.Data["reason"] == "the yard is full" && e.ActorName == "astrid" {
			stops++
		}
	}
	if stops != 4 {
		t.Errorf("the journal has %d stops of the operation", stops)
	}
	// One that is not possible is refused with its kind; the others are done.
	if _, err := astrid.Workspaces.Start(ctx, "lightsa.mats"); err != nil {
		t.Fatal(err)
	}
	o = ask(astrid, wire.NewOperation{Verb: "hold", Names: []string{"lightsa.mats", "lightsa.ingrid", "lightsa.mats"}, Seconds: 3600, Reason: "a demo"})
	all, err := astrid.Operations.Outcomes(ctx, o.ID)
	if err != nil || o.Total != 2 || len(all) != 2 {
		t.Fatalf("%+v, %v", o, err)
	}
	i := slices.IndexFunc(all, func(w wire.Outcome) bool { return w.Name == "lightsa.ingrid" })
	if all[i].State != "refused" || all[i].Kind != "not-now" || all[1-i].State != "done" && all[1-i].Kind != "not-now" {
		t.Errorf("a hold came to %+v", all)
	}
	if only, err := astrid.Operations.Outcomes(ctx, o.ID, "refused"); err != nil || len(only) != o.Refused {
		t.Errorf("the refused are %+v, %v", only, err)
	}
	// A notice stands at each until it is read.
	ask(astrid, wire.NewOperation{Verb: "tell", Names: []string{"lightsa.ingrid"}, Reason: "push before Friday"})
	notice := func() string {
		w, err := ingrid.Workspaces.Show(ctx, "lightsa")
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range w.Conditions {
			if c.Kind == "notice" {
				return c.Reason
			}
		}
		return ""
	}
	if n := notice(); n != "push before Friday" {
		t.Errorf("the notice is %q", n)
	}
	if err := ingrid.Workspaces.Heed(ctx, "lightsa"); err != nil || notice() != "" {
		t.Errorf("a notice that was read says %q, %v", notice(), err)
	}
	// A rebuild and a removal come to their ends.
	if o = ask(ingrid, wire.NewOperation{Verb: "rebuild", Names: []string{"lightsa", "lightsb"}}); o.Done != 2 {
		t.Errorf("a rebuild came to %+v", o)
	}
	if o = ask(ingrid, wire.NewOperation{Verb: "remove", Where: &wire.WorkspaceWhere{Repository: "lights"}, Discard: true}); o.Done != 2 || o.Total != 2 {
		t.Errorf("a removal of one's own came to %+v", o)
	}

	// Who sees what, and who may.
	if _, err := ingrid.Operations.Show(ctx, all[0].Name); !is(err, "not-found") {
		t.Errorf("an operation that there is not: %v", err)
	}
	if _, err := as(t, c, "mats").Operations.Show(ctx, o.ID); !is(err, "not-found") {
		t.Errorf("mats sees ingrid's: %v", err)
	}
	if _, err := audun.Operations.Show(ctx, o.ID); err != nil {
		t.Errorf("the auditor does not: %v", err)
	}
	if mine, err := ingrid.Operations.List(ctx); err != nil || len(mine) != 2 {
		t.Errorf("ingrid sees %d operations, %v", len(mine), err)
	}
	many := make([]string, 10_001)
	for i := range many {
		many[i] = fmt.Sprint("lights", i)
	}
	for what, of := range map[string]struct {
		by   *client.Client
		in   wire.NewOperation
		kind string
	}{
		"no workspace":              {astrid, wire.NewOperation{Verb: "stop"}, "invalid"},
		"both":                      {astrid, wire.NewOperation{Verb: "stop", Names: []string{"x"}, Where: &wire.WorkspaceWhere{}}, "invalid"},
		"no such verb":              {astrid, wire.NewOperation{Verb: "burn", Names: []string{"lightsa.mats"}}, "invalid"},
		"an unknown name":           {astrid, wire.NewOperation{Verb: "stop", Names: []string{"lightsa.mats", "nothing.mats"}}, "not-found"},
		"what one may not see":      {ingrid, wire.NewOperation{Verb: "stop", Names: []string{"lightsa.mats"}}, "not-found"},
		"nothing is so":             {astrid, wire.NewOperation{Verb: "stop", Where: &wire.WorkspaceWhere{All: true, Owner: "nobody"}}, "invalid"},
		"a state there is not":      {astrid, wire.NewOperation{Verb: "stop", Where: &wire.WorkspaceWhere{States: []string{"redy"}}}, "unknown-word"},
		"everybody's":               {ingrid, wire.NewOperation{Verb: "stop", Where: &wire.WorkspaceWhere{All: true}}, "forbidden"},
		"an auditor":                {audun, wire.NewOperation{Verb: "stop", Where: &wire.WorkspaceWhere{All: true}}, "forbidden"},
		"a hold of no time":         {astrid, wire.NewOperation{Verb: "hold", Names: []string{"lightsa.mats"}, Reason: "x"}, "invalid"},
		"a hold without reason":     {astrid, wire.NewOperation{Verb: "hold", Names: []string{"lightsa.mats"}, Seconds: 60}, "invalid"},
		"a notice that says nought": {astrid, wire.NewOperation{Verb: "tell", Names: []string{"lightsa.mats"}, Reason: " "}, "invalid"},
		"steering":                  {astrid, wire.NewOperation{Verb: "tell", Names: []string{"lightsa.mats"}, Reason: "a\x1b[2J"}, "invalid"},
		"what does not go together": {astrid, wire.NewOperation{Verb: "stop", Names: []string{"lightsa.mats"}, Discard: true}, "invalid"},
		"too many names":            {astrid, wire.NewOperation{Verb: "stop", Names: many}, "invalid"},
	} {
		if _, err := of.by.Operations.Ask(ctx, of.in); !is(err, of.kind) {
			t.Errorf("%s: %v, not %s", what, err, of.kind)
		}
	}
	if _, err := astrid.Operations.Cancel(ctx, o.ID); !is(err, "not-now") {
		t.Errorf("what is over is cancelled: %v", err)
	}
	if w, err := as(t, c, "mats").Workspaces.Show(ctx, "lightsa"); err != nil || w.Phase == "stopping" || w.Phase == "stopped" {
		t.Errorf("a refused operation touched mats's: %s, %v", w.Phase, err)
	}
}

// is tells whether an error is a problem of a kind.
func is(err error, kind string) bool {
	var p *wire.Problem
	return errors.As(err, &p) && p.Type == wire.ProblemPrefix+kind
}
