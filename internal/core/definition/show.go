package definition

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yardbench/internal/core/plain"
	"yardbench/internal/core/rules"
)

// Value is one value of a resolved definition, with where it comes from.
type Value struct {
	Key, Value string
	// Origin is a file with line and column, a feature, an image's label, the
	// house rules, or "usual".
	Origin string
}

// Values lists all that a definition resolves to, in a fixed order.
func Values(d Definition) (out []Value) {
	put := func(key, value, origin string) {
		if value != "" {
			out = append(out, Value{Key: plain.Text(key), Value: plain.Text(value), Origin: cmp.Or(d.Origins[origin], "usual")})
		}
	}
	list := func(key string, values []string) {
		for _, v := range values {
			put(key, v, key+"."+v)
		}
	}
	pairs := func(key string, values map[string]string) {
		for _, k := range sortedKeys(values) {
			put(key+"."+k, values[k], key+"."+k)
		}
	}
	put("name", d.Title, "title")
	put("image", d.Image, "image")
	build := func(key string, b *Build, origin string) {
		if b == nil {
			return
		}
		put(key+".dockerfile", cmp.Or(b.Dockerfile, "(in the compose file)"), origin)
		put(key+".context", b.Context, origin)
		put(key+".target", b.Target, origin)
		for _, k := range sortedKeys(b.Args) {
			put(key+".args."+k, b.Args[k], cmp.Or(nonempty(d.Origins, origin+".args."+k), origin))
		}
		for _, c := range b.CacheFrom {
			put(key+".cache_from", c, origin+".cache_from")
		}
	}
	build("build", d.Build, "build")
	for _, f := range d.Features {
		put("feature "+f.Ref, strings.TrimSpace(f.ID+" "+f.Version), "features."+f.Ref)
		for _, k := range sortedKeys(f.Options) {
			put("feature "+f.Ref+"."+k, f.Options[k], "features."+f.Ref)
		}
	}
	put("user", d.User, "user")
	put("container_user", d.ContainerUser, "container_user")
	put("folder", d.Folder, "folder")
	put("tree", d.Tree, "tree")
	for _, b := range d.Beside {
		put("beside."+b.Repository, cmp.Or(b.Branch, "its default branch"), "beside."+b.Repository)
	}
	pairs("env", d.Env)
	pairs("session_env", d.SessionEnv)
	list("session_unset", d.SessionUnset)
	put("probe", d.EnvProbe(), "probe")
	for _, p := range d.Ports {
		text := d.PortLabels[p]
		if h := d.PortHosts[p]; h != "" {
			text = strings.TrimSpace(text + " (service " + h + ")")
		}
		put(fmt.Sprintf("ports.%d", p), cmp.Or(text, "forwarded"), fmt.Sprintf("ports.%d", p))
	}
	for _, s := range d.Secrets {
		put("secrets."+s.Name, cmp.Or(s.Description, "wanted"), "secrets."+s.Name)
	}
	for _, s := range d.SetUp {
		origin := "set_up." + string(s.Moment)
		if s.From != "" {
			origin += "." + s.From
		}
		for _, c := range s.Commands {
			key := "set_up." + string(s.Moment)
			if c.Label != "" {
				key += "." + plain.Text(c.Label)
			}
			put(key, strings.TrimSpace(c.Shell+words(c.Args)), origin)
		}
	}
	put("wait_for", string(d.WaitFor), "wait_for")
	if d.RunsOwnCommand() {
		put("own_command", "runs", "own_command")
	}
	list("entrypoints", d.Entrypoints)
	for _, m := range d.Mounts {
		put("mounts."+m.Target, mountText(m), "mounts."+m.Target)
	}
	// extra shows what is beyond the usual of the workspace, or of a service.
	extra := func(key, service string, e Extra) {
		show := func(name, value, of string) {
			shown := key + "." + name
			if name == "labels" || name == "sysctls" {
				shown, name = shown+"."+of, name+"."+of
			} else if of != "" {
				name += "." + of
			}
			put(shown, value, d.extraOrigin(service, name))
		}
		yes := map[bool]string{true: "yes"}
		show("init", yes[e.Init], "")
		show("privileged", yes[e.Privileged], "")
		show("host_network", yes[e.HostNetwork], "")
		for _, l := range []struct {
			name   string
			values []string
		}{{"capabilities", e.Capabilities}, {"dropped", e.Dropped}, {"security", e.Security}, {"devices", e.Devices}, {"hosts", e.Hosts}, {"dns", e.DNS}, {"groups", e.Groups}} {
			for _, v := range l.values {
				show(l.name, v, v)
			}
		}
		show("hostname", e.Hostname, "")
		for _, k := range sortedKeys(e.Labels) {
			show("labels", e.Labels[k], k)
		}
		for _, k := range sortedKeys(e.Sysctls) {
			show("sysctls", e.Sysctls[k], k)
		}
		if e.ShmBytes > 0 {
			show("shm", rules.Bytes(max(e.ShmBytes, 1<<20)), "")
		}
		if e.Nofile > 0 {
			show("nofile", fmt.Sprint(e.Nofile), "")
		}
	}
	extra("extra", d.service(), d.Extra)
	if n := d.Needs; n != (Needs{}) {
		put("needs", n.String(), "needs")
	}
	if c := d.Compose; c != nil {
		put("compose.files", strings.Join(c.Files, ", "), "compose")
		put("compose.work", c.Work, "compose.work")
		put("compose.command", words(slices.Concat(c.Entrypoint, c.Command)), cmp.Or(nonempty(d.Origins, "service "+c.Work+".command"), "service "+c.Work+".entrypoint"))
		for _, n := range c.Needs {
			put("compose.needs."+n.Service, strings.TrimPrefix(n.Condition, "service_"), "service "+c.Work+".depends_on")
		}
		for _, s := range c.Services {
			key := "service " + s.Name
			put(key+".image", s.Image, key+".image")
			build(key+".build", s.Build, key+".build")
			put(key+".command", words(slices.Concat(s.Entrypoint, s.Command)), cmp.Or(nonempty(d.Origins, key+".command"), key+".entrypoint"))
			put(key+".user", s.User, key+".user")
			for _, k := range sortedKeys(s.Env) {
				put(key+".env."+k, s.Env[k], cmp.Or(nonempty(d.Origins, key+".environment."+k), nonempty(d.Origins, key+".environment"), key+".env_file"))
			}
			for _, m := range s.Mounts {
				put(key+".mounts."+m.Target, mountText(m), key+".volumes")
			}
			for _, n := range s.Needs {
				put(key+".needs."+n.Service, strings.TrimPrefix(n.Condition, "service_"), key+".depends_on")
			}
			if s.Health != nil {
				put(key+".health", words(s.Health.Test), key+".healthcheck")
			}
			extra(key, s.Name, s.Extra)
		}
	}
	return out
}

// composeKeys are what the compose files call what is beyond the usual.
var composeKeys = map[string]string{"init": "init", "privileged": "privileged", "host_network": "network_mode", "capabilities": "cap_add", "dropped": "cap_drop", "security": "security_opt", "devices": "devices", "hosts": "extra_hosts",
	"dns": "dns", "groups": "group_add", "hostname": "hostname", "labels": "labels", "sysctls": "sysctls", "shm": "shm_size", "nofile": "ulimits"}

// extraOrigin is the key of the origin of something beyond the usual, of the
// service that people work in or of another.
func (d Definition) extraOrigin(service, name string) string {
	first, _, _ := strings.Cut(name, ".")
	if service == d.service() {
		if k := cmp.Or(nonempty(d.Origins, "extra."+name), nonempty(d.Origins, "extra."+first)); k != "" {
			return k
		}
	}
	return "service " + service + "." + composeKeys[first]
}

// words are an argument vector as a shell would be given it.
func words(argv []string) string {
	out := make([]string, len(argv))
	for i, w := range argv {
		if out[i] = w; w == "" || strings.ContainsAny(w, " \t\n'\"$&|;<>()*?`\\") {
			out[i] = plain.Word(w)
		}
	}
	return strings.Join(out, " ")
}

func nonempty(origins map[string]string, key string) string {
	if origins[key] != "" {
		return key
	}
	return ""
}

func mountText(m Mount) string {
	s := strings.TrimSpace(map[string]string{MountTree: "in the repository:", MountHost: "of the host:"}[m.Kind] + " " + m.Source)
	if m.Kind == MountVolume || m.Kind == MountTmpfs {
		s = strings.TrimSpace(m.Kind + " " + m.Source)
	}
	if m.ReadOnly {
		s += ", read only"
	}
	return s
}

// String is the needs for people.
func (n Needs) String() string {
	var out []string
	if n.CoresMilli > 0 {
		out = append(out, rules.Thousandths(n.CoresMilli)+" cores")
	}
	if n.MemoryBytes > 0 {
		out = append(out, rules.Bytes(n.MemoryBytes)+" of memory")
	}
	if n.DiskBytes > 0 {
		out = append(out, rules.Bytes(n.DiskBytes)+" of disk")
	}
	if n.GPU {
		out = append(out, "a GPU")
	}
	return strings.Join(out, ", ")
}

// maxChanges bounds what is said of a change.
const maxChanges = 20

// Changes tells what is different between two resolved definitions, a line
// each; where values come from does not count.
func Changes(old, new Definition) (out []string) {
	for _, c := range Differences(Values(old), Values(new)) {
		out = append(out, fmt.Sprintf("%s: %s → %s", c.Key, short(c.Old), short(c.New)))
	}
	if more := len(out) - maxChanges; more > 0 {
		out = append(out[:maxChanges], fmt.Sprintf("%d more", more))
	}
	return out
}

func short(s string) string {
	if s == "" {
		return "none"
	}
	if r := []rune(s); len(r) > 80 {
		return string(r[:79]) + "…"
	}
	return s
}
