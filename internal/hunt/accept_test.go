package hunt

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"yardbench/internal/core/policy"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/reconcile"
	"yardbench/internal/service"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/internal/yard"
	"yardbench/internal/yard/sim"
	"yardbench/wire"
)

// BenchmarkAccepted: launches accepted in a second, durable and with their
// limits reserved, by 64 at a time, beside SQLite alone that writes the same
// rows to the same disk: one launch in each commit, and as many as there were in each of ours. No keeper goes on
// with them meanwhile.
func BenchmarkAccepted(b *testing.B) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(runtime.NumCPU()))
	d := newDoor(b, b.TempDir())
	const n = 6400
	d.launch(4, "first") // connections are open then, and statements prepared, as those of the other are
	empty := read(b, d.file)
	d.groups.Store(0)
	began := time.Now()
	d.launch(n/atOnce, "w")
	ours := n / time.Since(began).Seconds()
	group := n / int(d.groups.Load())
	d.close()
	dir := filepath.Dir(d.file)
	single, grouped := bare(b, dir, d.file, empty, 1), bare(b, dir, d.file, empty, group)
	b.ReportMetric(ours, "accepted/s")
	b.ReportMetric(single, "bare-one-a-commit/s")
	b.ReportMetric(grouped, "bare-grouped/s")
	b.ReportMetric(ours/grouped, "of-bare-grouped")
	b.ReportMetric(float64(group), "a-commit")
	b.ReportMetric(0, "ns/op")
}

const atOnce = 64 // who launch at the same time

// door is a service over records in a directory, without a keeper that goes on
// with what is accepted.
type door struct {
	b      *testing.B
	s      *service.Service
	file   string
	actors []service.Actor
	groups atomic.Int64 // commits
	close  func()
}

func newDoor(b *testing.B, dir string) *door {
	b.Helper()
	d := &door{b: b, file: filepath.Join(dir, "a.db")}
	check := func(err error) {
		b.Helper()
		if err != nil {
			b.Fatal(err)
		}
	}
	st, err := store.Open(b.Context(), d.file, time.Now)
	check(err)
	st.OnJournal(func() { d.groups.Add(1) })
	v, err := vault.Open(filepath.Join(dir, "key.json"), nil)
	check(err)
	y, err := sim.New("hunt", nil, sim.Options{Images: map[string]yard.Image{"skerryline/base:1": {Digest: "sha256:0123"}}})
	check(err)
	d.close = func() { y.Close(); check(st.Close()) }
	k := reconcile.New(b.Context(), reconcile.Rooms{Store: st, Yard: y, Vault: v, Bus: &live.Bus{}, Mirrors: trees{}, Now: time.Now, House: &house.Book{}, Sessions: &session.Sessions{Store: st, Vault: v, PortForm: "http://*.ports.localhost:7080", House: &house.Book{}, Now: time.Now}})
	d.s = service.New(service.Rooms{Store: st, Vault: v, Bus: k.Bus, Mirrors: trees{}, Keeper: k, House: k.House, Sessions: k.Sessions, Address: "http://127.0.0.1:7080"})
	if _, err := st.Read().RepositoryByName(b.Context(), "berth-planner"); err == nil { // it was opened before
		people, err := st.Read().People(b.Context(), store.Scope{})
		check(err)
		for _, p := range people {
			d.actors = append(d.actors, service.Actor{Person: p})
		}
		return d
	}
	check(d.s.HouseRules.FirstRules(b.Context(), strings.Replace(document, "{existing: 3, running: 2}", "{existing: 100000}", 1)))
	for i := range 640 { // a few workspaces of each person, as real limits are
		name := fmt.Sprint("p", i)
		check(d.s.People.AddPerson(b.Context(), store.Person{Name: name, FullName: name, Email: name + "@skerryline.example", Role: policy.Operator, PasswordHash: "none"}))
		p, err := st.Read().PersonByName(b.Context(), name)
		check(err)
		d.actors = append(d.actors, service.Actor{Person: p})
	}
	_, err = d.s.Repositories.AddRepository(b.Context(), d.actors[0], wire.NewRepository{URL: "http://git.skerryline.example/berth-planner.git"})
	check(err)
	return d
}

func (d *door) launch(each int, name string) {
	d.b.Helper()
	var wg sync.WaitGroup
	for i := range atOnce {
		wg.Go(func() {
			for j := range each {
				if _, err := d.s.Launches.Launch(d.b.Context(), d.actors[(i+j*atOnce)%len(d.actors)], wire.Launch{Repository: "berth-planner", Name: fmt.Sprintf("%s%d-%d", name, i, j)}); err != nil {
					d.b.Error(err)
				}
			}
		})
	}
	wg.Wait()
}

func read(b *testing.B, file string) []byte {
	b.Helper()
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
		b.Fatal(err)
	}
	content, err := os.ReadFile(file)
	if err != nil {
		b.Fatal(err)
	}
	return content
}

// bare writes every row that the launches wrote into another file that began
// like theirs, so many launches in each commit.
func bare(b *testing.B, dir, from string, empty []byte, group int) (launchesPerSecond float64) {
	b.Helper()
	file := filepath.Join(dir, fmt.Sprint("bare", group, ".db"))
	if err := os.WriteFile(file, empty, 0o600); err != nil {
		b.Fatal(err)
	}
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(ON)")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	do := func(q string, args ...any) {
		b.Helper()
		if _, err := db.Exec(q, args...); err != nil {
			b.Fatalf("%s: %v", q, err)
		}
	}
	do("ATTACH ? AS theirs", "file:"+from)
	// Each launch's rows by its workspace, read before the clock starts.
	type insert struct {
		st   *sql.Stmt
		args []any
	}
	of := map[string][]insert{}
	var order []string
	for _, t := range []struct{ table, by string }{{"workspaces", "id"}, {"sheets", "workspace_id"}, {"intervals", "workspace_id"}, {"journal", "subject"}} {
		var list string // of those that are written, not computed
		if err := db.QueryRow("SELECT group_concat(name) FROM pragma_table_info(?)", t.table).Scan(&list); err != nil {
			b.Fatal(err)
		}
		rows, err := db.Query("SELECT " + t.by + ", " + list + " FROM theirs." + t.table + " WHERE " + t.by + " IN (SELECT id FROM theirs.workspaces EXCEPT SELECT id FROM main.workspaces)")
		if err != nil {
			b.Fatal(err)
		}
		columns, _ := rows.Columns()
		var got [][]any
		for rows.Next() {
			v, p := make([]any, len(columns)), make([]any, len(columns))
			for i := range v {
				p[i] = &v[i]
			}
			if err := rows.Scan(p...); err != nil {
				b.Fatal(err)
			}
			got = append(got, v)
		}
		rows.Close()
		st, err := db.Prepare("INSERT INTO main." + t.table + " (" + list + ") VALUES (" + strings.TrimSuffix(strings.Repeat("?,", len(columns)-1), ",") + ")")
		if err != nil {
			b.Fatal(err)
		}
		for _, v := range got {
			id := fmt.Sprint(v[0])
			if of[id] == nil {
				order = append(order, id)
			}
			of[id] = append(of[id], insert{st, v[1:]})
		}
	}
	do("DETACH theirs")
	began := time.Now()
	for i := 0; i < len(order); i += group {
		do("BEGIN IMMEDIATE")
		for _, id := range order[i:min(i+group, len(order))] {
			for _, in := range of[id] {
				if _, err := in.st.Exec(in.args...); err != nil {
					b.Fatal(err)
				}
			}
		}
		do("COMMIT")
	}
	took := time.Since(began).Seconds()
	if group == 1 {
		b.Logf("%d launches, the first of %d rows", len(order), len(of[order[0]]))
	}
	return float64(len(order)) / took
}
