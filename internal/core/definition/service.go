package definition

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/compose-spec/compose-go/v2/types"

	"yardbench/internal/core/plain"
)

// service brings one to our form; work tells that people work in it.
func (c composeServices) service(s types.ServiceConfig, v variables, work bool) Service {
	out := Service{Name: plain.Text(s.Name), User: s.User, Folder: s.WorkingDir, Entrypoint: s.Entrypoint, Command: s.Command, ReadOnly: s.ReadOnly, StopSignal: s.StopSignal,
		Restart: s.Restart != "" && s.Restart != "no", MemoryBytes: int64(s.MemLimit), CoresMilli: int64(s.CPUS * 1000)}
	c.passedOver(s, work)
	if s.Platform != "" && s.Platform != "linux" && s.Platform != "linux/amd64" {
		c.tell("not-honoured", Warning, s.Name, "platform", "use an image that is for the yard's processor too", "platform: %s of service %q is not honoured", s.Platform, s.Name)
	}
	switch {
	case s.Build != nil:
		out.Build = c.build(s)
	case s.Image != "":
		d, at := c.spot("services", s.Name, "image")
		out.Image = d.imageName(s.Image, at, c.src)
	default:
		c.tell("compose-file", Error, s.Name, "image", "give it one of the two", "service %q has neither an image nor a build", s.Name)
	}
	c.deploy(&out, s)
	out.Env = c.env(s)
	out.Extra = Extra{Init: s.Init != nil && *s.Init, Privileged: s.Privileged, Security: s.SecurityOpt, Hostname: s.Hostname, DNS: s.DNS, Labels: s.Labels, Sysctls: s.Sysctls, Groups: s.GroupAdd, ShmBytes: int64(s.ShmSize)}
	if len(s.ExtraHosts) > 0 {
		out.Extra.Hosts = s.ExtraHosts.AsList(":")
	}
	for _, name := range s.CapAdd {
		out.Extra.Capabilities = append(out.Extra.Capabilities, capability(name))
	}
	for _, name := range s.CapDrop {
		out.Extra.Dropped = append(out.Extra.Dropped, capability(name))
	}
	for _, dev := range s.Devices {
		out.Extra.Devices = append(out.Extra.Devices, strings.TrimRight(dev.Source+":"+dev.Target+":"+dev.Permissions, ":"))
	}
	for _, name := range sortedKeys(s.Ulimits) {
		if u := s.Ulimits[name]; name == "nofile" && u != nil && cmp.Or(u.Single, u.Soft) <= maxNofile {
			out.Extra.Nofile = int64(max(0, cmp.Or(u.Single, u.Soft)))
		} else {
			d, at := c.spot("services", s.Name, "ulimits", name)
			d.rule("not-honoured", Note, at, fmt.Sprintf("leave it out: only nofile can be set, to at most %d", maxNofile), "the limit %s of service %q is not honoured", name, s.Name)
		}
	}
	for name, set := range map[string]bool{"dns": len(out.Extra.DNS) > 0, "sysctl": len(out.Extra.Sysctls) > 0, "group-add": len(out.Extra.Groups) > 0} {
		if set {
			out.Extra.Options = append(out.Extra.Options, name)
		}
	}
	slices.Sort(out.Extra.Options)
	if s.NetworkMode == "host" {
		out.Extra.HostNetwork = true
	}
	c.mounts(&out, s, v)
	for _, name := range sortedKeys(s.DependsOn) {
		out.Needs = append(out.Needs, Need{Service: name, Condition: cmp.Or(s.DependsOn[name].Condition, Started)})
	}
	if h := s.HealthCheck; h != nil {
		out.Health = &Health{Test: h.Test}
		for to, from := range map[*time.Duration]*types.Duration{&out.Health.Interval: h.Interval, &out.Health.Timeout: h.Timeout, &out.Health.StartPeriod: h.StartPeriod, &out.Health.StartInterval: h.StartInterval} {
			if from != nil {
				*to = time.Duration(*from)
			}
		}
		if h.Retries != nil {
			out.Health.Retries = int(min(*h.Retries, 1000))
		}
		if h.Disable {
			out.Health.Test = []string{"NONE"}
		}
	}
	for _, p := range s.Ports {
		if p.Target > 0 && p.Target <= 65535 && (p.Protocol == "" || p.Protocol == "tcp") && !slices.Contains(out.Published, int(p.Target)) {
			out.Published = append(out.Published, int(p.Target))
		}
	}
	out.Ports = slices.Clone(out.Published)
	for _, p := range s.Expose {
		for _, n := range exposed(p) {
			if !slices.Contains(out.Ports, n) && len(out.Ports) < maxPublished {
				out.Ports = append(out.Ports, n)
			}
		}
	}
	if s.ContainerName != "" { // others may know it by that
		out.Aliases = append(out.Aliases, s.ContainerName)
	}
	for _, name := range sortedKeys(s.Networks) {
		if n := s.Networks[name]; n != nil {
			out.Aliases = append(out.Aliases, n.Aliases...)
		}
	}
	return out
}

// exposed are the TCP ports that one entry of EXPOSE or expose names: one, or a
// range of at most maxPublished.
func exposed(text string) (out []int) {
	number, proto, _ := strings.Cut(text, "/")
	from, to, isRange := strings.Cut(number, "-")
	if !isRange {
		to = from
	}
	a, err := strconv.Atoi(from)
	b, err2 := strconv.Atoi(to)
	if err != nil || err2 != nil || a < 1 || b > 65535 || (proto != "" && proto != "tcp") {
		return nil
	}
	for n := a; n <= min(b, a+maxPublished-1); n++ {
		out = append(out, n)
	}
	return out
}

// deploy takes the limits that a file gives for a cluster, where it gives no
// others; the rest of it is for clusters alone.
func (c composeServices) deploy(out *Service, s types.ServiceConfig) {
	if s.Deploy == nil {
		return
	}
	no := func(key, fix, what string) {
		d, at := c.spot("services", s.Name, "deploy", key)
		d.rule("not-honoured", Warning, at, fix, "%s of service %q is not honoured", what, s.Name)
	}
	if l := s.Deploy.Resources.Limits; l != nil {
		out.MemoryBytes = cmp.Or(out.MemoryBytes, int64(l.MemoryBytes))
		out.CoresMilli = cmp.Or(out.CoresMilli, int64(l.NanoCPUs*1000))
	}
	if r := s.Deploy.Resources.Reservations; r != nil && len(r.Devices)+len(r.GenericResources) > 0 {
		no("resources", "do without: no yard offers one", "the device in deploy")
	}
	if n := s.Deploy.Replicas; n != nil && *n > 1 {
		no("replicas", "leave it out: each service runs once", "replicas in deploy")
	}
}

// build resolves how a service's image is built.
func (c composeServices) build(s types.ServiceConfig) *Build {
	d, at := c.spot("services", s.Name, "build", "context")
	context, ok := inside(c.bases[s.Name], s.Build.Context)
	if !ok || strings.Contains(s.Build.Context, "://") {
		d.say(Error, at, "build from a folder of the repository", "the build context %q of service %q lies outside the repository", s.Build.Context, s.Name)
		return nil
	}
	args := map[string]string{}
	for k, val := range s.Build.Args {
		if val != nil {
			args[k] = *val
		}
	}
	if s.Build.DockerfileInline != "" {
		return &Build{Context: context, Inline: s.Build.DockerfileInline, Target: s.Build.Target, Args: args, CacheFrom: s.Build.CacheFrom}
	}
	d, at = c.spot("services", s.Name, "build", "dockerfile")
	b := d.buildOf(at, context, cmp.Or(s.Build.Dockerfile, "Dockerfile"), ".", s.Build.Target, args, c.src)
	if b != nil {
		b.CacheFrom = s.Build.CacheFrom
	}
	return b
}

// env is a service's environment: its env files, then what is written.
func (c composeServices) env(s types.ServiceConfig) map[string]string {
	env := map[string]string{}
	for i, f := range s.EnvFiles {
		d, at := c.spot("services", s.Name, "env_file", strconv.Itoa(i))
		content, there := []byte(nil), false
		rel, ok := inside(c.bases[s.Name], f.Path)
		if ok {
			content, there = c.src.Read(rel)
		}
		if !there {
			if f.Required {
				d.say(Error, at, "add it, or write required: false", "the env file %q of service %q is not in the repository", f.Path, s.Name)
			}
			continue
		}
		values, err := environment(content, &c.unfolded)
		if err != nil {
			d.rule("compose-file", Error, at, "correct it: NAME=VALUE lines", "the env file %s cannot be read: %s", rel, firstLineOf(err))
			continue
		}
		for k, val := range values {
			env[k] = val
		}
	}
	for k, val := range s.Environment {
		if val != nil {
			env[k] = *val
		}
	}
	for _, k := range sortedKeys(env) {
		if !variableName(k) {
			c.tell("refused", Error, s.Name, "environment", "take = and control characters out of the name", "%q in service %q is no variable name", k, s.Name)
			delete(env, k)
		}
	}
	return env
}

// mounts brings a service's mounts to our form.
func (c composeServices) mounts(out *Service, s types.ServiceConfig, v variables) {
	told := func(sev Severity, key string, i int, fix, format string, args ...any) {
		d, at := c.spot("services", s.Name, key, strconv.Itoa(i))
		rule := "not-honoured"
		if sev == Error {
			rule = "refused"
		}
		d.rule(rule, sev, at, fix, format, args...)
	}
	add := func(key string, i int, kind, source, target string, readOnly bool) {
		target = path.Clean(target)
		if !path.IsAbs(target) || target == "/" || ownFolder.MatchString(target) && !(kind == MountTmpfs && target == "/dev/shm") || hasControl(target) {
			told(Error, key, i, "mount it at another folder", "%q in service %q is no place for a mount", target, s.Name)
			return
		}
		if slices.ContainsFunc(out.Mounts, func(m Mount) bool { return m.Target == target }) {
			return
		}
		out.Mounts = append(out.Mounts, Mount{Kind: kind, Source: source, Target: target, ReadOnly: readOnly})
	}
	for i, m := range s.Volumes {
		switch m.Type {
		case types.VolumeTypeBind:
			rel, kind := c.meant(s.Name, m)
			switch {
			case kind != "":
				add("volumes", i, kind, rel, m.Target, m.ReadOnly)
			case strings.HasPrefix(rel, "~"):
				told(Warning, "volumes", i, "give it as a secret: nobody's own machine takes part", "%s in service %q lies in somebody's home, and is not mounted", rel, s.Name)
			case rel == ".." && v.tree() != path.Clean(m.Target): // the repository lies in it
				add("volumes", i, MountTree, ".", path.Join(m.Target, path.Base(v.tree())), m.ReadOnly)
			default:
				told(Warning, "volumes", i, "put what is needed into the repository, and mount that", "%q in service %q leads out of the repository, and is not mounted", m.Source, s.Name)
			}
			if m.Bind != nil && m.Bind.Propagation != "" {
				told(Note, "volumes", i, "leave it out", "the propagation of a mount in service %q is not honoured", s.Name)
			}
		case types.VolumeTypeVolume:
			add("volumes", i, MountVolume, cmp.Or(m.Source, s.Name+strings.ReplaceAll(m.Target, "/", "-")), m.Target, m.ReadOnly)
			if m.Volume != nil && m.Volume.Subpath != "" {
				told(Warning, "volumes", i, "name a volume of its own", "the subpath of a volume in service %q is not honoured", s.Name)
			}
		case types.VolumeTypeTmpfs:
			add("volumes", i, MountTmpfs, "", m.Target, false)
		default:
			told(Warning, "volumes", i, "use a volume, tmpfs or a folder of the repository", "a volume of the type %s of service %q is not honoured", m.Type, s.Name)
		}
	}
	for i, t := range s.Tmpfs {
		target, _, _ := strings.Cut(t, ":")
		add("tmpfs", i, MountTmpfs, "", target, false)
	}
	for i, f := range s.Configs {
		c.given(func(source, target string) { add("configs", i, MountTree, source, target, true) }, s.Name, "configs", i, f.Source, cmp.Or(f.Target, "/"+f.Source), types.FileObjectConfig(c.project.Configs[f.Source]))
	}
	for i, f := range s.Secrets {
		target := cmp.Or(f.Target, f.Source)
		if !path.IsAbs(target) {
			target = "/run/secrets/" + target
		}
		c.given(func(source, target string) { add("secrets", i, MountTree, source, target, true) }, s.Name, "secrets", i, f.Source, target, types.FileObjectConfig(c.project.Secrets[f.Source]))
	}
	if len(out.Mounts) > MaxMounts {
		c.tell("refused", Error, s.Name, "volumes", "take some out", "service %q has %d mounts; at most %d are allowed", s.Name, len(out.Mounts), MaxMounts)
	}
}

// given mounts a config or secret that is a file of the repository.
func (c composeServices) given(add func(source, target string), service, key string, i int, name, target string, o types.FileObjectConfig) {
	if o.File != "" {
		if rel, ok := inside(c.bases[service], o.File); ok {
			if _, there := c.src.Read(rel); there {
				add(rel, target)
				return
			}
		}
	}
	d, at := c.spot("services", service, key, strconv.Itoa(i))
	what := "is no file of the repository"
	switch {
	case o.Environment != "" || bool(o.External):
		what = "comes from outside"
	case o.Content != "":
		what = "stands in the compose file"
	}
	d.rule("not-honoured", Warning, at, "ask for it in the definition's secrets, or put a file of the repository in its place", "%q in %s of service %q %s, and is not there", name, key, service, what)
}
