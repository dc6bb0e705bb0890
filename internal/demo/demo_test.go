package demo_test

import (
	"context"
	"net/http/httptest"
	"net/netip"
	"os"
	"reflect"
	"strings"
	"testing"
	"testing/fstest"
	"time"
	"yardbench/internal/core/cost"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/demo"
	"yardbench/internal/serve"
	"yardbench/internal/service"
	"yardbench/internal/store"
)

// The invented past is as good as a real one: the journal is whole and never
// runs backwards, the metered time is the journal's, nothing runs that has no
// container, and filling it in again changes nothing.
func TestThePast(t *testing.T) {
	dir, err := os.MkdirTemp("", "yb")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	for _, name := range demo.Repositories {
		if err := demo.MakeRepository(t.Context(), dir+"/git", name, os.DirFS(".")); err != nil {
			t.Fatal(err)
		}
	}
	handler, err := demo.GitHost(dir+"/git", func() string { return "" })
	if err != nil {
		t.Fatal(err)
	}
	host := httptest.NewServer(handler)
	defer host.Close()
	git := strings.Replace(host.URL, "127.0.0.1", "git.skerryline.localhost", 1)
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	defer cancel()
	var svc *service.Service
	var clock demo.Clock
	clock.Begin()
	began := time.Now()
	err = serve.Run(ctx, serve.Config{DataDir: dir + "/data", Listen: "127.0.0.1:0", Engine: "unix:///nowhere.sock", Addresses: netip.MustParsePrefix("10.213.0.0/16"), Console: fstest.MapFS{},
		Now: clock.Now, Rules: demo.Rules, Prepare: func(ctx context.Context, s *service.Service, r service.Rooms) error {
			svc = s
			if err := demo.FillPast(ctx, s, r, &clock, git); err != nil {
				return err
			}
			head, err := r.Store.Read().JournalHead(ctx)
			if err != nil {
				return err
			}
			if err := demo.FillPast(ctx, s, r, &clock, git); err != nil {
				return err
			}
			if again, err := r.Store.Read().JournalHead(ctx); err != nil || again != head {
				t.Errorf("filled in again, the journal goes from %d to %d, %v", head, again, err)
			}
			look(t, s, r.Store, began)
			return nil
		}, Ready: func(string) { cancel() }})
	if err != nil || svc == nil {
		t.Fatal(err)
	}
}

func look(t *testing.T, s *service.Service, st *store.Store, now time.Time) {
	t.Helper()
	ctx, q := t.Context(), st.Read()
	if err := q.VerifyJournal(ctx); err != nil {
		t.Error(err)
	}
	stored, computed, err := q.Remeter(ctx)
	if err != nil || len(stored) < 500 || !reflect.DeepEqual(stored, computed) {
		t.Errorf("%d intervals are stored, the journal comes to %d, %v", len(stored), len(computed), err)
	}
	first, err := q.JournalAfter(ctx, 0, "", "", 1)
	if err != nil || now.Sub(first[0].At) < 29*24*time.Hour || now.Sub(first[0].At) > 32*24*time.Hour {
		t.Errorf("the journal begins at %s, %v", first[0].At, err)
	}
	last, err := q.Journal(ctx, store.JournalFilter{Newest: true, Limit: 1})
	if err != nil || last[0].At.After(time.Now().Add(time.Minute)) {
		t.Errorf("the journal ends in the future, at %s, %v", last[0].At, err)
	}
	all, err := q.Workspaces(ctx)
	if err != nil || len(all) < 12 {
		t.Errorf("there are %d workspaces, %v", len(all), err)
	}
	for _, w := range all {
		if w.Phase != lifecycle.Stopped || w.Kind != store.ForPerson || w.SeededVolume != 0 || w.Name == "tide-board" && w.OwnerID == "ingrid" {
			t.Errorf("%s is %s with files of its own: %d", w.Name, w.Phase, w.SeededVolume)
		}
	}
	operator := service.Actor{Person: store.Person{Role: policy.Operator}}
	for _, by := range []string{"team", "person", "repository", "day"} {
		c, err := s.Costs.Cost(ctx, operator, by, cost.Only{}, now.AddDate(0, 0, -29), now)
		if err != nil || c.Total.TotalMicros < 100e6 || c.Total.IdleMicros == 0 || c.Total.IdleMicros > c.Total.ActiveMicros || c.Total.PrebuildMicros == 0 || len(c.Rows) < 4 {
			t.Errorf("by %s it cost %+v in %d rows, %v", by, c.Total, len(c.Rows), err)
		}
	}
	kinds := map[string]int{}
	for after := int64(0); ; {
		es, err := q.JournalAfter(ctx, after, "", "", 1000)
		if err != nil || len(es) == 0 {
			break
		}
		for _, e := range es {
			kinds[e.Kind]++
			after = e.Number
			for _, p := range demo.People {
				if strings.Contains(string(e.Data), p.FullName) || strings.Contains(string(e.Data), p.Name+"@") {
					t.Fatalf("entry %d holds a person's details: %s", e.Number, e.Data)
				}
			}
		}
	}
	for _, k := range []string{"workspace.launched", "workspace.phase", "workspace.rested", "workspace.held", "workspace.condition", "rules.put", "prebuild.plan-put", "person.added"} {
		if kinds[k] == 0 {
			t.Errorf("nothing of the kind %s happened", k)
		}
	}
}
