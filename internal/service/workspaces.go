package service

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/quota"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/reconcile"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Workspaces are the verbs of workspaces.
type Workspaces struct {
	house       *house.Book
	keeper      *reconcile.Keeper
	store       *store.Store
	lease       time.Duration // of a workspace that is for one command
	definitions *Definitions
	launches    *Launches
	views       *views
}

var workspaceName = regexp.MustCompile(`^[a-z]([a-z0-9-]{0,38}[a-z0-9])?$`)

// Show tells of one workspace.
func (s *Workspaces) Show(ctx context.Context, a Actor, ref string) (wire.Workspace, error) {
	w, err := s.views.find(ctx, a, ref)
	if err != nil {
		return wire.Workspace{}, err
	}
	return s.views.view(ctx, s.store.Read(), w)
}

// Made tells of a workspace that the actor has made, by its id.
func (s *Workspaces) Made(ctx context.Context, a Actor, id string) (wire.Workspace, error) {
	w, err := s.store.Read().WorkspaceByID(ctx, id)
	if err != nil {
		return wire.Workspace{}, err
	}
	owner, err := s.store.Read().PersonByID(ctx, w.OwnerID)
	if err == nil && (w.Phase == lifecycle.Removed || !a.holds(w.RepositoryID) || !a.mayOf(policy.SeeWorkspace, owner)) {
		err = notFound("workspace", w.Name, "it was made when this was asked before, and is removed")
	}
	if err != nil {
		return wire.Workspace{}, err
	}
	return s.views.view(ctx, s.store.Read(), w)
}

// Start brings a stopped or failed workspace up.
func (s *Workspaces) Start(ctx context.Context, a Actor, ref string) (wire.Workspace, error) {
	return s.want(ctx, a, ref, lifecycle.Start, func(tx *store.Tx, w *store.Workspace) error {
		if w.Phase == lifecycle.Ready {
			return nil
		}
		if err := paused(ctx, s.house, tx.Q, a, rules.Pause.Starts); err != nil {
			return err
		}
		if err := s.admitStart(ctx, tx, *w); err != nil {
			return err
		}
		kind := lifecycle.StartSheet
		if w.SeededVolume == 0 && w.Plan.Adopted == nil {
			kind = lifecycle.LaunchSheet
		}
		w.Wanted = lifecycle.WantReady
		return s.begin(ctx, tx, w, a, lifecycle.Waiting, kind)
	})
}

// admitStart holds a workspace that is to run against its owner's limits.
func (s *Workspaces) admitStart(ctx context.Context, tx *store.Tx, w store.Workspace) error {
	owner, err := tx.PersonByID(ctx, w.OwnerID)
	if err != nil {
		return err
	}
	return s.launches.admit(ctx, tx, owner, quota.Start(rules.Size{CoresMilli: w.CoresMilli, MemoryBytes: w.MemoryBytes}))
}

// Stop stops a workspace; its files stay.
func (s *Workspaces) Stop(ctx context.Context, a Actor, ref string) (wire.Workspace, error) {
	return s.want(ctx, a, ref, lifecycle.Stop, func(tx *store.Tx, w *store.Workspace) error {
		if w.Phase == lifecycle.Stopped {
			return nil
		}
		w.Wanted = lifecycle.WantStopped
		return s.begin(ctx, tx, w, a, lifecycle.Stopping, lifecycle.StopSheet)
	})
}

// begin opens a sheet and enters the first phase of what was asked for.
func (s *Workspaces) begin(ctx context.Context, tx *store.Tx, w *store.Workspace, a Actor, p lifecycle.Phase, kind lifecycle.SheetKind) error {
	if _, err := tx.OpenSheet(ctx, w.ID, kind); err != nil {
		return err
	}
	return tx.SetPhase(ctx, w, p, a.ID, "")
}

// Rebuild makes a new body from the branch's head; the old one stays until
// the new one runs. With new files the volume is new too.
func (s *Workspaces) Rebuild(ctx context.Context, a Actor, ref string, in wire.Rebuild) (wire.Workspace, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.DriveWorkspace, "rebuild")
	if err != nil {
		return wire.Workspace{}, err
	}
	if err := lifecycle.Permit(lifecycle.Rebuild, w.Phase, w.Plan.Adopted != nil); err != nil {
		return wire.Workspace{}, about(ref, a, fromRoom(err))
	}
	if in.NewFiles && !in.Discard {
		if err := s.mustBeSafe(ctx, w, fault.Do("rebuild-workspace", w.Name, "new_files", "discard")); err != nil {
			return wire.Workspace{}, about(ref, a, err)
		}
	}
	r, err := s.store.Read().RepositoryByID(ctx, w.RepositoryID)
	if err != nil {
		return wire.Workspace{}, err
	}
	plan, err := s.definitions.plan(ctx, w.OwnerID, r, w.Branch, choiceOf(*w.Plan))
	if err != nil {
		return wire.Workspace{}, err
	}
	if in.NewFiles {
		if err := s.launches.prepared(ctx, r, w.Branch, &plan); err != nil {
			return wire.Workspace{}, err
		}
	}
	plan.Definition = definition.WithID(plan.Definition, bodyID(w.ID))
	return s.want(ctx, a, ref, lifecycle.Rebuild, func(tx *store.Tx, w *store.Workspace) error {
		if w.NextBody > 0 {
			return conflict("not-now", "a rebuild of "+quote(w.Name)+" is under way", "wait for it, or stop the workspace")
		}
		if err := paused(ctx, s.house, tx.Q, a, rules.Pause.Starts); err != nil {
			return err
		}
		if w.Phase != lifecycle.Ready {
			if err := s.admitStart(ctx, tx, *w); err != nil {
				return err
			}
		}
		w.Wanted = lifecycle.WantReady
		w.NextPlan, w.NextBody = &plan, w.Body+1
		if in.NewFiles {
			w.NextVolume = max(w.Volume, w.SeededVolume) + 1
		}
		if err := tx.SetCondition(ctx, *w, lifecycle.Rebuilding, "a new container is being made from "+plan.Commit[:10]); err != nil {
			return err
		}
		if w.Phase == lifecycle.Ready {
			if _, err := tx.OpenSheet(ctx, w.ID, lifecycle.RebuildSheet); err != nil {
				return err
			}
			return tx.SaveWorkspace(ctx, *w)
		}
		return s.begin(ctx, tx, w, a, lifecycle.Waiting, lifecycle.RebuildSheet)
	})
}

// Remove removes a workspace with its files. It refuses while work exists
// nowhere else, unless discard is set.
func (s *Workspaces) Remove(ctx context.Context, a Actor, ref string, discard bool) (wire.Workspace, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.RemoveWorkspace, "remove")
	if err != nil {
		return wire.Workspace{}, err
	}
	if !discard && w.Phase != lifecycle.Removing && w.Wanted != lifecycle.WantRemoved {
		if err := s.mustBeSafe(ctx, w, fault.Do("remove-workspace", w.Name, "discard")); err != nil {
			return wire.Workspace{}, about(ref, a, err)
		}
	}
	return s.want(ctx, a, ref, lifecycle.Remove, func(tx *store.Tx, w *store.Workspace) error {
		if w.Phase == lifecycle.Removing {
			return nil
		}
		if discard {
			if err := tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.WorkspaceDiscarded{}); err != nil {
				return err
			}
		}
		w.Wanted = lifecycle.WantRemoved
		return s.begin(ctx, tx, w, a, lifecycle.Removing, lifecycle.RemoveSheet)
	})
}

// about says of a refusal which workspace it is about.
func about(ref string, a Actor, err error) error {
	var f *fault.Fault
	if errors.As(err, &f) && f.Class != fault.Missing && f.Workspace == "" {
		if f.Workspace = ref; !strings.Contains(ref, ".") {
			f.Workspace += "." + a.Name
		}
	}
	return err
}

// mustBeSafe refuses where files would go whose content exists nowhere else.
func (s *Workspaces) mustBeSafe(ctx context.Context, w store.Workspace, all fault.Action) error {
	work, err := s.look(ctx, w)
	if err != nil {
		return err
	}
	if work.Clean() {
		return nil
	}
	if work.Problem != "" {
		return conflict("work-unknown", fmt.Sprintf("the work in %s cannot be looked at: %s", quote(w.Name), work.Problem), "start it so that it can be, or give up whatever is there", all)
	}
	p := conflict("unpushed-work", fmt.Sprintf("%s holds work that exists nowhere else", quote(w.Name)), "commit and push it, or give it up", all)
	for _, u := range work.Uncommitted {
		p.Parts = append(p.Parts, fault.Part{Field: "not committed", Detail: u})
	}
	for _, u := range work.Unpushed {
		p.Parts = append(p.Parts, fault.Part{Field: "not pushed", Detail: u})
	}
	if work.Stashes > 0 {
		p.Parts = append(p.Parts, fault.Part{Field: "stashed", Detail: fmt.Sprintf("%d in git stash", work.Stashes)})
	}
	return p
}

// look says what of a workspace's work exists nowhere else: by its steward
// while it is ready, else as it was when it stopped.
func (s *Workspaces) look(ctx context.Context, w store.Workspace) (store.WorkState, error) {
	switch {
	case w.SeededVolume == 0:
		return store.WorkState{}, nil // there never were files
	case w.Phase == lifecycle.Stopped && w.Work != nil:
		return *w.Work, nil
	case w.Phase != lifecycle.Ready:
		return store.WorkState{Problem: "the workspace is " + string(w.Phase)}, nil
	}
	return s.keeper.Rest.Look(ctx, w)
}

// Work tells what in a workspace exists nowhere else.
func (s *Workspaces) Work(ctx context.Context, a Actor, ref string) (wire.Work, error) {
	w, err := s.views.find(ctx, a, ref)
	if err != nil {
		return wire.Work{}, err
	}
	r, err := s.look(ctx, w)
	v := wire.Work{Uncommitted: r.Uncommitted, Unpushed: r.Unpushed, Stashes: r.Stashes, Problem: r.Problem}
	if v.Uncommitted == nil {
		v.Uncommitted = []string{}
	}
	if v.Unpushed == nil {
		v.Unpushed = []string{}
	}
	return v, err
}

var verbActions = map[lifecycle.Verb]policy.Action{lifecycle.Start: policy.DriveWorkspace, lifecycle.Rebuild: policy.DriveWorkspace,
	lifecycle.Stop: policy.StopWorkspace, lifecycle.Remove: policy.RemoveWorkspace, lifecycle.LetGo: policy.AdoptContainers}

// want writes what is wanted of a workspace, if its phase permits the verb,
// and has its keeper look at once.
func (s *Workspaces) want(ctx context.Context, a Actor, ref string, v lifecycle.Verb, change func(*store.Tx, *store.Workspace) error) (wire.Workspace, error) {
	w, _, err := s.views.findTo(ctx, a, ref, verbActions[v], string(v))
	if err != nil {
		return wire.Workspace{}, err
	}
	var view wire.Workspace
	another := false
	err = s.store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(ctx, w.ID)
		if err != nil {
			return err
		}
		if Matched(ctx) {
			seen, err := s.views.view(ctx, tx.Q, w)
			if err == nil {
				err = matches(ctx, quote(w.Name), seen)
			}
			if err != nil {
				return err
			}
		}
		if err := lifecycle.Permit(v, w.Phase, w.Plan.Adopted != nil); err != nil {
			return err
		}
		phase, body := w.Phase, w.NextBody
		if err := change(tx, &w); err != nil {
			return err
		}
		another = w.Phase != phase || w.NextBody != body
		if err := tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.WorkspaceAsked{Operation: a.Operation, Reason: a.Why, Verb: v}); err != nil {
			return err
		}
		view, err = s.views.view(ctx, tx.Q, w)
		return err
	})
	if err != nil {
		return wire.Workspace{}, about(ref, a, fromRoom(err))
	}
	if another { // asked for again, it goes on undisturbed
		s.keeper.Interrupt(w.ID)
	} else {
		s.keeper.Wake(w.ID)
	}
	return view, nil
}

// Tell puts a notice before a workspace's owner, in place of an older one.
func (s *Workspaces) Tell(ctx context.Context, a Actor, ref, text string) error {
	w, _, err := s.views.findTo(ctx, a, ref, policy.StopWorkspace, "put a notice at")
	if err != nil {
		return err
	}
	return s.store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error {
		if err := tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.WorkspaceTold{Operation: a.Operation, Reason: text}); err != nil {
			return err
		}
		return tx.SetCondition(ctx, w, lifecycle.Notice, text) // who said it is in the journal, by their id
	})
}

// Heed takes away the notice at a workspace: its owner has read it.
func (s *Workspaces) Heed(ctx context.Context, a Actor, ref string) error {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "take the notice away from")
	if err != nil {
		return err
	}
	return s.store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error { return tx.ClearCondition(ctx, w, lifecycle.Notice) })
}

// AllowPush lets what is in a workspace push for a time, or says that it may not
// any more. It is a word of whoever the push would be by.
func (s *Workspaces) AllowPush(ctx context.Context, a Actor, ref string, may bool) (wire.Workspace, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "allow pushes of")
	if err != nil {
		return wire.Workspace{}, err
	}
	if may && w.Phase != lifecycle.Ready {
		return wire.Workspace{}, conflict("not-now", "nothing pushes while the workspace is "+string(w.Phase), "start it first", fault.Do("start-workspace", w.Name))
	}
	return s.afterJudge(ctx, w, s.store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error {
		if err := tx.ClearConditions(ctx, w, lifecycle.PushWaits, lifecycle.PushAllowed); err != nil {
			return err
		}
		if !may {
			return tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.PushesEnded{})
		}
		until := tx.Now().Add(session.PushFor)
		if err := tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.PushesAllowed{Until: until}); err != nil {
			return err
		}
		return tx.SetCondition(ctx, w, lifecycle.PushAllowed, "what is in it may push until "+s.house.Local(ctx, tx.Q, tx.Now(), until))
	}))
}

// errandLease is how long a workspace that is for one command usually stays without
// a word of whoever asked for it.
const errandLease = time.Minute

// RenewErrand says that whoever asked for a workspace that is for one command is
// still there.
func (s *Workspaces) RenewErrand(ctx context.Context, a Actor, ref string) (wire.Errand, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.DriveWorkspace, "renew the lease of")
	if err != nil {
		return wire.Errand{}, err
	}
	var e store.Errand
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.RenewErrand(ctx, w.ID, tx.Now().Add(s.lease)); err != nil {
			return err
		}
		var err error
		e, err = tx.ErrandOf(ctx, w.ID)
		return err
	})
	if errors.Is(err, store.ErrNotFound) {
		return wire.Errand{}, conflict("not-now", quote(w.Name)+" was not launched for one command", "it has no lease; remove it", fault.Do("remove-workspace", w.Name))
	}
	if err != nil {
		return wire.Errand{}, err
	}
	s.keeper.Rest.Errand(e)
	return wire.Errand{LeaseS: int64(s.lease / time.Second), LeaseUntil: e.LeaseUntil, MostUntil: e.MostUntil}, nil
}

// Hold keeps a workspace from being put to rest for a time.
func (s *Workspaces) Hold(ctx context.Context, a Actor, ref string, in wire.Hold) (wire.Workspace, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.DriveWorkspace, "hold")
	if err != nil {
		return wire.Workspace{}, err
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return wire.Workspace{}, err
	}
	d := time.Duration(in.Seconds) * time.Second
	why := strings.TrimSpace(in.Why)
	switch {
	case in.Seconds > int64(house.Idle.HoldMost/time.Second):
		return wire.Workspace{}, invalid("a hold of "+rules.Duration(d)+" is longer than the house rules allow", "hold it for at most "+rules.Duration(house.Idle.HoldMost))
	case d < time.Minute:
		return wire.Workspace{}, invalid("a hold of "+rules.Duration(d)+" is too short", "hold it for at least 1 min")
	case why == "" || hasControl(why):
		return wire.Workspace{}, at(invalid("the reason is missing", "say why"), "/why", "a line for others to read")
	case w.Plan.Adopted != nil:
		return wire.Workspace{}, conflict("not-now", "an adopted container is never put to rest", "")
	case w.Phase != lifecycle.Ready:
		return wire.Workspace{}, conflict("not-now", "hold is not possible while the workspace is "+string(w.Phase), "start it first", fault.Do("start-workspace", w.Name))
	}
	return s.afterJudge(ctx, w, s.store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error {
		return tx.SetHold(ctx, w, store.Hold{Until: tx.Now().Add(d), Why: why, ByID: a.ID})
	}))
}

// EndHold lets a workspace be put to rest again.
func (s *Workspaces) EndHold(ctx context.Context, a Actor, ref string) (wire.Workspace, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.DriveWorkspace, "let go of")
	if err != nil {
		return wire.Workspace{}, err
	}
	return s.afterJudge(ctx, w, s.store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error { return tx.DropHold(ctx, w, a.ID) }))
}

func (s *Workspaces) afterJudge(ctx context.Context, w store.Workspace, err error) (wire.Workspace, error) {
	if err != nil {
		return wire.Workspace{}, err
	}
	s.keeper.Rest.Judge(w.ID)
	if w, err = s.store.Read().WorkspaceByID(ctx, w.ID); err != nil {
		return wire.Workspace{}, err
	}
	return s.views.view(ctx, s.store.Read(), w)
}
