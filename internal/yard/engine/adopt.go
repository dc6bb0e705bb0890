package engine

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/client"

	"yardbench/internal/yard"
)

// others are containers that others started.
type others struct{ *conn }

// adopted are the containers that were taken on. Nothing can be written into a
// container's labels once it is made: the records know, and tell at each start.
type adopted struct {
	mu sync.Mutex
	of map[string]string // container by workspace
}

func (a *adopted) container(workspace string) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.of[workspace]
}

func (a *adopted) workspace(container string) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	for w, c := range a.of {
		if c == container {
			return w
		}
	}
	return ""
}

// Adopt implements [yard.Adopter].
func (e *others) Adopt(workspace, container string) {
	e.adopted.mu.Lock()
	defer e.adopted.mu.Unlock()
	if e.adopted.of == nil {
		e.adopted.of = map[string]string{}
	}
	e.adopted.of[workspace] = container
}

// Others implements [yard.Adopter].
func (e *others) Others(ctx context.Context) ([]yard.Other, error) {
	cs, err := e.cli.ContainerList(ctx, client.ContainerListOptions{})
	if err != nil {
		return nil, e.wrap("look at the containers", err)
	}
	out := []yard.Other{}
	for _, c := range cs.Items {
		if c.Labels[LabelInstallation] != "" || e.adopted.workspace(c.ID) != "" {
			continue
		}
		o, running, err := e.other(ctx, c.ID)
		if errdefs.IsNotFound(err) || err == nil && !running {
			continue // it went meanwhile
		}
		if err != nil {
			return nil, e.wrap("look at a container", err)
		}
		out = append(out, o)
	}
	slices.SortFunc(out, func(a, b yard.Other) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func (e *others) other(ctx context.Context, id string) (o yard.Other, running bool, err error) {
	res, err := e.cli.ContainerInspect(ctx, id, client.ContainerInspectOptions{})
	if err != nil {
		return o, false, err
	}
	c := res.Container
	if c.State == nil || c.Config == nil || c.HostConfig == nil {
		return o, false, fmt.Errorf("the engine tells too little of container %s", id)
	}
	o = yard.Other{ID: c.ID, Name: strings.TrimPrefix(c.Name, "/"), Image: c.Config.Image, User: c.Config.User, Folder: c.Config.WorkingDir,
		CoresMilli: c.HostConfig.NanoCPUs / 1e6, MemoryBytes: c.HostConfig.Memory}
	o.ReadOnly = c.HostConfig.ReadonlyRootfs
	o.StartedAt, _ = time.Parse(time.RFC3339Nano, c.State.StartedAt) // unknown, it is the zero time
	in, err := e.cli.ImageInspect(ctx, c.Image)
	if o.Arch = in.Architecture; errdefs.IsNotFound(err) { // it was removed under its container
		var v client.ServerVersionResult
		v, err = e.cli.ServerVersion(ctx, client.ServerVersionOptions{})
		o.Arch = v.Arch
	}
	return o, c.State.Running && !c.State.Paused && !c.State.Restarting, err
}

// stewardFolder is where an adopted container gets its steward: a folder of
// this installation's own, as another one may take the same container on.
func (e *others) stewardFolder() string { return "/.yardbench-" + e.Installation }

// Reach implements [yard.Adopter].
func (e *others) Reach(ctx context.Context, workspace string) (net.Conn, error) {
	id := e.adopted.container(workspace)
	o, running, err := e.other(ctx, id)
	if err != nil {
		return nil, e.wrap("look at the container", err)
	}
	if !running {
		return nil, yard.Refused("the container %s does not run", o.Name)
	}
	if o.ReadOnly {
		return nil, yard.Refused("the container %s is read-only, and no steward can be put into it", o.Name)
	}
	at, err := e.stewardIn(ctx, id, o.Arch)
	if err != nil {
		return nil, err
	}
	return e.bridge(ctx, id, at)
}

// stewardIn makes sure that a container has the present steward, and gives its
// path there.
func (e *others) stewardIn(ctx context.Context, id, arch string) (at string, err error) {
	folder, err := e.Steward(arch)
	if err != nil {
		return "", yard.Refused("%w", err)
	}
	at = path.Join(e.stewardFolder(), filepath.Base(folder))
	_, err = e.cli.ContainerStatPath(ctx, id, client.ContainerStatPathOptions{Path: at})
	if !errdefs.IsNotFound(err) {
		return at, e.wrap("look for the steward in the container", err)
	}
	content, err := os.ReadFile(filepath.Join(folder, "steward"))
	if err != nil {
		return "", err
	}
	var b bytes.Buffer
	t := tar.NewWriter(&b)
	now := time.Now()
	for _, h := range []tar.Header{{Typeflag: tar.TypeDir, Name: strings.TrimPrefix(e.stewardFolder(), "/") + "/", Mode: 0o755, ModTime: now}, {Name: strings.TrimPrefix(at, "/"), Mode: 0o755, Size: int64(len(content)), ModTime: now}} {
		if err := t.WriteHeader(&h); err != nil {
			return "", err
		}
	}
	if _, err := t.Write(content); err != nil {
		return "", err
	}
	if err := t.Close(); err != nil {
		return "", err
	}
	_, err = e.cli.CopyToContainer(ctx, id, client.CopyToContainerOptions{DestinationPath: "/", Content: &b})
	return at, e.wrap("put the steward into the container", err)
}

// bridge runs the steward's bridge in a container: once it says "ok", what goes
// in and comes out of it is the connection.
func (e *others) bridge(ctx context.Context, id, at string) (net.Conn, error) {
	x, err := e.cli.ExecCreate(ctx, id, client.ExecCreateOptions{User: "0:0", Cmd: []string{at, "bridge"}, AttachStdin: true, AttachStdout: true, AttachStderr: true})
	if err != nil {
		return nil, e.wrap("reach the steward in the container", err)
	}
	res, err := e.cli.ExecAttach(ctx, x.ID, client.ExecAttachOptions{})
	if err != nil {
		return nil, e.wrap("reach the steward in the container", err)
	}
	out, in := io.Pipe()
	said := &bounded{most: 1000}
	go func() {
		_, err := stdcopy.StdCopy(in, said, res.Reader)
		in.CloseWithError(errors.Join(err, io.EOF))
	}()
	conn := &execConn{Conn: res.Conn, out: out}
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	var ok [3]byte
	if _, err := io.ReadFull(out, ok[:]); err != nil || string(ok[:]) != "ok\n" {
		conn.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		how := fmt.Sprintf("%q", ok)
		if text := said.text(); text != "" {
			how = text
		}
		// An engine that cannot start a program says so in its output.
		return nil, fmt.Errorf("reach the steward in the container: %s", how)
	}
	return conn, nil
}

// bounded keeps the beginning of what is written.
type bounded struct {
	most int
	mu   sync.Mutex
	b    []byte
}

func (b *bounded) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.b = append(b.b, p[:min(len(p), b.most-len(b.b))]...)
	return len(p), nil
}

func (b *bounded) text() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	s, _, _ := strings.Cut(strings.TrimSpace(string(b.b)), "\n")
	return s
}

// execConn is the connection to a program in a container, its two outputs
// taken apart.
type execConn struct {
	net.Conn
	out *io.PipeReader
}

func (c *execConn) Read(p []byte) (int, error) { return c.out.Read(p) }

func (c *execConn) Close() error {
	c.out.Close()
	return c.Conn.Close()
}

// Release implements [yard.Adopter].
func (e *others) Release(ctx context.Context, workspace string) error {
	id := e.adopted.container(workspace)
	if id != "" {
		if err := e.leave(ctx, id); err != nil {
			return err
		}
	}
	e.adopted.mu.Lock()
	defer e.adopted.mu.Unlock()
	delete(e.adopted.of, workspace)
	return nil
}

// leave has the stewards in a container end and take their folder with them.
// In a container that does not run, the folder is all that is left.
func (e *others) leave(ctx context.Context, id string) error {
	o, running, err := e.other(ctx, id)
	if errdefs.IsNotFound(err) || err == nil && !running {
		return nil
	}
	if err != nil {
		return e.wrap("look at the container", err)
	}
	if _, err := e.cli.ContainerStatPath(ctx, id, client.ContainerStatPathOptions{Path: e.stewardFolder()}); errdefs.IsNotFound(err) {
		return nil
	} else if err != nil {
		return e.wrap("look for the steward in the container", err)
	}
	at, err := e.stewardIn(ctx, id, o.Arch)
	if err != nil {
		return err
	}
	x, err := e.cli.ExecCreate(ctx, id, client.ExecCreateOptions{User: "0:0", Cmd: []string{at, "leave"}, AttachStdout: true, AttachStderr: true})
	if err != nil {
		return e.wrap("take the steward out of the container", gone(err))
	}
	res, err := e.cli.ExecAttach(ctx, x.ID, client.ExecAttachOptions{})
	if err != nil {
		return e.wrap("take the steward out of the container", gone(err))
	}
	defer res.Close()
	defer context.AfterFunc(ctx, res.Close)()
	said := &bounded{most: 1000}
	if _, err := stdcopy.StdCopy(said, said, res.Reader); err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	if text := said.text(); text != "" {
		return fmt.Errorf("take the steward out of the container: %s", text)
	}
	return nil
}
