package reconcile

import (
	"context"

	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// makeVolume makes what holds the workspace folder.
func (d *doing) makeVolume(ctx context.Context) error {
	whose, err := d.whose(ctx)
	if err != nil {
		return err
	}
	err = tryWhole(ctx, yardTimeout, func(ctx context.Context) error {
		return d.yard.Make(ctx, yard.Volume{Workspace: d.w.ID, Number: d.volume, SizeBytes: d.w.DiskBytes, Whose: whose})
	})
	if err == nil {
		d.see().Volumes[d.volume] = true
	}
	return err
}

// whose is what the yard is to tell of a workspace where no records do.
func (d *doing) whose(ctx context.Context) (out yard.Whose, err error) {
	r, err := d.store.Read().RepositoryByID(ctx, d.w.RepositoryID)
	if err != nil {
		return out, err
	}
	out = yard.Whose{Name: d.w.Name, Repository: r.Name, Branch: d.w.Branch, Size: d.w.Size, Definition: d.w.Target().Definition.Name}
	if d.w.Kind == store.ForPerson {
		owner, err := d.store.Read().PersonByID(ctx, d.w.OwnerID)
		if err != nil {
			return out, err
		}
		out.Owner = owner.Name
	}
	return out, nil
}
