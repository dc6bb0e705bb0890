package hunt

import (
	"database/sql"
	"fmt"
	"runtime"
	"slices"
	"testing"
	"time"

	"yardbench/internal/service"
	"yardbench/wire"
)

// BenchmarkWithHistory: what is asked every day, with a history in the file of
// 20,000 launches, 200,000 steps, 300,000 intervals and 500,000 journal
// entries, and 1,000 workspaces that run: launches accepted in a second beside
// those on an empty file, and the medians of the service's part of the fleet's
// list, a workspace's page with its sheets, a look before a launch, and a stop.
func BenchmarkWithHistory(b *testing.B) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(runtime.NumCPU()))
	const n = 6400
	rate := func(d *door) float64 {
		d.launch(4, "first")
		began := time.Now()
		d.launch(n/atOnce, "w")
		return n / time.Since(began).Seconds()
	}
	young := newDoor(b, b.TempDir())
	empty := rate(young)
	young.close()

	dir := b.TempDir()
	newDoor(b, dir).close()
	old := newDoor(b, dir)
	old.close()
	history(b, old.file)
	old = newDoor(b, dir)
	full := rate(old)
	old.close()
	running(b, old.file, 1000)

	d := newDoor(b, dir)
	defer d.close()
	median := func(times int, what func(i int) error) float64 {
		b.Helper()
		took := make([]time.Duration, times)
		for i := range took {
			began := time.Now()
			if err := what(i); err != nil {
				b.Fatal(err)
			}
			took[i] = time.Since(began)
		}
		slices.Sort(took)
		return took[times/2].Seconds() * 1000
	}
	ctx := b.Context()
	all := service.WorkspaceQuery{All: true}
	part, err := d.s.Workspaces.List(ctx, d.actors[0], all)
	fleet := part.Items
	if err != nil || len(fleet) != 1000 {
		b.Fatalf("the fleet is %d, %v", len(fleet), err)
	}
	b.ReportMetric(median(51, func(int) error { _, err := d.s.Workspaces.List(ctx, d.actors[0], all); return err }), "ms/fleet")
	b.ReportMetric(median(201, func(i int) error {
		ref := fleet[i].Name + "." + fleet[i].Owner
		if _, err := d.s.Workspaces.Show(ctx, d.actors[0], ref); err != nil {
			return err
		}
		_, err := d.s.Workspaces.Sheet(ctx, d.actors[0], ref, 0)
		return err
	}), "ms/page")
	b.ReportMetric(median(51, func(i int) error {
		_, err := d.s.Launches.Preflight(ctx, d.actors[i], wire.Launch{Repository: "berth-planner", Name: "ahead"})
		return err
	}), "ms/preflight")
	b.ReportMetric(median(201, func(i int) error {
		_, err := d.s.Workspaces.Stop(ctx, d.actors[0], fleet[i].Name+"."+fleet[i].Owner)
		return err
	}), "ms/stop")
	b.ReportMetric(full, "accepted/s")
	b.ReportMetric(full/empty, "of-empty")
	b.ReportMetric(0, "ns/op")
}

// history puts years of work into records that nobody has open.
func history(b *testing.B, file string) {
	b.Helper()
	for _, q := range []string{
		`CREATE TEMP TABLE n AS WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < 499999) SELECT i FROM n`,
		`CREATE TEMP TABLE who AS SELECT ROW_NUMBER() OVER () - 1 AS i, id FROM people`,
		`CREATE INDEX temp.who_by_i ON who (i)`,
		`INSERT INTO workspaces (id, owner_id, name, repository_id, branch, phase, wanted, body, volume, steward_token, created_at, phase_at, size)
			SELECT 'old' || n.i, who.id, 'old' || n.i, (SELECT id FROM repositories), 'main', 'removed', 'removed', 1, 1, x'', n.i * 1000000000, n.i * 1000000000, 'small' FROM n JOIN who ON who.i = n.i % 640 WHERE n.i < 20000`,
		`INSERT INTO sheets (id, workspace_id, number, kind, started_at, ended_at, outcome) SELECT 'olds' || i, 'old' || i, 1, 'launch', i * 1000000000, i * 1000000000 + 5000000, 'done' FROM n WHERE i < 20000`,
		`INSERT INTO steps (sheet_id, number, key, title, body, attempt, started_at, ended_at, outcome) SELECT 'olds' || (i / 10), i % 10 + 1, 'key' || (i % 10), 'Step', 1, 1, i * 100000000, i * 100000000 + 500000, 'done' FROM n WHERE i < 200000`,
		`INSERT INTO intervals (workspace_id, owner_id, team_id, repository_id, kind, size, disk_bytes, from_at, to_at)
			SELECT w.id, w.owner_id, '', w.repository_id, CASE n.i % 3 WHEN 0 THEN 'running' WHEN 1 THEN 'idle' ELSE 'stored' END, 'small', 10737418240, n.i * 60000000, n.i * 60000000 + 3000000 FROM n JOIN workspaces w ON w.id = 'old' || (n.i / 15) WHERE n.i < 300000`,
		`INSERT INTO totals SELECT workspace_id, kind, size, disk_bytes, 1, SUM(to_at - from_at) FROM intervals WHERE to_at IS NOT NULL GROUP BY 1, 2, 3, 4`,
		`INSERT INTO journal (number, at, kind, subject, owner_id, body, prev_hash, hash)
			SELECT (SELECT MAX(number) FROM journal) + 1 + n.i, n.i * 60000000, 'workspace.phase', w.id, w.owner_id, CAST('{"actor":"service","data":{"from":"starting","to":"ready"}}' AS BLOB), randomblob(32), randomblob(32) FROM n JOIN workspaces w ON w.id = 'old' || (n.i / 25)`,
	} {
		raw(b, file, q)
	}
}

// running leaves so many of the workspaces, ready, and the others removed.
func running(b *testing.B, file string, most int) {
	b.Helper()
	now := time.Now().UnixMicro()
	raw(b, file, fmt.Sprintf(`UPDATE workspaces SET phase = 'removed', wanted = 'removed' WHERE id NOT IN (SELECT id FROM workspaces WHERE phase = 'waiting' ORDER BY id LIMIT %d)`, most))
	raw(b, file, fmt.Sprintf(`UPDATE workspaces SET phase = 'ready', phase_at = %d WHERE phase <> 'removed'`, now))
	raw(b, file, fmt.Sprintf(`INSERT INTO intervals (workspace_id, owner_id, team_id, repository_id, kind, size, disk_bytes, from_at) SELECT id, owner_id, '', repository_id, 'running', size, disk_bytes, %d FROM workspaces WHERE phase = 'ready'`, now))
}

var raws = map[string]*sql.DB{}

func raw(b *testing.B, file, q string) {
	b.Helper()
	if raws[file] == nil {
		db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)")
		if err != nil {
			b.Fatal(err)
		}
		db.SetMaxOpenConns(1) // its temporary tables are the connection's
		raws[file] = db
		b.Cleanup(func() { db.Close(); delete(raws, file) })
	}
	if _, err := raws[file].Exec(q); err != nil {
		b.Fatalf("%s: %v", q, err)
	}
}
