package reconcile

import (
	"context"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/internal/core/secret"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/presence"
	"yardbench/internal/session"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/store/blank"
)

// bench is a keeper over real records and a clock that is moved by hand,
// without a yard: for what it decides by the clock and by what stewards say.
type bench struct {
	*Keeper
	t   *testing.T
	now time.Time
}

func newBench(t *testing.T, change ...func(*Rooms)) *bench {
	t.Helper()
	dir := t.TempDir()
	b := &bench{t: t, now: time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)}
	st := blank.Open(t, filepath.Join(dir, "a.db"), func() time.Time { return b.now })
	r := Rooms{Store: st, Hub: outside.NewHub(dir), Bus: &live.Bus{}, Now: func() time.Time { return b.now }, House: &house.Book{}, Sessions: &session.Sessions{Store: st, House: &house.Book{}, Now: time.Now}}
	for _, c := range change {
		c(&r)
	}
	b.Keeper = New(context.WithoutCancel(t.Context()), r)
	b.working = map[string]*work{"w": {}} // its keeper is busy with something else
	b.write(func(tx *store.Tx) error {
		if _, err := tx.AddRules(t.Context(), store.RulesVersion{Document: rules.First}); err != nil {
			return err
		}
		if err := tx.AddPerson(t.Context(), store.Person{ID: "p", Name: "ingrid", Role: "developer"}); err != nil {
			return err
		}
		if err := tx.AddRepository(t.Context(), store.Repository{ID: "r", Name: "tide-board"}); err != nil {
			return err
		}
		return tx.AddWorkspace(t.Context(), &store.Workspace{ID: "w", OwnerID: "p", Name: "quay", RepositoryID: "r", Phase: lifecycle.Ready, Wanted: lifecycle.WantReady, Body: 1, Volume: 1, SeededVolume: 1,
			DiskBytes: 10 << 30, StewardToken: []byte{1}, PortKey: "k", Plan: &store.Plan{Definition: definition.Definition{Folder: "/x"}}})
	})
	return b
}

func (b *bench) expired() {
	b.t.Helper()
	if err := b.Rest.expire(b.t.Context(), "w"); err != nil {
		b.t.Fatal(err)
	}
}

func (b *bench) write(do func(*store.Tx) error) {
	b.t.Helper()
	if err := b.Store.Write(b.t.Context(), do); err != nil {
		b.t.Fatal(err)
	}
}

func (b *bench) workspace() (store.Workspace, map[lifecycle.ConditionKind]string) {
	b.t.Helper()
	w, err := b.Store.Read().WorkspaceByID(b.t.Context(), "w")
	if err != nil {
		b.t.Fatal(err)
	}
	cs, err := b.Store.Read().Conditions(b.t.Context(), "w")
	if err != nil {
		b.t.Fatal(err)
	}
	kinds := map[lifecycle.ConditionKind]string{}
	for _, c := range cs {
		kinds[c.Kind] = c.Reason
	}
	return w, kinds
}

// stopped puts the workspace to rest, with what was seen of its work.
func (b *bench) stopped(work *store.WorkState) {
	b.t.Helper()
	b.write(func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(b.t.Context(), "w")
		if err != nil {
			return err
		}
		w.Wanted = lifecycle.WantStopped
		if err := tx.SetPhase(b.t.Context(), &w, lifecycle.Stopping, "p", ""); err != nil {
			return err
		}
		w.Work = work
		return b.entered(tx, &w, lifecycle.Stopped, "")
	})
}

// A restart does not make an idle workspace fresh, and a hold that has ended
// is forgotten.
func TestIdleOverARestart(t *testing.T) {
	b := newBench(t)
	b.settled("w")
	b.now = b.now.Add(20 * time.Minute)
	b.Rest.rest("w")
	if _, c := b.workspace(); !strings.Contains(c[lifecycle.IdleNow], "it came up, and nothing since; it is put to rest at 09:00 UTC") {
		t.Fatalf("idle for 20 minutes it is %v", c)
	}
	b.write(func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(b.t.Context(), "w")
		if err != nil {
			return err
		}
		return tx.SetHold(b.t.Context(), w, store.Hold{Until: b.now.Add(2 * time.Hour), Why: "charts", ByID: "p"})
	})
	*b.board = presence.Board{} // the service is started again
	b.now = b.now.Add(time.Hour)
	b.settled("w")
	if w, c := b.workspace(); w.Phase != lifecycle.Ready || !strings.Contains(c[lifecycle.Held], "10:20 UTC: charts") || c[lifecycle.IdleNow] == "" {
		t.Errorf("held it is %s with %v", w.Phase, c)
	}
	b.now = b.now.Add(2 * time.Hour)
	b.Rest.rest("w")
	w, _ := b.workspace()
	if w.Phase != lifecycle.Stopping || w.Wanted != lifecycle.WantStopped || !strings.Contains(w.Cause, "it came up at 08:00") {
		t.Errorf("after the hold it is %s, wanted %s: %s", w.Phase, w.Wanted, w.Cause)
	}
	if h, err := b.Store.Read().HoldOf(t.Context(), "w"); err != nil || !h.Until.IsZero() {
		t.Errorf("the hold stays: %+v, %v", h, err)
	}
	b.Rest.rest("w") // asked again, it is not put to rest twice
	entries, err := b.Store.Read().Journal(t.Context(), store.JournalFilter{Kind: "workspace.rested", Limit: 9})
	if err != nil || len(entries) != 1 {
		t.Errorf("it was put to rest %d times, %v", len(entries), err)
	}
}

// What was stopped for long goes, if nothing in it exists nowhere else, and
// not a moment before.
func TestStoppedForLong(t *testing.T) {
	for name, c := range map[string]struct {
		work *store.WorkState
		goes bool
	}{"clean": {&store.WorkState{}, true}, "unpushed": {&store.WorkState{Unpushed: []string{"a1 More"}}, false}, "cannot be looked at": {&store.WorkState{Problem: "no git"}, false}, "never looked at": {nil, false}} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			b.stopped(c.work)
			at, err := b.Rest.RemovesAt(t.Context(), b.Store.Read(), func() store.Workspace { w, _ := b.workspace(); return w }())
			if err != nil || !at.Equal(b.now.Add(30*24*time.Hour)) {
				t.Fatalf("it goes at %s, %v", at, err)
			}
			b.now = at.Add(-time.Second)
			b.expired()
			if w, _ := b.workspace(); w.Phase != lifecycle.Stopped {
				t.Fatal("it went too early")
			}
			b.now = at
			b.expired()
			w, conditions := b.workspace()
			if goes := w.Phase == lifecycle.Removing && w.Wanted == lifecycle.WantRemoved; goes != c.goes || (!goes && conditions[lifecycle.UnpushedWork] == "") {
				t.Errorf("it is %s, wanted %s, with %v", w.Phase, w.Wanted, conditions)
			}
		})
	}
}

// A steward's word is bounded; a disk that is over is warned of, and one far
// over puts the workspace to rest.
func TestWhatStewardsSay(t *testing.T) {
	b := newBench(t)
	b.settled("w")
	b.Status.took("w", steward.Status{Ports: make([]steward.Port, 500), TypedMS: -5, ReadMS: 1 << 62, BusyMS: 1000, DiskBytes: -1, Holders: []steward.Holder{{Label: "terminal \r\nx", SinceMS: 60_000, Secrets: map[string]int{"KEY": 1}}}})
	if ports := b.Status.Ports("w"); len(ports) != 0 {
		t.Errorf("taken are %d ports that are none", len(ports))
	}
	if _, c := b.workspace(); c[lifecycle.SecretsChanged] != "terminal ��x (since 07:59 UTC) holds an older KEY" {
		t.Errorf("of a secret that is gone it says %q", c[lifecycle.SecretsChanged])
	}
	r, _, err := b.House.Rules(t.Context(), b.Store.Read())
	w, _ := b.workspace()
	if v := b.Rest.Verdict(r, w, store.Hold{}, nil); err != nil || v.Last.After(b.now) {
		t.Errorf("the last sign is in the future: %+v, %v", v, err)
	}
	b.Status.took("w", steward.Status{DiskBytes: 10<<30 + 1})
	if w, c := b.workspace(); w.Phase != lifecycle.Ready || !strings.Contains(c[lifecycle.OverLimit], "10 GiB its size allows") {
		t.Errorf("a little over it is %s with %v", w.Phase, c)
	}
	b.Status.took("w", steward.Status{DiskBytes: 9 << 30})
	if _, c := b.workspace(); c[lifecycle.OverLimit] != "" {
		t.Errorf("with room made it is still %v", c)
	}
	b.Status.took("w", steward.Status{DiskBytes: 12 << 30})
	b.Status.took("w", steward.Status{DiskBytes: 12 << 30})
	if w, _ := b.workspace(); w.Phase != lifecycle.Stopping || !strings.Contains(w.Cause, "12 GiB of the 10 GiB") {
		t.Errorf("far over it is %s: %s", w.Phase, w.Cause)
	}
}

// Who writes the yard's disk full is put to rest.
func TestSprawl(t *testing.T) {
	b := newBench(t)
	if err := b.Status.sprawls("w"); err != nil {
		t.Fatal(err)
	}
	if w, _ := b.workspace(); w.Phase != lifecycle.Stopping || !strings.Contains(w.Cause, "the yard's disk has little room left") {
		t.Errorf("it is %s: %s", w.Phase, w.Cause)
	}
}

// A prebuild's run that does fails, once something of its repository's runs.
func TestSprawlOfAPrebuild(t *testing.T) {
	b := newBench(t)
	b.write(func(tx *store.Tx) error {
		return tx.AddWorkspace(t.Context(), &store.Workspace{ID: "x", Kind: store.ForPrebuild, OwnerID: "p", Name: "run", RepositoryID: "r", Phase: lifecycle.Starting, Wanted: lifecycle.WantReady, Body: 1, Volume: 1,
			StewardToken: []byte{1}, PortKey: "x", Plan: &store.Plan{Definition: definition.Definition{Folder: "/x"}}})
	})
	b.working["x"] = &work{} // its keeper is busy, too
	failed := ""
	b.Status.fails = func(w store.Workspace, cause error) error { failed = w.ID + ": " + cause.Error(); return nil }
	if err := b.Status.sprawls("x"); err != nil || !strings.HasPrefix(failed, "x: the yard's disk has little room left") {
		t.Errorf("it failed as %q, %v", failed, err)
	}
}

// Nobody's secret goes to a prebuild.
func TestPrebuildsGetNoSecrets(t *testing.T) {
	b := newBench(t)
	b.write(func(tx *store.Tx) error {
		_, err := tx.PutSecret(t.Context(), store.Secret{Secret: secret.Secret{Level: secret.OfPerson, Name: "KEY", Form: secret.Variable, Everywhere: true}, SubjectID: "p"}, nil, func(int) ([]byte, error) { return []byte{1}, nil })
		return err
	})
	w, _ := b.workspace()
	if g, err := b.Sessions.Given(t.Context(), w); err != nil || len(g) != 1 {
		t.Errorf("a workspace gets %v, %v", g, err)
	}
	w.Kind = store.ForPrebuild
	if g, err := b.Sessions.Given(t.Context(), w); err != nil || len(g) != 0 {
		t.Errorf("a prebuild gets %v, %v", g, err)
	}
}

// What was due while the disk was full is done when there is room again.
func TestWhatWasDueWhileTheDiskWasFull(t *testing.T) {
	b := newBench(t)
	var full atomic.Bool
	b.Store.Hook(store.Hooks{Around: func(_ context.Context, commit func() error) error {
		if full.Load() {
			return store.ErrFull
		}
		return commit()
	}})
	b.Rest.rest("w")
	full.Store(true)
	b.now = b.now.Add(2 * time.Hour)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go b.due.Run(ctx, func() time.Time { return b.now })
	time.Sleep(100 * time.Millisecond)
	if w, _ := b.workspace(); w.Phase != lifecycle.Ready {
		t.Fatalf("with a full disk it is %s", w.Phase)
	}
	full.Store(false)
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		if w, _ := b.workspace(); w.Phase == lifecycle.Stopping {
			return
		}
	}
	t.Error("it was never put to rest")
}

// What a steward says while its workspace comes up counts once it is ready,
// also where nothing is new since.
func TestSaidBeforeItWasReady(t *testing.T) {
	b := newBench(t)
	enter := func(p lifecycle.Phase) {
		t.Helper()
		b.write(func(tx *store.Tx) error {
			w, err := tx.WorkspaceByID(t.Context(), "w")
			if err != nil {
				return err
			}
			return tx.SetPhase(t.Context(), &w, p, "service", "")
		})
	}
	said := steward.Status{DiskBytes: 10<<30 + 1, Holders: []steward.Holder{{Label: "postCreateCommand", SinceMS: 1000, Secrets: map[string]int{"KEY": 1}}}}
	enter(lifecycle.Starting)
	b.Status.took("w", said)
	if _, c := b.workspace(); c[lifecycle.SecretsChanged] != "" || c[lifecycle.OverLimit] != "" {
		t.Errorf("starting, it is %v", c)
	}
	enter(lifecycle.Ready)
	b.Status.took("w", said)
	if _, c := b.workspace(); c[lifecycle.SecretsChanged] == "" || c[lifecycle.OverLimit] == "" {
		t.Errorf("ready, it is only %v", c)
	}
}

// A change of the rules puts nobody to rest without the time of warning, counted from
// the change, and removes nothing within a day of it. What would have been due in any case
// is.
func TestAChangeOfTheRulesWarnsFirst(t *testing.T) {
	b := newBench(t, func(r *Rooms) { r.House.Now = r.Now })
	put := func(old, new string) {
		t.Helper()
		b.write(func(tx *store.Tx) error {
			now, err := tx.Rules(t.Context())
			if err != nil {
				return err
			}
			_, err = tx.AddRules(t.Context(), store.RulesVersion{Document: strings.Replace(now.Document, old, new, 1), At: b.now})
			return err
		})
	}
	b.settled("w")
	b.now = b.now.Add(40 * time.Minute)
	put("rest_after: 1 h ", "rest_after: 40 s ")
	b.Rest.rest("w")
	if w, c := b.workspace(); w.Phase != lifecycle.Ready || !strings.Contains(c[lifecycle.IdleNow], "it is put to rest at 08:45 UTC") {
		t.Fatalf("as the rules change it is %s, %v", w.Phase, c)
	}
	b.now = b.now.Add(4*time.Minute + 59*time.Second)
	b.Rest.rest("w")
	if w, _ := b.workspace(); w.Phase != lifecycle.Ready {
		t.Fatalf("before the warning is over it is %s", w.Phase)
	}
	put("cpu_floor: 0.1", "cpu_floor: 0.2") // another change puts nothing off
	b.now = b.now.Add(time.Second)
	b.Rest.rest("w")
	if w, _ := b.workspace(); w.Phase != lifecycle.Stopping {
		t.Fatalf("after it, it is %s", w.Phase)
	}
	b.write(func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(t.Context(), "w")
		if err != nil {
			return err
		}
		w.Work = &store.WorkState{At: b.now}
		return b.entered(tx, &w, lifecycle.Stopped, "")
	})
	b.now = b.now.Add(9 * 24 * time.Hour)
	put("stopped_most: 30 days", "stopped_most: 1 h")
	b.expired()
	if w, _ := b.workspace(); w.Phase != lifecycle.Stopped {
		t.Fatalf("as the rules change it is %s", w.Phase)
	}
	b.now = b.now.Add(rules.RemovalNotice)
	b.expired()
	if w, _ := b.workspace(); w.Phase != lifecycle.Removing {
		t.Errorf("a day later it is %s", w.Phase)
	}
}
