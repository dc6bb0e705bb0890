package client

import (
	"context"
	"io"
	"net/url"
	"strconv"

	"yardbench/wire"
)

// Repositories lists the registered repositories.
func (c *Client) Repositories(ctx context.Context) ([]wire.Repository, error) {
	return all[wire.Repository](ctx, c, "/repositories")
}

// AddRepository registers a repository.
func (c *Client) AddRepository(ctx context.Context, in wire.NewRepository) (wire.Repository, error) {
	return call[wire.Repository](ctx, c, "POST", "/repositories", in)
}

// ChangeRepository changes whose a repository is.
func (c *Client) ChangeRepository(ctx context.Context, name string, in wire.RepositoryChange) (wire.Repository, error) {
	return call[wire.Repository](ctx, c, "PATCH", "/repositories/"+url.PathEscape(name), in)
}

func repository(name, rest string) string { return "/repositories/" + url.PathEscape(name) + rest }

// CheckDefinition says what is wrong with the definition at a branch's head;
// branch "" is the repository's own.
func (c *Client) CheckDefinition(ctx context.Context, of, branch, name string) (wire.DefinitionCheck, error) {
	return call[wire.DefinitionCheck](ctx, c, "GET", repository(of, "/definition?")+url.Values{"branch": {branch}, "name": {name}}.Encode(), nil)
}

// CompareDefinitions says what differs between the definitions of two branches;
// "" is the repository's own.
func (c *Client) CompareDefinitions(ctx context.Context, of, since, branch, name string) (wire.DefinitionChanges, error) {
	return call[wire.DefinitionChanges](ctx, c, "GET", repository(of, "/definition/changes?")+url.Values{"since": {since}, "branch": {branch}, "name": {name}}.Encode(), nil)
}

// Starters lists the starters.
func (c *Client) Starters(ctx context.Context) ([]wire.Starter, error) {
	return all[wire.Starter](ctx, c, "/starters")
}

// FillStarter gives a starter's files, with what was chosen in them.
func (c *Client) FillStarter(ctx context.Context, name string, in wire.FillStarter) (wire.FilledStarter, error) {
	return call[wire.FilledStarter](ctx, c, "POST", "/starters/"+url.PathEscape(name), in)
}

// Plans lists the prebuild plans; of one repository unless it is empty.
func (c *Client) Plans(ctx context.Context, of string) ([]wire.PrebuildPlan, error) {
	return all[wire.PrebuildPlan](ctx, c, "/prebuild-plans?repository="+url.QueryEscape(of))
}

// PutPlan makes or changes a prebuild plan.
func (c *Client) PutPlan(ctx context.Context, of string, in wire.PutPlan) (wire.PrebuildPlan, error) {
	return call[wire.PrebuildPlan](ctx, c, "PUT", repository(of, "/prebuild-plan"), in)
}

// DropPlan removes a prebuild plan.
func (c *Client) DropPlan(ctx context.Context, of, branch string) error {
	_, err := call[nothing](ctx, c, "DELETE", repository(of, "/prebuild-plan?branch="+url.QueryEscape(branch)), nil)
	return err
}

// RunPlan makes a prepared image now.
func (c *Client) RunPlan(ctx context.Context, of, branch string) (wire.PrebuildRun, error) {
	return call[wire.PrebuildRun](ctx, c, "POST", repository(of, "/prebuild-runs"), wire.Branch{Branch: branch})
}

// RunSheet gives the launch sheet of a prebuild run.
func (c *Client) RunSheet(ctx context.Context, run string) (wire.Sheet, error) {
	return call[wire.Sheet](ctx, c, "GET", "/prebuild-runs/"+url.PathEscape(run)+"/sheet", nil)
}

// CopyRunLog writes a prebuild run's log to w.
func (c *Client) CopyRunLog(ctx context.Context, run string, follow bool, w io.Writer) error {
	return c.copyText(ctx, "/prebuild-runs/"+url.PathEscape(run)+"/log?follow="+strconv.FormatBool(follow), w)
}

// PutRepositoryCredential gives a repository the credential that its prebuilds
// read it with.
func (c *Client) PutRepositoryCredential(ctx context.Context, of string, in wire.GitCredential) error {
	_, err := call[nothing](ctx, c, "PUT", repository(of, "/credential"), in)
	return err
}

// DropRepositoryCredential takes it away.
func (c *Client) DropRepositoryCredential(ctx context.Context, of string) error {
	_, err := call[nothing](ctx, c, "DELETE", repository(of, "/credential"), nil)
	return err
}

// NewPushKey gives a repository a fresh push key.
func (c *Client) NewPushKey(ctx context.Context, of string) (wire.PushKey, error) {
	return call[wire.PushKey](ctx, c, "POST", repository(of, "/push-keys"), nil)
}
