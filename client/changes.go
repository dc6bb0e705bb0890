package client

import (
	"context"
	"net/url"
	"strconv"

	"yardbench/wire"
)

func changes(ref, rest string) string { return workspace(ref, "/changes"+rest) }

// List tells how each clone in a workspace stands, with the files that are changed.
func (c Changes) List(ctx context.Context, ref string) ([]wire.Changes, error) {
	return all[wire.Changes](ctx, c.link, changes(ref, ""))
}

// Difference tells how a file differs from what is staged, or what is staged of it
// from the newest commit. Of all that names a clone's folder "" is the workspace's own.
func (c Changes) Difference(ctx context.Context, ref, folder, path string, staged bool) (wire.Difference, error) {
	q := url.Values{"folder": {folder}, "path": {path}, "staged": {strconv.FormatBool(staged)}}
	return call[wire.Difference](ctx, c.link, "GET", changes(ref, "/difference?"+q.Encode()), nil)
}

// Stage stages changes, of whole files or by hunks.
func (c Changes) Stage(ctx context.Context, ref string, in wire.Choice) (wire.Changes, error) {
	return call[wire.Changes](ctx, c.link, "PUT", changes(ref, "/stage"), in)
}

// Unstage takes changes out of what is staged.
func (c Changes) Unstage(ctx context.Context, ref string, in wire.Choice) (wire.Changes, error) {
	return call[wire.Changes](ctx, c.link, "PUT", changes(ref, "/unstage"), in)
}

// Discard discards changes that are not staged: they are lost.
func (c Changes) Discard(ctx context.Context, ref string, in wire.Choice) (wire.Changes, error) {
	return call[wire.Changes](ctx, c.link, "PUT", changes(ref, "/discard"), in)
}

// Commit commits what is staged.
func (c Changes) Commit(ctx context.Context, ref string, in wire.NewCommit) (wire.Committed, error) {
	return call[wire.Committed](ctx, c.link, "PUT", changes(ref, "/commit"), in)
}

// Branches lists a clone's branches, with those of its remotes as they were fetched.
func (c Changes) Branches(ctx context.Context, ref, folder string) ([]wire.CloneBranch, error) {
	return all[wire.CloneBranch](ctx, c.link, changes(ref, "/branches?"+url.Values{"folder": {folder}}.Encode()))
}

// Switch has another branch be out.
func (c Changes) Switch(ctx context.Context, ref string, in wire.SwitchBranch) (wire.Changes, error) {
	return call[wire.Changes](ctx, c.link, "PUT", changes(ref, "/branch"), in)
}

// Fetch fetches from a clone's remote.
func (c Changes) Fetch(ctx context.Context, ref string, in wire.Exchange) (wire.Exchanged, error) {
	return call[wire.Exchanged](ctx, c.link, "PUT", changes(ref, "/fetch"), in)
}

// Push pushes the branch that is out.
func (c Changes) Push(ctx context.Context, ref string, in wire.Exchange) (wire.Exchanged, error) {
	return call[wire.Exchanged](ctx, c.link, "PUT", changes(ref, "/push"), in)
}
