package definition

import (
	"cmp"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/compose-spec/compose-go/v2/types"

	"yardbench/internal/core/plain"
)

// inTree gives the path in the repository that the loader's stands for.
func inTree(p string) (string, bool) {
	if p == treeRoot {
		return ".", true
	}
	rel, ok := strings.CutPrefix(p, treeRoot+"/")
	return rel, ok
}

// service brings one to our form.
func (d composeDoc) service(s types.ServiceConfig, src Source, v variables) Service {
	at := d.at("dockerComposeFile")
	out := Service{Name: plain.Text(s.Name), User: s.User, Folder: s.WorkingDir, Entrypoint: s.Entrypoint, Command: s.Command, ReadOnly: s.ReadOnly, StopSignal: s.StopSignal,
		Restart: s.Restart != "" && s.Restart != "no", MemoryBytes: int64(s.MemLimit), CoresMilli: int64(s.CPUS * 1000)}
	no := func(what, fix string) {
		d.rule("not-honoured", Warning, at, fix, "%s of service %q is not honoured", what, s.Name)
	}
	if s.Build != nil {
		out.Build = d.composeBuild(s, src)
	} else {
		out.Image = d.imageName(s.Image, at, src)
	}
	out.Env = d.serviceEnv(s, src)
	out.Extra = Extra{Init: s.Init != nil && *s.Init, Privileged: s.Privileged, Security: s.SecurityOpt, Hostname: s.Hostname, DNS: s.DNS, Labels: s.Labels, Sysctls: s.Sysctls, Groups: s.GroupAdd, ShmBytes: int64(s.ShmSize)}
	if len(s.ExtraHosts) > 0 {
		out.Extra.Hosts = s.ExtraHosts.AsList(":")
	}
	for _, c := range s.CapAdd {
		out.Extra.Capabilities = append(out.Extra.Capabilities, strings.TrimPrefix(strings.ToUpper(c), "CAP_"))
	}
	for _, c := range s.CapDrop {
		out.Extra.Dropped = append(out.Extra.Dropped, strings.TrimPrefix(strings.ToUpper(c), "CAP_"))
	}
	for _, dev := range s.Devices {
		out.Extra.Devices = append(out.Extra.Devices, strings.TrimRight(dev.Source+":"+dev.Target+":"+dev.Permissions, ":"))
	}
	if u := s.Ulimits["nofile"]; u != nil {
		out.Extra.Nofile = int64(cmp.Or(u.Single, u.Soft))
	}
	for name, set := range map[string]bool{"dns": len(out.Extra.DNS) > 0, "add-host": len(out.Extra.Hosts) > 0, "sysctl": len(out.Extra.Sysctls) > 0, "group-add": len(out.Extra.Groups) > 0} {
		if set {
			out.Extra.Options = append(out.Extra.Options, name)
		}
	}
	slices.Sort(out.Extra.Options)
	if s.NetworkMode == "host" {
		out.Extra.HostNetwork = true
	}
	for what, set := range map[string]bool{"pid: " + s.Pid: s.Pid != "", "ipc: " + s.Ipc: s.Ipc != "", "runtime": s.Runtime != "", "volumes_from": len(s.VolumesFrom) > 0, "gpus": len(s.Gpus) > 0,
		"use_api_socket": s.UseAPISocket, "userns_mode": s.UserNSMode != "", "scale": s.Scale != nil && *s.Scale > 1, "device_cgroup_rules": len(s.DeviceCgroupRules) > 0, "platform": s.Platform != ""} {
		if set {
			no(what, "do without")
		}
	}
	d.serviceMounts(&out, s, v, no)
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
		if p.Target > 0 && p.Target <= 65535 && (p.Protocol == "" || p.Protocol == "tcp") {
			out.Ports = append(out.Ports, int(p.Target))
		}
	}
	for _, p := range s.Expose {
		if n, err := strconv.Atoi(p); err == nil && n > 0 && n <= 65535 {
			out.Ports = append(out.Ports, n)
		}
	}
	for _, name := range sortedKeys(s.Networks) {
		if n := s.Networks[name]; n != nil {
			out.Aliases = append(out.Aliases, n.Aliases...)
		}
	}
	return out
}

func (d composeDoc) composeBuild(s types.ServiceConfig, src Source) *Build {
	at := d.at("dockerComposeFile")
	context, ok := inTree(s.Build.Context)
	if !ok {
		d.say(Error, at, "build from a folder of the repository", "the build context %q of service %q lies outside the repository", strings.TrimPrefix(s.Build.Context, treeRoot), s.Name)
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
	file := cmp.Or(s.Build.Dockerfile, "Dockerfile")
	if abs, ok := inTree(file); ok {
		file = abs
	} else {
		file = path.Join(context, file)
	}
	b := d.buildOf(at, ".", file, context, s.Build.Target, args, src)
	if b != nil {
		b.CacheFrom = s.Build.CacheFrom
	}
	return b
}

// serviceEnv is a service's environment: its env files, then what is written.
func (d composeDoc) serviceEnv(s types.ServiceConfig, src Source) map[string]string {
	env := map[string]string{}
	for _, f := range s.EnvFiles {
		rel, ok := inTree(f.Path)
		content, there := []byte(nil), false
		if ok {
			content, there = src.Read(rel)
		}
		if !there {
			if f.Required {
				d.say(Error, d.at("dockerComposeFile"), "add it, or write required: false", "the env file %q of service %q is not in the repository", strings.TrimPrefix(f.Path, treeRoot+"/"), s.Name)
			}
			continue
		}
		values, err := environment(content, &d.unfolded)
		if err != nil {
			d.rule("compose-file", Error, d.at("dockerComposeFile"), "", "the env file %s cannot be read: %s", rel, firstLineOf(err))
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
	for k := range env {
		if !envName.MatchString(k) {
			d.say(Error, d.at("dockerComposeFile"), "use letters, digits and _", "%q in service %q is no variable name", k, s.Name)
			delete(env, k)
		}
	}
	return env
}

func (d composeDoc) serviceMounts(out *Service, s types.ServiceConfig, v variables, no func(what, fix string)) {
	add := func(kind, source, target string, readOnly bool) {
		target = path.Clean(target)
		if !path.IsAbs(target) || target == "/" || ownFolder.MatchString(target) || hasControl(target) {
			d.say(Error, d.at("dockerComposeFile"), "name an absolute folder", "%q in service %q is no place for a mount", target, s.Name)
			return
		}
		out.Mounts = append(out.Mounts, Mount{Kind: kind, Source: source, Target: target, ReadOnly: readOnly})
	}
	for _, m := range s.Volumes {
		switch m.Type {
		case types.VolumeTypeBind:
			if rel, ok := inTree(path.Clean(m.Source)); ok {
				add(MountTree, rel, m.Target, m.ReadOnly)
			} else {
				add(MountHost, path.Clean(m.Source), m.Target, m.ReadOnly)
			}
		case types.VolumeTypeVolume:
			add(MountVolume, cmp.Or(m.Source, s.Name+strings.ReplaceAll(m.Target, "/", "-")), m.Target, m.ReadOnly)
		case types.VolumeTypeTmpfs:
			add(MountTmpfs, "", m.Target, false)
		default:
			no("a volume of the type "+m.Type, "use a volume, tmpfs or a folder of the repository")
		}
	}
	for _, t := range s.Tmpfs {
		target, _, _ := strings.Cut(t, ":")
		add(MountTmpfs, "", target, false)
	}
	if len(s.Secrets)+len(s.Configs) > 0 {
		no("secrets or configs", "give secrets to the workspace, and mount files of the repository")
	}
	if len(out.Mounts) > MaxMounts {
		d.say(Error, d.at("dockerComposeFile"), "", "service %q has %d mounts; at most %d are allowed", s.Name, len(out.Mounts), MaxMounts)
	}
}
