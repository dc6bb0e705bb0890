package definition

import (
	"fmt"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/plain"

	"github.com/compose-spec/compose-go/v2/types"
)

// Compose are the services beside the workspace, by the Compose Specification:
// a copy of each for every workspace, on its own network.
type Compose struct {
	Files []string `json:"files"`
	// Work is the service that people work in; it is not among Services.
	Work string `json:"work"`
	// Needs are what must be there before the workspace is set up.
	Needs []Need `json:"needs,omitempty"`
	// Services come in an order in which each comes after those it needs.
	Services []Service `json:"services"`
	// Aliases are the names of the workspace itself on the network.
	Aliases []string `json:"aliases,omitempty"`
	// Entrypoint and Command replace the image's own; nil is the image's.
	Entrypoint []string `json:"entrypoint,omitempty"`
	Command    []string `json:"command,omitempty"`
	// Ports are those that the workspace itself says it listens on.
	Ports []int `json:"ports,omitempty"`
}

// Service is one of them.
type Service struct {
	Name  string `json:"name"`
	Image string `json:"image,omitempty"`
	Build *Build `json:"build,omitempty"`
	// Fingerprint identifies what is built; see [Fingerprint].
	Fingerprint string            `json:"fingerprint,omitempty"`
	Entrypoint  []string          `json:"entrypoint,omitempty"`
	Command     []string          `json:"command,omitempty"`
	Env         map[string]string `json:"env,omitempty"`
	User        string            `json:"user,omitempty"`
	Folder      string            `json:"folder,omitempty"` // working directory
	Mounts      []Mount           `json:"mounts,omitempty"`
	Extra       Extra             `json:"extra,omitzero"`
	Needs       []Need            `json:"needs,omitempty"`
	Health      *Health           `json:"health,omitempty"`
	Aliases     []string          `json:"aliases,omitempty"`
	Ports       []int             `json:"ports,omitempty"` // it says it listens on
	// Published are those of Ports that would be shown outside.
	Published []int `json:"published,omitempty"`
	// SharesNetwork tells that it has the workspace's addresses, not its own.
	SharesNetwork bool   `json:"shares_network,omitempty"`
	Restart       bool   `json:"restart,omitempty"` // when it ends by itself
	StopSignal    string `json:"stop_signal,omitempty"`
	ReadOnly      bool   `json:"read_only,omitempty"`
	CoresMilli    int64  `json:"cores_milli,omitempty"`
	MemoryBytes   int64  `json:"memory_bytes,omitempty"`
}

// Need is a service that another waits for.
type Need struct {
	Service string `json:"service"`
	// Condition is one of Started, Healthy, Completed.
	Condition string `json:"condition"`
}

// Conditions of a need, in the Compose Specification's words.
const (
	Started   = types.ServiceConditionStarted
	Healthy   = types.ServiceConditionHealthy
	Completed = types.ServiceConditionCompletedSuccessfully
)

// Health is how a service is asked whether it is well.
type Health struct {
	Test          []string      `json:"test,omitempty"` // CMD or CMD-SHELL first; NONE asks nothing
	Interval      time.Duration `json:"interval,omitempty"`
	Timeout       time.Duration `json:"timeout,omitempty"`
	StartPeriod   time.Duration `json:"start_period,omitempty"`
	StartInterval time.Duration `json:"start_interval,omitempty"`
	Retries       int           `json:"retries,omitempty"`
}

// MaxServices bounds the services beside a workspace.
const MaxServices = 40

func (d *Definition) hasService(name string) bool {
	return d.Compose != nil && slices.ContainsFunc(d.Compose.Services, func(s Service) bool { return s.Name == name })
}

func (d *Definition) service() string {
	if d.Compose == nil {
		return ""
	}
	return d.Compose.Work
}

// composeFiles are the compose files that a definition names; nil when none.
func (d composeDoc) composeFiles(value any) []string {
	files := stringsOf(value)
	if value != nil && len(files) == 0 {
		d.say(Error, d.at("dockerComposeFile"), "name a file, or a list of files", "dockerComposeFile names none")
	}
	return files
}

// compose reads the compose files and puts what they say into out. v learns
// where the clone lies.
func (d composeDoc) compose(out *Definition, r raw, src Source, v *variables) {
	at := d.at("dockerComposeFile")
	var files []string
	for _, f := range d.composeFiles(r.DockerComposeFile) {
		p, ok := inside(path.Dir(d.path), v.put(f))
		if !ok {
			d.say(Error, at, "name a file inside the repository", "compose file %q lies outside the repository", f)
			return
		}
		files = append(files, p)
	}
	if len(files) == 0 {
		return
	}
	reader := &composeReader{composeDoc: d, src: src, texts: map[string]*composeText{}, bases: map[string]string{}, copies: map[string]string{}}
	dir := path.Dir(files[0])
	env, ok := reader.environmentBeside(path.Join(dir, ".env"), nil)
	if !ok {
		return
	}
	if _, given := env["COMPOSE_PROJECT_NAME"]; !given {
		env["COMPOSE_PROJECT_NAME"] = strings.ToLower(src.Repository)
	}
	project, ok := reader.project(files, dir, env, 0, d.doc, at)
	if !ok {
		return
	}
	services := composeServices{d, project, reader.bases, src}
	c := &Compose{Files: files, Work: r.Service}
	if c.Work == "" {
		c.Work = services.work()
	}
	work, ok := project.Services[c.Work]
	if !ok {
		d.noWork(c.Work, project, at)
		return
	}
	out.Compose = c
	out.note("compose", d.place("dockerComposeFile"))
	out.note("compose.work", d.place("service"))
	links := services.folder(out, r, work, v)
	profiles := strings.FieldsFunc(env["COMPOSE_PROFILES"], func(r rune) bool { return r == ',' })
	for _, name := range services.order(c.Work, r.RunServices, profiles) {
		if name == c.Work {
			continue
		}
		c.Services = append(c.Services, services.service(project.Services[name], *v, false))
		services.origins(out, project.Services[name])
	}
	services.origins(out, work)
	services.links(out)
	services.network(out)
	services.volumes()
	if len(c.Services) >= MaxServices {
		d.say(Error, at, "let fewer run, with runServices", "there are more than %d services", MaxServices)
		return
	}
	s := services.service(work, *v, true)
	s.Mounts = slices.DeleteFunc(s.Mounts, func(m Mount) bool { return m.Kind == MountTree && m.Source == "." })
	s.Mounts = append(s.Mounts, links...)
	d.work(out, s)
}

// origins notes where the files say what of a service.
func (c composeServices) origins(out *Definition, s types.ServiceConfig) {
	key := "service " + plain.Text(s.Name) + "."
	for _, name := range said(reflect.ValueOf(s)) {
		d, at := c.spot("services", s.Name, name)
		out.note(key+name, d.placeAt(at))
	}
	for _, k := range sortedKeys(s.Environment) {
		if d, at := c.spot("services", s.Name, "environment", k); d.places.has("services", s.Name, "environment", k) {
			out.note(key+"environment."+k, d.placeAt(at))
		}
	}
}

// noWork says that nobody knows in which service people work.
func (d composeDoc) noWork(named string, p *types.Project, at int) {
	names := strings.Join(p.ServiceNames(), ", ")
	switch {
	case named != "":
		d.say(Error, max(d.at("service"), at), "name one of: "+names, "there is no service %q", named)
	case d.loose:
		d.say(Error, -1, fmt.Sprintf("write .devcontainer/devcontainer.json: {\"dockerComposeFile\": \"../%s\", \"service\": \"NAME\"}, with one of: %s", d.path, names), "it is not said in which service of %s people work", d.path)
	default:
		d.say(Error, at, "name in \"service\" one of: "+names, "it is not said in which service people work")
	}
}

// work puts what the compose files say of the service that people work in
// beneath the definition.
func (d composeDoc) work(out *Definition, s Service) {
	out.Image, out.Build = s.Image, s.Build
	from := func(key string) string {
		c, at := d.spot("services", s.Name, key)
		return c.placeAt(at)
	}
	for key, set := range map[string]bool{"image": s.Image != "", "build": s.Build != nil} {
		if set {
			out.note(key, from(key))
		}
	}
	out.Compose.Needs, out.Compose.Entrypoint, out.Compose.Command = s.Needs, s.Entrypoint, s.Command
	out.Extra = s.Extra
	for _, m := range s.Mounts {
		out.Mounts = append(out.Mounts, m)
		out.note("mounts."+m.Target, from("volumes"))
	}
	out.Compose.Ports = s.Ports
	d.lower = &raw{ContainerEnv: s.Env, ContainerUser: s.User}
}

// composeVariable is a variable without a default, or with two dollar signs,
// which stand for one.
var composeVariable = regexp.MustCompile(`\$?\$(\{([A-Za-z_][A-Za-z0-9_]*)\}|([A-Za-z_][A-Za-z0-9_]*))`)

// composeServices are the services of the compose files, as they were read.
type composeServices struct {
	composeDoc
	project *types.Project
	bases   map[string]string // by service: the folder its paths are relative to
	src     Source
}

// work guesses where people work: the only service, or the one that has the
// repository mounted, or is built from it, where that is one.
func (c composeServices) work() string {
	names := c.project.ServiceNames()
	if len(names) == 1 {
		return names[0]
	}
	best, most, tie := "", 0, false
	for _, name := range names {
		s, score := c.project.Services[name], 0
		for _, m := range s.Volumes {
			if rel, kind := c.meant(name, m); rel == "." && kind == MountTree || rel == ".." && kind == "" {
				score = 2
			}
		}
		if s.Build != nil {
			score++
		}
		switch {
		case score > most:
			best, most, tie = name, score, false
		case score == most && score > 0:
			tie = true
		}
	}
	if tie {
		return ""
	}
	return best
}

// meant tells what a bind mount means: a path of the repository, from its root,
// or one of the host. Of a path that leads out of the repository kind is "",
// and rel begins with .. ; of one in somebody's home, with ~ .
func (c composeServices) meant(service string, m types.ServiceVolumeConfig) (rel, kind string) {
	if m.Type != types.VolumeTypeBind {
		return "", ""
	}
	switch p := m.Source; {
	case strings.HasPrefix(p, "~"):
		return p, ""
	case path.IsAbs(p):
		return path.Clean(p), MountHost
	default:
		rel = path.Join(c.bases[service], p)
		if rel == ".." || strings.HasPrefix(rel, "../") {
			return rel, ""
		}
		return rel, MountTree
	}
}

// folder decides where the clone lies: where the compose file has the
// repository mounted, else the workspace folder. What else of it is mounted
// becomes links. A mount of the folder that the repository lies in, as in
// ../..:/workspaces, puts the repository beneath: TARGET/REPOSITORY.
func (c composeServices) folder(out *Definition, r raw, work types.ServiceConfig, v *variables) (links []Mount) {
	var at []string
	for _, m := range work.Volumes {
		rel, kind := c.meant(work.Name, m)
		target := path.Clean(m.Target)
		switch {
		case kind == MountTree && rel == ".":
		case rel == ".." && kind == "":
			beneath, within := strings.CutPrefix(out.Folder, target+"/")
			first, _, _ := strings.Cut(beneath, "/")
			if r.WorkspaceFolder == "" || !within {
				first = c.src.Repository
			}
			target = path.Join(target, first)
		default:
			continue
		}
		if !usable(target) {
			c.tell("not-honoured", Error, work.Name, "volumes", "mount it at a folder such as /workspaces/"+c.src.Repository, "the repository cannot lie at %q", target)
			continue
		}
		at = append(at, target)
	}
	spot, where := c.spot("services", work.Name, "volumes")
	mounted := ""
	for _, t := range at {
		if mounted == "" || r.WorkspaceFolder != "" && within(out.Folder, t) && !within(out.Folder, mounted) {
			mounted = t
		}
	}
	switch {
	case mounted != "" && r.WorkspaceFolder == "":
		out.setFolders(mounted, "")
		delete(out.Origins, "folder")
		out.note("folder", spot.placeAt(where))
	case mounted != "" && within(out.Folder, mounted):
		out.setFolders(out.Folder, mounted)
		out.note("tree", spot.placeAt(where))
	}
	if r.WorkspaceFolder == "" && !c.loose {
		c.rule("compose-folder", Warning, c.at("dockerComposeFile"), "add \"workspaceFolder\": \""+out.Folder+"\"", "workspaceFolder is missing: people begin in %s", out.Folder)
	}
	*v = layerDoc{c.doc}.variablesOf(*out)
	for _, t := range at {
		if tree := out.TreeFolder(); !within(t, tree) && !within(tree, t) {
			links = append(links, Mount{Kind: MountTree, Source: ".", Target: t})
		}
	}
	return links
}

// within tells whether a folder is another one, or lies in it.
func within(folder, of string) bool { return folder == of || strings.HasPrefix(folder, of+"/") }

// order is which services run, each after those it needs: those that are asked
// for, else those of no profile and of the ones that the .env names.
func (c composeServices) order(work string, only, profiles []string) (out []string) {
	d, p := c.composeDoc, c.project
	want := runs(p, profiles)
	if len(only) > 0 {
		want = slices.Clone(only)
	}
	want = append(want, work)
	slices.Sort(want)
	state := map[string]int{}
	var visit func(name string) bool
	visit = func(name string) bool {
		s, ok := p.Services[name]
		if !ok {
			d.say(Error, d.at("runServices"), "name one of: "+strings.Join(p.ServiceNames(), ", "), "there is no service %q", name)
			return false
		}
		switch state[name] {
		case 1:
			d.tell("compose-file", Error, name, "depends_on", "take one of the dependencies out", "the service %q waits for itself", name)
			return false
		case 2:
			return true
		}
		state[name] = 1
		for _, need := range sortedKeys(s.DependsOn) {
			if _, there := p.Services[need]; (there || s.DependsOn[need].Required) && !visit(need) {
				return false
			}
		}
		state[name] = 2
		out = append(out, name)
		return true
	}
	for _, name := range want {
		if !visit(name) {
			return nil
		}
	}
	return out
}

// links gives services the names by which links know them: on the one network
// of a workspace a name is everybody's.
func (c composeServices) links(out *Definition) {
	for _, name := range c.project.ServiceNames() {
		for _, link := range c.project.Services[name].Links {
			to, alias, ok := strings.Cut(link, ":")
			for i := range out.Compose.Services {
				if s := &out.Compose.Services[i]; ok && s.Name == to && !slices.Contains(s.Aliases, alias) {
					s.Aliases = append(s.Aliases, alias)
				}
			}
		}
	}
}

// network settles who shares the workspace's addresses. Where the workspace
// would have joined a service's, that one joins the workspace: to both it is
// the same.
func (c composeServices) network(out *Definition) {
	o, p := out.Compose, c.project
	o.Aliases = []string{o.Work}
	joined, _ := strings.CutPrefix(p.Services[o.Work].NetworkMode, "service:")
	for i := range o.Services {
		s := &o.Services[i]
		mode := p.Services[s.Name].NetworkMode
		other, shares := strings.CutPrefix(mode, "service:")
		no := func(fix string) {
			c.tell("not-honoured", Warning, s.Name, "network_mode", fix, "network_mode: %s of service %q is not honoured", mode, s.Name)
		}
		switch {
		case s.Name == joined, shares && (other == o.Work || other == joined):
			s.SharesNetwork = true
			o.Aliases = append(o.Aliases, s.Name)
			o.Aliases = append(o.Aliases, s.Aliases...)
		case shares:
			no("name the service in the address instead")
		case mode == "none" || strings.HasPrefix(mode, "container:"):
			no("leave it out: the services of a workspace have a network of their own")
		}
	}
	for _, n := range sortedKeys(p.Services[o.Work].Networks) {
		if cfg := p.Services[o.Work].Networks[n]; cfg != nil {
			o.Aliases = append(o.Aliases, cfg.Aliases...)
		}
	}
	for _, n := range sortedKeys(p.Networks) {
		if p.Networks[n].External {
			d, at := c.spot("networks", n)
			d.rule("not-honoured", Warning, at, "reach what is on it by an address: services of a workspace see each other and what the machine sees", "the network %q exists outside, and is not joined", n)
		}
	}
}

// volumes tells what is not honoured of the volumes.
func (c composeServices) volumes() {
	for _, name := range sortedKeys(c.project.Volumes) {
		if v := c.project.Volumes[name]; bool(v.External) || (v.Driver != "" && v.Driver != "local") || len(v.DriverOpts) > 0 {
			d, at := c.spot("volumes", name)
			d.rule("not-honoured", Warning, at, "leave it out: each workspace has its own", "the driver, options or origin of the volume %q are not honoured", name)
		}
	}
}

// portsNotForwarded finds ports of the service that people work in that nobody
// is shown. What services use among themselves is their own.
func (d composeDoc) portsNotForwarded(out Definition) {
	if out.Compose == nil {
		return
	}
	for _, p := range out.Compose.Ports {
		if !slices.Contains(out.Ports, p) {
			d.tell("port-not-declared", Warning, out.Compose.Work, "ports", fmt.Sprintf("add %d to forwardPorts", p), "port %d of service %q is not forwarded", p, out.Compose.Work).Subject = strconv.Itoa(p)
		}
	}
	for _, s := range out.Compose.Services {
		for _, p := range s.Published {
			if !slices.Contains(out.Ports, p) {
				d.tell("port-not-declared", Note, s.Name, "ports", fmt.Sprintf("add \"%s:%d\" to forwardPorts, if people look at it", s.Name, p), "port %d of service %q is published and not forwarded", p, s.Name).Subject = fmt.Sprintf("%s:%d", s.Name, p)
			}
		}
	}
}
