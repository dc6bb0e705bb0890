package hunt

import (
	"context"
	"encoding/json"
	"strings"
	"testing/synctest"
	"time"

	"yardbench/internal/service"
	"yardbench/internal/store"
	"yardbench/internal/yard"
	"yardbench/test/held"
)

// ending lets all faults pass, and what was begun come to its end: first in
// the life that there is, then, after one more start, with what the sweep
// takes away.
func (r *teller) ending() {
	r.faults = false
	r.note("the faults end")
	for len(r.late) > 0 {
		r.doLate()
	}
	r.quiet()
	r.hold(false)
	r.kill()
	for len(r.late) > 0 {
		r.doLate()
	}
	r.start()
	r.quiet()
	r.hold(true)
	r.kill()
}

// quiet goes on until nothing happens any more.
func (r *teller) quiet() {
	still := 0
	for range 20_000 {
		r.gone()
		if gates := r.life.gates(); len(gates) > 0 {
			r.life.release(gates[r.rng.IntN(len(gates))], goOn)
			still = 0
			continue
		}
		away := false
		for _, link := range r.running() {
			away = !r.life.Connected(link) && r.linked(link, true) || away
		}
		if away {
			continue
		}
		if still++; still > 6 {
			return
		}
		time.Sleep(10 * time.Second) // a workspace that could not be kept is looked at within a minute
		synctest.Wait()
	}
	r.problem("it does not come to rest")
}

// hold holds everything against each other. What the yard did late is there
// until the next start looks through it.
func (r *teller) hold(swept bool) {
	ctx := context.Background()
	has := map[string]yard.Observation{}
	ids, err := r.yard.Workspaces(ctx)
	if err != nil {
		r.t.Fatal(err)
	}
	q := r.store.Read()
	for _, id := range ids {
		w, err := q.WorkspaceByID(ctx, id)
		if !swept && (err != nil || w.Phase == "removed") {
			continue
		}
		if has[id], err = r.yard.Observe(ctx, id); err != nil {
			r.t.Fatal(err)
		}
	}
	wrong, _, _, err := held.Together(ctx, q, has, held.Limits{Existing: 3, Running: 2})
	if err != nil {
		r.t.Fatal(err)
	}
	for id := range r.accepted {
		if told, err := q.Journal(ctx, store.JournalFilter{Subject: id, Kind: "workspace.launched", Limit: 2}); err != nil || len(told) != 1 {
			wrong = append(wrong, r.name(id)+" was accepted, and is not in the journal")
		}
	}
	if kept, fresh := r.fleet(r.service), r.fleet(service.New(r.rooms)); kept != fresh {
		wrong = append(wrong, "the fleet that is kept in memory is "+kept+", and by the records "+fresh)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, p := range wrong {
		for id, name := range r.names {
			p = strings.ReplaceAll(p, id, name)
		}
		r.wrong = append(r.wrong, p)
	}
}

// fleet is the list of all as the operator sees it.
func (r *teller) fleet(s *service.Service) string {
	all, err := s.Workspaces.List(context.Background(), r.actors[len(people)], service.WorkspaceQuery{All: true})
	if err != nil {
		r.t.Fatal(err)
	}
	text, err := json.Marshal(all)
	if err != nil {
		r.t.Fatal(err)
	}
	return string(text)
}
