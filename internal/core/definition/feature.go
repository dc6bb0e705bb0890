package definition

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yardbench/internal/core/plain"
)

// MaxFeatures bounds the features of a definition, those that others need
// counted, and the entries of an image's label.
const MaxFeatures = 200

// Feature is one feature of a definition, with what its install script is told.
type Feature struct {
	Ref string `json:"ref"` // as it is written
	// Folder is where a local one stands in the repository.
	Folder  string `json:"folder,omitempty"`
	ID      string `json:"id"`
	Version string `json:"version,omitempty"`
	Title   string `json:"title,omitempty"`
	// Digest identifies the content of one that is not local.
	Digest string `json:"digest,omitempty"`
	// From is what it is fetched by, where that is not Ref.
	From string `json:"from,omitempty"`
	// Options are the variables that the install script gets.
	Options map[string]string `json:"options,omitempty"`
	// Env is set in the image before the install script runs.
	Env map[string]string `json:"env,omitempty"`
}

// FeatureContent is what a feature outside the repository is.
type FeatureContent struct {
	Manifest []byte // its devcontainer-feature.json
	Digest   string
}

// manifest mirrors devcontainer-feature.json beyond what it has in common with
// a definition.
type manifest struct {
	ID            string                   `json:"id"`
	Version       string                   `json:"version"`
	Name          string                   `json:"name"`
	Options       map[string]featureOption `json:"options"`
	DependsOn     map[string]any           `json:"dependsOn"`
	InstallsAfter []string                 `json:"installsAfter"`
	LegacyIDs     []string                 `json:"legacyIds"`
	Deprecated    bool                     `json:"deprecated"`
}

type featureOption struct {
	Type      string   `json:"type"`
	Default   any      `json:"default"`
	Enum      []string `json:"enum"`
	Proposals []string `json:"proposals"`
}

// node is a feature within the ordering.
type node struct {
	Feature
	manifest manifest
	meta     raw
	doc      *doc
	needs    []*node
	after    []*node
	priority int
	name     string // the reference without version: how others speak of it
}

// fetchedBy is what a feature is fetched by: its reference, with the mirrors
// of the house rules put in.
func (s Source) fetchedBy(ref string) string {
	if s.House == nil || strings.Contains(ref, "://") {
		return ref
	}
	return s.House.Images.Mirrored(ref)
}

// IsLocal tells whether a reference names a folder of the repository.
func IsLocal(ref string) bool { return strings.HasPrefix(ref, "./") || strings.HasPrefix(ref, "../") }

var (
	featureRef  = regexp.MustCompile(`^[a-z0-9.:-]+(/[a-z0-9._-]+){2,}(:[A-Za-z0-9._-]+|@sha256:[0-9a-f]{64})?$`)
	featureLink = regexp.MustCompile(`^https?://[A-Za-z0-9.:-]+/[A-Za-z0-9._/~-]+\.(tgz|tar\.gz)$`)
)

// unversioned is a reference without its version.
func unversioned(ref string) string {
	ref, _, _ = strings.Cut(ref, "@")
	if i := strings.LastIndexByte(ref, ':'); i > strings.LastIndexByte(ref, '/') {
		ref = ref[:i]
	}
	return strings.ToLower(ref)
}

// features resolves the features: what each needs, in which order they are put
// on, and what their metadata adds to the definition.
func (d *doc) features(out *Definition, r raw, src Source, v variables) {
	if len(r.Features) == 0 {
		return
	}
	g := &graph{d: d, src: src, base: path.Dir(d.path), of: map[string]*node{}}
	all := true
	for _, ref := range sortedKeys(r.Features) {
		_, ok := g.add(ref, r.Features[ref], d.at("features", ref))
		all = all && ok
	}
	if !all {
		return // each is told
	}
	for i, ref := range r.FeatureOrder {
		found := false
		for _, n := range g.all {
			if n.name == unversioned(ref) || n.Ref == ref {
				n.priority, found = len(r.FeatureOrder)-i, true
			}
		}
		if !found {
			d.rule("feature", Warning, d.at("overrideFeatureInstallOrder"), "take it out, or add it to features", "overrideFeatureInstallOrder names %q, which is not among the features", ref)
		}
	}
	order, stuck := g.order()
	if len(stuck) > 0 {
		d.rule("feature-loop", Error, d.at("features"), "take one of them out, or one of the dependencies", "features wait for each other: %s", strings.Join(stuck, " and "))
		return
	}
	for _, n := range order {
		out.Features = append(out.Features, n.Feature)
		out.note("features."+n.Ref, d.place("features", n.Ref))
	}
	for _, n := range slices.Backward(order) {
		n.meta.ContainerEnv = nil // in the image already
		layerDoc{n.doc}.under(out, n.meta, "feature "+n.ID, v)
		for _, f := range n.doc.findings {
			if f.Severity == Error {
				d.findings = append(d.findings, f)
			}
		}
	}
}

// graph gathers features and what they need.
type graph struct {
	d    *doc
	src  Source
	base string // the folder that local references are relative to
	all  []*node
	of   map[string]*node // by reference and options
	full bool
}

// add takes a feature in, and all that it needs. at is where the definition
// names it, or what needs it.
func (g *graph) add(ref string, options any, at int) (*node, bool) {
	fail := func(fix, format string, args ...any) (*node, bool) {
		g.d.rule("feature", Error, at, fix, format, args...)
		return nil, false
	}
	opts, _ := json.Marshal(options) // a value that was read from JSON
	key := ref + " " + string(opts)
	if n := g.of[key]; n != nil {
		return n, true
	}
	if len(g.all) >= MaxFeatures {
		if !g.full {
			g.full = true
			g.d.rule("feature", Error, at, "", "there are more than %d features, with those that others need", MaxFeatures)
		}
		return nil, false
	}
	n := &node{Feature: Feature{Ref: ref}, name: unversioned(ref)}
	var content FeatureContent
	switch {
	case IsLocal(ref):
		folder, ok := inside(g.base, ref)
		if !ok {
			return fail("name a folder beside the definition", "the feature %q lies outside the repository", ref)
		}
		n.Folder, n.name = folder, folder
		if content.Manifest, ok = g.src.Read(folder + "/devcontainer-feature.json"); !ok {
			return fail("add it, or correct the path", "the feature %q has no %s/devcontainer-feature.json", ref, folder)
		}
		if _, ok = g.src.Read(folder + "/install.sh"); !ok {
			return fail("add it: it is what is run", "the feature %q has no %s/install.sh", ref, folder)
		}
	case !featureRef.MatchString(ref) && !featureLink.MatchString(ref):
		return fail("write REGISTRY/FOLDER/NAME:VERSION, ./FOLDER, or https://…/NAME.tgz", "%q names no feature", ref)
	case g.src.House != nil && !g.src.House.Images.MayFeature(strings.TrimPrefix(strings.TrimPrefix(ref, "https://"), "http://")):
		return fail("ask an operator to add where it is to images.features_from", "the house rules do not let the feature %q be fetched", ref)
	case g.src.Feature == nil:
		g.d.rule("feature", Note, at, "check it through the service, which fetches it", "the feature %q is not in this folder and is not looked into", ref)
		n.ID = n.name
	default:
		var err error
		if content, err = g.src.Feature(g.src.fetchedBy(ref)); err != nil {
			return fail("correct the reference, or take it out", "the feature %q cannot be had: %s", ref, err)
		}
	}
	n.doc = &doc{path: "feature " + plain.Text(ref), text: content.Manifest, loose: true}
	if content.Manifest != nil {
		var ok bool
		if n.meta, ok = n.doc.parse(); !ok {
			return fail("", "the feature %q: %s", ref, n.doc.findings[0].What)
		}
		std, err := standard(content.Manifest)
		if err == nil {
			err = json.Unmarshal(std, &n.manifest)
		}
		if err != nil {
			return fail("", "the feature %q: its manifest cannot be read: %s", ref, err)
		}
		if from := g.src.fetchedBy(ref); from != ref && n.Folder == "" {
			n.From = from
		}
		n.ID, n.Version, n.Title, n.Digest = plain.Text(n.manifest.ID), plain.Text(n.manifest.Version), plain.Text(n.manifest.Name), content.Digest
		for k, val := range n.meta.ContainerEnv {
			if !envName.MatchString(k) || hasControl(val) {
				return fail("", "the feature %q sets %q, which is no variable", ref, k)
			}
		}
		n.Env = n.meta.ContainerEnv
	}
	if n.manifest.Deprecated {
		g.d.rule("feature", Note, at, "look for what came in its place", "the feature %q is deprecated", ref)
	}
	if fix, err := n.options(options); err != nil {
		return fail(fix, "the feature %q: %s", ref, err)
	}
	if same := g.same(n); same != nil {
		g.of[key] = same
		return same, true
	}
	g.of[key] = n
	g.all = append(g.all, n)
	base := g.base
	if n.Folder != "" {
		g.base = n.Folder
	}
	for _, need := range sortedKeys(n.manifest.DependsOn) {
		m, ok := g.add(need, n.manifest.DependsOn[need], at)
		if !ok {
			return nil, false
		}
		n.needs = append(n.needs, m)
	}
	g.base = base
	return n, true
}

var optionLetter = regexp.MustCompile(`[^A-Za-z0-9_]`)

// OptionName is the variable by which an install script gets an option
// (the specification's "Option Resolution").
func OptionName(option string) string {
	s := optionLetter.ReplaceAllString(option, "_")
	return strings.ToUpper(regexp.MustCompile(`^[0-9_]+`).ReplaceAllString(s, "_"))
}

// same finds a feature of the same content with the same options, the defaults
// put in (the specification's "Definition: Feature Equality").
func (g *graph) same(n *node) *node {
	for _, m := range g.all {
		if (n.Digest != "" && m.Digest == n.Digest || n.Folder != "" && m.Folder == n.Folder) && maps.Equal(m.Options, n.Options) {
			return m
		}
	}
	return nil
}

// options brings what the definition says of a feature to variables.
func (n *node) options(value any) (fix string, err error) {
	given := map[string]any{}
	switch v := value.(type) {
	case string:
		given["version"] = v
	case map[string]any:
		given = v
	case bool, nil:
	default:
		return "write an object in { }, or a version in quotes", fmt.Errorf("its options are %s", inWords(value))
	}
	n.Options = map[string]string{}
	for k, o := range n.manifest.Options {
		if o.Default != nil {
			n.Options[OptionName(k)] = fmt.Sprint(o.Default)
		}
	}
	for _, k := range sortedKeys(given) {
		o, known := n.manifest.Options[k]
		text := ""
		switch v := given[k].(type) {
		case string:
			text = v
		case bool:
			text = strconv.FormatBool(v)
		case nil:
			continue // the default counts
		case float64: // 3.10 and 3.1 are one number
			return "write it in quotes: a number may lose its last digits", fmt.Errorf("the option %q is a number; it must be a string", k)
		default:
			return "write a string, or true or false", fmt.Errorf("the option %q is %s", k, inWords(v))
		}
		switch {
		case !known && n.doc.text != nil:
			if k != "version" { // which may be given to any
				return "name one of: " + strings.Join(sortedKeys(n.manifest.Options), ", "), fmt.Errorf("it has no option %q", k)
			}
		case o.Type == "boolean" && text != "true" && text != "false":
			return "write true or false", fmt.Errorf("the option %q is true or false, not %q", k, text)
		case len(o.Enum) > 0 && !slices.Contains(o.Enum, text):
			return "write one of those", fmt.Errorf("the option %q is one of %s, not %q", k, strings.Join(o.Enum, ", "), text)
		case hasControl(text) || len(text) > 4096:
			return "write another", fmt.Errorf("the value of the option %q cannot be used", k)
		}
		n.Options[OptionName(k)] = text
	}
	return "", nil
}

// compareVersions orders versions, the oldest first: by their numbers, part by
// part; what is no number by its letters.
func compareVersions(a, b string) int {
	as, bs := strings.FieldsFunc(a, versionCut), strings.FieldsFunc(b, versionCut)
	for i := range min(len(as), len(bs)) {
		x, err := strconv.Atoi(as[i])
		y, err2 := strconv.Atoi(bs[i])
		c := cmp.Compare(x, y)
		if err != nil || err2 != nil {
			c = cmp.Compare(as[i], bs[i])
		}
		if c != 0 {
			return c
		}
	}
	return cmp.Compare(len(as), len(bs))
}

func versionCut(r rune) bool { return r == '.' || r == '-' || r == '+' }

// order sorts by the specification's "Round-based sorting": in each round go
// those whose needs are met, of them the ones with the highest priority, by
// name. stuck names those that wait for each other.
func (g *graph) order() (out []*node, stuck []string) {
	for _, n := range g.all {
		for _, a := range n.manifest.InstallsAfter {
			for _, m := range g.all {
				if m != n && (m.name == unversioned(a) || slices.ContainsFunc(m.manifest.LegacyIDs, func(l string) bool { return path.Join(path.Dir(m.name), l) == unversioned(a) })) {
					n.after = append(n.after, m)
				}
			}
		}
	}
	left := slices.Clone(g.all)
	done := map[*node]bool{}
	for len(left) > 0 {
		var ready []*node
		for _, n := range left {
			if !slices.ContainsFunc(slices.Concat(n.needs, n.after), func(m *node) bool { return !done[m] }) {
				ready = append(ready, n)
			}
		}
		if len(ready) == 0 {
			for _, n := range left {
				stuck = append(stuck, n.Ref)
			}
			return nil, stuck[:min(len(stuck), 5)]
		}
		top := slices.MaxFunc(ready, func(a, b *node) int { return a.priority - b.priority }).priority
		ready = slices.DeleteFunc(ready, func(n *node) bool { return n.priority < top })
		slices.SortFunc(ready, func(a, b *node) int {
			return cmp.Or(cmp.Compare(a.name, b.name), compareVersions(a.Version, b.Version), len(a.Options)-len(b.Options), cmp.Compare(fmt.Sprint(a.Options), fmt.Sprint(b.Options)))
		})
		for _, n := range ready {
			done[n] = true
		}
		out = append(out, ready...)
		left = slices.DeleteFunc(left, func(n *node) bool { return done[n] })
	}
	return out, nil
}

// FeatureFile is the build file that puts the features of d on an image, in
// which imageUser is the user. Its build context holds each feature's files in
// a folder of its number.
func FeatureFile(d Definition, image, imageUser string) string {
	var b strings.Builder
	container := cmp.Or(d.ContainerUser, imageUser, "root")
	remote := cmp.Or(d.User, container)
	fmt.Fprintf(&b, "FROM %s\nUSER root\n", image)
	for i, f := range d.Features {
		for _, k := range sortedKeys(f.Env) {
			fmt.Fprintf(&b, "ENV %s=%s\n", k, dockerQuote(f.Env[k]))
		}
		fmt.Fprintf(&b, "COPY %d /tmp/yardbench-feature-%d\n", i, i)
		var set []string
		for _, k := range slices.Sorted(maps.Keys(f.Options)) {
			set = append(set, k+"="+plain.Word(f.Options[k]))
		}
		home := func(user string) string {
			return `"$(getent passwd ` + plain.Word(user) + ` 2>/dev/null | cut -d: -f6 || true)"`
		}
		set = append(set, "_REMOTE_USER="+plain.Word(remote), "_CONTAINER_USER="+plain.Word(container), "_REMOTE_USER_HOME="+home(remote), "_CONTAINER_USER_HOME="+home(container))
		fmt.Fprintf(&b, "RUN cd /tmp/yardbench-feature-%d && chmod +x install.sh && env %s ./install.sh && rm -rf /tmp/yardbench-feature-%d\n", i, strings.Join(set, " "), i)
	}
	if imageUser != "" {
		fmt.Fprintf(&b, "USER %s\n", imageUser)
	}
	return b.String()
}

// dockerQuote makes one word of a text for ENV; ${NAME} in it is put in, as
// the specification has it.
func dockerQuote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}
