package store

import (
	"context"
	"database/sql"
	"fmt"
	"io/fs"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/pressly/goose/v3"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/lifecycle"
)

// oldRecords makes records as a release before had them: its migrations, and
// what it wrote.
func oldRecords(t *testing.T, path string, upTo int, write ...string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=foreign_keys(ON)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	old := fstest.MapFS{}
	files, _ := fs.Glob(migrations, "migrations/*.sql")
	for _, f := range files[:upTo] {
		body, err := fs.ReadFile(migrations, f)
		if err != nil {
			t.Fatal(err)
		}
		old[strings.TrimPrefix(f, "migrations/")] = &fstest.MapFile{Data: body}
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, old)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := provider.Up(t.Context()); err != nil {
		t.Fatal(err)
	}
	for _, text := range write {
		if _, err := db.Exec(text); err != nil {
			t.Fatalf("%v in %s", err, text)
		}
	}
}

// Records of the release before come over whole: what bodies are made from,
// how long things take, what was used, and whose images are in use.
func TestRecordsOfTheReleaseBefore(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	hour := time.Hour.Microseconds()
	plan := func(fingerprint, run, container string) string {
		more := ""
		if run != "" {
			more = fmt.Sprintf(`, "prepared": {"run": "%s", "number": 1, "image": "i", "user": "crew", "made_at": "2026-11-01T00:00:00Z", "behind": 0}`, run)
		}
		if container != "" {
			more += fmt.Sprintf(`, "adopted": {"container": "%s", "name": "quay-clock"}`, container)
		}
		return fmt.Sprintf(`{"commit": "c-%s", "definition": {"path": ".devcontainer/devcontainer.json", "folder": "/workspaces/x", "user": "crew", "compose": {"files": ["c.yml"], "work": "app", "services": [{"name": "db", "fingerprint": "service-%s"}]}}, "fingerprint": "%s", "image": "img"%s}`, fingerprint, fingerprint, fingerprint, more)
	}
	workspace := func(id, phase, kind, plan, next string, subnet int) string {
		return fmt.Sprintf(`INSERT INTO workspaces (id, owner_id, name, repository_id, branch, plan, next_plan, phase, wanted, body, volume, subnet, steward_token, created_at, phase_at, kind, port_key) VALUES ('%s', 'p1', 'n-%s', 'r1', 'main', '%s', '%s', '%s', 'ready', 1, 1, %d, x'01', 0, 0, '%s', 'k%s')`, id, id, plan, next, phase, subnet, kind, id)
	}
	interval := func(id, kind string, from, to int64) string {
		end := fmt.Sprint(to)
		if to == 0 {
			end = "NULL"
		}
		return fmt.Sprintf("INSERT INTO intervals (workspace_id, owner_id, team_id, repository_id, kind, size, disk_bytes, from_at, to_at) VALUES ('%s', 'p1', '', 'r1', '%s', 'small', 10, %d, %s)", id, kind, from, end)
	}
	write := []string{
		"INSERT INTO people (id, name, full_name, email, role, password_hash, created_at) VALUES ('p1', 'ingrid', '', '', 'developer', '', 0)",
		"INSERT INTO repositories (id, name, url, default_branch, created_at) VALUES ('r1', 'tide-board', 'u', 'main', 0)",
		fmt.Sprintf("INSERT INTO rules VALUES (1, 'one', 'p1', '', %d), (2, 'two', 'p1', '', %d)", hour, 10*hour),
		workspace("a", "ready", "person", plan("fa", "", ""), plan("fb", "", ""), 1),
		workspace("b", "stopped", "person", plan("fc", "run1", ""), "", 2),
		workspace("c", "ready", "person", plan("", "", "container-1"), "", 3),
		workspace("gone", "removed", "person", plan("fd", "", ""), "", 4),
		workspace("made", "removed", "prebuild", plan("fe", "", ""), "", 5),
		"INSERT INTO prebuild_plans (id, repository_id, branch, on_push, timetable, keep, made_by, created_at) VALUES ('plan', 'r1', 'main', 0, '', 2, 'p1', 0)",
		"INSERT INTO prebuild_runs (id, plan_id, number, workspace_id, reason, commit_id, fingerprint, image, outcome, started_at) VALUES ('run1', 'plan', 1, 'made', '', 'c', 'f', 'image', 'done', 0)",
		"INSERT INTO sheets VALUES ('s1', 'b', 1, 'launch', 0, 5000000, 'done', ''), ('s2', 'gone', 1, 'launch', 0, 9000000, 'done', '')",
		"INSERT INTO steps (sheet_id, number, parent, key, title, body, attempt, started_at, ended_at, cached, outcome) VALUES ('s1', 1, 0, 'make-image', 'Image', 1, 1, 0, 1000000, 1, 'done'), ('s2', 1, 0, 'make-image', 'Image', 1, 1, 0, 3000000, 0, 'done'), ('s2', 2, 1, 'make-image/x', 'x', 1, 1, 0, 3000000, 0, 'done')",
		interval("a", "running", 0, 20*hour), interval("a", "idle", 20*hour, 21*hour), interval("a", "running", 21*hour, 0), interval("b", "stored", 12*hour, 13*hour),
	}
	oldRecords(t, path, 4, write...)
	s := open(t, path, time.Now)
	ctx := t.Context()
	q := s.Read()
	if _, err := sql.Open("sqlite", path+".form-4"); err != nil {
		t.Error(err)
	}
	if copied, _ := filepath.Glob(path + ".form-4"); len(copied) != 1 {
		t.Error("no copy is left of them as they were")
	}
	a, err := q.WorkspaceByID(ctx, "a")
	if err != nil || a.Plan.Commit != "c-fa" || a.NextPlan == nil || a.NextPlan.Fingerprint != "fb" || a.Target().Commit != "c-fb" || a.Plan.Definition.Folder != "/workspaces/x" {
		t.Errorf("a is %+v, %v", a, err)
	}
	if b, err := q.WorkspaceByID(ctx, "b"); err != nil || b.Plan.Prepared == nil || b.Plan.Prepared.Run != "run1" || b.NextPlan != nil {
		t.Errorf("b is %+v, %v", b, err)
	}
	if c, err := q.WorkspaceOfContainer(ctx, "container-1"); err != nil || c.ID != "c" || c.Plan.Adopted.Name != "quay-clock" {
		t.Errorf("the adopted one is %+v, %v", c, err)
	}
	if gone, err := q.WorkspaceByID(ctx, "gone"); err != nil || gone.Plan.Commit != "" || gone.Name != "n-gone" {
		t.Errorf("one that was removed is %+v, %v", gone, err)
	}
	for fingerprint, want := range map[string]bool{"fa": true, "fb": true, "service-fa": true, "service-fc": true, "fd": false, "other": false} {
		if used, err := q.ImageInUse(ctx, fingerprint, ""); err != nil || used != want {
			t.Errorf("the image %s is in use: %v, %v", fingerprint, used, err)
		}
	}
	if used, err := q.PreparedInUse(ctx, "run1", ""); err != nil || !used {
		t.Errorf("the prepared image is in use: %v, %v", used, err)
	}
	if runs, err := q.GoodRuns(ctx, "r1", "main"); err != nil || len(runs) != 1 || runs[0].User != "crew" {
		t.Errorf("runs are %+v, %v", runs, err)
	}
	times, err := q.StepTimes(ctx, "r1", lifecycle.LaunchSheet)
	if want := (map[StepKind][]time.Duration{{"make-image", true}: {time.Second}, {"make-image", false}: {3 * time.Second}}); err != nil || !reflect.DeepEqual(times, want) {
		t.Errorf("steps took %v, %v", times, err)
	}
	if prepared, scratch, err := q.UsualTimes(ctx, "r1"); err != nil || fmt.Sprint(prepared, scratch) != "[5s] [9s]" {
		t.Errorf("launches took %v and %v, %v", prepared, scratch, err)
	}
	used, err := q.UsageOf(ctx, "a", time.UnixMicro(0))
	var sums []string
	for _, o := range used.Over {
		sums = append(sums, fmt.Sprint(o.Kind, " ", o.Version, " ", o.Time))
	}
	if got := strings.Join(sums, ", "); err != nil || got != "idle 2 1h0m0s, running 1 10h0m0s, running 2 10h0m0s" || len(used.Recent) != 3 {
		t.Errorf("a has used %s and %v, %v", got, used.Recent, err)
	}
	if _, err := q.db.ExecContext(ctx, "SELECT plan FROM workspaces"); err == nil {
		t.Error("the old column is still there")
	}
	// It goes on from there: what is over closes into the same sums, a swap of
	// plans and a removal leave nothing behind.
	err = s.Write(ctx, func(tx *Tx) error {
		w, err := tx.WorkspaceByID(ctx, "a")
		if err != nil {
			return err
		}
		w.Plan, w.NextPlan = w.NextPlan, nil
		if err := tx.SaveWorkspace(ctx, w); err != nil {
			return err
		}
		w, err = tx.WorkspaceByID(ctx, "a")
		if err == nil && w.Plan.Commit != "c-fb" {
			err = fmt.Errorf("after the swap it is made from %s", w.Plan.Commit)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if used, err := q.ImageInUse(ctx, "fa", ""); err != nil || used {
		t.Errorf("the image that was swapped out is in use: %v, %v", used, err)
	}
	err = s.Write(ctx, func(tx *Tx) error {
		for _, id := range []string{"a", "b", "c"} {
			w, err := tx.WorkspaceByID(ctx, id)
			if err != nil {
				return err
			}
			w.Phase = lifecycle.Removed
			if err := tx.SaveWorkspace(ctx, w); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	var left int
	if err := s.readers.QueryRowContext(ctx, "SELECT COUNT(*) FROM plans").Scan(&left); err != nil || left != 1 { // the prebuild's
		t.Errorf("%d plans are left, %v", left, err)
	}
}

// totalsHold holds the sums of what is over against the intervals.
func totalsHold(t *testing.T, s *Store, rates []cost.Since, now time.Time) {
	t.Helper()
	ctx := context.Background()
	differ, err := s.Read().Unsummed(ctx)
	if err != nil || len(differ) > 0 {
		t.Errorf("the sums of %v are not their intervals', %v", differ, err)
	}
	all, err := s.Read().Intervals(ctx, Scope{}, time.Time{}, now.Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	by := map[string][]cost.Interval{}
	for _, i := range all {
		name, _, _ := strings.Cut(i.Workspace, ".")
		by[name] = append(by[name], i)
	}
	for name, intervals := range by {
		id := strings.TrimPrefix(name, "w-")
		if id == name {
			continue // prebuilds
		}
		used, err := s.Read().UsageOf(ctx, id, now.Add(-24*time.Hour))
		if err != nil {
			t.Fatal(err)
		}
		var open []cost.Interval
		for _, i := range used.Recent {
			if i.To.IsZero() {
				open = append(open, i)
			}
		}
		want := cost.Report(intervals, rates, time.Time{}, now, now, cost.ByAll, time.UTC)[0]
		got := cost.Price(used.Over, open, rates, now)
		if got.Total != want.Total || got.IdleMoney != want.IdleMoney || got.Running != want.Running || got.StorageMoney != want.StorageMoney {
			t.Errorf("%s comes to %+v by its sums, and to %+v by its intervals", name, got, want)
		}
	}
}
