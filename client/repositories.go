package client

import (
	"context"
	"io"
	"net/url"
	"strconv"

	"yardbench/wire"
)

// List lists the registered repositories.
func (c Repositories) List(ctx context.Context) ([]wire.Repository, error) {
	return all[wire.Repository](ctx, c.link, "/repositories")
}

// Branches lists the branches of one, those with the newest commits first.
func (c Repositories) Branches(ctx context.Context, name string) ([]wire.RepositoryBranch, error) {
	return all[wire.RepositoryBranch](ctx, c.link, "/repositories/"+url.PathEscape(name)+"/branches")
}

// Add registers a repository.
func (c Repositories) Add(ctx context.Context, in wire.NewRepository) (wire.Repository, error) {
	return call[wire.Repository](ctx, c.link, "POST", "/repositories", in)
}

// Change changes whose a repository is, where it is, and its default branch.
func (c Repositories) Change(ctx context.Context, name string, in wire.RepositoryChange) (wire.Repository, error) {
	return call[wire.Repository](ctx, c.link, "PATCH", "/repositories/"+url.PathEscape(name), in)
}

// Remove has a repository registered no more.
func (c Repositories) Remove(ctx context.Context, name string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/repositories/"+url.PathEscape(name), nil)
	return err
}

func repository(name, rest string) string { return "/repositories/" + url.PathEscape(name) + rest }

// CheckDefinition says what is wrong with the definition at a branch's head;
// branch "" is the repository's own.
func (c Repositories) CheckDefinition(ctx context.Context, of, branch, name string) (wire.DefinitionCheck, error) {
	return call[wire.DefinitionCheck](ctx, c.link, "GET", repository(of, "/definition?")+url.Values{"branch": {branch}, "name": {name}}.Encode(), nil)
}

// CompareDefinitions says what differs between the definitions of two branches;
// "" is the repository's own.
func (c Repositories) CompareDefinitions(ctx context.Context, of, since, branch, name string) (wire.DefinitionChanges, error) {
	return call[wire.DefinitionChanges](ctx, c.link, "GET", repository(of, "/definition/changes?")+url.Values{"since": {since}, "branch": {branch}, "name": {name}}.Encode(), nil)
}

// List lists the starters.
func (c Starters) List(ctx context.Context) ([]wire.Starter, error) {
	return all[wire.Starter](ctx, c.link, "/starters")
}

// Fill gives a starter's files, with what was chosen in them.
func (c Starters) Fill(ctx context.Context, name string, in wire.FillStarter) (wire.FilledStarter, error) {
	return call[wire.FilledStarter](ctx, c.link, "POST", "/starters/"+url.PathEscape(name), in)
}

// Plans lists the prebuild plans; of one repository unless it is empty.
func (c Prebuilds) Plans(ctx context.Context, of string) ([]wire.PrebuildPlan, error) {
	return all[wire.PrebuildPlan](ctx, c.link, "/prebuild-plans?repository="+url.QueryEscape(of))
}

// PutPlan makes or changes a prebuild plan.
func (c Prebuilds) PutPlan(ctx context.Context, of string, in wire.PutPlan) (wire.PrebuildPlan, error) {
	return call[wire.PrebuildPlan](ctx, c.link, "PUT", repository(of, "/prebuild-plan"), in)
}

// DropPlan removes a prebuild plan.
func (c Prebuilds) DropPlan(ctx context.Context, of, branch string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", repository(of, "/prebuild-plan?branch="+url.QueryEscape(branch)), nil)
	return err
}

// RunPlan makes a prepared image now.
func (c Prebuilds) RunPlan(ctx context.Context, of, branch string) (wire.PrebuildRun, error) {
	return call[wire.PrebuildRun](ctx, c.link, "POST", repository(of, "/prebuild-runs"), wire.Branch{Branch: branch})
}

// RunSheet gives the launch sheet of a prebuild run.
func (c Prebuilds) RunSheet(ctx context.Context, run string) (wire.Sheet, error) {
	return call[wire.Sheet](ctx, c.link, "GET", "/prebuild-runs/"+url.PathEscape(run)+"/sheet", nil)
}

// CopyRunLog writes a prebuild run's log to w.
func (c Prebuilds) CopyRunLog(ctx context.Context, run string, follow bool, w io.Writer) error {
	return c.copyText(ctx, "/prebuild-runs/"+url.PathEscape(run)+"/log?follow="+strconv.FormatBool(follow), w)
}

// PutCredential gives a repository the credential that its prebuilds
// read it with.
func (c Repositories) PutCredential(ctx context.Context, of string, in wire.GitCredential) error {
	_, err := call[nothing](ctx, c.link, "PUT", repository(of, "/credential"), in)
	return err
}

// DropCredential takes it away.
func (c Repositories) DropCredential(ctx context.Context, of string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", repository(of, "/credential"), nil)
	return err
}

// NewPushKey gives a repository a fresh push key.
func (c Repositories) NewPushKey(ctx context.Context, of string) (wire.PushKey, error) {
	return call[wire.PushKey](ctx, c.link, "POST", repository(of, "/push-keys"), nil)
}

// NewDeployKey makes a repository a key that its prebuilds read it with by SSH.
func (c Repositories) NewDeployKey(ctx context.Context, of string) (wire.DeployKey, error) {
	return call[wire.DeployKey](ctx, c.link, "POST", repository(of, "/deploy-keys"), nil)
}
