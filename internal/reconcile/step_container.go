package reconcile

import (
	"context"
	"fmt"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// container makes the body, which does not run yet.
func (d *doing) container(ctx context.Context) error {
	err := tryWhole(ctx, yardTimeout, d.makeBody)
	if err == nil {
		d.see().Bodies[d.body] = lifecycle.Created
	}
	return err
}

func (d *doing) makeBody(ctx context.Context) error {
	plan := *d.w.Target()
	_, ok, err := d.yard.FindImage(ctx, plan.Image)
	if err != nil {
		return err
	}
	if !ok && d.step.Attempt >= maxAttempts {
		return yard.Refused("image %s vanishes again and again", plan.Image)
	}
	if !ok { // somebody removed it: it is made again
		d.set = func(_ *store.Tx, w *store.Workspace) error {
			w.ChangeTarget(func(p *store.Plan) { p.Image = "" })
			return nil
		}
		return errLookAgain
	}
	if d.w.NextBody == 0 && d.w.SeededVolume > 0 {
		fmt.Fprintln(d.log, "the container before is gone, or was made where the service was before: it is made anew, with its files and its set-up; what was written elsewhere in it is not there any more")
	}
	if err := d.links.openLink(d.w, d.body); err != nil {
		return err
	}
	house, _, err := d.house.Rules(ctx, d.store.Read())
	if err != nil {
		return err
	}
	whose, err := d.whose(ctx)
	if err != nil {
		return err
	}
	def := plan.Definition
	spec := yard.Body{Workspace: d.w.ID, Number: d.body, Volume: d.volume, Folder: def.Mountpoint(), Tree: def.TreeFolder(), Whose: whose, Hostname: d.w.Name, Image: plan.Image, Env: def.Env,
		CoresMilli: d.w.CoresMilli, MemoryBytes: d.w.MemoryBytes, DiskBytes: d.w.DiskBytes / named(def), NoGain: house.Workspaces.NoGain, Share: share(d.w), Mounts: def.Mounts, Extra: def.Extra}
	if def.RunsOwnCommand() || len(def.Entrypoints) > 0 {
		spec.Own = &yard.OwnCommand{Entrypoints: def.Entrypoints, Image: def.RunsOwnCommand(), User: def.ContainerUser}
	}
	if c := def.Compose; c != nil {
		spec.Aliases = c.Aliases
		if spec.Own != nil {
			spec.Own.Entrypoint, spec.Own.Command = c.Entrypoint, c.Command
		}
	}
	return d.yard.Make(ctx, spec)
}

// share is what a workspace's containers may use together.
func share(w store.Workspace) yard.Share {
	return yard.Share{CoresMilli: w.CoresMilli, MemoryBytes: w.MemoryBytes}
}

// named counts the volumes that a definition and its services name, at least
// one: together they get one disk of the workspace's size.
func named(def definition.Definition) int64 {
	names := map[string]bool{}
	add := func(mounts []definition.Mount) {
		for _, m := range mounts {
			if m.Kind == definition.MountVolume {
				names[m.Source] = true
			}
		}
	}
	add(def.Mounts)
	if def.Compose != nil {
		for _, s := range def.Compose.Services {
			add(s.Mounts)
		}
	}
	return max(1, int64(len(names)))
}

// mountAbove is where the volume is mounted, where that is above the tree.
func mountAbove(def definition.Definition) string {
	if def.Mountpoint() != def.TreeFolder() {
		return def.Mountpoint()
	}
	return ""
}
