package definition

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/compose-spec/compose-go/v2/loader"
	"github.com/compose-spec/compose-go/v2/template"
	"github.com/compose-spec/compose-go/v2/types"
	"go.yaml.in/yaml/v4"
)

// Bounds on the compose files of one definition, those that they include or
// extend from counted.
const (
	maxComposeFiles = 20
	maxIncluded     = 8   // how deep files include each other
	maxInherited    = 200 // services of other files that are extended
	maxPublished    = 1000
	maxDeclared     = 200 // services of one file, those that do not run counted
	maxEntries      = 500 // of one list or mapping: the specification's reader goes over each again for every other
)

// nowhere stands for the folder of a compose file where the reader asks for
// one: its paths stay as they are written, and no path of this machine is there.
const nowhere = "/yardbench-nowhere"

// inherited begins the names of services that were taken from other files
// because one extends them; they do not run themselves.
const inherited = "yardbench.inherited."

// composeText is one compose file as it is written.
type composeText struct {
	doc   *doc
	top   map[string]any
	nodes int // what it unfolds to
}

// composeReader reads compose files, each once, and brings them together.
type composeReader struct {
	composeDoc
	src    Source
	texts  map[string]*composeText
	read   int               // how many files were handed to the specification's reader, each time counted
	nodes  int               // what they unfold to, with what services take over from those that they extend
	bases  map[string]string // by service: the folder its paths are relative to
	copies map[string]string // names of what is inherited, by file and service
	loose  bool              // parts are taken from several projects: what refers to what is looked at here
}

// text reads one file, which d names at a place. What is wrong is said there
// where the file is not to be had, else in the file.
func (r *composeReader) text(name string, d *doc, at int) (*composeText, bool) {
	if t := r.texts[name]; t != nil {
		return t, true
	}
	content, ok := r.src.Read(name)
	switch {
	case !ok:
		d.rule("compose-file", Error, at, "add it, or name another", "compose file %q is not in the repository", name)
		return nil, false
	case len(r.texts) >= maxComposeFiles:
		d.rule("compose-file", Error, at, "put some of them together", "there are more than %d compose files, with those that they include", maxComposeFiles)
		return nil, false
	}
	t := &composeText{doc: &doc{path: name, text: content}}
	r.composed = append(r.composed, t.doc)
	bad := func(fix, format string, args ...any) (*composeText, bool) {
		t.doc.rule("compose-file", Error, -1, fix, format, args...)
		return nil, false
	}
	if len(content) > MaxBytes {
		return bad("make it smaller", "it has more than the %d bytes allowed", MaxBytes)
	}
	if t.doc.text, ok = utf8Of(content); !ok {
		return bad("save it as UTF-8", "it is UTF-16")
	}
	if why := tooVariable(t.doc.text); why != "" {
		return bad("write plain values", "%s", why)
	}
	var node yaml.Node
	if err := yaml.Unmarshal(t.doc.text, &node); err == nil { // else the loader says why
		if at := crowded(&node); at != nil {
			t.doc.rule("compose-file", Error, t.doc.line(at.Line), "take some out", "it has more than the %d entries allowed in one place", maxEntries)
			return nil, false
		}
		size := unfoldedSize(&node)
		if t.nodes = size.nodes; size.nodes >= maxComposeNodes {
			return bad("make it smaller", "it comes to more than the %d values allowed, its aliases put in", maxComposeNodes)
		}
		if size.bytes >= maxComposeBytes {
			return bad("make it smaller", "it comes to more than the %d bytes allowed, its aliases put in", maxComposeBytes)
		}
		t.doc.places = t.doc.placesOfNode(&node, -1, 0)
		_ = node.Decode(&t.top) // what is no mapping the loader tells
	}
	if n := len(mapOf(t.top["services"])); n > maxDeclared {
		return bad("take some out", "it has %d services; at most %d are allowed", n, maxDeclared)
	}
	r.texts[name] = t
	return t, true
}

// crowded finds a list or mapping with too many entries; nil where none has.
func crowded(n *yaml.Node) *yaml.Node {
	entries := len(n.Content)
	if n.Kind == yaml.MappingNode {
		entries /= 2
	}
	if entries > maxEntries {
		return n
	}
	for _, c := range n.Content {
		if at := crowded(c); at != nil {
			return at
		}
	}
	return nil
}

func mapOf(v any) map[string]any { m, _ := v.(map[string]any); return m }

// placesOfNode remembers where the members of a YAML mapping stand; those of a
// sequence by their number, from 0.
func (d *doc) placesOfNode(n *yaml.Node, at, depth int) *places {
	p := &places{at: at}
	if depth >= maxPlaces+1 {
		return p
	}
	offset := func(n *yaml.Node) int { return max(0, d.line(n.Line)) + max(0, n.Column-1) }
	switch n.Kind {
	case yaml.DocumentNode:
		if len(n.Content) > 0 {
			return d.placesOfNode(n.Content[0], at, depth)
		}
	case yaml.MappingNode:
		p.of = make(map[string]*places, len(n.Content)/2)
		for i := 0; i+1 < len(n.Content); i += 2 {
			p.of[n.Content[i].Value] = d.placesOfNode(n.Content[i+1], offset(n.Content[i]), depth+1)
		}
	case yaml.SequenceNode:
		p.of = make(map[string]*places, len(n.Content))
		for i, c := range n.Content {
			p.of[strconv.Itoa(i)] = d.placesOfNode(c, offset(c), depth+1)
		}
	}
	return p
}

// project reads and merges a project's files. dir is what its paths are relative
// to, env what it is told; by names them, at a place.
func (r *composeReader) project(names []string, dir string, env types.Mapping, depth int, by *doc, at int) (p *types.Project, ok bool) {
	var texts []*composeText
	for _, n := range names {
		t, ok := r.text(n, by, at)
		if !ok {
			return nil, false
		}
		if r.read++; r.read > maxComposeFiles { // one that is included twice is read twice
			t.doc.rule("compose-file", Error, -1, "include each file once", "more than %d files are read, with those that include each other", maxComposeFiles)
			return nil, false
		}
		texts = append(texts, t)
		r.unset(t.doc, env)
	}
	var included []*types.Project
	details := types.ConfigDetails{WorkingDir: nowhere, Environment: env}
	for i, t := range texts {
		parts, ok := r.include(t, dir, env, depth)
		if !ok {
			return nil, false
		}
		included = append(included, parts...)
		c := types.ConfigFile{Filename: path.Join(nowhere, names[i]), Content: t.doc.text}
		top, changed, ok := r.inherit(t, names[i], dir)
		if !ok {
			return nil, false
		}
		if changed {
			c.Content, c.Config = nil, top
		} else {
			top = t.top
		}
		if r.nodes += t.nodes + takenOver(mapOf(top["services"])); r.nodes >= maxComposeNodes {
			t.doc.rule("compose-file", Error, t.doc.places.find("services"), "make it smaller", "with what services extend it comes to more than the %d values allowed", maxComposeNodes)
			return nil, false
		}
		if !r.publishes(t, env) {
			return nil, false
		}
		details.ConfigFiles = append(details.ConfigFiles, c)
	}
	if p, ok = r.load(details, texts); !ok {
		return nil, false
	}
	for name := range p.Services {
		r.bases[name] = dir
	}
	for _, part := range included {
		if !r.join(p, part, texts[0]) {
			return nil, false
		}
	}
	return p, true
}

// takenOver is how many values the services of a file take over from those that
// they extend: each has all of the other's, and all that that one took over.
func takenOver(services map[string]any) (sum int) {
	whole := map[string]int{} // of each service, with what it takes over; 0 while it is being counted
	var of func(name string) int
	of = func(name string) int {
		if n, known := whole[name]; known {
			return n // of one that extends itself: the specification's reader says so
		}
		whole[name] = 0
		s := mapOf(services[name])
		base, _ := s["extends"].(string)
		if e := mapOf(s["extends"]); e != nil {
			base, _ = e["service"].(string)
		}
		n := valuesIn(s)
		if base != "" {
			over := of(base)
			sum = min(sum+over, maxComposeNodes)
			n = min(n+over, maxComposeNodes)
		}
		whole[name] = n
		return n
	}
	for name := range services {
		of(name)
	}
	return sum
}

// valuesIn counts the values in a value.
func valuesIn(v any) int {
	n := 1
	switch x := v.(type) {
	case map[string]any:
		for _, e := range x {
			n += valuesIn(e)
		}
	case []any:
		for _, e := range x {
			n += valuesIn(e)
		}
	}
	return n
}

// load has the specification's own reader read the files.
func (r *composeReader) load(details types.ConfigDetails, texts []*composeText) (project *types.Project, ok bool) {
	last := texts[len(texts)-1].doc
	defer func() { // the reader does not expect every rubbish
		if e := recover(); e != nil {
			last.rule("compose-file", Error, -1, "correct it; the Compose Specification says what may stand there", "the compose file cannot be read")
			project, ok = nil, false
		}
	}()
	err := unfolding(func() (err error) {
		project, err = loader.LoadWithContext(context.Background(), details, func(o *loader.Options) {
			o.SetProjectName("workspace", true)
			o.SkipInclude, o.SkipResolveEnvironment, o.SkipResolveLabels = true, true, true
			o.ResolvePaths, o.SkipConsistencyCheck = false, r.loose
			o.Profiles, o.MaxNodeVisits = []string{"*"}, maxComposeNodes // which run is decided here
			o.Interpolate.LookupValue = r.unfolded.counting(o.Interpolate.LookupValue)
		})
		return err
	})
	if err != nil {
		what, where := strings.ReplaceAll(firstLineOf(err), nowhere+"/", ""), last
		for _, t := range texts {
			if strings.Contains(what, t.doc.path) {
				where = t.doc
			}
		}
		where.rule("compose-file", Error, where.placeNamed(what), "correct it; the Compose Specification says what may stand there", "%s", strings.TrimPrefix(what, "validating "+where.path+": "))
		return nil, false
	}
	maps.DeleteFunc(project.Services, func(name string, _ types.ServiceConfig) bool { return strings.HasPrefix(name, inherited) })
	return project, true
}

// placeNamed finds where a message of a reader belongs: at the line that it
// names, or at the longest path of members that it names.
func (d *doc) placeNamed(what string) int {
	if _, after, ok := strings.Cut(what, "line "); ok {
		digits := after[:len(after)-len(strings.TrimLeft(after, "0123456789"))]
		if n, err := strconv.Atoi(digits); err == nil {
			return d.line(n)
		}
	}
	for _, word := range strings.Fields(what) {
		if parts := strings.Split(strings.Trim(word, `:'"`), "."); len(parts) > 1 && parts[0] == "services" {
			return d.places.find(parts...)
		}
	}
	return -1
}

// environmentBeside reads the .env beside a project's files, under what is
// known already.
func (r *composeReader) environmentBeside(file string, env types.Mapping) (types.Mapping, bool) {
	out := types.Mapping{}
	if text, ok := r.src.Read(file); ok {
		values, err := environment(text, &r.unfolded)
		if err != nil {
			e := &doc{path: file}
			e.rule("compose-file", Error, -1, "correct it: NAME=VALUE lines", "it cannot be read: %s", firstLineOf(err))
			r.composed = append(r.composed, e)
			return nil, false
		}
		out = values
	}
	maps.Copy(out, env)
	return out, true
}

// include reads what a file includes: projects of their own.
func (r *composeReader) include(t *composeText, dir string, env types.Mapping, depth int) (out []*types.Project, ok bool) {
	entries, _ := t.top["include"].([]any)
	for i, e := range entries {
		at := t.doc.places.find("include", strconv.Itoa(i))
		bad := func(fix, format string, args ...any) ([]*types.Project, bool) {
			t.doc.rule("compose-file", Error, at, fix, format, args...)
			return nil, false
		}
		m := mapOf(e)
		names := stringsOf(e)
		if m != nil {
			names = stringsOf(m["path"])
		}
		if depth >= maxIncluded {
			return bad("take one out", "files include each other more than %d deep", maxIncluded)
		}
		var files []string
		for _, n := range names {
			p, inside := inside(dir, n)
			if !inside {
				return bad("name a file of the repository", "%q is not in the repository and is not included", n)
			}
			files = append(files, p)
		}
		if len(files) == 0 {
			return bad("name a file", "it includes no file")
		}
		base := path.Dir(files[0])
		if p, given := m["project_directory"].(string); given {
			if base, ok = inside(dir, p); !ok {
				return bad("name a folder of the repository", "the project_directory %q lies outside the repository", p)
			}
		}
		envFiles := []string{path.Join(base, ".env")}
		if given := stringsOf(m["env_file"]); len(given) > 0 {
			envFiles = nil
			for _, n := range given {
				if p, ok := inside(dir, n); ok {
					envFiles = append(envFiles, p)
				}
			}
		}
		sub := env
		for _, f := range envFiles {
			if sub, ok = r.environmentBeside(f, sub); !ok {
				return nil, false
			}
		}
		r.loose = true
		part, ok := r.project(files, base, sub, depth+1, t.doc, at)
		if !ok {
			return nil, false
		}
		out = append(out, part)
	}
	return out, true
}

// join puts an included project into the one that includes it.
func (r *composeReader) join(p, part *types.Project, into *composeText) bool {
	for _, name := range part.ServiceNames() {
		if _, there := p.Services[name]; there {
			into.doc.rule("compose-file", Error, into.doc.places.find("services", name), "name one of them otherwise, or list both files in dockerComposeFile", "the service %q stands in an included file too", name)
			return false
		}
		if p.Services == nil {
			p.Services = types.Services{}
		}
		p.Services[name] = part.Services[name]
	}
	add(&p.Networks, part.Networks)
	add(&p.Volumes, part.Volumes)
	add(&p.Secrets, part.Secrets)
	add(&p.Configs, part.Configs)
	return true
}

// add copies what is not there yet.
func add[M ~map[string]V, V any](to *M, from M) {
	for k, v := range from {
		if *to == nil {
			*to = M{}
		}
		if _, there := (*to)[k]; !there {
			(*to)[k] = v
		}
	}
}

// publishes bounds how many ports the services of a file publish: a range of
// them is few letters, and each comes to a value of its own.
func (r *composeReader) publishes(t *composeText, env types.Mapping) bool {
	services, ports := mapOf(t.top["services"]), 0
	for _, s := range sortedKeys(services) {
		list, _ := mapOf(services[s])["ports"].([]any)
		for i, p := range list {
			text := fmt.Sprint(p)
			err := unfolding(func() (err error) {
				text, err = template.Substitute(text, r.unfolded.counting(env.Resolve))
				return err
			})
			if err != nil {
				continue // the loader says why
			}
			if ports += portsIn(text); ports > maxPublished {
				t.doc.rule("compose-file", Error, t.doc.places.find("services", s, "ports", strconv.Itoa(i)), "publish what is needed: services reach each other without", "more than %d ports are published", maxPublished)
				return false
			}
		}
	}
	return true
}

// portsIn is how many ports the widest range in a text comes to, at least 1.
func portsIn(text string) int {
	most := 1
	for _, part := range strings.FieldsFunc(text, func(c rune) bool { return c != '-' && (c < '0' || c > '9') }) {
		if from, to, ok := strings.Cut(part, "-"); ok {
			a, err := strconv.Atoi(from)
			b, err2 := strconv.Atoi(to)
			if err == nil && err2 == nil {
				most = max(most, b-a+1)
			}
		}
	}
	return most
}

// unset finds the variables of a compose file that nobody gives a value.
func (d composeDoc) unset(c *doc, env types.Mapping) {
	for n := 1; !c.full(); n++ {
		start := c.line(n)
		if start < 0 {
			return
		}
		end := len(c.text)
		if next := c.line(n + 1); next >= 0 {
			end = next
		}
		line := string(c.text[start:end])
		if i := strings.IndexByte(line, '#'); i >= 0 {
			line = line[:i] // what follows may be a comment
		}
		for _, at := range composeVariable.FindAllStringIndex(line, -1) {
			found := line[at[0]:at[1]]
			name := strings.Trim(found, "${}")
			if _, given := env[name]; given || strings.HasPrefix(found, "$$") {
				continue
			}
			c.rule("no-default", Note, start+at[0], "write ${"+name+":-VALUE}, or give it in an .env beside the file", "%s has no value and no default", found)
			if c.full() {
				return
			}
		}
	}
}

// runs tells which services run: those of no profile, and of those that are
// asked for.
func runs(p *types.Project, profiles []string) (out []string) {
	for _, name := range p.ServiceNames() {
		of := p.Services[name].Profiles
		if len(of) == 0 || slices.ContainsFunc(of, func(x string) bool { return slices.Contains(profiles, x) || slices.Contains(profiles, "*") }) {
			out = append(out, name)
		}
	}
	return out
}

// spot is where the compose files say something, by its path: of several files
// the last that does; else the definition's place for them.
func (d composeDoc) spot(name ...string) (*doc, int) {
	for n := len(name); n > 0; n-- {
		for _, c := range slices.Backward(d.composed) {
			if c.places.has(name[:n]...) {
				return c, c.places.find(name[:n]...)
			}
		}
	}
	return d.doc, d.at("dockerComposeFile")
}

// tell adds a finding where the compose files say something of a service.
func (d composeDoc) tell(rule string, sev Severity, service, key, fix, format string, args ...any) *Finding {
	c, at := d.spot("services", service, key)
	return c.rule(rule, sev, at, fix, format, args...)
}
