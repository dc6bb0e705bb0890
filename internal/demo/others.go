package demo

import (
	"context"
	"crypto/sha256"
	"fmt"
	"runtime"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"yardbench/internal/yard"
	"yardbench/wire"
)

// others are containers that somebody at Skerry Line started by hand, on the
// machine that the yard is on.
var others = []struct {
	name, program string
	cores, memory int64 // bounds, in thousandths of a core and bytes
}{
	{"quay-clock", "import http.server, time\nclass H(http.server.BaseHTTPRequestHandler):\n  def do_GET(self):\n    self.send_response(200)\n    self.end_headers()\n    self.wfile.write(time.strftime('%H:%M at the quay\\n').encode())\nhttp.server.HTTPServer(('', 8300), H).serve_forever()", 500, 256 << 20},
	{"tide-relay", "import time\nwhile True: time.sleep(60)", 0, 0},
}

// otherLabel is on those of an engine, so that they can be taken away again.
const otherLabel = "skerryline.started-by-hand"

// SimulatedOthers are the same, in a simulated yard.
func SimulatedOthers() (out []yard.Other) {
	for _, o := range others {
		out = append(out, yard.Other{ID: fmt.Sprintf("%x", sha256.Sum256([]byte(o.name))), Name: o.name, Image: BaseImage, Arch: runtime.GOARCH, Folder: "/srv", StartedAt: time.Now().UTC(), CoresMilli: o.cores, MemoryBytes: o.memory})
	}
	return out
}

// StartOthers starts them in an engine, unless they are there.
func StartOthers(ctx context.Context, engine string) error {
	cli, err := client.New(client.WithHost(engine))
	if err != nil {
		return err
	}
	defer cli.Close()
	for _, o := range others {
		_, err := cli.ContainerCreate(ctx, client.ContainerCreateOptions{Name: o.name,
			Config:     &container.Config{Image: BaseImage, Cmd: []string{"python3", "-c", o.program}, WorkingDir: "/srv", Labels: map[string]string{otherLabel: "yes"}, StopSignal: "SIGKILL"},
			HostConfig: &container.HostConfig{Resources: container.Resources{NanoCPUs: o.cores * 1e6, Memory: o.memory}}})
		if err != nil && !errdefs.IsConflict(err) {
			return fmt.Errorf("start %s: %w", o.name, err)
		}
		if _, err := cli.ContainerStart(ctx, o.name, client.ContainerStartOptions{}); err != nil {
			return fmt.Errorf("start %s: %w", o.name, err)
		}
	}
	return nil
}

// EndOthers removes them from an engine.
func EndOthers(ctx context.Context, engine string) error {
	cli, err := client.New(client.WithHost(engine))
	if err != nil {
		return err
	}
	defer cli.Close()
	all, err := cli.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: client.Filters{}.Add("label", otherLabel)})
	if err != nil {
		return err
	}
	for _, c := range all.Items {
		if _, err := cli.ContainerRemove(ctx, c.ID, client.ContainerRemoveOptions{Force: true}); err != nil && !errdefs.IsNotFound(err) {
			return err
		}
	}
	return nil
}

// furnishAdopted takes the first of them on.
func furnishAdopted(ctx context.Context, address string, say func(string)) error {
	c, err := signedIn(ctx, address, People[0].Name)
	if err != nil {
		return err
	}
	if w, err := c.Workspaces.Show(ctx, others[0].name+".peder"); err == nil {
		if w.Phase == "stopped" {
			_, err = c.Workspaces.Start(ctx, others[0].name+".peder")
		}
		return err
	}
	all, err := c.Containers.List(ctx)
	if err != nil {
		return err
	}
	for _, o := range all {
		if o.Name != others[0].name {
			continue
		}
		say("the container " + o.Name + " becomes a workspace of peder")
		if _, err := c.Containers.Adopt(ctx, o.ID, wire.Adopt{Owner: "peder", Repository: "deck-log"}); err != nil && !there(err) {
			return fmt.Errorf("take on %s: %w", o.Name, err)
		}
	}
	return nil
}
