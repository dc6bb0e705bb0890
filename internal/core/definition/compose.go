package definition

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/compose-spec/compose-go/v2/loader"
	"github.com/compose-spec/compose-go/v2/types"
	"go.yaml.in/yaml/v4"

	"yardbench/internal/core/plain"
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

// treeRoot stands for the repository's root while a compose file is read: its
// relative paths are put beneath, and no path of this machine is there.
const treeRoot = "/yardbench-tree-of-the-repository"

func (o *Definition) hasService(name string) bool {
	return o.Compose != nil && slices.ContainsFunc(o.Compose.Services, func(s Service) bool { return s.Name == name })
}

func (o *Definition) service() string {
	if o.Compose == nil {
		return ""
	}
	return o.Compose.Work
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
	at := max(d.at("dockerComposeFile"), -1)
	var files []string
	for _, f := range d.composeFiles(r.DockerComposeFile) {
		p, ok := inside(path.Dir(d.path), v.put(f))
		if !ok {
			d.say(Error, at, "name a file inside the repository", "compose file %q lies outside the repository", f)
			return
		}
		files = append(files, p)
	}
	project, ok := d.load(files, src, at)
	if !ok {
		return
	}
	c := &Compose{Files: files, Work: r.Service}
	if c.Work == "" {
		c.Work = workService(project)
	}
	work, ok := project.Services[c.Work]
	if !ok {
		d.say(Error, max(d.at("service"), at), "name in \"service\" one of: "+strings.Join(project.ServiceNames(), ", "), "it is not said in which service people work")
		return
	}
	out.Compose = c
	out.note("compose", d.place("dockerComposeFile"))
	out.note("compose.work", d.place("service"))
	d.composeFolder(out, r, work, v)
	for _, name := range d.runOrder(project, c.Work, r.RunServices) {
		if name == c.Work {
			continue
		}
		c.Services = append(c.Services, d.service(project.Services[name], src, *v))
	}
	d.network(out, project)
	for _, name := range sortedKeys(project.Volumes) {
		if v := project.Volumes[name]; bool(v.External) || (v.Driver != "" && v.Driver != "local") || len(v.DriverOpts) > 0 {
			d.rule("not-honoured", Warning, at, "leave it out: each workspace has its own", "the driver, options or origin of the volume %q are not honoured", name)
		}
	}
	if len(c.Services) >= MaxServices {
		d.say(Error, at, "", "there are more than %d services", MaxServices)
		return
	}
	d.work(out, d.service(work, src, *v), work)
}

// work puts what the compose files say of the service that people work in
// beneath the definition.
func (d composeDoc) work(out *Definition, s Service, from types.ServiceConfig) {
	out.Image, out.Build = s.Image, s.Build
	for key, set := range map[string]bool{"image": s.Image != "", "build": s.Build != nil} {
		if set {
			out.note(key, out.Compose.Files[0]+": services."+s.Name)
		}
	}
	out.Compose.Needs, out.Compose.Entrypoint, out.Compose.Command = s.Needs, s.Entrypoint, s.Command
	out.Extra = s.Extra
	for _, m := range s.Mounts {
		if m.Kind == MountTree && m.Source == "." {
			continue // the repository itself
		}
		out.Mounts = append(out.Mounts, m)
		out.note("mounts."+m.Target, out.Compose.Files[0]+": services."+s.Name)
	}
	d.lower = &raw{ContainerEnv: s.Env, ContainerUser: s.User}
}

// load reads and merges the files.
func (d composeDoc) load(files []string, src Source, at int) (project *types.Project, ok bool) {
	defer func() { // the loader does not expect every rubbish
		if r := recover(); r != nil {
			d.rule("compose-file", Error, at, "correct it; the Compose Specification says what may stand there", "the compose file cannot be read")
			project, ok = nil, false
		}
	}()
	details := types.ConfigDetails{WorkingDir: path.Join(treeRoot, path.Dir(files[0])), Environment: types.Mapping{}}
	for _, f := range files {
		content, ok := src.Read(f)
		switch {
		case !ok:
			d.say(Error, at, "", "compose file %q is not in the repository", f)
			return nil, false
		case len(content) > MaxBytes:
			d.say(Error, at, "", "%s has more than the %d bytes allowed", f, MaxBytes)
			return nil, false
		}
		if why := tooLarge(content); why != "" {
			d.rule("compose-file", Error, at, "make it smaller", "%s: %s", f, why)
			return nil, false
		}
		if tooNested(content) {
			d.rule("compose-file", Error, at, "give plain defaults", "%s: its variables are nested too deeply", f)
			return nil, false
		}
		if why := foreign(content); why != "" {
			d.rule("compose-file", Error, at, "name all files in dockerComposeFile", "%s: %s", f, why)
			return nil, false
		}
		details.ConfigFiles = append(details.ConfigFiles, types.ConfigFile{Filename: path.Join(treeRoot, f), Content: content})
	}
	if env, ok := src.Read(path.Join(path.Dir(files[0]), ".env")); ok {
		values, err := environment(env, &d.unfolded)
		if err != nil {
			d.rule("compose-file", Error, at, "", "%s cannot be read: %s", path.Join(path.Dir(files[0]), ".env"), firstLineOf(err))
			return nil, false
		}
		details.Environment = values
	}
	for i, f := range files {
		d.unset(f, details.ConfigFiles[i].Content, details.Environment)
	}
	profiles := strings.FieldsFunc(details.Environment["COMPOSE_PROFILES"], func(r rune) bool { return r == ',' })
	err := unfolding(func() (err error) {
		project, err = loader.LoadWithContext(context.Background(), details, func(o *loader.Options) {
			o.SetProjectName("workspace", true)
			o.SkipInclude, o.SkipResolveEnvironment, o.SkipResolveLabels = true, true, true
			o.Profiles, o.MaxNodeVisits = profiles, maxComposeNodes
			o.Interpolate.LookupValue = d.unfolded.counting(o.Interpolate.LookupValue)
		})
		return err
	})
	if err != nil {
		d.rule("compose-file", Error, at, "correct it; the Compose Specification says what may stand there", "%s", strings.ReplaceAll(firstLineOf(err), treeRoot+"/", ""))
		return nil, false
	}
	return project, true
}

// composeVariable is a variable without a default, or with two dollar signs,
// which stand for one.
var composeVariable = regexp.MustCompile(`\$?\$(\{([A-Za-z_][A-Za-z0-9_]*)\}|([A-Za-z_][A-Za-z0-9_]*))`)

// unset finds the variables of a compose file that nobody gives a value.
func (d composeDoc) unset(file string, text []byte, env types.Mapping) {
	c := &doc{path: file, text: text}
	for start := 0; start < len(text) && !c.full(); {
		end := start + bytes.IndexByte(text[start:], '\n')
		if end < start {
			end = len(text)
		}
		line, _, _ := bytes.Cut(text[start:end], []byte("#")) // what follows may be a comment
		for _, at := range composeVariable.FindAllIndex(line, -1) {
			found := string(line[at[0]:at[1]])
			name := strings.Trim(found, "${}")
			if _, given := env[name]; given || strings.HasPrefix(found, "$$") {
				continue
			}
			if c.full() {
				break
			}
			c.rule("no-default", Note, start+at[0], "write ${"+name+":-VALUE}, or put it into a committed .env", "%s has no value and no default", found)
		}
		start = end + 1
	}
	d.findings = append(d.findings, c.findings...)
}

// foreign tells what in a compose file would be read from elsewhere.
func foreign(content []byte) string {
	var doc map[string]any
	if yaml.Unmarshal(content, &doc) != nil {
		return "" // the loader says why
	}
	if doc["include"] != nil {
		return "include is not honoured"
	}
	services, _ := doc["services"].(map[string]any)
	for name, s := range services {
		m, _ := s.(map[string]any)
		if e, _ := m["extends"].(map[string]any); e["file"] != nil {
			return "extends with a file is not honoured, in service " + plain.Text(name)
		}
	}
	return ""
}

// workService guesses where people work: the only service, or the only one
// that the repository is mounted into.
func workService(p *types.Project) string {
	var with []string
	for name, s := range p.Services {
		if slices.ContainsFunc(s.Volumes, func(m types.ServiceVolumeConfig) bool { return m.Source == treeRoot }) {
			with = append(with, name)
		}
	}
	if names := p.ServiceNames(); len(names) == 1 {
		return names[0]
	}
	if len(with) == 1 {
		return with[0]
	}
	return ""
}

// composeFolder decides where the clone lies: where the compose file has the
// repository mounted, else the workspace folder.
func (d composeDoc) composeFolder(out *Definition, r raw, work types.ServiceConfig, v *variables) {
	mounted := ""
	for _, m := range work.Volumes {
		if m.Source == treeRoot && usable(path.Clean(m.Target)) {
			mounted = path.Clean(m.Target)
			out.note("tree", out.Compose.Files[0]+": services."+work.Name+".volumes")
		}
	}
	switch {
	case r.WorkspaceFolder != "" && mounted != "" && (out.Folder == mounted || strings.HasPrefix(out.Folder, mounted+"/")):
		out.setFolders(out.Folder, mounted)
	case r.WorkspaceFolder == "" && mounted != "":
		out.setFolders(mounted, "")
		delete(out.Origins, "folder")
		out.note("folder", out.Compose.Files[0]+": services."+work.Name+".volumes")
		fallthrough
	case r.WorkspaceFolder == "":
		if !d.loose {
			d.rule("compose-folder", Warning, d.at("dockerComposeFile"), "add \"workspaceFolder\": \""+out.Folder+"\"", "workspaceFolder is missing: people begin in %s", out.Folder)
		}
	}
	*v = (layerDoc{d.doc}).variablesOf(*out)
}

// runOrder is which services run, each after those it needs.
func (d composeDoc) runOrder(p *types.Project, work string, only []string) (out []string) {
	want := p.ServiceNames()
	if len(only) > 0 {
		want = append(slices.Clone(only), work)
	}
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
			d.rule("compose-file", Error, d.at("dockerComposeFile"), "take one of the dependencies out", "the service %q waits for itself", name)
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

// network settles who shares the workspace's addresses. Where the workspace
// would have joined a service's, that one joins the workspace: to both it is
// the same.
func (d composeDoc) network(out *Definition, p *types.Project) {
	c := out.Compose
	c.Aliases = []string{c.Work}
	joined, _ := strings.CutPrefix(p.Services[c.Work].NetworkMode, "service:")
	for i := range c.Services {
		s := &c.Services[i]
		mode := p.Services[s.Name].NetworkMode
		other, shares := strings.CutPrefix(mode, "service:")
		switch {
		case s.Name == joined, shares && (other == c.Work || other == joined):
			s.SharesNetwork = true
			c.Aliases = append(c.Aliases, s.Name)
			c.Aliases = append(c.Aliases, s.Aliases...)
		case shares:
			d.rule("not-honoured", Warning, d.at("dockerComposeFile"), "name the service in the address instead", "network_mode: %s of service %q is not honoured", mode, s.Name)
		case mode == "none" || strings.HasPrefix(mode, "container:"):
			d.rule("not-honoured", Warning, d.at("dockerComposeFile"), "do without", "network_mode: %s of service %q is not honoured", mode, s.Name)
		}
	}
	for _, n := range sortedKeys(p.Services[c.Work].Networks) {
		if cfg := p.Services[c.Work].Networks[n]; cfg != nil {
			c.Aliases = append(c.Aliases, cfg.Aliases...)
		}
	}
}

// portsNotForwarded finds ports of the compose files that nobody is shown.
func (d composeDoc) portsNotForwarded(out Definition) {
	if out.Compose == nil {
		return
	}
	for _, s := range out.Compose.Services {
		for _, p := range s.Ports {
			if !slices.Contains(out.Ports, p) {
				d.rule("port-not-declared", Warning, d.at("dockerComposeFile"), fmt.Sprintf("add \"%s:%d\" to forwardPorts", s.Name, p), "port %d of service %q is not forwarded", p, s.Name)
			}
		}
	}
}
