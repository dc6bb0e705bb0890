package client

import (
	"context"
	"net/url"
	"strconv"

	"yardbench/wire"
)

func workspace(ref, rest string) string { return "/workspaces/" + url.PathEscape(ref) + rest }

// Launch asks for a workspace.
func (c Workspaces) Launch(ctx context.Context, in wire.Launch) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c.link, "POST", "/workspaces", in)
}

// ListQuery says which workspaces are wanted, and in which order; empty fields
// do not count.
type ListQuery struct {
	All                                   bool // everybody's whom one may see, not one's own alone
	Owner, Team, Repository, Branch, Size string
	States                                []string // phases and conditions: one of them is enough
	Find                                  string   // a part of the name, the owner, the repository or the branch
	Cause                                 string   // the id of what needs somebody
	Sort                                  string
}

// Wide tells that all are wanted who belong to one, or whom one may see.
func (q ListQuery) Wide() bool {
	return q.Owner+q.Team+q.Repository+q.Branch+q.Size+q.Find+q.Cause == "" && len(q.States) == 0
}

func (q ListQuery) path() string {
	v := url.Values{}
	for k, s := range map[string]string{"owner": q.Owner, "team": q.Team, "repository": q.Repository, "branch": q.Branch, "size": q.Size, "find": q.Find, "cause": q.Cause, "sort": q.Sort} {
		if s != "" {
			v.Set(k, s)
		}
	}
	if q.All {
		v.Set("all", "true")
	}
	v["state"] = q.States
	return "/workspaces?" + v.Encode()
}

// List lists workspaces.
func (c Workspaces) List(ctx context.Context, q ListQuery) ([]wire.WorkspaceRow, error) {
	return all[wire.WorkspaceRow](ctx, c.link, q.path())
}

// Show tells of one workspace.
func (c Workspaces) Show(ctx context.Context, ref string) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c.link, "GET", workspace(ref, ""), nil)
}

// Sheets lists a workspace's launch sheets, newest first.
func (c Workspaces) Sheets(ctx context.Context, ref string) ([]wire.SheetRow, error) {
	return all[wire.SheetRow](ctx, c.link, workspace(ref, "/sheets"))
}

// Sheet is one of a workspace's launch sheets with its steps; 0 is the newest.
func (c Workspaces) Sheet(ctx context.Context, ref string, number int) (wire.Sheet, error) {
	return call[wire.Sheet](ctx, c.link, "GET", workspace(ref, "/sheets/"+strconv.Itoa(number)), nil)
}

// Work tells what in a workspace exists nowhere else.
func (c Workspaces) Work(ctx context.Context, ref string) (wire.Work, error) {
	return call[wire.Work](ctx, c.link, "GET", workspace(ref, "/work"), nil)
}

// Start brings a workspace up.
func (c Workspaces) Start(ctx context.Context, ref string) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c.link, "POST", workspace(ref, "/start"), nil)
}

// Stop stops a workspace.
func (c Workspaces) Stop(ctx context.Context, ref string) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c.link, "POST", workspace(ref, "/stop"), nil)
}

// Rebuild makes a workspace's container anew.
func (c Workspaces) Rebuild(ctx context.Context, ref string, in wire.Rebuild) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c.link, "POST", workspace(ref, "/rebuild"), in)
}

// Remove removes a workspace with its files.
func (c Workspaces) Remove(ctx context.Context, ref string, discard bool) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c.link, "DELETE", workspace(ref, "?discard="+strconv.FormatBool(discard)), nil)
}

// List lists the yard's containers that belong to nobody.
func (c Containers) List(ctx context.Context) ([]wire.Container, error) {
	return all[wire.Container](ctx, c.link, "/containers")
}

// Sizes lists what a container that is taken on may count for.
func (c Containers) Sizes(ctx context.Context) ([]wire.SizeOffer, error) {
	return all[wire.SizeOffer](ctx, c.link, "/container-sizes")
}

// Adopt takes a container on, by its name or id.
func (c Containers) Adopt(ctx context.Context, container string, in wire.Adopt) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c.link, "POST", "/containers/"+url.PathEscape(container)+"/adopt", in)
}

// LetGo lets an adopted container go.
func (c Containers) LetGo(ctx context.Context, ref string) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c.link, "POST", workspace(ref, "/let-go"), nil)
}

// Services lists the services beside a workspace.
func (c Workspaces) Services(ctx context.Context, ref string) ([]wire.Service, error) {
	return all[wire.Service](ctx, c.link, workspace(ref, "/services"))
}

// Preflight says what a launch would come to.
func (c Workspaces) Preflight(ctx context.Context, in wire.Launch) (wire.Preflight, error) {
	return call[wire.Preflight](ctx, c.link, "POST", "/preflight", in)
}

// Hold keeps a workspace from being put to rest.
func (c Workspaces) Hold(ctx context.Context, ref string, in wire.Hold) (wire.Workspace, error) {
	return call[wire.Workspace](ctx, c.link, "PUT", workspace(ref, "/hold"), in)
}

// EndHold lets a workspace be put to rest again.
func (c Workspaces) EndHold(ctx context.Context, ref string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", workspace(ref, "/hold"), nil)
	return err
}

// RenewLease says that a workspace which is for one command is still needed.
func (c Workspaces) RenewLease(ctx context.Context, ref string) (wire.Errand, error) {
	return call[wire.Errand](ctx, c.link, "POST", workspace(ref, "/lease"), nil)
}
