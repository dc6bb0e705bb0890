package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/prebuild"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// Prebuilds are the use cases of images that are prepared ahead.
type Prebuilds struct {
	house        *house.Book
	keeper       *reconcile.Keeper
	store        *store.Store
	vault        *vault.Vault
	now          func() time.Time
	definitions  *Definitions
	launches     *Launches
	repositories *Repositories
	views        *views
}

// usualKeep is how many good prepared images a plan keeps unless it says.
const usualKeep = 2

// PutPlan makes or changes the prebuild plan of a branch. Its runs read the
// repository with the repository's own credential, and nobody's else.
func (s *Prebuilds) PutPlan(ctx context.Context, a Actor, repository string, in wire.PutPlan) (wire.PrebuildPlan, error) {
	r, err := s.repositories.repository(ctx, a, repository)
	if err != nil {
		return wire.PrebuildPlan{}, err
	}
	if !a.may(policy.ChangePrebuilds) {
		return wire.PrebuildPlan{}, denied(a, "plan prebuilds")
	}
	if err := noRequest(in.Branch); err != nil {
		return wire.PrebuildPlan{}, err
	}
	p := store.PrebuildPlan{ID: store.NewID(), RepositoryID: r.ID, Branch: in.Branch, OnPush: in.OnPush, Timetable: strings.TrimSpace(in.Timetable), Keep: in.Keep, MadeBy: a.ID}
	if p.Branch == "" {
		p.Branch = r.DefaultBranch
	}
	if p.Keep == 0 {
		p.Keep = usualKeep
	}
	if p.Timetable != "" {
		if _, err := prebuild.ParseTimetable(p.Timetable); err != nil {
			return wire.PrebuildPlan{}, invalid(err.Error(), "")
		}
	}
	if _, err := s.definitions.plan(ctx, a.ID, r, p.Branch, choice{}); err != nil {
		return wire.PrebuildPlan{}, err // no such branch, or a definition that makes nothing
	}
	err = s.store.Write(store.About(ctx, p.ID), func(tx *store.Tx) error {
		var now Tagged
		old, err := tx.PrebuildPlan(ctx, r.ID, p.Branch)
		if err == nil {
			now = planOf(ctx, tx.Q, r, old)
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := matches(ctx, "the prebuild plan of "+p.Branch, now); err != nil {
			return err
		}
		if err := tx.PutPrebuildPlan(ctx, p); err != nil {
			return err
		}
		return tx.Journal(ctx, r.ID, "", a.ID, journal.PlanPut{Repository: r.Name, Branch: p.Branch, OnPush: p.OnPush, Timetable: p.Timetable, Keep: p.Keep})
	})
	if err != nil {
		return wire.PrebuildPlan{}, err
	}
	if p, err = s.store.Read().PrebuildPlan(ctx, r.ID, p.Branch); err != nil {
		return wire.PrebuildPlan{}, err
	}
	s.schedule(ctx, p)
	return s.planView(ctx, r, p)
}

// DropPlan removes a plan, with its prepared images that serve nobody.
func (s *Prebuilds) DropPlan(ctx context.Context, a Actor, repository, branch string) error {
	r, p, err := s.findPlan(ctx, a, repository, branch, policy.ChangePrebuilds)
	if err != nil {
		return err
	}
	runs, err := s.store.Read().Runs(ctx, p.ID, 1000)
	if err != nil {
		return err
	}
	for _, run := range runs {
		if run.EndedAt == nil {
			return conflict("not-now", fmt.Sprintf("run %d of this plan is under way", run.Number), "wait until it has ended")
		}
		if run.Image != "" && run.DroppedAt == nil {
			if err := s.keeper.Images.DropPrepared(ctx, run.ID, ""); err != nil {
				return away("yard-away", "the yard does not drop a prepared image: "+err.Error(), "try again when it answers")
			}
		}
	}
	s.keeper.Forget("plan " + p.ID)
	s.keeper.Forget("due " + p.ID)
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropPrebuildPlan(ctx, p.ID); err != nil {
			return err
		}
		return tx.Journal(ctx, r.ID, "", a.ID, journal.PlanRemoved{Repository: r.Name, Branch: p.Branch})
	})
}

func (s *Prebuilds) findPlan(ctx context.Context, a Actor, repository, branch string, action policy.Action) (store.Repository, store.PrebuildPlan, error) {
	r, err := s.repositories.repository(ctx, a, repository)
	if err != nil {
		return r, store.PrebuildPlan{}, err
	}
	if !a.may(action) {
		return r, store.PrebuildPlan{}, denied(a, "do this with prebuilds")
	}
	if branch == "" {
		branch = r.DefaultBranch
	}
	p, err := s.store.Read().PrebuildPlan(ctx, r.ID, branch)
	if errors.Is(err, store.ErrNotFound) {
		return r, p, notFound("prebuild plan for branch", branch, "make one", fault.Do("put-plan", r.Name))
	}
	return r, p, err
}

// Plans lists the prebuild plans with their newest runs; of one repository
// unless it is empty.
func (s *Prebuilds) Plans(ctx context.Context, a Actor, repository string) ([]wire.PrebuildPlan, error) {
	if !a.may(policy.SeePrebuilds) {
		return nil, denied(a, "see prebuilds")
	}
	id := ""
	if repository != "" {
		r, err := s.repositories.repository(ctx, a, repository)
		if err != nil {
			return nil, err
		}
		id = r.ID
	}
	rows, err := s.store.Read().PrebuildPlans(ctx, id)
	out := []wire.PrebuildPlan{}
	for _, p := range rows {
		if !a.holds(p.RepositoryID) {
			continue
		}
		r, err := s.store.Read().RepositoryByID(ctx, p.RepositoryID)
		if err != nil {
			return nil, err
		}
		v, err := s.planView(ctx, r, p)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, err
}

// planOf is a plan without what comes of it.
func planOf(ctx context.Context, q store.Q, r store.Repository, p store.PrebuildPlan) wire.PrebuildPlan {
	return wire.PrebuildPlan{Repository: r.Name, Branch: p.Branch, OnPush: p.OnPush, Timetable: p.Timetable, Keep: p.Keep, MadeBy: nameOf(ctx, q, p.MadeBy), Runs: []wire.PrebuildRun{}}
}

func (s *Prebuilds) planView(ctx context.Context, r store.Repository, p store.PrebuildPlan) (wire.PrebuildPlan, error) {
	v := planOf(ctx, s.store.Read(), r, p)
	if at := s.nextRun(ctx, p); !at.IsZero() {
		at = at.UTC()
		v.NextAt = &at
	}
	prepared, scratch, err := s.store.Read().UsualTimes(ctx, r.ID)
	if err != nil {
		return v, err
	}
	usual, _ := lifecycle.Typical(prepared)
	without, _ := lifecycle.Typical(scratch)
	v.UsualMS, v.ScratchMS = usual.Milliseconds(), without.Milliseconds()
	runs, err := s.store.Read().Runs(ctx, p.ID, 20)
	for _, run := range runs {
		v.Runs = append(v.Runs, runView(run))
	}
	return v, err
}

func runView(r store.PrebuildRun) wire.PrebuildRun {
	return wire.PrebuildRun{ID: r.ID, Number: r.Number, Reason: r.Reason, Commit: r.Commit, Outcome: string(r.Outcome), Cause: r.Cause, StartedAt: r.StartedAt,
		EndedAt: r.EndedAt, Serves: r.Outcome == lifecycle.Done && r.DroppedAt == nil}
}

// nextRun is when a plan is due by its timetable; zero when it has none.
func (s *Prebuilds) nextRun(ctx context.Context, p store.PrebuildPlan) time.Time {
	t, err := prebuild.ParseTimetable(p.Timetable)
	if err != nil {
		return time.Time{}
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return time.Time{}
	}
	return t.Next(s.now().In(house.Zone))
}

// Schedule sets going what plans are due, now and by the clock. It is called
// once, at the service's start.
func (s *Prebuilds) Schedule(ctx context.Context) error {
	s.keeper.Images.Prebuilt = func(plan string) { s.prebuilt(ctx, plan) }
	plans, err := s.store.Read().PrebuildPlans(ctx, "")
	for _, p := range plans {
		s.schedule(ctx, p)
		if p.Due != "" {
			s.prebuilt(ctx, p.ID)
		}
	}
	return err
}

func (s *Prebuilds) schedule(ctx context.Context, p store.PrebuildPlan) {
	at := s.nextRun(ctx, p)
	if at.IsZero() {
		s.keeper.Forget("plan " + p.ID)
		return
	}
	s.keeper.At("plan "+p.ID, at, func(ctx context.Context) error {
		p, err := s.store.Read().PrebuildPlanByID(ctx, p.ID)
		if errors.Is(err, store.ErrNotFound) {
			return nil // it was removed
		}
		if err != nil {
			return err
		}
		_, err = s.runOrLater(ctx, p, "by its timetable")
		var wrong *fault.Fault
		if errors.As(err, &wrong) && wrong.Class != fault.Away && wrong.Class != fault.NoRoom {
			slog.Warn("a prebuild by the timetable did not begin", "plan", p.ID, "error", err)
			err = nil // asked again it would be the same
		}
		if err == nil {
			s.schedule(ctx, p)
		}
		return err
	})
}

// prebuilt is called when a run has ended: another may have become due
// meanwhile.
func (s *Prebuilds) prebuilt(ctx context.Context, plan string) {
	p, err := s.store.Read().PrebuildPlanByID(ctx, plan)
	if err != nil || p.Due == "" {
		return
	}
	if _, err := s.runOrLater(ctx, p, p.Due); err != nil && ctx.Err() == nil {
		slog.Warn("a prebuild that was due did not begin", "plan", plan, "error", err)
	}
}

// pausedAgain is how often it is looked whether what was paused may be made.
const pausedAgain = time.Minute

// runOrLater is run for what nobody asks for themselves: while that is paused, it is due,
// and made when it is over. It is due over a restart, too.
func (s *Prebuilds) runOrLater(ctx context.Context, p store.PrebuildPlan, reason string) (*store.PrebuildRun, error) {
	run, err := s.run(ctx, p, Actor{}, reason, false)
	var f *fault.Fault
	if !errors.As(err, &f) || f.Kind != "paused" {
		return run, err
	}
	if err := s.store.Write(ctx, func(tx *store.Tx) error { return tx.SetDue(ctx, p.ID, reason) }); err != nil {
		return nil, err
	}
	s.keeper.At("due "+p.ID, s.now().Add(pausedAgain), func(ctx context.Context) error {
		s.prebuilt(ctx, p.ID)
		return nil
	})
	return nil, nil
}

// RunPlan makes a prepared image now.
func (s *Prebuilds) RunPlan(ctx context.Context, a Actor, repository, branch string) (wire.PrebuildRun, error) {
	_, p, err := s.findPlan(ctx, a, repository, branch, policy.ChangePrebuilds)
	if err != nil {
		return wire.PrebuildRun{}, err
	}
	run, err := s.run(ctx, p, a, "by hand", true)
	if err != nil {
		return wire.PrebuildRun{}, err
	}
	if run == nil {
		return wire.PrebuildRun{}, conflict("not-now", "a run of this plan is under way; another begins when it has ended, if there is something new by then", "see how it goes", fault.Do("list-plans", ""))
	}
	return runView(*run), nil
}

// run begins a run of a plan. While one is under way it notes that another is
// due, and gives nil; so too where the newest good one is of the same content,
// unless it is asked for by force.
func (s *Prebuilds) run(ctx context.Context, p store.PrebuildPlan, who Actor, reason string, force bool) (*store.PrebuildRun, error) {
	actor := cmp.Or(who.ID, "service")
	r, err := s.store.Read().RepositoryByID(ctx, p.RepositoryID)
	if err != nil {
		return nil, err
	}
	plan, err := s.definitions.planAsRepository(ctx, r, p.Branch)
	if err != nil {
		return nil, err
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return nil, err
	}
	size := house.Sizes[house.UsualSize]
	run := store.PrebuildRun{ID: store.NewID(), PlanID: p.ID, Reason: reason, Commit: plan.Commit, Fingerprint: definition.Prepared(plan.Definition, plan.Fingerprint)}
	w := store.Workspace{ID: store.NewID(), OwnerID: p.MadeBy, Name: "prebuild-" + run.ID, RepositoryID: r.ID, Branch: p.Branch, Plan: &plan, Kind: store.ForPrebuild,
		Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady, Body: 1, Volume: 1, Size: house.UsualSize, CoresMilli: size.CoresMilli, MemoryBytes: size.MemoryBytes, DiskBytes: size.DiskBytes}
	run.WorkspaceID = w.ID
	w.Plan.Definition = definition.WithID(w.Plan.Definition, bodyID(w.ID))
	if w.StewardToken, err = s.vault.Seal(store.NewID()+store.NewID(), "steward", w.ID); err != nil {
		return nil, err
	}
	begun := false
	err = s.store.Write(store.About(ctx, p.ID), func(tx *store.Tx) error {
		begun = false
		runs, err := tx.Runs(ctx, p.ID, 1)
		if err != nil {
			return err
		}
		if len(runs) > 0 && runs[0].EndedAt == nil {
			return tx.SetDue(ctx, p.ID, reason)
		}
		if err := tx.SetDue(ctx, p.ID, ""); err != nil {
			return err
		}
		good, err := tx.GoodRuns(ctx, r.ID, p.Branch)
		if err != nil {
			return err
		}
		if !force && len(good) > 0 && good[0].Commit == run.Commit && good[0].Fingerprint == run.Fingerprint {
			return nil
		}
		begun = true
		if err := paused(ctx, s.house, tx.Q, who, rules.Pause.Launches); err != nil {
			return err
		}
		if err := s.launches.Accept(ctx, tx, &w, lifecycle.PrebuildRun, actor, r.Name); err != nil {
			return err
		}
		if err := tx.AddRun(ctx, &run); err != nil {
			return err
		}
		return tx.Journal(ctx, run.ID, "", actor, journal.PrebuildBegun{Plan: p.ID, Number: run.Number, Repository: r.Name, Branch: p.Branch, Reason: reason, Commit: run.Commit})
	})
	if err != nil || !begun {
		return nil, err
	}
	s.keeper.Wake(w.ID)
	return &run, nil
}

// findRun finds a run by its id.
func (s *Prebuilds) findRun(ctx context.Context, a Actor, id string) (store.Workspace, error) {
	if !a.may(policy.SeePrebuilds) {
		return store.Workspace{}, denied(a, "see prebuilds")
	}
	run, err := s.store.Read().RunByID(ctx, id)
	var w store.Workspace
	if err == nil {
		w, err = s.store.Read().WorkspaceByID(ctx, run.WorkspaceID)
	}
	if errors.Is(err, store.ErrNotFound) || err == nil && !a.holds(w.RepositoryID) {
		return store.Workspace{}, notFound("prebuild run", id, "see them", fault.Do("list-plans", ""))
	}
	if err != nil {
		return store.Workspace{}, err
	}
	// What it printed is of the source, which the git host lets some people see.
	r, err := s.store.Read().RepositoryByID(ctx, w.RepositoryID)
	if err != nil {
		return w, err
	}
	if err := s.definitions.mayRead(ctx, a, r); err != nil {
		return w, err
	}
	for _, b := range w.Plan.Beside {
		if err := s.definitions.mayRead(ctx, a, store.Repository{ID: b.RepositoryID, Name: b.Name, URL: b.URL}); err != nil {
			return w, err
		}
	}
	return w, nil
}

// Plan is the plan of a branch; an empty branch is the repository's own.
func (s *Prebuilds) Plan(ctx context.Context, a Actor, repository, branch string) (wire.PrebuildPlan, error) {
	r, p, err := s.findPlan(ctx, a, repository, branch, policy.SeePrebuilds)
	if err != nil {
		return wire.PrebuildPlan{}, err
	}
	return s.planView(ctx, r, p)
}

// Runs lists the runs of the plan of a branch.
func (s *Prebuilds) Runs(ctx context.Context, a Actor, repository, branch string) ([]wire.PrebuildRun, error) {
	_, p, err := s.findPlan(ctx, a, repository, branch, policy.SeePrebuilds)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Read().Runs(ctx, p.ID, 10_000)
	out := []wire.PrebuildRun{}
	for _, r := range rows {
		out = append(out, runView(r))
	}
	return out, err
}

// Run is one run.
func (s *Prebuilds) Run(ctx context.Context, a Actor, id string) (wire.PrebuildRun, error) {
	if _, err := s.findRun(ctx, a, id); err != nil {
		return wire.PrebuildRun{}, err
	}
	r, err := s.store.Read().RunByID(ctx, id)
	return runView(r), err
}

// RunSheet gives the launch sheet of a run.
func (s *Prebuilds) RunSheet(ctx context.Context, a Actor, id string) (wire.Sheet, error) {
	w, err := s.findRun(ctx, a, id)
	if err != nil {
		return wire.Sheet{}, err
	}
	sh, err := s.views.sheet(ctx, w, 1)
	if err != nil {
		return wire.Sheet{}, err
	}
	steps, err := s.store.Read().Steps(ctx, sh.ID)
	return sheetView(sh, steps), err
}

// CopyRunLog writes the whole log of a run to w, and goes on with follow until
// it has ended.
func (s *Prebuilds) CopyRunLog(ctx context.Context, a Actor, id string, follow bool, w io.Writer, flush func()) error {
	ws, err := s.findRun(ctx, a, id)
	if err != nil {
		return err
	}
	return s.views.copyLog(ctx, ws, 1, 0, follow, w, flush)
}

// Pushes: the news of a push is signed by the git host with the repository's
// push key. docs/pushes.md describes the form.
