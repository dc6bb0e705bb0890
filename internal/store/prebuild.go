package store

import (
	"context"
	"database/sql"
	"time"

	"yardbench/internal/core/lifecycle"
)

type (
	prebuildsReads  struct{ reader }
	prebuildsWrites struct{ *txn }
)

// PrebuildPlan says that images of a branch are prepared ahead, and when.
type PrebuildPlan struct {
	ID, RepositoryID, Branch string
	OnPush                   bool
	Timetable                string // five fields of crontab(5); empty for none
	Keep                     int
	MadeBy                   string
	CreatedAt                time.Time
	Due                      string // why another run is due
}

const prebuildPlanColumns = "id, repository_id, branch, on_push, timetable, keep, made_by, created_at, due"

func scanPrebuildPlan(scan func(...any) error) (p PrebuildPlan, err error) {
	var at int64
	err = scan(&p.ID, &p.RepositoryID, &p.Branch, &p.OnPush, &p.Timetable, &p.Keep, &p.MadeBy, &at, &p.Due)
	p.CreatedAt = fromMicros(at)
	return p, err
}

// PutPrebuildPlan adds a plan, or changes the one of its repository and branch.
func (tx prebuildsWrites) PutPrebuildPlan(ctx context.Context, p PrebuildPlan) error {
	tx.cached()
	return tx.exec(ctx, "INSERT INTO prebuild_plans ("+prebuildPlanColumns+`) VALUES (?, ?, ?, ?, ?, ?, ?, ?, '')
		ON CONFLICT (repository_id, branch) DO UPDATE SET on_push = excluded.on_push, timetable = excluded.timetable, keep = excluded.keep, made_by = excluded.made_by`,
		p.ID, p.RepositoryID, p.Branch, p.OnPush, p.Timetable, p.Keep, p.MadeBy, micros(tx.now))
}

// DropPrebuildPlan removes a plan with its runs' records.
func (tx prebuildsWrites) DropPrebuildPlan(ctx context.Context, id string) error {
	tx.cached()
	return tx.mustChange(ctx, "DELETE FROM prebuild_plans WHERE id = ?", id)
}

// SetDue says why another run of a plan is due; "" when none is.
func (tx prebuildsWrites) SetDue(ctx context.Context, plan, why string) error {
	return tx.exec(ctx, "UPDATE prebuild_plans SET due = ? WHERE id = ?", why, plan)
}

// PrebuildPlans lists the plans; of one repository unless it is empty.
func (q prebuildsReads) PrebuildPlans(ctx context.Context, repository string) ([]PrebuildPlan, error) {
	if repository == "" {
		return list(ctx, q.reader, scanPrebuildPlan, "SELECT "+prebuildPlanColumns+" FROM prebuild_plans ORDER BY repository_id, branch")
	}
	return list(ctx, q.reader, scanPrebuildPlan, "SELECT "+prebuildPlanColumns+" FROM prebuild_plans WHERE repository_id = ? ORDER BY branch", repository)
}

// PrebuildPlan finds a plan by its repository and branch.
func (q prebuildsReads) PrebuildPlan(ctx context.Context, repository, branch string) (PrebuildPlan, error) {
	return one(ctx, q.reader, scanPrebuildPlan, "SELECT "+prebuildPlanColumns+" FROM prebuild_plans WHERE repository_id = ? AND branch = ?", repository, branch)
}

// PrebuildPlanByID finds a plan.
func (q prebuildsReads) PrebuildPlanByID(ctx context.Context, id string) (PrebuildPlan, error) {
	return one(ctx, q.reader, scanPrebuildPlan, "SELECT "+prebuildPlanColumns+" FROM prebuild_plans WHERE id = ?", id)
}

// PrebuildRun is one making of a prepared image.
type PrebuildRun struct {
	ID, PlanID          string
	Number              int
	WorkspaceID         string // what makes it, or made it
	Reason              string
	Commit, Fingerprint string
	Kept
	Outcome            lifecycle.Outcome
	Cause              string
	StartedAt          time.Time
	EndedAt, DroppedAt *time.Time
}

// Kept is what a run that went well left.
type Kept struct {
	Image  string // its name in the yard; "" until kept
	Digest string // what that name meant then; "" of runs before it was written down
	User   string // who works in it
}

const runColumns = "id, plan_id, number, workspace_id, reason, commit_id, fingerprint, image, digest, user, outcome, cause, started_at, ended_at, dropped_at"

func scanRun(scan func(...any) error) (r PrebuildRun, err error) {
	var at int64
	var end, dropped sql.NullInt64
	err = scan(&r.ID, &r.PlanID, &r.Number, &r.WorkspaceID, &r.Reason, &r.Commit, &r.Fingerprint, &r.Image, &r.Digest, &r.User, &r.Outcome, &r.Cause, &at, &end, &dropped)
	r.StartedAt, r.EndedAt, r.DroppedAt = fromMicros(at), fromNullMicros(end), fromNullMicros(dropped)
	return r, err
}

// AddRun begins a run and gives it its number.
func (tx prebuildsWrites) AddRun(ctx context.Context, r *PrebuildRun) error {
	r.StartedAt = tx.now
	if err := tx.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(number), 0) + 1 FROM prebuild_runs WHERE plan_id = ?", r.PlanID).Scan(&r.Number); err != nil {
		return err
	}
	return tx.exec(ctx, "INSERT INTO prebuild_runs ("+runColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, '', '', '', '', '', ?, NULL, NULL)",
		r.ID, r.PlanID, r.Number, r.WorkspaceID, r.Reason, r.Commit, r.Fingerprint, micros(r.StartedAt))
}

// EndRun records how a run ended; one that has ended stays as it is.
func (tx prebuildsWrites) EndRun(ctx context.Context, id string, k Kept, o lifecycle.Outcome, cause string) error {
	tx.cached()
	return tx.exec(ctx, "UPDATE prebuild_runs SET image = ?, digest = ?, user = ?, outcome = ?, cause = ?, ended_at = ? WHERE id = ? AND ended_at IS NULL", k.Image, k.Digest, k.User, o, cause, micros(tx.now), id)
}

// DropRun records that a run's image is not kept any more.
func (tx prebuildsWrites) DropRun(ctx context.Context, id string) error {
	tx.cached()
	return tx.exec(ctx, "UPDATE prebuild_runs SET dropped_at = ? WHERE id = ?", micros(tx.now), id)
}

// Runs lists a plan's runs, newest first, at most limit.
func (q prebuildsReads) Runs(ctx context.Context, plan string, limit int) ([]PrebuildRun, error) {
	return list(ctx, q.reader, scanRun, "SELECT "+runColumns+" FROM prebuild_runs WHERE plan_id = ? ORDER BY number DESC LIMIT ?", plan, limit)
}

// PlansThatFail counts the prebuild plans, and those of them whose last run that has
// ended failed.
func (q prebuildsReads) PlansThatFail(ctx context.Context) (all, failed int, err error) {
	err = q.db.QueryRowContext(ctx, `SELECT COUNT(*), COALESCE(SUM((SELECT r.outcome FROM prebuild_runs r WHERE r.plan_id = p.id AND r.ended_at IS NOT NULL ORDER BY r.number DESC LIMIT 1) = 'failed'), 0)
		FROM prebuild_plans p`).Scan(&all, &failed)
	return all, failed, err
}

// RunOf finds the run that a workspace makes.
func (q prebuildsReads) RunOf(ctx context.Context, workspace string) (PrebuildRun, error) {
	return one(ctx, q.reader, scanRun, "SELECT "+runColumns+" FROM prebuild_runs WHERE workspace_id = ?", workspace)
}

// GoodRuns lists the runs of a repository's branch that serve launches.
func (q prebuildsReads) GoodRuns(ctx context.Context, repository, branch string) ([]PrebuildRun, error) {
	return cached(q.reader, "good runs "+repository+" "+branch, func() ([]PrebuildRun, error) {
		return list(ctx, q.reader, scanRun, "SELECT "+prefixed("r", runColumns)+` FROM prebuild_runs r JOIN prebuild_plans p ON p.id = r.plan_id
			WHERE p.repository_id = ? AND p.branch = ? AND r.outcome = 'done' AND r.dropped_at IS NULL ORDER BY r.number DESC`, repository, branch)
	})
}

// RunByID finds a run.
func (q prebuildsReads) RunByID(ctx context.Context, id string) (PrebuildRun, error) {
	return one(ctx, q.reader, scanRun, "SELECT "+runColumns+" FROM prebuild_runs WHERE id = ?", id)
}
