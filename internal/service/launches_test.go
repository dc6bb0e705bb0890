package service

import (
	"fmt"
	"strings"
	"sync"
	"testing"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/quota"
	"yardbench/internal/core/rules"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Two hundred ask at the same time where there is room for seven: seven are
// admitted, and every refusal names the limit and what could be stopped.
func TestAdmissionUnderConcurrency(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	doc := strings.Replace(rules.First, "{existing: 8, running: 4}", "{running: 7, memory: 100 GiB}", 1)
	if _, err := s.HouseRules.PutRules(ctx, astrid, wire.RulesText{Document: doc, Reason: "for the test"}); err != nil {
		t.Fatal(err)
	}
	addWorkspace(t, s, ingrid, "before", lifecycle.Stopped)
	house, _, err := s.rooms.House.Rules(ctx, s.rooms.Store.Read())
	if err != nil {
		t.Fatal(err)
	}
	size := house.Sizes["small"]
	errs := make([]error, 200)
	var wg sync.WaitGroup
	for n := range errs {
		wg.Go(func() {
			errs[n] = s.rooms.Store.Write(ctx, func(tx *store.Tx) error {
				if err := s.Launches.admit(ctx, tx, ingrid.Person, quota.Launch(size)); err != nil {
					return err
				}
				w := store.Workspace{ID: store.NewID(), OwnerID: ingrid.ID, Name: fmt.Sprint("w", n), RepositoryID: "r1", Branch: "main", Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady,
					Body: 1, Volume: 1, StewardToken: []byte{1}, Size: "small", CoresMilli: size.CoresMilli, MemoryBytes: size.MemoryBytes, PortKey: NewPortKey()}
				return s.Launches.Accept(ctx, tx, &w, lifecycle.LaunchSheet, ingrid.ID, "tide-board")
			})
		})
	}
	wg.Wait()
	admitted := 0
	for _, err := range errs {
		if err == nil {
			admitted++
			continue
		}
		if status(err) != 409 || !strings.Contains(err.Error(), "running, ingrid: 7 used + 1 asked of 7 allowed") || !strings.Contains(err.Error(), "stop one of yours that runs: w") {
			t.Fatalf("a refusal reads %v", err)
		}
	}
	used, err := s.rooms.Store.Read().Reserved(ctx, store.Scope{OwnerID: ingrid.ID})
	if admitted != 7 || err != nil || used[rules.Running] != 7 || used[rules.Existing] != 8 {
		t.Errorf("%d were admitted, %v are reserved, %v", admitted, used, err)
	}
	if _, err := s.Workspaces.Start(ctx, ingrid, "before"); status(err) != 409 || !strings.Contains(err.Error(), "7 allowed") {
		t.Errorf("one that was stopped starts beyond the limit: %v", err)
	}
}
