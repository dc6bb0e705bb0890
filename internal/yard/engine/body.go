package engine

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/yard"
)

// bodies are workspaces' containers and what stands beside them.
type bodies struct{ *conn }

// treeFolder is where a service finds the volume with the repository, when it
// has it not mounted at a place of its own.
const treeFolder = "/.yardbench-tree"

func (e *conn) service(workspace string, n int, name string) string {
	return e.body(workspace, n) + "-" + safe(name)
}

// safe is a text that may stand in a name of the engine's.
func safe(name string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '.' {
			return r
		}
		return '_'
	}, name)
}

// makeBody makes a body.
func (e *bodies) makeBody(ctx context.Context, b yard.Body) error {
	own, err := e.ownCommand(ctx, b)
	if err != nil {
		return err
	}
	if err := e.bringDisk(ctx, e.volume(b.Workspace, b.Volume)); err != nil {
		return err
	}
	img, err := e.cli.ImageInspect(ctx, b.Image)
	if err != nil {
		return e.wrap("make the container", err)
	}
	steward, err := e.Steward(img.Architecture)
	if err != nil {
		return yard.Refused("%w", err)
	}
	labels := e.labelsOf(b.Workspace, b.Number, b.Whose)
	labels[LabelService], labels[labelLinks] = "", "" // whatever the image's own labels say
	mounts := []mount.Mount{
		{Type: mount.TypeBind, Source: steward, Target: "/.yardbench/bin", ReadOnly: true},
		{Type: mount.TypeBind, Source: e.Link(b.Workspace, b.Number), Target: linkTarget, ReadOnly: true},
		// Seeding is ours: the engine's own copy into an empty volume
		// stays half-filled, without a word, when it is cut off.
		{Type: mount.TypeVolume, Source: e.volume(b.Workspace, b.Volume), Target: b.Folder, VolumeOptions: &mount.VolumeOptions{NoCopy: true}},
	}
	more, tmpfs, links, err := e.mounts(ctx, b.Workspace, b.Mounts, cmp.Or(b.Tree, b.Folder), b.DiskBytes)
	if err != nil {
		return err
	}
	tmpfs["/run/yardbench"] = "mode=0755,size=320m"
	if len(links) > 0 {
		labels[labelLinks] = jsonOf(links)
	}
	host := hostConfig(b.Extra, b.NoGain)
	host.NetworkMode = container.NetworkMode(e.name(b.Workspace))
	if b.Extra.HostNetwork {
		host.NetworkMode = "host"
	}
	host.Tmpfs, host.Mounts = tmpfs, append(mounts, more...)
	// No swap beside the memory: it would be memory under another name.
	host.NanoCPUs, host.Memory, host.MemorySwap = b.CoresMilli*1e6, b.MemoryBytes, b.MemoryBytes
	if host.CgroupParent, err = e.share(b.Workspace, b.Share); err != nil {
		return err
	}
	return e.create(ctx, client.ContainerCreateOptions{
		Name: e.body(b.Workspace, b.Number),
		Config: &container.Config{
			Image: b.Image, User: "0:0", Env: environ(b.Env), Hostname: hostname(b), Labels: with(labels, b.Extra.Labels),
			Entrypoint: []string{"/.yardbench/bin/steward"}, Cmd: append([]string{"init"}, own...), WorkingDir: "/", StopSignal: "SIGTERM",
			Healthcheck: &container.HealthConfig{Test: []string{"NONE"}},
		},
		HostConfig:       host,
		NetworkingConfig: e.endpoint(b.Workspace, b.Aliases, b.Extra.HostNetwork),
	})
}

// share is the control group for the containers of a workspace; "" where they
// are bounded each for itself.
func (e *conn) share(workspace string, s yard.Share) (string, error) {
	if e.Shares == nil || s == (yard.Share{}) {
		return "", nil
	}
	group := e.name(workspace)
	return e.Shares.parent(group), e.Shares.set(group, s)
}

func hostname(b yard.Body) string {
	if b.Extra.HostNetwork {
		return "" // it has the host's
	}
	return cmp.Or(b.Extra.Hostname, b.Hostname)
}

func (e *bodies) endpoint(workspace string, aliases []string, host bool) *network.NetworkingConfig {
	if host || len(aliases) == 0 {
		return nil
	}
	return &network.NetworkingConfig{EndpointsConfig: map[string]*network.EndpointSettings{e.name(workspace): {Aliases: aliases}}}
}

// with adds a definition's labels to ours, which they cannot replace.
func with(ours, theirs map[string]string) map[string]string {
	for k, v := range theirs {
		if !strings.HasPrefix(k, "yardbench.") {
			ours[k] = v
		}
	}
	return own(ours)
}

// own says all labels of ours, also those that a container has not: it would
// have them from its image.
func own(labels map[string]string) map[string]string {
	for _, l := range []string{LabelWorkspace, LabelNumber, LabelService, LabelNamed, labelLinks, labelTry, labelClaim, labelHolder, labelWhere, labelOwner, labelName, labelRepository, labelBranch, labelSize, labelDefinition} {
		if _, said := labels[l]; !said {
			labels[l] = ""
		}
	}
	return labels
}

func environ(env map[string]string) []string {
	out := make([]string, 0, len(env))
	for k, v := range env {
		out = append(out, k+"="+v)
	}
	slices.Sort(out)
	return out
}

// create makes a container, unless it is there already.
func (e *bodies) create(ctx context.Context, o client.ContainerCreateOptions) error {
	_, err := e.cli.ContainerCreate(ctx, o)
	if errdefs.IsConflict(err) {
		if _, ierr := e.cli.ContainerInspect(ctx, o.Name, client.ContainerInspectOptions{}); ierr == nil {
			return nil
		}
	}
	return e.wrap("make the container", err)
}

// ownCommand is what the steward is told to run beside itself.
func (e *bodies) ownCommand(ctx context.Context, b yard.Body) ([]string, error) {
	o := b.Own
	if o == nil || (!o.Image && len(o.Entrypoints) == 0) {
		return nil, nil
	}
	in, err := e.cli.ImageInspect(ctx, b.Image)
	if err != nil {
		return nil, e.wrap("look at image "+b.Image, err)
	}
	var argv []string
	user, folder := o.User, ""
	if c := in.Config; c != nil {
		user, folder = cmp.Or(user, c.User), c.WorkingDir
		if o.Image {
			argv = slices.Concat(c.Entrypoint, c.Cmd)
			if o.Entrypoint != nil {
				argv = slices.Concat(o.Entrypoint, o.Command)
			} else if o.Command != nil {
				argv = slices.Concat(c.Entrypoint, o.Command)
			}
		}
	}
	script := strings.Join(o.Entrypoints, "\n")
	if len(argv) > 0 {
		script += "\nexec \"$@\""
	}
	if strings.TrimSpace(script) == "" {
		return nil, nil
	}
	return []string{jsonOf(map[string]any{"user": user, "folder": folder, "argv": append([]string{"/bin/sh", "-c", script, "-"}, argv...)})}, nil
}

func jsonOf(v any) string {
	text, err := json.Marshal(v)
	if err != nil { // plain values always marshal
		panic(err)
	}
	return string(text)
}

// mounts brings a definition's mounts to the engine's form; volumes that they
// name are made. What lies in the tree becomes a link: no path inside a volume
// is ever a bind source.
func (e *bodies) mounts(ctx context.Context, workspace string, ms []definition.Mount, tree string, disk int64) (out []mount.Mount, tmpfs, links map[string]string, err error) {
	tmpfs, links = map[string]string{}, map[string]string{}
	for _, m := range ms {
		switch m.Kind {
		case definition.MountTmpfs:
			tmpfs[m.Target] = ""
		case definition.MountHost:
			out = append(out, mount.Mount{Type: mount.TypeBind, Source: m.Source, Target: m.Target, ReadOnly: m.ReadOnly})
		case definition.MountTree:
			links[m.Target] = path.Join(tree, m.Source)
		case definition.MountVolume:
			name := e.name(workspace) + "-n-" + safe(m.Source)
			labels := e.labels(workspace, 0)
			labels[LabelNamed] = m.Source
			if err := e.makeVolume(ctx, name, labels, disk); err != nil {
				return nil, nil, nil, err
			}
			out = append(out, mount.Mount{Type: mount.TypeVolume, Source: name, Target: m.Target, ReadOnly: m.ReadOnly})
		}
	}
	return out, tmpfs, links, nil
}

// hostConfig is what a definition asks for beyond the usual, and the usual
// bounds.
func hostConfig(x definition.Extra, noGain bool) *container.HostConfig {
	pids := int64(maxTasks)
	h := &container.HostConfig{
		LogConfig:  container.LogConfig{Type: "json-file", Config: map[string]string{"max-size": "1m", "max-file": "1"}},
		Privileged: x.Privileged, CapAdd: x.Capabilities, CapDrop: x.Dropped, SecurityOpt: x.Security, ExtraHosts: x.Hosts, Sysctls: x.Sysctls, GroupAdd: x.Groups, ShmSize: x.ShmBytes,
		Resources: container.Resources{PidsLimit: &pids},
	}
	if noGain {
		h.SecurityOpt = append(slices.DeleteFunc(slices.Clone(h.SecurityOpt), func(o string) bool { return strings.HasPrefix(o, "no-new-privileges") }), "no-new-privileges:true")
	}
	for _, d := range x.DNS {
		if a, err := netip.ParseAddr(d); err == nil {
			h.DNS = append(h.DNS, a)
		}
	}
	for _, d := range x.Devices {
		from, rest, _ := strings.Cut(d, ":")
		to, mode, _ := strings.Cut(rest, ":")
		h.Devices = append(h.Devices, container.DeviceMapping{PathOnHost: from, PathInContainer: cmp.Or(to, from), CgroupPermissions: cmp.Or(mode, "rwm")})
	}
	if x.Nofile > 0 {
		h.Ulimits = []*container.Ulimit{{Name: "nofile", Soft: x.Nofile, Hard: x.Nofile}}
	}
	return h
}

// putLinks puts the links of a container in place, before it starts.
func (e *bodies) putLinks(ctx context.Context, name string) error {
	in, err := e.cli.ContainerInspect(ctx, name, client.ContainerInspectOptions{})
	if err != nil {
		return e.wrap("look at the container", err)
	}
	links := map[string]string{}
	if in.Container.Config == nil || in.Container.Config.Labels[labelLinks] == "" || in.Container.State.Running {
		return nil
	}
	if err := json.Unmarshal([]byte(in.Container.Config.Labels[labelLinks]), &links); err != nil {
		return fmt.Errorf("read the links of the container: %w", err)
	}
	var b bytes.Buffer
	t := tar.NewWriter(&b)
	for at, to := range links {
		if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeSymlink, Name: strings.TrimPrefix(at, "/"), Linkname: to, Mode: 0o777, ModTime: time.Unix(0, 0)}); err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	_, err = e.cli.CopyToContainer(ctx, name, client.CopyToContainerOptions{DestinationPath: "/", Content: &b})
	return e.wrap("put the links of the tree into the container", err)
}

// servicesOf lists the containers of the services beside a body.
func (e *conn) servicesOf(ctx context.Context, workspace string, n int) ([]string, error) {
	f := e.mine(workspace).Add("label", LabelNumber+"="+strconv.Itoa(n)).Add("label", LabelService)
	cs, err := e.cli.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: f})
	var out []string
	for _, c := range cs.Items {
		if c.Labels[LabelService] != "" {
			out = append(out, c.ID)
		}
	}
	return out, e.wrap("look at the services", err)
}

// Stop implements [yard.Yard].
func (e *bodies) Stop(ctx context.Context, workspace string, n int, grace time.Duration) error {
	seconds := int(grace.Seconds())
	if _, err := e.cli.ContainerStop(ctx, e.body(workspace, n), client.ContainerStopOptions{Timeout: &seconds}); gone(err) != nil {
		return e.wrap("stop the container", err)
	}
	services, err := e.servicesOf(ctx, workspace, n)
	if err != nil {
		return err
	}
	errs := make([]error, len(services))
	var wg sync.WaitGroup
	for i, id := range services {
		wg.Go(func() {
			_, err := e.cli.ContainerStop(ctx, id, client.ContainerStopOptions{Timeout: &seconds})
			errs[i] = e.wrap("stop a service", gone(err))
		})
	}
	wg.Wait()
	return errors.Join(errs...)
}

// ended says how a container ended. The engine tells of want of memory once
// anything in it was ended for that, even if that was long before.
func ended(st *container.State) string {
	how := fmt.Sprintf("exit code %d", st.ExitCode)
	if st.OOMKilled {
		how += ", after something in it was out of memory"
	}
	return how
}

// removeBody removes a body and its services.
func (e *bodies) removeBody(ctx context.Context, workspace string, n int) error {
	if e.adopted.container(workspace) != "" {
		return yard.Refused("remove the container: it was made by others, and is only let go")
	}
	services, err := e.servicesOf(ctx, workspace, n)
	if err != nil {
		return err
	}
	for _, id := range append(services, e.body(workspace, n)) {
		if err := e.removeContainer(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

// removeContainer also waits for a removal that is under way already: that of
// a call that was given up, or somebody else's.
func (e *conn) removeContainer(ctx context.Context, id string) error {
	for {
		_, err := e.cli.ContainerRemove(ctx, id, client.ContainerRemoveOptions{Force: true, RemoveVolumes: true})
		if gone(err) == nil {
			return nil
		}
		if !errdefs.IsConflict(err) || ctx.Err() != nil {
			return e.wrap("remove the container", err)
		}
		wait := e.cli.ContainerWait(ctx, id, client.ContainerWaitOptions{Condition: container.WaitConditionRemoved})
		select {
		case <-wait.Result:
		case err := <-wait.Error:
			if gone(err) != nil {
				return e.wrap("remove the container", err)
			}
		case <-time.After(10 * time.Second): // the other removal has failed, say
		}
	}
}

// StartService implements [yard.Server].
func (e *bodies) StartService(ctx context.Context, s yard.ServiceSpec) error {
	v := s.Service
	name := e.service(s.Workspace, s.Number, v.Name)
	labels := e.labels(s.Workspace, s.Number)
	labels[LabelService], labels[labelLinks] = v.Name, ""
	volume := func(at string, readOnly bool) mount.Mount {
		return mount.Mount{Type: mount.TypeVolume, Source: e.volume(s.Workspace, s.Volume), Target: at, ReadOnly: readOnly, VolumeOptions: &mount.VolumeOptions{NoCopy: true}}
	}
	var tree []mount.Mount
	var rest []definition.Mount
	for _, m := range v.Mounts {
		switch {
		case m.Kind != definition.MountTree:
			rest = append(rest, m)
		case m.Source == "." && s.Tree == "":
			tree = append(tree, volume(m.Target, m.ReadOnly)) // the whole of it
		default:
			rest = append(rest, m)
			if !slices.ContainsFunc(tree, func(t mount.Mount) bool { return t.Target == treeFolder }) {
				tree = append(tree, volume(treeFolder, false))
			}
		}
	}
	more, tmpfs, links, err := e.mounts(ctx, s.Workspace, rest, path.Join(treeFolder, s.Tree), s.DiskBytes)
	if err != nil {
		return err
	}
	if len(links) > 0 {
		labels[labelLinks] = jsonOf(links)
	}
	host := hostConfig(v.Extra, s.NoGain)
	host.Mounts, host.Tmpfs, host.ReadonlyRootfs = append(tree, more...), tmpfs, v.ReadOnly
	host.NetworkMode = container.NetworkMode(e.name(s.Workspace))
	networking := e.endpoint(s.Workspace, append([]string{v.Name}, v.Aliases...), v.Extra.HostNetwork || v.SharesNetwork)
	c := &container.Config{Image: s.Image, Env: environ(v.Env), Entrypoint: v.Entrypoint, Cmd: v.Command, User: v.User, WorkingDir: v.Folder, StopSignal: v.StopSignal, Labels: with(labels, v.Extra.Labels), Hostname: cmp.Or(v.Extra.Hostname, safe(v.Name))}
	switch {
	case v.SharesNetwork:
		host.NetworkMode, c.Hostname = container.NetworkMode("container:"+e.body(s.Workspace, s.Number)), ""
	case v.Extra.HostNetwork:
		host.NetworkMode, c.Hostname = "host", ""
	}
	host.Init = &v.Extra.Init
	host.NanoCPUs, host.Memory, host.MemorySwap = s.CoresMilli*1e6, s.MemoryBytes, s.MemoryBytes
	if host.CgroupParent, err = e.share(s.Workspace, s.Share); err != nil {
		return err
	}
	if v.Restart {
		host.RestartPolicy = container.RestartPolicy{Name: container.RestartPolicyOnFailure, MaximumRetryCount: 10}
	}
	if h := v.Health; h != nil {
		c.Healthcheck = &container.HealthConfig{Test: h.Test, Interval: h.Interval, Timeout: h.Timeout, StartPeriod: h.StartPeriod, Retries: h.Retries}
	}
	if err := e.create(ctx, client.ContainerCreateOptions{Name: name, Config: c, HostConfig: host, NetworkingConfig: networking}); err != nil {
		return err
	}
	return e.startIn(ctx, s.Workspace, name)
}

func serviceState(st *container.State) yard.ServiceState {
	out := yard.ServiceState{Body: lifecycle.Running}
	if st.Health != nil && st.Health.Status != container.NoHealthcheck {
		out.Health = string(st.Health.Status)
	}
	switch st.Status {
	case container.StateCreated:
		out.Body = lifecycle.Created
	case container.StateRunning, container.StatePaused, container.StateRestarting:
	default:
		out.Body, out.ExitCode, out.Problem = lifecycle.Ended, st.ExitCode, ended(st)
		if st.Error != "" {
			out.Problem = st.Error
		}
	}
	return out
}

// ServiceLog implements [yard.Server].
func (e *bodies) ServiceLog(ctx context.Context, workspace string, n int, service string, lines int, to io.Writer) error {
	out, err := e.cli.ContainerLogs(ctx, e.service(workspace, n, service), client.ContainerLogsOptions{ShowStdout: true, ShowStderr: true, Tail: strconv.Itoa(lines)})
	if err != nil {
		return e.wrap("read the service's log", err)
	}
	defer out.Close()
	_, err = stdcopy.StdCopy(to, to, io.LimitReader(out, 4<<20))
	return e.wrap("read the service's log", err)
}

// removeNamedVolumes removes what bodies and services named.
func (e *bodies) removeNamedVolumes(ctx context.Context, workspace string) error {
	vs, err := e.cli.VolumeList(ctx, client.VolumeListOptions{Filters: e.mine(workspace).Add("label", LabelNamed)})
	if err != nil {
		return e.wrap("look at the volumes", err)
	}
	for _, v := range vs.Items {
		if err := e.removeVolume(ctx, v.Name); err != nil {
			return err
		}
	}
	return nil
}

// Try implements [yard.Trier].
func (e *images) Try(ctx context.Context, image string, argv []string, max int64) ([]byte, error) {
	host := hostConfig(definition.Extra{}, true)
	host.NetworkMode, host.Memory, host.MemorySwap, host.NanoCPUs = "none", 512<<20, 512<<20, 1e9
	c, err := e.cli.ContainerCreate(ctx, client.ContainerCreateOptions{Name: "yb-" + e.Installation + "-try-" + strconv.FormatInt(time.Now().UnixNano(), 36),
		Config: &container.Config{Image: image, Entrypoint: argv[:1], Cmd: argv[1:], Labels: own(map[string]string{LabelInstallation: e.Installation, labelTry: "yes"})}, HostConfig: host})
	if err != nil {
		return nil, e.wrap("try the image", err)
	}
	defer func() {
		_, _ = e.cli.ContainerRemove(context.WithoutCancel(ctx), c.ID, client.ContainerRemoveOptions{Force: true, RemoveVolumes: true}) // what is left is swept
	}()
	wait := e.cli.ContainerWait(ctx, c.ID, client.ContainerWaitOptions{Condition: container.WaitConditionNextExit})
	if _, err := e.cli.ContainerStart(ctx, c.ID, client.ContainerStartOptions{}); err != nil {
		return nil, e.wrap("try the image", err)
	}
	select {
	case <-wait.Result:
	case err := <-wait.Error:
		return nil, e.wrap("try the image", err)
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	logs, err := e.cli.ContainerLogs(ctx, c.ID, client.ContainerLogsOptions{ShowStdout: true})
	if err != nil {
		return nil, e.wrap("try the image", err)
	}
	defer logs.Close()
	var out bytes.Buffer
	_, err = stdcopy.StdCopy(&out, io.Discard, io.LimitReader(logs, max))
	return out.Bytes(), e.wrap("try the image", err)
}
