package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
)

// Plan is what a body is made from.
type Plan struct {
	Commit      string                `json:"commit"`
	Definition  definition.Definition `json:"definition"`
	Fingerprint string                `json:"fingerprint"` // of the image
	Image       string                `json:"image"`       // in the yard; "" until made
	Prepared    *Prepared             `json:"prepared,omitempty"`
	// Findings are the warnings of the definition.
	Findings []definition.Finding `json:"findings,omitempty"`
	// Beside are the further repositories of the definition.
	Beside []Beside `json:"beside,omitempty"`
	// Asked are the further repositories that the launch itself asked for.
	Asked []definition.Beside `json:"asked,omitempty"`
	// ServiceImages are the images of the definition's services, by name, in
	// the yard.
	ServiceImages map[string]string `json:"service_images,omitempty"`
	// Scratch says why no prepared image serves.
	Scratch string `json:"scratch,omitempty"`
	// Adopted is the container that was taken on, where there is nothing to make.
	Adopted *Adopted `json:"adopted,omitempty"`
}

// Adopted is a container that others started.
type Adopted struct {
	Container string `json:"container"` // in the yard
	Name      string `json:"name"`
}

// Beside is a further repository, and where it is cloned.
type Beside struct {
	RepositoryID string `json:"repository_id"`
	Name         string `json:"name"`
	URL          string `json:"url"`
	Branch       string `json:"branch"`
	Folder       string `json:"folder"`
}

// Prepared is the prepared image that a body is made from.
type Prepared struct {
	Run    string    `json:"run"`
	Number int       `json:"number"`
	Image  string    `json:"image"`
	User   string    `json:"user"`
	MadeAt time.Time `json:"made_at"`
	Behind int       `json:"behind"` // commits
}

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
	Kind                            string // ForPerson or ForPrebuild
	Size                            string
	CoresMilli                      int64 // as the rules had it when the size was given
	MemoryBytes, DiskBytes          int64
	RestAfter                       time.Duration // asked for; 0 is the rules' usual
	PortKey                         string        // what its ports' host names begin with
	Work                            *WorkState    // when it stopped; nil while it runs
	encoded                         string        // the plan of one that is to be added
}

const workspaceColumns = `id, owner_id, name, repository_id, branch, plan, next_plan,
 phase, failed_in, cause, wanted, body, next_body, volume, next_volume, seeded_volume, subnet, steward_token, created_at, phase_at,
 kind, size, cores_milli, memory_bytes, disk_bytes, rest_after_s, port_key, work`

func scanWorkspace(scan func(...any) error) (w Workspace, err error) {
	var plan, next, work []byte
	var created, phase, rest int64
	if err = scan(&w.ID, &w.OwnerID, &w.Name, &w.RepositoryID, &w.Branch, &plan, &next,
		&w.Phase, &w.FailedIn, &w.Cause, &w.Wanted, &w.Body, &w.NextBody, &w.Volume, &w.NextVolume, &w.SeededVolume, &w.Subnet, &w.StewardToken, &created, &phase,
		&w.Kind, &w.Size, &w.CoresMilli, &w.MemoryBytes, &w.DiskBytes, &rest, &w.PortKey, &work); err != nil {
		return w, err
	}
	w.CreatedAt, w.PhaseAt, w.RestAfter = fromMicros(created), fromMicros(phase), time.Duration(rest)*time.Second
	if len(work) > 0 {
		w.Work = &WorkState{}
		if err := json.Unmarshal(work, w.Work); err != nil {
			return w, err
		}
	}
	if len(next) > 0 {
		w.NextPlan = &Plan{}
		if err := json.Unmarshal(next, w.NextPlan); err != nil {
			return w, err
		}
	}
	return w, json.Unmarshal(plan, &w.Plan)
}

// Encode makes the stored form of a workspace's first plan beforehand, so that
// the one who writes need not.
func (w *Workspace) Encode() (err error) {
	w.encoded = ""
	w.encoded, _, err = w.plans()
	return err
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
	if w.Kind == "" {
		w.Kind = ForPerson
	}
	plan, next := w.encoded, ""
	if plan == "" {
		var err error
		if plan, next, err = w.plans(); err != nil {
			return err
		}
	}
	add := func() error {
		tx.known.lowest = w.Subnet + 1
		return tx.exec(ctx, "INSERT INTO workspaces ("+workspaceColumns+") VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,'')",
			w.ID, w.OwnerID, w.Name, w.RepositoryID, w.Branch, plan, next,
			w.Phase, w.FailedIn, w.Cause, w.Wanted, w.Body, w.NextBody, w.Volume, w.NextVolume, w.SeededVolume, w.Subnet, w.StewardToken, micros(w.CreatedAt), micros(w.PhaseAt),
			w.Kind, w.Size, w.CoresMilli, w.MemoryBytes, w.DiskBytes, int64(w.RestAfter/time.Second), w.PortKey)
	}
	lowest := tx.known.lowest
	w.Subnet = lowest
	err := add()
	if !duplicateOf(err, "workspaces.subnet") {
		return err
	}
	// Somebody has that one: it is looked for.
	if err := tx.db.QueryRowContext(ctx, `SELECT subnet + 1 FROM workspaces AS w WHERE phase <> 'removed' AND subnet >= ?
		AND NOT EXISTS (SELECT 1 FROM workspaces WHERE subnet = w.subnet + 1 AND phase <> 'removed') ORDER BY subnet LIMIT 1`, lowest).Scan(&w.Subnet); err != nil {
		return err
	}
	return add()
}

// SaveWorkspace writes what may change of a workspace.
func (tx *Tx) SaveWorkspace(ctx context.Context, w Workspace) error {
	plan, next, err := w.plans()
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
	return tx.mustChange(ctx, `UPDATE workspaces SET branch=?, plan=?, next_plan=?, phase=?, failed_in=?, cause=?, wanted=?,
		body=?, next_body=?, volume=?, next_volume=?, seeded_volume=?, subnet=?, phase_at=?,
		size=?, cores_milli=?, memory_bytes=?, disk_bytes=?, rest_after_s=?, work=? WHERE id=?`,
		w.Branch, plan, next, w.Phase, w.FailedIn, w.Cause, w.Wanted,
		w.Body, w.NextBody, w.Volume, w.NextVolume, w.SeededVolume, w.Subnet, micros(w.PhaseAt),
		w.Size, w.CoresMilli, w.MemoryBytes, w.DiskBytes, int64(w.RestAfter/time.Second), work, w.ID)
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
	if !lifecycle.MayBy(from, to, actor != "service") {
		return fmt.Errorf("workspace %s cannot be moved from %s to %s by %s", w.ID, from, to, actor)
	}
	w.FailedIn = ""
	if to == lifecycle.Failed {
		w.FailedIn = from
	}
	w.Phase, w.Cause, w.PhaseAt = to, cause, tx.now
	if to == lifecycle.Removed {
		tx.known.lowest = min(tx.known.lowest, w.Subnet)
	}
	if err := tx.SaveWorkspace(ctx, *w); err != nil {
		return err
	}
	if err := tx.Journal(ctx, "workspace.phase", w.ID, w.journalOwner(), actor, map[string]any{"from": from, "to": to, "cause": cause}); err != nil {
		return err
	}
	return tx.meter(ctx, *w, cost.Event{Phase: to})
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
func (q Q) WorkspaceByID(ctx context.Context, id string) (Workspace, error) {
	return one(ctx, q, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE id = ?", id)
}

// WorkspaceByName finds an owner's workspace that is not removed.
func (q Q) WorkspaceByName(ctx context.Context, owner, name string) (Workspace, error) {
	return one(ctx, q, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE owner_id = ? AND name = ? AND phase <> 'removed'", owner, name)
}

// Workspaces lists everything that is not removed, prebuilds too.
func (q Q) Workspaces(ctx context.Context) ([]Workspace, error) {
	return list(ctx, q, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE phase <> 'removed' ORDER BY name, owner_id")
}

// PeoplesWorkspaces lists people's workspaces that are not removed, in a scope.
func (q Q) PeoplesWorkspaces(ctx context.Context, s Scope) ([]Workspace, error) {
	where, args := s.where()
	return list(ctx, q, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE phase <> 'removed' AND kind = 'person'"+where+" ORDER BY name, owner_id", args...)
}

// WorkspaceOfContainer finds the workspace that a container was adopted as.
func (q Q) WorkspaceOfContainer(ctx context.Context, container string) (Workspace, error) {
	return one(ctx, q, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE plan ->> '$.adopted.container' = ? AND phase <> 'removed'", container)
}

// WorkspaceByPortKey finds the workspace whose ports' host names begin so.
func (q Q) WorkspaceByPortKey(ctx context.Context, key string) (Workspace, error) {
	return one(ctx, q, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE port_key = ? AND phase <> 'removed'", key)
}

// Reserved sums what the workspaces of a person or a team hold: all that
// exist, and the size of those that run or are to run. Prebuilds are nobody's.
func (q Q) Reserved(ctx context.Context, s Scope) (rules.Amounts, error) {
	var existing, running, cores, memory int64
	where, args := s.where()
	err := q.db.QueryRowContext(ctx, `SELECT COUNT(*), COALESCE(SUM(runs), 0), COALESCE(SUM(runs * cores_milli), 0), COALESCE(SUM(runs * memory_bytes), 0) FROM
		(SELECT phase IN ('waiting', 'preparing', 'starting', 'ready', 'stopping') AS runs, cores_milli, memory_bytes FROM workspaces
		WHERE phase <> 'removed' AND kind = 'person'`+where+")", args...).Scan(&existing, &running, &cores, &memory)
	return rules.Amounts{rules.Existing: existing, rules.Running: running, rules.Cores: cores, rules.Memory: memory}, err
}

// Hold keeps a workspace from being put to rest.
type Hold struct {
	Until time.Time
	Why   string
	ByID  string
}

// SetHold holds a workspace, in place of an older hold.
func (tx *Tx) SetHold(ctx context.Context, w Workspace, h Hold) error {
	if err := tx.exec(ctx, `INSERT INTO holds (workspace_id, until_at, why, by_id, at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (workspace_id) DO UPDATE SET until_at = excluded.until_at, why = excluded.why, by_id = excluded.by_id, at = excluded.at`, w.ID, micros(h.Until), h.Why, h.ByID, micros(tx.now)); err != nil {
		return err
	}
	return tx.Journal(ctx, "workspace.held", w.ID, w.OwnerID, h.ByID, map[string]any{"until": h.Until, "why": h.Why})
}

// DropHold ends a hold, if there is one.
func (tx *Tx) DropHold(ctx context.Context, w Workspace, actor string) error {
	err := tx.mustChange(ctx, "DELETE FROM holds WHERE workspace_id = ?", w.ID)
	if err == ErrNotFound {
		return nil
	}
	if err != nil {
		return err
	}
	return tx.Journal(ctx, "workspace.hold-ended", w.ID, w.OwnerID, actor, map[string]any{})
}

// HoldOf gives a workspace's hold; the zero Hold when there is none.
func (q Q) HoldOf(ctx context.Context, workspace string) (Hold, error) {
	h, err := one(ctx, q, func(scan func(...any) error) (h Hold, err error) {
		var at int64
		err = scan(&at, &h.Why, &h.ByID)
		h.Until = fromMicros(at)
		return h, err
	}, "SELECT until_at, why, by_id FROM holds WHERE workspace_id = ?", workspace)
	if err == ErrNotFound {
		return Hold{}, nil
	}
	return h, err
}

// SharePort lets everybody signed in visit a port, or no more.
func (tx *Tx) SharePort(ctx context.Context, w Workspace, port int, shared bool, actor string) error {
	var err error
	if shared {
		err = tx.exec(ctx, "INSERT OR IGNORE INTO shared_ports (workspace_id, port) VALUES (?, ?)", w.ID, port)
	} else {
		err = tx.exec(ctx, "DELETE FROM shared_ports WHERE workspace_id = ? AND port = ?", w.ID, port)
	}
	if err != nil {
		return err
	}
	return tx.Journal(ctx, "workspace.port", w.ID, w.OwnerID, actor, map[string]any{"port": port, "shared": shared})
}

// SharedPorts lists the ports of a workspace that everybody signed in may visit.
func (q Q) SharedPorts(ctx context.Context, workspace string) (map[int]bool, error) {
	out := map[int]bool{}
	_, err := list(ctx, q, func(scan func(...any) error) (struct{}, error) {
		var p int
		err := scan(&p)
		out[p] = true
		return struct{}{}, err
	}, "SELECT port FROM shared_ports WHERE workspace_id = ?", workspace)
	return out, err
}

// WorkspacesOf lists people's workspaces of a repository's branch.
func (q Q) WorkspacesOf(ctx context.Context, repository, branch string) ([]Workspace, error) {
	return list(ctx, q, scanWorkspace, "SELECT "+workspaceColumns+" FROM workspaces WHERE repository_id = ? AND branch = ? AND kind = 'person' AND phase <> 'removed' ORDER BY created_at", repository, branch)
}

// ImageInUse tells whether a workspace other than except uses, or is about to
// use, the image with the fingerprint.
func (q Q) ImageInUse(ctx context.Context, fingerprint, except string) (bool, error) {
	var n int
	err := q.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM workspaces WHERE phase <> 'removed' AND id <> ?1
		AND (plan ->> 'fingerprint' = ?2 OR (next_plan <> '' AND next_plan ->> 'fingerprint' = ?2)
		OR instr(plan, ?3) > 0 OR instr(next_plan, ?3) > 0)`, except, fingerprint, `"fingerprint":"`+fingerprint+`"`).Scan(&n)
	return n > 0, err
}

// SetCondition sets a condition; one that stands already keeps its since.
func (tx *Tx) SetCondition(ctx context.Context, w Workspace, kind lifecycle.ConditionKind, reason string) error {
	return tx.SetConditionSince(ctx, w, kind, reason, tx.now)
}

// SetConditionSince is SetCondition for what began before it was noticed.
func (tx *Tx) SetConditionSince(ctx context.Context, w Workspace, kind lifecycle.ConditionKind, reason string, since time.Time) error {
	res, err := tx.db.ExecContext(ctx, `INSERT INTO conditions (workspace_id, kind, reason, since_at) VALUES (?, ?, ?, ?)
		ON CONFLICT (workspace_id, kind) DO UPDATE SET reason = excluded.reason WHERE reason <> excluded.reason`, w.ID, kind, reason, micros(since))
	if err != nil {
		return err
	}
	if n, _ := res.RowsAffected(); n == 0 {
		return nil
	}
	if err := tx.Journal(ctx, "workspace.condition", w.ID, w.journalOwner(), "service", map[string]any{"kind": kind, "reason": reason, "since": since.UTC().Truncate(time.Microsecond)}); err != nil {
		return err
	}
	if kind == lifecycle.IdleNow {
		return tx.meter(ctx, w, cost.Event{Idle: true, Since: since.UTC().Truncate(time.Microsecond)})
	}
	return nil
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
	if err := tx.Journal(ctx, "workspace.condition", w.ID, w.journalOwner(), "service", map[string]any{"kind": kind, "over": true}); err != nil {
		return err
	}
	if kind == lifecycle.IdleNow {
		return tx.meter(ctx, w, cost.Event{Awake: true})
	}
	return nil
}

// ClearConditions ends every condition of the kinds, where they stand.
func (tx *Tx) ClearConditions(ctx context.Context, w Workspace, kinds ...lifecycle.ConditionKind) error {
	for _, k := range kinds {
		if err := tx.ClearCondition(ctx, w, k); err != nil {
			return err
		}
	}
	return nil
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

// AllConditions lists what stands beside the phases of all workspaces.
func (q Q) AllConditions(ctx context.Context) (map[string][]lifecycle.Condition, error) {
	out := map[string][]lifecycle.Condition{}
	_, err := list(ctx, q, func(scan func(...any) error) (struct{}, error) {
		var id string
		var c lifecycle.Condition
		var at int64
		err := scan(&id, &c.Kind, &c.Reason, &at)
		c.Since = fromMicros(at)
		out[id] = append(out[id], c)
		return struct{}{}, err
	}, "SELECT workspace_id, kind, reason, since_at FROM conditions ORDER BY kind")
	return out, err
}

// NewestSheets gives the number of the newest launch sheet of each workspace
// that is not removed.
func (q Q) NewestSheets(ctx context.Context) (map[string]int, error) {
	out := map[string]int{}
	_, err := list(ctx, q, func(scan func(...any) error) (struct{}, error) {
		var id string
		var n int
		err := scan(&id, &n)
		out[id] = n
		return struct{}{}, err
	}, "SELECT h.workspace_id, MAX(h.number) FROM workspaces w JOIN sheets h ON h.workspace_id = w.id WHERE w.phase <> 'removed' GROUP BY h.workspace_id")
	return out, err
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
	return s, tx.addSheet(ctx, s)
}

// FirstSheet begins the first launch sheet of a workspace that was just added.
func (tx *Tx) FirstSheet(ctx context.Context, workspace string, kind lifecycle.SheetKind) error {
	return tx.addSheet(ctx, Sheet{ID: NewID(), WorkspaceID: workspace, Number: 1, Kind: kind})
}

func (tx *Tx) addSheet(ctx context.Context, s Sheet) error {
	return tx.exec(ctx, "INSERT INTO sheets ("+sheetColumns+") VALUES (?, ?, ?, ?, ?, NULL, '', '')", s.ID, s.WorkspaceID, s.Number, s.Kind, micros(tx.now))
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
	Bytes          int64 // that it brought in: an image fetched or built, a clone; 0 for none
}

const stepColumns = "sheet_id, number, parent, key, title, body, attempt, started_at, ended_at, cached, outcome, cause, bytes"

func scanStep(scan func(...any) error) (s Step, err error) {
	var start int64
	var end sql.NullInt64
	err = scan(&s.SheetID, &s.Number, &s.Parent, &s.Key, &s.Title, &s.Body, &s.Attempt, &start, &end, &s.Cached, &s.Outcome, &s.Cause, &s.Bytes)
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
		return old, tx.exec(ctx, "UPDATE steps SET attempt = ?, started_at = ?, ended_at = NULL, outcome = '', cause = '', cached = 0, bytes = 0 WHERE sheet_id = ? AND number = ?",
			old.Attempt, micros(tx.now), old.SheetID, old.Number)
	} else if err != ErrNotFound {
		return s, err
	}
	s.Attempt = 1
	if err := tx.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(number), 0) + 1 FROM steps WHERE sheet_id = ?", s.SheetID).Scan(&s.Number); err != nil {
		return s, err
	}
	return s, tx.exec(ctx, "INSERT INTO steps ("+stepColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?, NULL, 0, '', '', 0)",
		s.SheetID, s.Number, s.Parent, s.Key, s.Title, s.Body, s.Attempt, micros(tx.now))
}

// EndStep records how a step ended. With both times given they are kept as
// the yard measured them; zero times mean now.
func (tx *Tx) EndStep(ctx context.Context, s Step, o lifecycle.Outcome, cached bool, cause string) error {
	end := tx.now
	if s.EndedAt != nil {
		end = *s.EndedAt
	}
	return tx.mustChange(ctx, "UPDATE steps SET started_at = ?, ended_at = ?, outcome = ?, cached = ?, cause = ?, bytes = ? WHERE sheet_id = ? AND number = ?",
		micros(s.StartedAt), micros(end), o, cached, cause, s.Bytes, s.SheetID, s.Number)
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

// StepKind is what times of steps are compared by.
type StepKind struct {
	Key    string
	Cached bool
}

// StepTimes gives how long each step of a repository's sheets of a kind took,
// of the newest 50 that went well, shortest first.
func (q Q) StepTimes(ctx context.Context, repository string, kind lifecycle.SheetKind) (map[StepKind][]time.Duration, error) {
	out := map[StepKind][]time.Duration{}
	_, err := list(ctx, q, func(scan func(...any) error) (struct{}, error) {
		var k StepKind
		var us int64
		err := scan(&k.Key, &k.Cached, &us)
		out[k] = append(out[k], time.Duration(us)*time.Microsecond)
		return struct{}{}, err
	}, `SELECT key, cached, took FROM (SELECT s.key, s.cached, s.ended_at - s.started_at AS took, ROW_NUMBER() OVER (PARTITION BY s.key, s.cached ORDER BY s.ended_at DESC) AS n
		FROM workspaces w JOIN sheets h ON h.workspace_id = w.id JOIN steps s ON s.sheet_id = h.id
		WHERE w.repository_id = ? AND h.kind = ? AND s.parent = 0 AND s.outcome = 'done' AND s.ended_at IS NOT NULL) WHERE n <= 50 ORDER BY took`, repository, kind)
	return out, err
}

// UsualTimes gives how long the newest launches of a repository took to be
// ready, at most 50 each, with a prepared image and without, shortest first.
func (q Q) UsualTimes(ctx context.Context, repository string) (prepared, scratch []time.Duration, err error) {
	_, err = list(ctx, q, func(scan func(...any) error) (struct{}, error) {
		var us int64
		var p bool
		err := scan(&us, &p)
		if d := time.Duration(us) * time.Microsecond; p {
			prepared = append(prepared, d)
		} else {
			scratch = append(scratch, d)
		}
		return struct{}{}, err
	}, `SELECT took, prepared FROM (SELECT h.ended_at - h.started_at AS took, w.plan ->> '$.prepared.run' IS NOT NULL AS prepared,
		ROW_NUMBER() OVER (PARTITION BY w.plan ->> '$.prepared.run' IS NOT NULL ORDER BY h.started_at DESC) AS n
		FROM workspaces w JOIN sheets h ON h.workspace_id = w.id AND h.number = 1
		WHERE w.repository_id = ? AND w.kind = 'person' AND h.kind = 'launch' AND h.outcome = 'done') WHERE n <= 50 ORDER BY took`, repository)
	return prepared, scratch, err
}
