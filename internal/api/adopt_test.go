package api_test

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"time"

	yb "yardbench/client"
	"yardbench/internal/core/rules"
	"yardbench/internal/serve"
	"yardbench/internal/store"
	"yardbench/wire"
)

// A container that others started is taken on, used, stopped, started and let
// go, over a simulated yard; whatever is wrong is refused.
func TestAdoption(t *testing.T) {
	address, svc := doorTo(t, serve.SimulatedYard)
	renew(t, svc, "mats") // and with it a repository
	ctx := t.Context()
	as := func(name string) *yb.Client {
		c, err := yb.New(address, signIn(t, address, name))
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	astrid, peder := as("astrid"), as("peder")
	got, err := astrid.Containers.List(ctx)
	if err != nil || len(got) != 2 || got[0].Name != "quay-clock" || got[0].Size != "small" || got[1].Size != "" {
		t.Fatalf("in the yard there are %+v, %v", got, err)
	}
	if sizes, err := astrid.Containers.Sizes(ctx); err != nil || len(sizes) == 0 || sizes[0].Currency != "EUR" || sizes[0].DiskBytes != 0 {
		t.Errorf("they may count for %+v, %v", sizes, err)
	}
	good := wire.Adopt{Owner: "peder", Repository: "tide-board"}
	for what, c := range map[string]struct {
		container string
		in        wire.Adopt
		status    int
		says      string
	}{
		"a container there is not":  {"bell", good, 404, "bell"},
		"an id that is too short":   {got[0].ID[:6], good, 404, ""},
		"an owner there is not":     {"quay-clock", wire.Adopt{Owner: "nobody", Repository: "tide-board"}, 404, "nobody"},
		"an auditor's":              {"quay-clock", wire.Adopt{Owner: "audun", Repository: "tide-board"}, 422, "auditor"},
		"a repository there is not": {"quay-clock", wire.Adopt{Owner: "peder", Repository: "ghost"}, 404, "ghost"},
		"a size there is not":       {"quay-clock", wire.Adopt{Owner: "peder", Repository: "tide-board", Size: "vast"}, 422, "vast"},
		"bounds that fit no size":   {"tide-relay", good, 422, "no bound on processor use, no bound on memory"},
		"a folder that is none":     {"quay-clock", wire.Adopt{Owner: "peder", Repository: "tide-board", Folder: "srv"}, 422, "srv"},
		"a name that is none":       {"quay-clock", wire.Adopt{Owner: "peder", Repository: "tide-board", Name: "-x"}, 422, "-x"},
	} {
		_, err := astrid.Containers.Adopt(ctx, c.container, c.in)
		var p *wire.Problem
		if !errors.As(err, &p) || p.Status != c.status || !strings.Contains(p.Detail, c.says) {
			t.Errorf("%s: answered %v", what, err)
		}
	}
	if _, err := peder.Containers.List(ctx); !strings.Contains(err.Error(), "developer") {
		t.Errorf("a developer is answered %v", err)
	}
	w, err := astrid.Containers.Adopt(ctx, got[0].ID[:12], good)
	if err != nil || w.Name != "quay-clock" || w.Owner != "peder" || w.Adopted != "quay-clock" || w.Size != "small" || w.DiskBytes != 0 {
		t.Fatalf("taken on it is %+v, %v", w, err)
	}
	is := func(phase string) (w wire.Workspace) {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
			if w, err = peder.Workspaces.Show(ctx, "quay-clock"); err == nil && w.Phase == phase {
				return w
			}
		}
		t.Fatalf("it does not become %s: %+v, %v", phase, w, err)
		return w
	}
	if w := is("ready"); w.Rest != nil || len(w.Conditions) != 1 || w.Conditions[0].Kind != "adopted" || w.Folder != "/srv" {
		t.Errorf("ready it is %+v", w)
	}
	owner, err := svc.rooms.Store.Read().PersonByName(ctx, "peder")
	if err != nil {
		t.Fatal(err)
	}
	reserved := func() rules.Amounts {
		used, err := svc.rooms.Store.Read().Reserved(ctx, store.Scope{OwnerID: owner.ID})
		if err != nil {
			t.Fatal(err)
		}
		return used
	}
	if used := reserved(); used[rules.Running] != 1 || used[rules.Cores] != 1000 {
		t.Errorf("ready, it counts for %v", used)
	}
	if _, err := astrid.Containers.Adopt(ctx, "quay-clock", good); err == nil {
		t.Error("it is taken on twice")
	}
	s, err := peder.Workspaces.Open(ctx, "quay-clock", wire.Run{Argv: []string{"sh", "-c", "echo five bells"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, p, err := s.Receive(); err != nil || string(p) != "five bells\n" {
		t.Errorf("a command in it prints %q, %v", p, err)
	}
	s.Close()
	for what, err := range map[string]error{
		"a rebuild": func() error { _, err := peder.Workspaces.Rebuild(ctx, "quay-clock", wire.Rebuild{}); return err }(),
		"a removal": func() error { _, err := peder.Workspaces.Remove(ctx, "quay-clock", true); return err }(),
		"a hold": func() error {
			_, err := peder.Workspaces.Hold(ctx, "quay-clock", wire.Hold{Seconds: 3600, Why: "x"})
			return err
		}(),
		"its owner":   func() error { _, err := peder.Containers.LetGo(ctx, "quay-clock"); return err }(),
		"one of ours": func() error { _, err := astrid.Containers.LetGo(ctx, "w.mats"); return err }(),
	} {
		var p *wire.Problem
		if !errors.As(err, &p) || p.Status != 409 && p.Status != 403 {
			t.Errorf("%s is answered %v", what, err)
		}
	}
	if _, err := peder.Workspaces.Stop(ctx, "quay-clock"); err != nil {
		t.Fatal(err)
	}
	if w := is("stopped"); w.RemovesAt != nil {
		t.Errorf("stopped it is to be removed: %+v", w)
	}
	if _, err := peder.Workspaces.Start(ctx, "quay-clock"); err != nil {
		t.Fatal(err)
	}
	is("ready")
	if w, err = astrid.Containers.LetGo(ctx, "quay-clock.peder"); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); err == nil && time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		_, err = peder.Workspaces.Show(ctx, "quay-clock")
	}
	if again, aerr := astrid.Containers.List(ctx); aerr != nil || len(again) != 2 {
		t.Errorf("let go, it is in %+v, %v", again, aerr)
	}
	if used := reserved(); used[rules.Existing] != 0 || used[rules.Cores] != 0 {
		t.Errorf("let go, it counts for %v", used)
	}
	var journal bytes.Buffer
	if err := astrid.Journal.Export(ctx, yb.JournalQuery{Kind: "workspace."}, &journal); err != nil || strings.Count(journal.String(), w.ID) == 0 || !strings.Contains(journal.String(), "workspace.adopted") {
		t.Errorf("the journal tells %.300s, %v", journal.String(), err)
	}
}
