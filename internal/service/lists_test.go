package service

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/page"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/wire"
)

// BenchmarkListOfTenThousand: the first page of ten thousand workspaces, as JSON,
// by the usual order and by cost, after one of them has changed; and how large an
// event is that brings a changed row.
func BenchmarkListOfTenThousand(b *testing.B) {
	ctx := b.Context()
	st, err := store.Open(ctx, filepath.Join(b.TempDir(), "a.db"), time.Now)
	if err != nil {
		b.Fatal(err)
	}
	defer st.Close()
	k := reconcile.New(ctx, reconcile.Rooms{Store: st, Now: time.Now, House: &house.Book{}})
	s := New(Rooms{Store: st, Keeper: k, Yard: k.Yard, House: k.House, Sessions: k.Sessions, Bus: &live.Bus{}})
	if err := s.HouseRules.FirstRules(ctx, rules.First); err != nil {
		b.Fatal(err)
	}
	const all, most = 10_000, 200
	var one store.Workspace
	for n := range 100 {
		err := st.Write(ctx, func(tx *store.Tx) error {
			if n == 0 {
				if err := tx.AddRepository(ctx, store.Repository{ID: "r1", Name: "tide-board", URL: "http://git.skerryline.example/x", DefaultBranch: "main"}); err != nil {
					return err
				}
			}
			p := store.Person{ID: fmt.Sprint("p", n), Name: fmt.Sprint("person", n), Role: policy.Developer}
			if err := tx.AddPerson(ctx, p); err != nil {
				return err
			}
			for i := range all / 100 {
				one = store.Workspace{ID: store.NewID(), OwnerID: p.ID, Name: fmt.Sprintf("w%d-%d", i, n), RepositoryID: "r1", Branch: "main", Phase: lifecycle.Stopped, Wanted: lifecycle.WantStopped, Size: "small", StewardToken: []byte{1}, PortKey: NewPortKey()}
				if err := tx.AddWorkspace(ctx, &one); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			b.Fatal(err)
		}
	}
	who := Actor{Person: store.Person{ID: "p0", Name: "person0", Role: policy.Operator}}
	read := func(sort string) (took time.Duration, part Part[wire.WorkspaceRow]) {
		began := time.Now()
		part, err := s.Workspaces.List(ctx, who, WorkspaceQuery{All: true, Ask: page.Ask{Limit: most, Sort: sort}})
		text, merr := json.Marshal(part.Items)
		if err != nil || merr != nil || len(part.Items) != most || part.Next == "" || len(text) < most*100 {
			b.Fatal(len(part.Items), err, merr)
		}
		return time.Since(began), part
	}
	read("") // brings all into memory
	var usual, byCost time.Duration
	var row []byte
	n := 0
	for b.Loop() {
		n++
		if err := st.Write(ctx, func(tx *store.Tx) error { return tx.SaveWorkspace(ctx, one) }); err != nil {
			b.Fatal(err)
		}
		took, part := read("")
		usual += took
		if took, _ = read("-cost"); took > 0 {
			byCost += took
		}
		row, _ = json.Marshal(part.Items[0])
	}
	b.ReportMetric(usual.Seconds()*1000/float64(n), "ms/page")
	b.ReportMetric(byCost.Seconds()*1000/float64(n), "ms/page-by-cost")
	b.ReportMetric(float64(len(row)), "B/row")
	b.ReportMetric(0, "ns/op")
}
