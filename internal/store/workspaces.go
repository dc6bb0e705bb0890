package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
)

// Plan is what a body is made from.
type Plan struct {
	Commit      string                `json:"commit"`
	Definition  definition.Definition `json:"definition"`
	Fingerprint string                `json:"fingerprint"` // of the image
	Image       string                `json:"image"`       // in the yard; "" until made
}

// Target is the plan of the body that is being brought up.
func (w *Workspace) Target() *Plan {
	if w.NextPlan != nil {
		return w.NextPlan
	}
	return &w.Plan
}

// Workspace is the present state of one workspace.
type Workspace struct {
	ID, OwnerID, Name, RepositoryID string
	Branch                          string
	Plan                            Plan  // what the body in use is made from
	NextPlan                        *Plan // what a rebuild is making; nil when there is none
	Phase, FailedIn                 lifecycle.Phase
	Cause                           string
	Wanted                          lifecycle.Wanted
	Body, NextBody                  int
	Volume, NextVolume              int
	SeededVolume                    int // the newest volume that holds a whole clone
	Subnet                          int // which piece of the address range
	StewardToken                    []byte
	CreatedAt, PhaseAt              time.Time
}

const workspaceColumns = `id, owner_id, name, repository_id, branch, plan, next_plan,
 phase, failed_in, cause, wanted, body, next_body, volume, next_volume, seeded_volume, subnet, steward_token, created_at, phase_at`

func scanWorkspace(scan func(...any) error) (w Workspace, err error) {
	var plan, next []byte
	var created, phase int64
	if err = scan(&w.ID, &w.OwnerID, &w.Name, &w.RepositoryID, &w.Branch, &plan, &next,
		&w.Phase, &w.FailedIn, &w.Cause, &w.Wanted, &w.Body, &w.NextBody, &w.Volume, &w.NextVolume, &w.SeededVolume, &w.Subnet, &w.StewardToken, &created, &phase); err != nil {
		return w, err
	}
	w.CreatedAt, w.PhaseAt = fromMicros(created), fromMicros(phase)
	if len(next) > 0 {
		w.NextPlan = &Plan{}
		if err := json.Unmarshal(next, w.NextPlan); err != nil {
			return w, err
		}
	}
	return w, json.Unmarshal(plan, &w.Plan)
}

// plans is the stored form of a workspace's plans.
func (w Workspace) plans() (plan, next string, err error) {
	b, err := json.Marshal(w.Plan)
	if err != nil || w.NextPlan == nil {
		return string(b), "", err
	}
	n, err := json.Marshal(w.NextPlan)
	return string(b), string(n), err
}

// AddWorkspace adds a workspace and gives it the lowest free subnet.
func (tx *Tx) AddWorkspace(ctx context.Context, w *Workspace) error {
	w.CreatedAt, w.PhaseAt = tx.now, tx.now
	if err := tx.db.QueryRowContext(ctx, `SELECT MIN(n) FROM (SELECT 0 AS n UNION ALL
		SELECT subnet + 1 FROM workspaces WHERE phase <> 'removed') WHERE n NOT IN (SELECT subnet FROM workspaces WHERE phase <> 'removed')`).Scan(&w.Subnet); err != nil {
		return err
	}
	plan, next, err := w.plans()
	if err != nil {
		return err
	}
	return tx.exec(ctx, "INSERT INTO workspaces ("+workspaceColumns+") VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
		w.ID, w.OwnerID, w.Name, w.RepositoryID, w.Branch, plan, next,
		w.Phase, w.FailedIn, w.Cause, w.Wanted, w.Body, w.NextBody, w.Volume, w.NextVolume, w.SeededVolume, w.Subnet, w.StewardToken, micros(w.CreatedAt), micros(w.PhaseAt))
}

// SaveWorkspace writes what may change of a workspace.
func (tx *Tx) SaveWorkspace(ctx context.Context, w Workspace) error {
	plan, next, err := w.plans()
	if err != nil {
		return err
	}
	return tx.mustChange(ctx, `UPDATE workspaces SET branch=?, plan=?, next_plan=?, phase=?, failed_in=?, cause=?, wanted=?,
		body=?, next_body=?, volume=?, next_volume=?, seeded_volume=?, subnet=?, phase_at=? WHERE id=?`,
		w.Branch, plan, next, w.Phase, w.FailedIn, w.Cause, w.Wanted,
		w.Body, w.NextBody, w.Volume, w.NextVolume, w.SeededVolume, w.Subnet, micros(w.PhaseAt), w.ID)
}

// MoveSubnet gives a workspace another subnet, one beyond every one in use,
// because the yard has its present one taken by somebody else.
func (tx *Tx) MoveSubnet(ctx context.Context, id string) (subnet int, err error) {
	if err := tx.db.QueryRowContext(ctx, "SELECT MAX(subnet) + 1 FROM workspaces WHERE phase <> 'removed'").Scan(&subnet); err != nil {
		return 0, err
	}
	return subnet, tx.mustChange(ctx, "UPDATE workspaces SET subnet = ? WHERE id = ?", subnet, id)
}

// SetPhase moves a workspace to a phase and journals it. A move that the
// table of moves does not have is an error of ours and changes nothing.
func (tx *Tx) SetPhase(ctx context.Context, w *Workspace, to lifecycle.Phase, actor, cause string) error {
	from := w.Phase
	if from == to {
		return nil
	}
	if !lifecycle.May(from, to) {
		return fmt.Errorf("workspace %s cannot go from %s to %s", w.ID, from, to)
	}
	w.FailedIn = ""
	if to == lifecycle.Failed {
		w.FailedIn = from
	}
	w.Phase, w.Cause, w.PhaseAt = to, cause, tx.now
	if err := tx.SaveWorkspace(ctx, *w); err != nil {
		return err
	}
	return tx.Journal(ctx, "workspace.phase", w.ID, w.OwnerID, actor, map[string]any{"from": from, "to": to, "cause": cause})
}

// WorkspaceByID finds a workspace, removed ones too.
func (q Q) WorkspaceByID(ctx context.Context, id string) (Workspace, error) {
	return one(ctx, q, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE id = ?", id)
}

// WorkspaceByName finds an owner's workspace that is not removed.
func (q Q) WorkspaceByName(ctx context.Context, owner, name string) (Workspace, error) {
	return one(ctx, q, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE owner_id = ? AND name = ? AND phase <> 'removed'", owner, name)
}

// Workspaces lists those that are not removed; one owner's unless owner is empty.
func (q Q) Workspaces(ctx context.Context, owner string) ([]Workspace, error) {
	return list(ctx, q, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE phase <> 'removed' AND (? = '' OR owner_id = ?) ORDER BY name, owner_id", owner, owner)
}

// ImageInUse tells whether a workspace other than except uses, or is about to
// use, the image with the fingerprint.
func (q Q) ImageInUse(ctx context.Context, fingerprint, except string) (bool, error) {
	var n int
	err := q.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM workspaces WHERE phase <> 'removed' AND id <> ?
		AND (plan ->> 'fingerprint' = ? OR (next_plan <> '' AND next_plan ->> 'fingerprint' = ?))`, except, fingerprint, fingerprint).Scan(&n)
	return n > 0, err
}

// SetCondition sets a condition; one that stands already keeps its since.
func (tx *Tx) SetCondition(ctx context.Context, w Workspace, kind lifecycle.ConditionKind, reason string) error {
	res, err := tx.db.ExecContext(ctx, `INSERT INTO conditions (workspace_id, kind, reason, since_at) VALUES (?, ?, ?, ?)
		ON CONFLICT (workspace_id, kind) DO UPDATE SET reason = excluded.reason WHERE reason <> excluded.reason`, w.ID, kind, reason, micros(tx.now))
	if err != nil {
		return err
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return nil
	}
	return tx.Journal(ctx, "workspace.condition", w.ID, w.OwnerID, "service", map[string]any{"kind": kind, "reason": reason})
}

// ClearCondition ends a condition, if it stands.
func (tx *Tx) ClearCondition(ctx context.Context, w Workspace, kind lifecycle.ConditionKind) error {
	err := tx.mustChange(ctx, "DELETE FROM conditions WHERE workspace_id = ? AND kind = ?", w.ID, kind)
	if err == ErrNotFound {
		return nil
	}
	if err != nil {
		return err
	}
	return tx.Journal(ctx, "workspace.condition", w.ID, w.OwnerID, "service", map[string]any{"kind": kind, "over": true})
}

// Conditions lists what stands beside a workspace's phase.
func (q Q) Conditions(ctx context.Context, workspace string) ([]lifecycle.Condition, error) {
	return list(ctx, q, func(scan func(...any) error) (c lifecycle.Condition, err error) {
		var at int64
		err = scan(&c.Kind, &c.Reason, &at)
		c.Since = fromMicros(at)
		return c, err
	}, "SELECT kind, reason, since_at FROM conditions WHERE workspace_id = ? ORDER BY kind", workspace)
}

// Sheet is a launch sheet: the timed list of steps of one operation.
type Sheet struct {
	ID, WorkspaceID string
	Number          int
	Kind            lifecycle.SheetKind
	StartedAt       time.Time
	EndedAt         *time.Time
	Outcome         lifecycle.Outcome
	Cause           string
}

const sheetColumns = "id, workspace_id, number, kind, started_at, ended_at, outcome, cause"

func scanSheet(scan func(...any) error) (s Sheet, err error) {
	var start int64
	var end sql.NullInt64
	err = scan(&s.ID, &s.WorkspaceID, &s.Number, &s.Kind, &start, &end, &s.Outcome, &s.Cause)
	s.StartedAt, s.EndedAt = fromMicros(start), fromNullMicros(end)
	return s, err
}

// OpenSheet begins a launch sheet. One that is still open ends as interrupted.
func (tx *Tx) OpenSheet(ctx context.Context, workspace string, kind lifecycle.SheetKind) (Sheet, error) {
	if open, err := tx.CurrentSheet(ctx, workspace); err == nil && open.EndedAt == nil {
		if err := tx.CloseSheet(ctx, open.ID, lifecycle.Interrupted, "another request came first"); err != nil {
			return Sheet{}, err
		}
	}
	s := Sheet{ID: NewID(), WorkspaceID: workspace, Kind: kind, StartedAt: tx.now}
	if err := tx.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(number), 0) + 1 FROM sheets WHERE workspace_id = ?", workspace).Scan(&s.Number); err != nil {
		return s, err
	}
	return s, tx.exec(ctx, "INSERT INTO sheets ("+sheetColumns+") VALUES (?, ?, ?, ?, ?, NULL, '', '')", s.ID, s.WorkspaceID, s.Number, s.Kind, micros(tx.now))
}

// CloseSheet ends a launch sheet, and its steps that still run as interrupted.
func (tx *Tx) CloseSheet(ctx context.Context, id string, o lifecycle.Outcome, cause string) error {
	if err := tx.exec(ctx, "UPDATE steps SET ended_at = ?, outcome = 'interrupted' WHERE sheet_id = ? AND ended_at IS NULL", micros(tx.now), id); err != nil {
		return err
	}
	return tx.exec(ctx, "UPDATE sheets SET ended_at = ?, outcome = ?, cause = ? WHERE id = ? AND ended_at IS NULL", micros(tx.now), o, cause, id)
}

// CurrentSheet is a workspace's newest launch sheet.
func (q Q) CurrentSheet(ctx context.Context, workspace string) (Sheet, error) {
	return one(ctx, q, scanSheet, "SELECT "+sheetColumns+" FROM sheets WHERE workspace_id = ? ORDER BY number DESC LIMIT 1", workspace)
}

// Sheets lists a workspace's launch sheets, newest first, at most 50.
func (q Q) Sheets(ctx context.Context, workspace string) ([]Sheet, error) {
	return list(ctx, q, scanSheet, "SELECT "+sheetColumns+" FROM sheets WHERE workspace_id = ? ORDER BY number DESC LIMIT 50", workspace)
}

// Step is one line of a launch sheet.
type Step struct {
	SheetID        string
	Number, Parent int
	Key, Title     string
	Body, Attempt  int
	StartedAt      time.Time
	EndedAt        *time.Time
	Cached         bool
	Outcome        lifecycle.Outcome
	Cause          string
}

const stepColumns = "sheet_id, number, parent, key, title, body, attempt, started_at, ended_at, cached, outcome, cause"

func scanStep(scan func(...any) error) (s Step, err error) {
	var start int64
	var end sql.NullInt64
	err = scan(&s.SheetID, &s.Number, &s.Parent, &s.Key, &s.Title, &s.Body, &s.Attempt, &start, &end, &s.Cached, &s.Outcome, &s.Cause)
	s.StartedAt, s.EndedAt = fromMicros(start), fromNullMicros(end)
	return s, err
}

// BeginStep records that a step of a sheet begins, before it is done. A step
// whose key stands there already begins anew, with its attempt counted.
func (tx *Tx) BeginStep(ctx context.Context, s Step) (Step, error) {
	s.StartedAt = tx.now
	old, err := one(ctx, tx.Q, scanStep, "SELECT "+stepColumns+" FROM steps WHERE sheet_id = ? AND key = ?", s.SheetID, s.Key)
	if err == nil {
		old.Attempt++
		old.StartedAt, old.EndedAt, old.Outcome, old.Cause, old.Cached = tx.now, nil, "", "", false
		return old, tx.exec(ctx, "UPDATE steps SET attempt = ?, started_at = ?, ended_at = NULL, outcome = '', cause = '', cached = 0 WHERE sheet_id = ? AND number = ?",
			old.Attempt, micros(tx.now), old.SheetID, old.Number)
	} else if err != ErrNotFound {
		return s, err
	}
	s.Attempt = 1
	if err := tx.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(number), 0) + 1 FROM steps WHERE sheet_id = ?", s.SheetID).Scan(&s.Number); err != nil {
		return s, err
	}
	return s, tx.exec(ctx, "INSERT INTO steps ("+stepColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?, NULL, 0, '', '')",
		s.SheetID, s.Number, s.Parent, s.Key, s.Title, s.Body, s.Attempt, micros(tx.now))
}

// EndStep records how a step ended. With both times given they are kept as
// the yard measured them; zero times mean now.
func (tx *Tx) EndStep(ctx context.Context, s Step, o lifecycle.Outcome, cached bool, cause string) error {
	end := tx.now
	if s.EndedAt != nil {
		end = *s.EndedAt
	}
	return tx.mustChange(ctx, "UPDATE steps SET started_at = ?, ended_at = ?, outcome = ?, cached = ?, cause = ? WHERE sheet_id = ? AND number = ?",
		micros(s.StartedAt), micros(end), o, cached, cause, s.SheetID, s.Number)
}

// Steps lists the steps of a sheet in the order of starting.
func (q Q) Steps(ctx context.Context, sheet string) ([]Step, error) {
	return list(ctx, q, scanStep, "SELECT "+stepColumns+" FROM steps WHERE sheet_id = ? ORDER BY number", sheet)
}

// EndedSetUp tells which life-cycle moments were ended in a body, in any
// sheet, and whether one of them failed.
func (q Q) EndedSetUp(ctx context.Context, workspace string, body int) (ended map[definition.Moment]bool, failed bool, err error) {
	rows, err := list(ctx, q, scanStep, `SELECT `+prefixed("s", stepColumns)+` FROM steps s JOIN sheets h ON h.id = s.sheet_id
		WHERE h.workspace_id = ? AND s.body = ? AND s.key LIKE 'set-up/%' AND s.parent = 0 AND s.ended_at IS NOT NULL`, workspace, body)
	ended = map[definition.Moment]bool{}
	for _, s := range rows {
		ended[definition.Moment(s.Key[len("set-up/"):])] = true
		failed = failed || s.Outcome != lifecycle.Done
	}
	return ended, failed, err
}
