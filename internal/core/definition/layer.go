package definition

import (
	"encoding/json"
	"fmt"
	"math"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yardbench/internal/core/plain"
	"yardbench/internal/core/rules"
)

// raw mirrors the properties of the Development Container Specification's
// JSON reference.
type raw struct {
	Name              string             `json:"name"`
	Image             string             `json:"image"`
	DockerFile        string             `json:"dockerFile"` // the older spelling of build.dockerfile
	Context           string             `json:"context"`
	Build             *rawBuild          `json:"build"`
	DockerComposeFile any                `json:"dockerComposeFile"`
	Service           string             `json:"service"`
	RunServices       []string           `json:"runServices"`
	Features          map[string]any     `json:"features"`
	FeatureOrder      []string           `json:"overrideFeatureInstallOrder"`
	WorkspaceFolder   string             `json:"workspaceFolder"`
	WorkspaceMount    *string            `json:"workspaceMount"`
	RunArgs           []string           `json:"runArgs"`
	AppPort           any                `json:"appPort"`
	Secrets           map[string]any     `json:"secrets"`
	ContainerEnv      map[string]string  `json:"containerEnv"`
	RemoteEnv         map[string]*string `json:"remoteEnv"`
	ContainerUser     string             `json:"containerUser"`
	RemoteUser        string             `json:"remoteUser"`
	UserEnvProbe      string             `json:"userEnvProbe"`
	OverrideCommand   *bool              `json:"overrideCommand"`
	ShutdownAction    string             `json:"shutdownAction"`
	Init              bool               `json:"init"`
	Privileged        bool               `json:"privileged"`
	CapAdd            []string           `json:"capAdd"`
	SecurityOpt       []string           `json:"securityOpt"`
	Mounts            []any              `json:"mounts"`
	Entrypoint        string             `json:"entrypoint"` // of a feature, or of an image's label
	ForwardPorts      []any              `json:"forwardPorts"`
	PortsAttributes   map[string]any     `json:"portsAttributes"`
	HostRequirements  *rawNeeds          `json:"hostRequirements"`
	OnCreate          any                `json:"onCreateCommand"`
	UpdateContent     any                `json:"updateContentCommand"`
	PostCreate        any                `json:"postCreateCommand"`
	PostStart         any                `json:"postStartCommand"`
	PostAttach        any                `json:"postAttachCommand"`
	WaitFor           Moment             `json:"waitFor"`
	Customizations    map[string]any     `json:"customizations"`
}

type rawBuild struct {
	Dockerfile string            `json:"dockerfile"`
	Context    string            `json:"context"`
	Target     string            `json:"target"`
	Args       map[string]string `json:"args"`
	CacheFrom  any               `json:"cacheFrom"`
	Options    []string          `json:"options"`
}

type rawNeeds struct {
	CPUs    float64 `json:"cpus"`
	Memory  string  `json:"memory"`
	Storage string  `json:"storage"`
	GPU     any     `json:"gpu"`
}

// under puts a layer beneath what is resolved already, by the specification's
// rules of merging (its "Merge Logic"): of most properties the value nearer to
// the definition counts; rights are united; commands, mounts and entrypoints
// are collected, the lower layer's first; needs are the greater.
// from names the layer; "" is the definition itself, which goes in first.
func (d layerDoc) under(out *Definition, r raw, from string, v variables) {
	first := func(to *string, value, key, property string) {
		if *to == "" && value != "" {
			*to = value
			d.origin(out, key, property)
		}
	}
	d.env(out, &out.Env, "env", r.ContainerEnv, "containerEnv", v)
	remote := map[string]string{}
	var unset []string
	for _, k := range sortedKeys(r.RemoteEnv) {
		switch val := r.RemoteEnv[k]; {
		case slices.Contains(out.SessionUnset, k): // a nearer layer takes it out
		case val != nil:
			remote[k] = *val
		default:
			if _, nearer := out.SessionEnv[k]; !nearer && variableName(k) {
				unset = append(unset, k)
			}
		}
	}
	d.env(out, &out.SessionEnv, "session_env", remote, "remoteEnv", v)
	for _, k := range unset {
		out.SessionUnset = append(out.SessionUnset, k)
		d.origin(out, "session_unset."+k, "remoteEnv", k)
	}
	for property, name := range map[string]string{"remoteUser": r.RemoteUser, "containerUser": r.ContainerUser} {
		if !userName.MatchString(v.put(name)) {
			d.say(Error, d.at(property), "use a user name or number", "%q is no user name", name)
		}
	}
	first(&out.User, v.put(r.RemoteUser), "user", "remoteUser")
	first(&out.ContainerUser, v.put(r.ContainerUser), "container_user", "containerUser")
	if r.UserEnvProbe != "" && !slices.Contains([]string{"none", "interactiveShell", "loginShell", "loginInteractiveShell"}, r.UserEnvProbe) {
		d.say(Error, d.at("userEnvProbe"), "use none, interactiveShell, loginShell or loginInteractiveShell", "userEnvProbe %q is none", r.UserEnvProbe)
	}
	first(&out.Probe, r.UserEnvProbe, "probe", "userEnvProbe")
	if out.OwnCommand == nil && r.OverrideCommand != nil {
		own := !*r.OverrideCommand
		out.OwnCommand = &own
		d.origin(out, "own_command", "overrideCommand")
	}
	if !slices.Contains([]string{"", "none", "stopContainer", "stopCompose"}, r.ShutdownAction) {
		d.say(Error, d.at("shutdownAction"), "use none, stopContainer or stopCompose", "shutdownAction %q is none", r.ShutdownAction)
	}
	if r.WaitFor == "initializeCommand" { // it is not run: what comes next is the first to wait for
		r.WaitFor = OnCreate
	}
	if r.WaitFor != "" && (r.WaitFor == PostAttach || !slices.Contains(Moments, r.WaitFor)) {
		d.say(Error, d.at("waitFor"), "name one of: onCreateCommand, updateContentCommand, postCreateCommand, postStartCommand", "waitFor %q can not be waited for", r.WaitFor)
	} else if out.WaitFor == "" && r.WaitFor != "" {
		out.WaitFor = r.WaitFor
		d.origin(out, "wait_for", "waitFor")
	}
	d.rights(out, r, v)
	d.mounts(out, r.Mounts, v)
	if e := v.put(r.Entrypoint); e != "" {
		out.Entrypoints = append([]string{e}, out.Entrypoints...)
		out.note(fmt.Sprintf("entrypoints.%s", e), d.place("entrypoint"))
	}
	d.ports(out, r.ForwardPorts)
	d.appPorts(out, r.AppPort)
	d.portLabels(out, r.PortsAttributes)
	if r.HostRequirements != nil {
		d.needs(out, *r.HostRequirements)
	}
	for _, m := range []struct {
		moment Moment
		value  any
	}{{OnCreate, r.OnCreate}, {UpdateContent, r.UpdateContent}, {PostCreate, r.PostCreate}, {PostStart, r.PostStart}, {PostAttach, r.PostAttach}} {
		cs := d.commands(m.moment, m.value, v)
		if len(cs) == 0 {
			continue
		}
		i := slices.IndexFunc(out.SetUp, func(s SetUp) bool { return slices.Index(Moments, s.Moment) >= slices.Index(Moments, m.moment) })
		if i < 0 {
			i = len(out.SetUp)
		}
		out.SetUp = slices.Insert(out.SetUp, i, SetUp{Moment: m.moment, Commands: cs, From: from})
		key := "set_up." + string(m.moment)
		if from != "" {
			key += "." + from
		}
		d.origin(out, key, string(m.moment))
	}
}

// origin records where a value of the result comes from: the place of a
// property in this layer.
func (d *doc) origin(out *Definition, key string, property ...string) {
	out.note(key, d.place(property...))
}

// note records an origin; the first one stays, as it is the nearest.
func (o *Definition) note(key, place string) {
	if o.Origins == nil {
		o.Origins = map[string]string{}
	}
	if _, ok := o.Origins[key]; !ok {
		o.Origins[key] = place
	}
}

// place is where a property stands, for people.
func (d *doc) place(property ...string) string {
	if d.loose {
		return d.path
	}
	return d.placeAt(d.at(property...))
}

// placeAt is a place in the file, for people.
func (d *doc) placeAt(at int) string {
	if at < 0 {
		return d.path
	}
	line, column := d.position(at)
	return fmt.Sprintf("%s:%d:%d", d.path, line, column)
}

var (
	userName = regexp.MustCompile(`^([A-Za-z0-9_][A-Za-z0-9_.-]{0,63}(:[A-Za-z0-9_][A-Za-z0-9_.-]{0,63})?)?$`)
	envName  = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
)

// variableName tells whether a variable of a process may be called so: POSIX
// forbids = and the end of a text, and no other is of use.
func variableName(s string) bool {
	return s != "" && len(s) <= 256 && !strings.Contains(s, "=") && !hasControl(s)
}

// MaxEnv bounds the variables of an environment.
const MaxEnv = 2000

func (d layerDoc) env(out *Definition, into *map[string]string, key string, from map[string]string, property string, v variables) {
	if len(from) > MaxEnv {
		d.say(Error, d.at(property), "", "%d variables in %s; at most %d are allowed", len(from), property, MaxEnv)
		return
	}
	for _, k := range sortedKeys(from) {
		if !variableName(k) {
			d.say(Error, d.at(property, k), "take = and control characters out of the name", "%q in %s is no variable name", k, property)
			continue
		}
		if *into == nil {
			*into = map[string]string{}
		}
		if _, nearer := (*into)[k]; !nearer {
			(*into)[k] = v.put(from[k])
			d.origin(out, key+"."+k, property, k)
		}
	}
}

// rights unites what is asked for beyond the usual.
func (d layerDoc) rights(out *Definition, r raw, v variables) {
	e := &out.Extra
	if r.Init {
		e.Init = true
		d.origin(out, "extra.init", "init")
	}
	if r.Privileged {
		e.Privileged = true
		d.origin(out, "extra.privileged", "privileged")
	}
	unite := func(to *[]string, values []string, key, property string) {
		for _, s := range values {
			if s = v.put(s); s != "" && !slices.Contains(*to, s) && len(*to) < 100 {
				*to = append(*to, s)
				d.origin(out, key+"."+s, property)
			}
		}
	}
	var caps []string
	for _, c := range r.CapAdd {
		caps = append(caps, capability(c))
	}
	unite(&e.Capabilities, caps, "extra.capabilities", "capAdd")
	unite(&e.Security, r.SecurityOpt, "extra.security", "securityOpt")
}

// mountFields reads a mount in either form of the specification: an object, or
// the engine's own string of pairs.
func mountFields(value any) (map[string]string, bool) {
	f := map[string]string{}
	switch m := value.(type) {
	case string:
		for _, pair := range strings.Split(m, ",") {
			k, val, has := strings.Cut(strings.TrimSpace(pair), "=")
			if !has {
				val = "true"
			}
			f[strings.ToLower(k)] = val
		}
	case map[string]any:
		for k, val := range m {
			switch s := val.(type) {
			case string:
				f[strings.ToLower(k)] = s
			case bool:
				f[strings.ToLower(k)] = strconv.FormatBool(s)
			}
		}
	default:
		return nil, false
	}
	for from, to := range map[string]string{"src": "source", "dst": "target", "destination": "target", "ro": "readonly"} {
		if val, ok := f[from]; ok {
			f[to] = val
		}
	}
	return f, true
}

// MaxMounts bounds the mounts of one container.
const MaxMounts = 50

func (d layerDoc) mounts(out *Definition, values []any, v variables) {
	var mine []Mount
	where := map[string]string{} // by target
	for i, value := range values {
		at := d.at("mounts", strconv.Itoa(i))
		f, ok := mountFields(value)
		if !ok {
			d.say(Error, at, "write \"type=volume,source=NAME,target=/FOLDER\", or an object of those", "%s in mounts is no mount", inWords(value))
			continue
		}
		if m, ok := d.mount("mounts", at, f, v); ok {
			mine = append(mine, m)
			where[m.Target] = d.placeAt(at)
		}
	}
	// Of two at one place the nearer counts.
	mine = slices.DeleteFunc(mine, func(m Mount) bool {
		return slices.ContainsFunc(out.Mounts, func(o Mount) bool { return o.Target == m.Target })
	})
	for _, m := range mine {
		if d.loose {
			where[m.Target] = d.path
		}
		out.note("mounts."+m.Target, where[m.Target])
	}
	if out.Mounts = append(mine, out.Mounts...); len(out.Mounts) > MaxMounts {
		d.say(Error, d.at("mounts"), "", "there are %d mounts; at most %d are allowed", len(out.Mounts), MaxMounts)
	}
	if len(out.Mounts) == 0 {
		out.Mounts = nil
	}
}

// ownFolder matches places in a container that are not for a mount.
var ownFolder = regexp.MustCompile(`^/(proc|sys|dev|\.yardbench|run/yardbench)(/|$)`)

var volumeName = regexp.MustCompile(`^[A-Za-z0-9$][A-Za-z0-9_.${}:-]{0,200}$`)

// homeOf begins a path in the home of whoever has the repository open.
var homeOf = regexp.MustCompile(`^(~|\$\{(localEnv|env):(HOME|USERPROFILE)(:[^}]*)?\})`)

// mount reads one mount of a property, which stands at a place.
func (d layerDoc) mount(property string, at int, f map[string]string, v variables) (Mount, bool) {
	m := Mount{Target: v.put(f["target"]), Source: v.put(f["source"]), ReadOnly: f["readonly"] == "true" || f["readonly"] == "1"}
	bad := func(fix, format string, args ...any) (Mount, bool) {
		d.say(Error, at, fix, format, args...)
		return m, false
	}
	if homeOf.MatchString(f["source"]) {
		d.rule("not-honoured", Warning, at, "give it as a secret: nobody's own machine takes part", "%s in %s lies in somebody's home, and is not mounted", f["source"], property)
		return m, false
	}
	if target := path.Clean(m.Target); !path.IsAbs(target) || target == "/" || ownFolder.MatchString(target) && !(f["type"] == "tmpfs" && target == "/dev/shm") || hasControl(target) {
		return bad("mount it at another folder, by its whole path", "%q in %s is no place for a mount", f["target"], property)
	}
	m.Target = path.Clean(m.Target)
	switch kind := f["type"]; kind {
	case "tmpfs":
		m.Kind, m.Source = MountTmpfs, ""
	case "volume", "":
		if kind == "" && (path.IsAbs(m.Source) || strings.HasPrefix(m.Source, ".")) {
			return d.bind(property, at, m, v)
		}
		if m.Kind = MountVolume; m.Source == "" {
			m.Source = "at" + strings.NewReplacer("/", "-").Replace(m.Target)
		}
		if !volumeName.MatchString(m.Source) {
			return bad("use letters, digits, dashes and dots", "%q in %s is no name of a volume", f["source"], property)
		}
	case "bind":
		return d.bind(property, at, m, v)
	default:
		return bad("use volume, tmpfs or bind", "a mount of the type %q in %s is not known", kind, property)
	}
	return m, true
}

// bind tells a path of the tree from one of the host.
func (d layerDoc) bind(property string, at int, m Mount, v variables) (Mount, bool) {
	src := m.Source
	if !path.IsAbs(src) {
		src = path.Join(v.tree(), src)
	}
	src = path.Clean(src)
	if rel, ok := strings.CutPrefix(src+"/", strings.TrimSuffix(v.tree(), "/")+"/"); ok && m.Source != "" {
		m.Kind, m.Source = MountTree, path.Clean("./"+rel)
		if m.Target == v.tree() || strings.HasPrefix(v.tree()+"/", m.Target+"/") {
			d.say(Error, at, "leave it out: the repository is there already", "%s puts something over the workspace folder", property)
			return m, false
		}
		return m, true
	}
	if !path.IsAbs(m.Source) || hasControl(m.Source) {
		d.say(Error, at, "name a path inside the repository", "%q in %s leads out of the repository", m.Source, property)
		return m, false
	}
	m.Kind, m.Source = MountHost, src
	return m, true
}

var needUnit = regexp.MustCompile(`(?i)^\s*([0-9]+(?:\.[0-9]+)?)\s*([kmgt]?)i?b?\s*$`)

// bytesOf reads an amount as the specification and the engine write them:
// 8gb, 512m.
func bytesOf(s string) (int64, bool) {
	m := needUnit.FindStringSubmatch(s)
	if m == nil {
		return 0, false
	}
	n, err := strconv.ParseFloat(m[1], 64)
	n *= math.Pow(1024, float64(strings.Index("kmgt", strings.ToLower(m[2]))+1))
	if m[2] == "" {
		n, err = strconv.ParseFloat(m[1], 64)
	}
	if err != nil || n > 1<<50 {
		return 0, false
	}
	return int64(n), true
}

func (d layerDoc) needs(out *Definition, r rawNeeds) {
	n := Needs{CoresMilli: int64(r.CPUs * 1000)}
	if r.CPUs < 0 || r.CPUs > 10000 {
		d.say(Error, d.at("hostRequirements"), "", "%v cpus cannot be", r.CPUs)
		return
	}
	for to, s := range map[*int64]string{&n.MemoryBytes: r.Memory, &n.DiskBytes: r.Storage} {
		var ok bool
		if *to, ok = bytesOf(s); !ok && s != "" {
			d.say(Error, d.at("hostRequirements"), "write it like 8gb", "%q in hostRequirements is no amount", s)
		}
	}
	switch g := r.GPU.(type) {
	case bool:
		n.GPU = g
	case map[string]any:
		n.GPU = true
	}
	if n.GPU {
		d.rule("not-honoured", Warning, d.at("hostRequirements"), "do without, or say \"gpu\": \"optional\"", "hostRequirements asks for a GPU, and no yard offers one")
	}
	if n != (Needs{}) {
		d.origin(out, "needs", "hostRequirements")
	}
	o := &out.Needs
	o.CoresMilli, o.MemoryBytes, o.DiskBytes, o.GPU = max(o.CoresMilli, n.CoresMilli), max(o.MemoryBytes, n.MemoryBytes), max(o.DiskBytes, n.DiskBytes), o.GPU || n.GPU
}

// Fits tells what of the needs a size does not meet; "" when it meets all.
func (n Needs) Fits(s rules.Size) string {
	var less []string
	if s.CoresMilli < n.CoresMilli {
		less = append(less, fmt.Sprintf("%s cores, and it has %s", rules.Thousandths(n.CoresMilli), rules.Thousandths(s.CoresMilli)))
	}
	if s.MemoryBytes < n.MemoryBytes {
		less = append(less, fmt.Sprintf("%s of memory, and it has %s", rules.Bytes(n.MemoryBytes), rules.Bytes(s.MemoryBytes)))
	}
	if s.DiskBytes < n.DiskBytes {
		less = append(less, fmt.Sprintf("%s of disk, and it has %s", rules.Bytes(n.DiskBytes), rules.Bytes(s.DiskBytes)))
	}
	return strings.Join(less, "; ")
}

// UnderImage merges the metadata that an image carries in its label beneath a
// definition. What is wrong with the label is a finding, and left out.
func UnderImage(def Definition, image, label string) (Definition, []Finding) {
	d := &doc{path: "label of image " + plain.Text(image), loose: true}
	if label == "" {
		return def, nil
	}
	var entries []json.RawMessage
	if len(label) > MaxBytes {
		d.say(Error, -1, "", "it has more than the %d bytes allowed", MaxBytes)
		return def, d.findings
	}
	if json.Unmarshal([]byte(label), &entries) != nil {
		entries = []json.RawMessage{json.RawMessage(label)} // one entry may stand alone
	}
	if len(entries) > MaxFeatures {
		d.say(Error, -1, "", "it has %d entries; at most %d are allowed", len(entries), MaxFeatures)
		return def, d.findings
	}
	v := layerDoc{d}.variablesOf(def)
	for _, entry := range slices.Backward(entries) {
		e := &doc{path: d.path, loose: true, text: entry}
		if r, ok := e.parse(); ok {
			layerDoc{e}.under(&def, r, "the image", v)
		}
		d.findings = append(d.findings, e.findings...)
	}
	return def, slices.DeleteFunc(d.findings, func(f Finding) bool { return f.Severity != Error })
}

func (d layerDoc) variablesOf(def Definition) variables {
	return variables{folder: def.Folder, treeAt: def.TreeFolder(), unfolded: &d.unfolded}
}
