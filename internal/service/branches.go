package service

import (
	"context"

	"yardbench/internal/core/changes"
	"yardbench/internal/core/plain"
	"yardbench/internal/store"
	"yardbench/wire"
)

// maxBranches bounds what is listed of a repository: those with the newest commits.
const maxBranches = 500

// maxRequests bounds how many of its pull requests are looked at: the newest.
const maxRequests = 50

// Branches lists the branches and pull requests of a repository, as the git host shows them to the actor,
// those with the newest commits first, and which are prepared.
func (s *Prebuilds) Branches(ctx context.Context, a Actor, repository string) ([]wire.RepositoryBranch, error) {
	r, err := s.repositories.repository(ctx, a, repository)
	if err != nil {
		return nil, err
	}
	cred, err := gitCredential(ctx, s.definitions.sessions, a.ID, r.URL)
	if err != nil {
		return nil, err
	}
	if err := s.definitions.mirrors.Fetch(ctx, r.ID, r.URL, cred); err != nil {
		return nil, fromRoom(err)
	}
	if err := s.definitions.mirrors.FetchRequests(ctx, r.ID, r.URL, cred, maxRequests); err != nil {
		return nil, fromRoom(err)
	}
	all, err := s.definitions.mirrors.Branches(ctx, r.ID, maxBranches)
	if err != nil {
		return nil, fromRoom(err)
	}
	plans, err := s.store.Read().PrebuildPlans(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	prepared := map[string]store.PrebuildRun{}
	for _, p := range plans {
		runs, err := s.store.Read().Runs(ctx, p.ID, 20)
		if err != nil {
			return nil, err
		}
		for _, run := range runs {
			if runView(run).Serves {
				prepared[p.Branch] = run
				break
			}
		}
	}
	out := []wire.RepositoryBranch{}
	for _, b := range all {
		v := wire.RepositoryBranch{Name: b.Name, Commit: b.Commit, Subject: plain.Line(b.Subject, 120), At: b.At, Default: b.Name == r.DefaultBranch, Request: changes.Request(b.Name)}
		if run, ok := prepared[b.Name]; ok {
			v.Prepared = &wire.BranchPrepared{Number: run.Number, Head: run.Commit == b.Commit}
		}
		out = append(out, v)
	}
	return out, nil
}
