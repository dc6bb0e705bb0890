package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
)

// Holding is what an engine has of one installation.
type Holding struct {
	Installation string   `json:"installation"`
	KeptAt       string   `json:"kept_at,omitempty"` // the machine and data directory of the service that kept it last
	Containers   int      `json:"containers"`
	Running      int      `json:"running"`
	Files        int      `json:"files"` // volumes, each with somebody's files
	Owners       []string `json:"owners"`
	Networks     int      `json:"networks"`
	Images       int      `json:"images"`
}

// imagesOf begins the names of an installation's images.
const imagesOf = "yardbench/"

// things are the engine's own names of what is of an installation.
type things struct{ containers, networks, files, claims, images []string }

// look lists what an engine has of every installation.
func (e *conn) look(ctx context.Context) ([]Holding, map[string]*things, error) {
	held, named := map[string]*Holding{}, map[string]*things{}
	of := func(labels map[string]string) (*Holding, *things) {
		id := labels[LabelInstallation]
		if held[id] == nil {
			held[id], named[id] = &Holding{Installation: id, Owners: []string{}}, &things{}
		}
		return held[id], named[id]
	}
	ours := client.Filters{}.Add("label", LabelInstallation)
	cs, err := e.cli.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: ours})
	if err != nil {
		return nil, nil, e.wrap("list containers", err)
	}
	for _, c := range cs.Items {
		h, t := of(c.Labels)
		h.Containers++
		if c.State == container.StateRunning {
			h.Running++
		}
		t.containers = append(t.containers, c.ID)
	}
	ns, err := e.cli.NetworkList(ctx, client.NetworkListOptions{Filters: ours})
	if err != nil {
		return nil, nil, e.wrap("list networks", err)
	}
	for _, n := range ns.Items {
		h, t := of(n.Labels)
		h.Networks++
		t.networks = append(t.networks, n.ID)
	}
	vs, err := e.cli.VolumeList(ctx, client.VolumeListOptions{Filters: ours})
	if err != nil {
		return nil, nil, e.wrap("list volumes", err)
	}
	for _, v := range vs.Items {
		h, t := of(v.Labels)
		if v.Labels[labelClaim] != "" {
			h.KeptAt = v.Labels[labelWhere]
			t.claims = append(t.claims, v.Name)
			continue
		}
		h.Files++
		t.files = append(t.files, v.Name)
		if who := v.Labels[labelOwner]; who != "" && !slices.Contains(h.Owners, who) {
			h.Owners = append(h.Owners, who)
		}
	}
	is, err := e.cli.ImageList(ctx, client.ImageListOptions{Filters: client.Filters{}.Add("reference", imagesOf+"*")})
	if err != nil {
		return nil, nil, e.wrap("list images", err)
	}
	for _, i := range is.Items {
		for _, tag := range i.RepoTags {
			rest, mine := strings.CutPrefix(tag, imagesOf)
			id, _, named := strings.Cut(rest, ":")
			if !mine || !named {
				continue
			}
			h, t := of(map[string]string{LabelInstallation: id})
			h.Images++
			t.images = append(t.images, tag)
		}
	}
	var out []Holding
	for _, id := range slices.Sorted(maps.Keys(held)) {
		slices.Sort(held[id].Owners)
		out = append(out, *held[id])
	}
	return out, named, nil
}

// Holdings lists what an engine has of every installation. No service is needed.
func Holdings(ctx context.Context, host string) ([]Holding, error) {
	e, err := New(Config{Host: host})
	if err != nil {
		return nil, err
	}
	defer e.Close()
	out, _, err := e.look(ctx)
	return out, err
}

// Leave takes everything of an installation out of an engine: containers, networks, images
// and, unless they are to be kept, the volumes with people's files; last what says whose
// the installation's part was. It can be asked again where it was cut off. Nothing of
// anybody else's is touched. The service of the installation must not run.
func Leave(ctx context.Context, host, installation string, keepFiles bool) error {
	e, err := New(Config{Host: host})
	if err != nil {
		return err
	}
	defer e.Close()
	_, all, err := e.look(ctx)
	if err != nil {
		return err
	}
	of := all[installation]
	if of == nil {
		return nil
	}
	for _, id := range of.containers {
		if _, err := e.cli.ContainerRemove(ctx, id, client.ContainerRemoveOptions{Force: true}); gone(err) != nil {
			return e.wrap("remove a container", err)
		}
	}
	for _, id := range of.networks {
		if _, err := e.cli.NetworkRemove(ctx, id, client.NetworkRemoveOptions{}); gone(err) != nil {
			return e.wrap("remove a network", err)
		}
	}
	for _, tag := range of.images {
		if _, err := e.cli.ImageRemove(ctx, tag, client.ImageRemoveOptions{PruneChildren: true}); gone(err) != nil {
			return e.wrap("remove the image "+tag, err)
		}
	}
	volumes := of.claims
	if !keepFiles {
		volumes = append(slices.Clone(of.files), of.claims...)
	}
	for _, name := range volumes {
		if _, err := e.cli.VolumeRemove(ctx, name, client.VolumeRemoveOptions{}); gone(err) != nil {
			return fmt.Errorf("%w: what is in it may be in use", e.wrap("remove the volume "+name, err))
		}
	}
	return nil
}
