package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
)

type (
	workspacesReads  struct{ reader }
	workspacesWrites struct{ *txn }
)

// The kinds of workspace.
const (
	ForPerson   = "person"
	ForPrebuild = "prebuild" // it makes a prepared image, and goes
)

// WorkState is what existed nowhere else when a workspace stopped.
type WorkState struct {
	At          time.Time `json:"at"`
	Uncommitted []string  `json:"uncommitted,omitempty"`
	Unpushed    []string  `json:"unpushed,omitempty"`
	Stashes     int       `json:"stashes,omitempty"`
	Problem     string    `json:"problem,omitempty"` // it could not be looked at
}

// Clean tells that nothing would be lost.
func (w WorkState) Clean() bool {
	return w.Problem == "" && len(w.Uncommitted) == 0 && len(w.Unpushed) == 0 && w.Stashes == 0
}

// Target is the plan of the body that is being brought up.
func (w *Workspace) Target() *Plan {
	if w.NextPlan != nil {
		return w.NextPlan
	}
	return w.Plan
}

// ChangeTarget puts another plan in the target's place: what change makes of it.
// change must not change what the plan points to.
func (w *Workspace) ChangeTarget(change func(*Plan)) {
	p := *w.Target()
	change(&p)
	if w.NextPlan != nil {
		w.NextPlan = &p
	} else {
		w.Plan = &p
	}
}

// Workspace is the present state of one workspace.
type Workspace struct {
	ID, OwnerID, Name, RepositoryID string
	Branch                          string
	Plan                            *Plan // what the body in use is made from; not nil, of one that was removed empty
	NextPlan                        *Plan // what a rebuild is making; nil when there is none
	Phase, FailedIn                 lifecycle.Phase
	Cause                           string
	Wanted                          lifecycle.Wanted
	Body, NextBody                  int
	Volume, NextVolume              int
	SeededVolume                    int // the newest volume that holds a whole clone
	StewardToken                    []byte
	CreatedAt, PhaseAt              time.Time
	Kind                            string // ForPerson or ForPrebuild
	Size                            string
	CoresMilli                      int64 // as the rules had it when the size was given
	MemoryBytes, DiskBytes          int64
	RestAfter                       time.Duration // asked for; 0 is the rules' usual
	PortKey                         string        // what its ports' host names begin with
	Work                            *WorkState    // when it stopped; nil while it runs
	planID, nextPlanID              string        // those that the records have
	read, nextRead                  *Plan         // what they stand for
	first                           encoded       // the plan of one that is to be added
}

const workspaceColumns = `id, owner_id, name, repository_id, branch, plan_id, next_plan_id,
 phase, failed_in, cause, wanted, body, next_body, volume, next_volume, seeded_volume, steward_token, created_at, phase_at,
 kind, size, cores_milli, memory_bytes, disk_bytes, rest_after_s, port_key, work`

func scanWorkspace(scan func(...any) error) (w Workspace, err error) {
	var work []byte
	var created, phase, rest int64
	if err = scan(&w.ID, &w.OwnerID, &w.Name, &w.RepositoryID, &w.Branch, &w.planID, &w.nextPlanID,
		&w.Phase, &w.FailedIn, &w.Cause, &w.Wanted, &w.Body, &w.NextBody, &w.Volume, &w.NextVolume, &w.SeededVolume, &w.StewardToken, &created, &phase,
		&w.Kind, &w.Size, &w.CoresMilli, &w.MemoryBytes, &w.DiskBytes, &rest, &w.PortKey, &work); err != nil {
		return w, err
	}
	w.CreatedAt, w.PhaseAt, w.RestAfter = fromMicros(created), fromMicros(phase), time.Duration(rest)*time.Second
	if len(work) > 0 {
		w.Work = &WorkState{}
		return w, json.Unmarshal(work, w.Work)
	}
	return w, nil
}

// planned puts in the plans of a row.
func (q workspacesReads) planned(ctx context.Context, w *Workspace) (err error) {
	plans := plansReads{q.reader}
	if w.Plan, err = plans.plan(ctx, w.planID); err != nil {
		return err
	}
	w.read = w.Plan
	if w.nextPlanID != "" {
		w.NextPlan, err = plans.plan(ctx, w.nextPlanID)
		w.nextRead = w.NextPlan
	}
	return err
}

func (q workspacesReads) workspace(ctx context.Context, where string, args ...any) (Workspace, error) {
	w, err := one(ctx, q.reader, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE "+where, args...)
	if err != nil {
		return w, err
	}
	return w, q.planned(ctx, &w)
}

func (q workspacesReads) workspaces(ctx context.Context, where string, args ...any) ([]Workspace, error) {
	all, err := list(ctx, q.reader, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE "+where, args...)
	for i := range all {
		if err == nil {
			err = q.planned(ctx, &all[i])
		}
	}
	return all, err
}

// Encode makes the stored form of a workspace's first plan beforehand, so that
// the one who writes need not.
func (w *Workspace) Encode() (err error) {
	w.first, err = w.Plan.encode()
	return err
}

// AddWorkspace adds a workspace.
func (tx workspacesWrites) AddWorkspace(ctx context.Context, w *Workspace) error {
	tx.touch(w.ID)
	w.CreatedAt, w.PhaseAt = tx.now, tx.now
	if w.Kind == "" {
		w.Kind = ForPerson
	}
	if w.Plan == nil {
		w.Plan = &Plan{}
	}
	if w.first.plan != w.Plan {
		if err := w.Encode(); err != nil {
			return err
		}
	}
	if err := (plansWrites{tx.txn}).putPlan(ctx, w.first); err != nil {
		return err
	}
	w.planID, w.read = w.first.id, w.Plan
	adopted := ""
	if w.Plan.Adopted != nil {
		adopted = w.Plan.Adopted.Container
	}
	return tx.exec(ctx, "INSERT INTO workspaces ("+workspaceColumns+", adopted) VALUES (?,?,?,?,?,?,'',?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,'',?)",
		w.ID, w.OwnerID, w.Name, w.RepositoryID, w.Branch, w.planID,
		w.Phase, w.FailedIn, w.Cause, w.Wanted, w.Body, w.NextBody, w.Volume, w.NextVolume, w.SeededVolume, w.StewardToken, micros(w.CreatedAt), micros(w.PhaseAt),
		w.Kind, w.Size, w.CoresMilli, w.MemoryBytes, w.DiskBytes, int64(w.RestAfter/time.Second), w.PortKey, adopted)
}

// SaveWorkspace writes what may change of a workspace. A plan that is another
// one than was read is put; one that nobody has any more goes.
func (tx workspacesWrites) SaveWorkspace(ctx context.Context, w Workspace) error {
	tx.touch(w.ID)
	if w.Phase == lifecycle.Removing {
		tx.shift(w.ID)
	}
	ids, err := tx.savePlans(ctx, &w)
	if err != nil {
		return err
	}
	work := ""
	if w.Work != nil {
		b, err := json.Marshal(w.Work)
		if err != nil {
			return err
		}
		work = string(b)
	}
	if err := tx.mustChange(ctx, `UPDATE workspaces SET branch=?, plan_id=?, next_plan_id=?, phase=?, failed_in=?, cause=?, wanted=?,
		body=?, next_body=?, volume=?, next_volume=?, seeded_volume=?, phase_at=?,
		size=?, cores_milli=?, memory_bytes=?, disk_bytes=?, rest_after_s=?, work=? WHERE id=?`,
		w.Branch, w.planID, w.nextPlanID, w.Phase, w.FailedIn, w.Cause, w.Wanted,
		w.Body, w.NextBody, w.Volume, w.NextVolume, w.SeededVolume, micros(w.PhaseAt),
		w.Size, w.CoresMilli, w.MemoryBytes, w.DiskBytes, int64(w.RestAfter/time.Second), work, w.ID); err != nil {
		return err
	}
	for _, id := range ids {
		if id != w.planID && id != w.nextPlanID {
			if err := (plansWrites{tx.txn}).dropPlan(ctx, id); err != nil {
				return err
			}
		}
	}
	return nil
}

// savePlans puts a workspace's plans as far as they are others than were read,
// and gives the ids that it had.
func (tx workspacesWrites) savePlans(ctx context.Context, w *Workspace) (had []string, err error) {
	if w.Phase == lifecycle.Removed && w.Kind == ForPerson { // nothing is made from it any more
		w.Plan, w.NextPlan = &Plan{}, nil
		had, w.planID, w.nextPlanID = []string{w.planID, w.nextPlanID}, "", ""
		w.read, w.nextRead = w.Plan, nil
		return had, nil
	}
	put := func(p, read *Plan, id string) (string, error) {
		if p == nil {
			return "", nil
		}
		if p == read {
			return id, nil
		}
		e, err := p.encode()
		if err != nil {
			return "", err
		}
		return e.id, plansWrites{tx.txn}.putPlan(ctx, e)
	}
	if w.Plan != w.read || w.NextPlan != w.nextRead {
		had = []string{w.planID, w.nextPlanID}
	}
	if w.planID, err = put(w.Plan, w.read, w.planID); err != nil {
		return had, err
	}
	w.nextPlanID, err = put(w.NextPlan, w.nextRead, w.nextPlanID)
	w.read, w.nextRead = w.Plan, w.NextPlan
	return had, err
}

// SetPhase moves a workspace to a phase and journals it. A move that the
// table of moves does not have is an error of ours and changes nothing.
func (tx workspacesWrites) SetPhase(ctx context.Context, w *Workspace, to lifecycle.Phase, actor, cause string) error {
	from := w.Phase
	if from == to {
		return nil
	}
	if !lifecycle.MayBy(from, to, actor != "service") {
		return fmt.Errorf("workspace %s cannot be moved from %s to %s by %s", w.ID, from, to, actor)
	}
	w.FailedIn = ""
	if to == lifecycle.Failed {
		w.FailedIn = from
	}
	w.Phase, w.Cause, w.PhaseAt = to, cause, tx.now
	if err := tx.SaveWorkspace(ctx, *w); err != nil {
		return err
	}
	if err := tx.Journal(ctx, w.ID, w.journalOwner(), actor, journal.WorkspacePhase{From: from, To: to, Cause: cause}); err != nil {
		return err
	}
	return meterWrites{tx.txn}.meter(ctx, *w, cost.Event{Phase: to})
}

// journalOwner is whose matter a workspace's entries are: a prebuild's are the
// house's.
func (w Workspace) journalOwner() string {
	if w.Kind == ForPrebuild {
		return ""
	}
	return w.OwnerID
}

// WorkspaceByID finds a workspace, removed ones too.
func (q workspacesReads) WorkspaceByID(ctx context.Context, id string) (Workspace, error) {
	return q.workspace(ctx, "id = ?", id)
}

// NameTaken tells whether an owner has a workspace of a name.
func (q workspacesReads) NameTaken(ctx context.Context, owner, name string) (taken bool, err error) {
	err = q.db.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM workspaces WHERE owner_id = ? AND name = ? AND phase <> 'removed')", owner, name).Scan(&taken)
	return taken, q.db.seen(err)
}

// NameOf is a workspace's name, also of one that was removed.
func (q workspacesReads) NameOf(ctx context.Context, id string) (string, error) {
	return one(ctx, q.reader, func(scan func(...any) error) (n string, err error) { return n, scan(&n) }, "SELECT name FROM workspaces WHERE id = ?", id)
}

// WorkspaceByName finds an owner's workspace that is not removed.
func (q workspacesReads) WorkspaceByName(ctx context.Context, owner, name string) (Workspace, error) {
	return q.workspace(ctx, "owner_id = ? AND name = ? AND phase <> 'removed'", owner, name)
}

// RemovedWorkspace finds the last of an owner's workspaces of a name that are removed.
func (q workspacesReads) RemovedWorkspace(ctx context.Context, owner, name string) (Workspace, error) {
	return q.workspace(ctx, "owner_id = ? AND name = ? AND phase = 'removed' ORDER BY created_at DESC LIMIT 1", owner, name)
}

// Workspaces lists everything that is not removed, prebuilds too.
func (q workspacesReads) Workspaces(ctx context.Context) ([]Workspace, error) {
	return q.workspaces(ctx, "phase <> 'removed' ORDER BY name, owner_id")
}

// StoppedSince lists the workspaces that were stopped after a time.
func (q workspacesReads) StoppedSince(ctx context.Context, at time.Time) ([]Workspace, error) {
	return q.workspaces(ctx, "phase <> 'removed' AND phase = 'stopped' AND phase_at > ? ORDER BY name, owner_id", micros(at))
}

// PeoplesWorkspaces lists people's workspaces that are not removed, in a scope.
func (q workspacesReads) PeoplesWorkspaces(ctx context.Context, s Scope) ([]Workspace, error) {
	where, args := s.where()
	return q.workspaces(ctx, "phase <> 'removed' AND kind = 'person'"+where+" ORDER BY name, owner_id", args...)
}

// WorkspaceOfContainer finds the workspace that a container was adopted as.
func (q workspacesReads) WorkspaceOfContainer(ctx context.Context, container string) (Workspace, error) {
	return q.workspace(ctx, "adopted = ? AND adopted <> '' AND phase <> 'removed'", container)
}

// WorkspaceByPortKey finds the workspace whose ports' host names begin so.
func (q workspacesReads) WorkspaceByPortKey(ctx context.Context, key string) (Workspace, error) {
	return q.workspace(ctx, "port_key = ? AND port_key <> '' AND phase <> 'removed'", key)
}

// Reserved sums what the workspaces of a person or a team hold: all that
// exist, and the size of those that run or are to run. Prebuilds are nobody's.
func (q workspacesReads) Reserved(ctx context.Context, s Scope) (rules.Amounts, error) {
	var existing, running, cores, memory int64
	where, args := s.where()
	err := q.db.QueryRowContext(ctx, `SELECT COUNT(*), COALESCE(SUM(runs), 0), COALESCE(SUM(runs * cores_milli), 0), COALESCE(SUM(runs * memory_bytes), 0) FROM
		(SELECT phase IN ('waiting', 'preparing', 'starting', 'ready', 'stopping') AS runs, cores_milli, memory_bytes FROM workspaces
		WHERE phase <> 'removed' AND kind = 'person'`+where+")", args...).Scan(&existing, &running, &cores, &memory)
	return rules.Amounts{rules.Existing: existing, rules.Running: running, rules.Cores: cores, rules.Memory: memory}, err
}

// WorkspacesOf lists people's workspaces of a repository's branch.
func (q workspacesReads) WorkspacesOf(ctx context.Context, repository, branch string) ([]Workspace, error) {
	return q.workspaces(ctx, "repository_id = ? AND branch = ? AND kind = 'person' AND phase <> 'removed' ORDER BY created_at", repository, branch)
}
