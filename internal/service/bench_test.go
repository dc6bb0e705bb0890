package service

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"yardbench/internal/core/cost"

	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/wire"
)

// BenchmarkCostOfAMonth: a month's cost by team from 100,000 intervals, with
// everything between the records and the answer, beside the bare SQL sum over
// the same rows.
func BenchmarkCostOfAMonth(b *testing.B) {
	ctx := b.Context()
	path := filepath.Join(b.TempDir(), "a.db")
	st, err := store.Open(ctx, path, time.Now)
	if err != nil {
		b.Fatal(err)
	}
	defer st.Close()
	k := reconcile.New(b.Context(), reconcile.Rooms{Store: st, Now: time.Now, House: &house.Book{}})
	s := New(Rooms{Store: st, Keeper: k, Yard: k.Yard, Installation: k.Installation, House: k.House, Sessions: k.Sessions, Bus: &live.Bus{}})
	doc := strings.Replace(rules.First, "{small: 0, middle: 0, large: 0}", "{small: 0.06, middle: 0.14, large: 0.31}", 1)
	if err := s.HouseRules.FirstRules(ctx, doc); err != nil {
		b.Fatal(err)
	}
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(10000)")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	from := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	tx, err := db.Begin()
	if err != nil {
		b.Fatal(err)
	}
	do := func(q string, args ...any) {
		b.Helper()
		if _, err := tx.Exec(q, args...); err != nil {
			b.Fatal(err)
		}
	}
	for n := range 10 {
		do("INSERT INTO teams VALUES (?, ?, 0)", fmt.Sprint("t", n), fmt.Sprint("Team ", n))
	}
	do("INSERT INTO repositories (id, name, url, default_branch, created_at, push_key) VALUES ('r', 'tide-board', 'http://x/y', 'main', 0, x'')")
	for n := range 200 {
		do("INSERT INTO people (id, name, full_name, email, role, team_id, password_hash, created_at) VALUES (?, ?, '', '', 'developer', ?, '', 0)", fmt.Sprint("p", n), fmt.Sprint("person", n), fmt.Sprint("t", n%10))
	}
	for n := range 2000 {
		do("INSERT INTO workspaces (id, owner_id, name, repository_id, branch, phase, wanted, body, volume, subnet, steward_token, created_at, phase_at) VALUES (?, ?, ?, 'r', 'main', 'stopped', 'stopped', 1, 1, ?, x'', 0, 0)",
			fmt.Sprint("w", n), fmt.Sprint("p", n%200), fmt.Sprint("w", n), n)
	}
	for n := range 100_000 {
		start := from.Add(time.Duration(n%700) * time.Hour).UnixMicro()
		do("INSERT INTO intervals (workspace_id, owner_id, team_id, repository_id, kind, size, disk_bytes, from_at, to_at) VALUES (?, ?, ?, 'r', ?, 'small', 10737418240, ?, ?)",
			fmt.Sprint("w", n%2000), fmt.Sprint("p", n%200), fmt.Sprint("t", n%10), []string{"running", "idle", "stored"}[n%3], start, start+int64(n%5000)*1e6)
	}
	if err := tx.Commit(); err != nil {
		b.Fatal(err)
	}
	who := Actor{Person: store.Person{ID: "p0", Name: "person0", Role: policy.Operator}}
	to := from.AddDate(0, 1, 0)
	s.Costs.now = func() time.Time { return to }
	var ours, bare time.Duration
	var report wire.Cost
	for b.Loop() {
		began := time.Now()
		if report, err = s.Costs.Cost(ctx, who, "team", cost.Only{}, from, to); err != nil {
			b.Fatal(err)
		}
		ours += time.Since(began)
		began = time.Now()
		rows, err := db.Query("SELECT team_id, kind, SUM(MIN(to_at, ?) - MAX(from_at, ?)) FROM intervals WHERE from_at < ? AND to_at > ? GROUP BY team_id, kind", to.UnixMicro(), from.UnixMicro(), to.UnixMicro(), from.UnixMicro())
		if err != nil {
			b.Fatal(err)
		}
		n := 0
		for rows.Next() {
			n++
		}
		rows.Close()
		bare += time.Since(began)
		if n != 30 || len(report.Rows) != 10 {
			b.Fatalf("%d groups, %d rows", n, len(report.Rows))
		}
	}
	b.ReportMetric(ours.Seconds()/float64(b.N), "s/report")
	b.ReportMetric(bare.Seconds()/float64(b.N), "s/bare-sum")
	b.ReportMetric(float64(ours)/float64(bare), "times-bare-sum")
}
