package definition

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"reflect"
	"slices"
	"strings"
	"unicode"

	"github.com/distribution/reference"
	"github.com/tailscale/hujson"

	"yardbench/internal/core/definition/variable"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/rules"
)

// What is read of a definition, and said of it, beside what every one has.
type (
	layerDoc   struct{ *doc } // what layers may add to each other
	composeDoc struct{ *doc } // what a compose file says
	checkDoc   struct{ *doc } // what is only advice
)

// Bounds on what a repository may hand us.
const (
	// MaxBytes bounds a definition file: a hundred times the largest seen in use.
	MaxBytes = 1 << 20
	// MaxDepth bounds nesting, so that a parser's recursion stays small.
	MaxDepth = 64
	// MaxCommands bounds the commands of one moment.
	MaxCommands = 64
	// MaxFindings bounds what is said of one definition and all that it names.
	MaxFindings = 200
)

// Source is what a definition is resolved from.
type Source struct {
	// Read gives a plain file of the repository by its path from the root; ok
	// is false where there is none. For a file above MaxBytes it may give any
	// MaxBytes+1 bytes: such a file is not looked into.
	Read func(path string) (content []byte, ok bool)
	// List gives the names in a folder of the repository, folders with a
	// closing slash and links with a closing @; nil where nothing can be listed.
	List func(folder string) []string
	// Repository is the repository's name: the workspace folder is called so.
	Repository string
	// Name asks for the definition under .devcontainer/NAME.
	Name string
	// House holds the house rules; nil where they are not known.
	House *rules.Rules
	// Feature gives what a feature outside the repository is, by its
	// reference; nil where such features are not looked into.
	Feature func(ref string) (FeatureContent, error)
	// Beside are further repositories that the launch asks for.
	Beside []Beside
}

func (s Source) list(folder string) []string {
	if s.List == nil {
		return nil
	}
	return s.List(folder)
}

// kept are properties for editors and other clients, those that describe, and
// those whose matter is the service's own: nothing is due for them here.
var kept = map[string]bool{"$schema": true, "otherPortsAttributes": true, "updateRemoteUserUID": true}

// honoured are the properties that are acted upon; [raw] has them.
var honoured = func() map[string]bool {
	out := map[string]bool{}
	for t, i := reflect.TypeFor[raw](), 0; i < t.NumField(); i++ {
		out[t.Field(i).Tag.Get("json")] = true
	}
	delete(out, "entrypoint") // of features and labels only
	return out
}()

// properties are all of them, in order.
var properties = func() []string {
	all := maps.Clone(honoured)
	maps.Copy(all, kept)
	return sortedKeys(all)
}()

// Resolve finds the definition in src and says what it means. Where a finding
// is an error the Definition must not be used.
func Resolve(src Source) (Definition, []Finding) {
	out, d := find(src)
	return out, Bounded(d.all())
}

// all are the findings in a file and in those that it names.
func (d *doc) all() []Finding {
	out := d.findings
	for _, c := range d.composed {
		out = append(out, c.findings...)
	}
	return out
}

// Bounded brings findings into their order, the same at every look, and leaves
// MaxFindings of them: errors before the others.
func Bounded(fs []Finding) []Finding {
	order := func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Path, b.Path), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column), cmp.Compare(a.Rule, b.Rule), cmp.Compare(a.What, b.What))
	}
	slices.SortStableFunc(fs, order)
	fs = slices.CompactFunc(fs, func(a, b Finding) bool { return a == b })
	if len(fs) <= MaxFindings {
		return fs
	}
	slices.SortStableFunc(fs, func(a, b Finding) int { return cmp.Compare(grade[a.Severity], grade[b.Severity]) })
	fs = fs[:MaxFindings]
	slices.SortStableFunc(fs, order)
	return fs
}

// grade orders severities, the worst first.
var grade = map[Severity]int{Error: 0, Warning: 1, Note: 2}

// doc carries one file through its resolution.
type doc struct {
	path     string
	text     []byte
	root     hujson.Value
	places   *places
	starts   []int // where its lines begin, once anybody asks
	findings []Finding
	lower    *raw   // what the compose files say of the workspace's own service
	composed []*doc // the compose files, in the order in which they were read
	loose    bool   // no file of the repository: places in it say nothing
	unfolded allowance
}

func (d *doc) say(sev Severity, at int, fix, format string, args ...any) {
	d.rule("refused", sev, at, fix, format, args...)
}

// rule adds a finding, and returns it for what more there is to say of it.
// Above MaxFindings only errors are still taken, in the place of the last.
func (d *doc) rule(rule string, sev Severity, at int, fix, format string, args ...any) *Finding {
	if d.full() {
		if sev != Error {
			return &Finding{}
		}
		d.findings = d.findings[:MaxFindings-1]
	}
	f := Finding{Severity: sev, Path: d.path, What: plain.Text(fmt.Sprintf(format, args...)), Fix: fix, Rule: rule, Why: Rules[rule]}
	if at >= 0 {
		f.Line, f.Column = d.position(at)
	}
	d.findings = append(d.findings, f)
	return &d.findings[len(d.findings)-1]
}

func (d *doc) full() bool { return len(d.findings) >= MaxFindings }

// parse reads the file's properties.
func (d *doc) parse() (r raw, ok bool) {
	content, utf8 := utf8Of(d.text)
	d.text = content
	if !utf8 {
		d.say(Error, -1, "save it as UTF-8", "the file is UTF-16")
		return r, false
	}
	if len(content) > MaxBytes {
		d.say(Error, -1, "", "the file has more than the %d bytes allowed", MaxBytes)
		return r, false
	}
	if at, deep := tooDeep(content); deep {
		d.say(Error, at, "", "nested deeper than %d levels", MaxDepth)
		return r, false
	}
	root, err := hujson.Parse(content)
	if err != nil {
		d.say(Error, d.syntaxOffset(err), "write JSON; comments and trailing commas are allowed", "not JSON: %s", parseCause(err))
		return r, false
	}
	d.root, d.places = root, placesOf(root, -1, 0)
	obj, isObject := root.Value.(*hujson.Object)
	if !isObject {
		d.say(Error, 0, "", "the file holds no JSON object")
		return r, false
	}
	if !d.loose {
		(checkDoc{d}).duplicates(obj, "")
	}
	var counts []hujson.ObjectMember // exactly spelt, the last of its name
	for _, m := range obj.Members {
		name := m.Name.Value.(hujson.Literal).String()
		switch {
		case kept[name]:
		case honoured[name], d.loose && name == "entrypoint":
			counts = slices.DeleteFunc(counts, func(o hujson.ObjectMember) bool { return o.Name.Value.(hujson.Literal).String() == name })
			counts = append(counts, m)
		case d.loose: // manifests and labels have names of their own
		case name == "initializeCommand":
			d.rule("not-honoured", Warning, m.Name.StartOffset, "move it to onCreateCommand, which runs in the workspace", "initializeCommand would run outside the workspace, and is not run")
		default:
			(checkDoc{d}).unknown(name, m.Name.StartOffset, properties, "")
		}
	}
	std := hujson.Value{Value: &hujson.Object{Members: counts}}
	std = std.Clone()
	std.Standardize()
	d.fit(&std, reflect.TypeFor[raw]())
	if err := json.Unmarshal(std.Pack(), &r); err != nil {
		d.say(Error, -1, "write what the specification's JSON reference says", "%s", err)
		return r, false
	}
	return r, true
}

// resolve reads a devcontainer.json and all that it names.
func (d *doc) resolve(src Source) Definition {
	r, ok := d.parse()
	if !ok {
		return Definition{}
	}
	out := Definition{Path: d.path, Title: plain.Text(r.Name)}
	if out.Title != "" {
		d.origin(&out, "title", "name")
	}
	vars := d.folders(&out, r, src)
	composed := r.DockerComposeFile != nil
	for name, lost := range map[string]bool{"image": composed && r.Image != "", "build": composed && (r.Build != nil || r.DockerFile != ""), "service": !composed && r.Service != "", "runServices": !composed && len(r.RunServices) > 0} {
		if lost {
			d.rule("not-honoured", Warning, d.at(name), "take it out", "%s says nothing %s", name, map[bool]string{true: "beside dockerComposeFile, which says it", false: "without dockerComposeFile"}[composed])
		}
	}
	if (composeDoc{d}).composeFiles(r.DockerComposeFile) != nil {
		(composeDoc{d}).compose(&out, r, src, &vars)
	} else {
		d.image(&out, r, src, vars)
	}
	(layerDoc{d}).runArgs(&out, r.RunArgs, vars)
	(layerDoc{d}).under(&out, r, "", vars)
	d.underneath(&out, vars)
	d.secrets(&out, r)
	d.beside(&out, r, src)
	d.features(&out, r, src, vars)
	if d.unfolded.spent() {
		d.say(Error, -1, "write shorter values", "%s", errUnfolds)
	}
	return out
}

// underneath puts what the compose files say of the service that people work in
// beneath the definition.
func (d *doc) underneath(out *Definition, v variables) {
	if d.lower == nil {
		return
	}
	work := "service " + out.Compose.Work + "."
	for k := range d.lower.ContainerEnv {
		if _, nearer := out.Env[k]; !nearer {
			out.note("env."+k, out.Origins[cmp.Or(nonempty(out.Origins, work+"environment."+k), nonempty(out.Origins, work+"environment"), work+"env_file")])
		}
	}
	if out.ContainerUser == "" && d.lower.ContainerUser != "" {
		out.note("container_user", out.Origins[work+"user"])
	}
	c := &doc{path: out.Compose.Files[0] + ": services." + out.Compose.Work, loose: true}
	layerDoc{c}.under(out, *d.lower, "", v)
	d.findings = append(d.findings, c.findings...)
}

// image reads where the image comes from.
func (d *doc) image(out *Definition, r raw, src Source, v variables) {
	b := r.Build
	if b == nil && r.DockerFile != "" {
		b = &rawBuild{Dockerfile: r.DockerFile, Context: r.Context}
	}
	switch {
	case b != nil && b.Dockerfile == "":
		d.say(Error, d.at("build"), "name the build file: \"build\": {\"dockerfile\": \"Dockerfile\"}", "build names no dockerfile")
	case b != nil && r.Image != "":
		d.say(Error, d.at("image"), "keep one of the two", "both image and build are given")
	case b != nil:
		at := max(d.at("build"), d.at("dockerFile"))
		base := path.Dir(out.Path)
		args := map[string]string{}
		for k, val := range b.Args {
			args[k] = v.put(val)
			d.origin(out, "build.args."+k, "build", "args", k)
		}
		if out.Build = d.buildOf(at, base, v.put(b.Dockerfile), v.put(b.Context), b.Target, args, src); out.Build == nil {
			return
		}
		d.origin(out, "build", "build")
		out.Build.CacheFrom = stringsOf(b.CacheFrom)
		if len(out.Build.CacheFrom) > 0 {
			d.origin(out, "build.cache_from", "build", "cacheFrom")
		}
		for _, o := range b.Options {
			d.rule("not-honoured", Warning, d.at("build", "options"), "leave it out, or say it with target, args or cacheFrom", "the build option %q is passed over", o)
		}
	case strings.TrimSpace(r.Image) == "" && (d.places.has("image") || d.places.has("build")): // what is wrong with it is told
		if r.Image != "" || d.at("image") >= 0 && len(d.findings) == 0 {
			d.say(Error, d.at("image"), "name one", "image names none")
		}
	case strings.TrimSpace(r.Image) == "":
		d.say(Error, -1, "add \"image\" or \"build\"", "neither image, build nor dockerComposeFile is given")
	default:
		out.Image = d.imageName(v.put(r.Image), d.at("image"), src)
		d.origin(out, "image", "image")
	}
}

// imageName checks an image's name and puts a mirror of the house rules in.
func (d *doc) imageName(name string, at int, src Source) string {
	if strings.ContainsFunc(name, func(c rune) bool { return unicode.IsSpace(c) || unicode.IsControl(c) }) {
		d.say(Error, at, "take the blank out", "image %q has a blank in it", name)
	} else if _, err := reference.ParseNormalizedNamed(name); err != nil && !imageID.MatchString(name) && !strings.Contains(name, "$") {
		d.say(Error, at, "write REGISTRY/NAME:VERSION, the name in small letters", "%q is no name of an image", name)
	}
	if ours(name) {
		(checkDoc{d}).mayUse(name, at, nil)
	}
	if src.House != nil {
		return src.House.Images.Mirrored(name)
	}
	return name
}

// buildOf resolves how an image is built, or says why it cannot be and gives
// nil. Paths are relative to base.
func (d *doc) buildOf(at int, base, dockerfile, context, target string, args map[string]string, src Source) *Build {
	file, ok := inside(base, dockerfile)
	if !ok {
		d.say(Error, at, "name a file inside the repository", "dockerfile %q lies outside the repository", dockerfile)
		return nil
	}
	if context == "" {
		context = "."
	}
	dir, ok := inside(base, context)
	if !ok {
		d.say(Error, at, "name a folder inside the repository", "build context %q lies outside the repository", context)
		return nil
	}
	if _, ok := src.Read(file); !ok {
		d.say(Error, at, "add it, or correct the path", "dockerfile %q is not in the repository", file)
	}
	return &Build{Dockerfile: file, Context: dir, Target: target, Args: args}
}

// MaxSecrets bounds the secrets a definition may ask for.
const MaxSecrets = 100

// secrets reads the names of the secrets that are wanted, and in the definition's
// customizations for this product which of them nothing is launched without.
func (d *doc) secrets(out *Definition, r raw) {
	wanted := r.Secrets
	ours, _ := r.Customizations["yardbench"].(map[string]any)
	required := stringsOf(ours["requiredSecrets"])
	for _, name := range required {
		if _, asked := wanted[name]; !asked {
			d.say(Error, d.at("customizations", "yardbench", "requiredSecrets"), "ask for it in secrets too, with what it is for", "%q is required, and secrets does not ask for it", name)
		}
	}
	if len(wanted) > MaxSecrets {
		d.say(Error, d.at("secrets"), "", "%d secrets are asked for; at most %d are allowed", len(wanted), MaxSecrets)
		return
	}
	for _, k := range sortedKeys(wanted) {
		if !envName.MatchString(k) || len(k) > 128 {
			d.say(Error, d.at("secrets"), "use letters, digits and _", "%q in secrets is no variable name", k)
			continue
		}
		a, _ := wanted[k].(map[string]any)
		text, _ := a["description"].(string)
		if text = plain.Text(text); len([]rune(text)) > 300 {
			text = string([]rune(text)[:300])
		}
		out.Secrets = append(out.Secrets, Wanted{Name: k, Description: text, Required: slices.Contains(required, k)})
		d.origin(out, "secrets."+k, "secrets", k)
	}
}

// commands brings a life-cycle property to one form: a string is run by a
// shell, an array without one, an object's members side by side.
func (d *doc) commands(m Moment, value any, v variables) []Command {
	bad := func() []Command {
		d.say(Error, d.at(string(m)), "", "%s must be a string, an array of strings, or an object of those", m)
		return nil
	}
	one := func(label string, value any) (Command, bool) {
		switch c := value.(type) {
		case string:
			return Command{Label: label, Shell: v.put(c)}, strings.TrimSpace(c) != ""
		case []any:
			cmd := Command{Label: label}
			for _, a := range c {
				s, ok := a.(string)
				if !ok {
					return cmd, false
				}
				cmd.Args = append(cmd.Args, v.put(s))
			}
			return cmd, len(cmd.Args) > 0
		}
		return Command{}, false
	}
	switch c := value.(type) {
	case nil:
		return nil
	case map[string]any:
		if len(c) > MaxCommands {
			d.say(Error, d.at(string(m)), "", "%s has %d commands, more than the %d allowed", m, len(c), MaxCommands)
			return nil
		}
		var out []Command
		for _, k := range sortedKeys(c) {
			cmd, ok := one(k, c[k])
			if !ok {
				return bad()
			}
			out = append(out, cmd)
		}
		return out
	case string:
		if strings.TrimSpace(c) == "" {
			return nil
		}
	}
	cmd, ok := one("", value)
	if !ok {
		return bad()
	}
	return []Command{cmd}
}

// variables are the specification's ${…} forms. There is no folder on a host:
// the variables that name one name the workspace's.
type variables struct {
	folder, treeAt string
	unfolded       *allowance
}

// tree is where the clone lies: what stands for the folder on a host.
func (v variables) tree() string { return cmp.Or(v.treeAt, v.folder) }

func (v variables) put(s string) string {
	fill := func(m, value string) string {
		if !v.unfolded.take(value) {
			return m // it is told at the end: the definition is not used
		}
		return value
	}
	return variable.Pattern.ReplaceAllStringFunc(s, func(m string) string {
		p := variable.Pattern.FindStringSubmatch(m)
		switch p[1] {
		case "localWorkspaceFolder":
			return fill(m, v.tree())
		case "containerWorkspaceFolder":
			return fill(m, v.folder)
		case "localWorkspaceFolderBasename":
			return fill(m, path.Base(v.tree()))
		case "containerWorkspaceFolderBasename":
			return fill(m, path.Base(v.folder))
		case "localEnv", "env": // nobody's own machine takes part: the default counts
			return p[3]
		}
		return m
	})
}

// WithID puts in what stands for one workspace: ${devcontainerId}.
func WithID(d Definition, id string) Definition {
	text, err := json.Marshal(d)
	if err != nil || !strings.Contains(string(text), "${devcontainerId}") {
		return d
	}
	var out Definition
	if json.Unmarshal([]byte(strings.ReplaceAll(string(text), "${devcontainerId}", id)), &out) != nil {
		return d
	}
	return out
}

// inside joins a path of the definition to its folder and tells whether the
// result stays in the repository.
func inside(base, p string) (string, bool) {
	if p == "" || path.IsAbs(p) || strings.ContainsFunc(p, unicode.IsControl) {
		return "", false
	}
	j := path.Join(base, p)
	return j, j != ".." && !strings.HasPrefix(j, "../")
}

// at is the offset of a member's name, by its path; where the last of it is
// not to be found, that of what holds it; -1 when there is none.
func (d *doc) at(name ...string) int { return d.places.find(name...) }
