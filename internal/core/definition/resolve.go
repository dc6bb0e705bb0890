package definition

import (
	"encoding/json"
	"fmt"
	"math"
	"path"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode"

	"github.com/tailscale/hujson"

	"yardbench/internal/core/definition/variable"
)

// Places are where a definition may stand, in the order in which they count.
var Places = []string{".devcontainer/devcontainer.json", ".devcontainer.json"}

// Bounds on what a repository may hand us.
const (
	// MaxBytes bounds a definition file: a hundred times the largest seen in use.
	MaxBytes = 1 << 20
	// MaxDepth bounds nesting, so that a parser's recursion stays small.
	MaxDepth = 64
	// MaxCommands bounds the commands of one moment.
	MaxCommands = 64
	// MaxFindings bounds what is said of one file.
	MaxFindings = 200
)

// Source is what a definition is resolved from.
type Source struct {
	// Read gives a plain file of the repository by its path from the root; ok
	// is false where there is none. For a file above MaxBytes it may give any
	// MaxBytes+1 bytes: such a file is not looked into.
	Read func(path string) (content []byte, ok bool)
	// Repository is the repository's name: the workspace folder is called so.
	Repository string
}

// raw mirrors the properties of the Development Container Specification's
// JSON reference that are honoured.
type raw struct {
	Name            string             `json:"name"`
	Image           string             `json:"image"`
	DockerFile      string             `json:"dockerFile"` // the older spelling of build.dockerfile
	Context         string             `json:"context"`
	Build           *rawBuild          `json:"build"`
	ContainerEnv    map[string]string  `json:"containerEnv"`
	RemoteEnv       map[string]*string `json:"remoteEnv"`
	ContainerUser   string             `json:"containerUser"`
	RemoteUser      string             `json:"remoteUser"`
	WorkspaceFolder string             `json:"workspaceFolder"`
	ForwardPorts    []any              `json:"forwardPorts"`
	PortsAttributes map[string]any     `json:"portsAttributes"`
	Secrets         map[string]any     `json:"secrets"`
	OnCreate        any                `json:"onCreateCommand"`
	UpdateContent   any                `json:"updateContentCommand"`
	PostCreate      any                `json:"postCreateCommand"`
	PostStart       any                `json:"postStartCommand"`
}

type rawBuild struct {
	Dockerfile string            `json:"dockerfile"`
	Context    string            `json:"context"`
	Target     string            `json:"target"`
	Args       map[string]string `json:"args"`
}

// kept are properties for editors and other clients, and those that describe:
// nothing is due for them here.
var kept = map[string]bool{"$schema": true, "customizations": true, "otherPortsAttributes": true}

var honoured = map[string]bool{"name": true, "image": true, "dockerFile": true, "context": true, "build": true,
	"containerEnv": true, "remoteEnv": true, "containerUser": true, "remoteUser": true, "workspaceFolder": true,
	"forwardPorts": true, "portsAttributes": true, "secrets": true, string(OnCreate): true, string(UpdateContent): true, string(PostCreate): true, string(PostStart): true}

// Resolve finds the definition in src and says what it means. Where a finding
// is an error the Definition must not be used.
func Resolve(src Source) (Definition, []Finding) {
	out, d := find(src)
	return out, d.findings
}

func find(src Source) (Definition, *doc) {
	for _, p := range Places {
		if content, ok := src.Read(p); ok {
			d := &doc{path: p, text: content}
			return d.resolve(src), d
		}
	}
	return Definition{}, &doc{findings: []Finding{{Severity: Error, Path: Places[0], Rule: "refused", Why: Rules["refused"],
		What: "the repository has no environment definition", Fix: "add " + Places[0] + ", or launch a branch that has one"}}}
}

// doc carries one file through its resolution.
type doc struct {
	path     string
	text     []byte
	root     hujson.Value
	findings []Finding
}

func (d *doc) say(sev Severity, at int, fix, format string, args ...any) {
	d.rule("refused", sev, at, fix, format, args...)
}

// rule adds a finding. Above MaxFindings only errors are still taken, in the
// place of the last.
func (d *doc) rule(rule string, sev Severity, at int, fix, format string, args ...any) {
	if d.full() {
		if sev != Error {
			return
		}
		d.findings = d.findings[:MaxFindings-1]
	}
	f := Finding{Severity: sev, Path: d.path, What: printable(fmt.Sprintf(format, args...)), Fix: fix, Rule: rule, Why: Rules[rule]}
	if at >= 0 {
		f.Line, f.Column = position(d.text, at)
	}
	d.findings = append(d.findings, f)
}

func (d *doc) full() bool { return len(d.findings) >= MaxFindings }

func (d *doc) resolve(src Source) Definition {
	content, p := d.text, d.path
	fail := func() Definition { return Definition{} }
	if len(content) > MaxBytes {
		d.say(Error, -1, "", "the file has more than the %d bytes allowed", MaxBytes)
		return fail()
	}
	if at, deep := tooDeep(content); deep {
		d.say(Error, at, "", "nested deeper than %d levels", MaxDepth)
		return fail()
	}
	root, err := hujson.Parse(content)
	if err != nil {
		d.say(Error, syntaxOffset(content, err), "write JSON; comments and trailing commas are allowed", "not JSON: %s", parseCause(err))
		return fail()
	}
	d.root = root
	obj, ok := root.Value.(*hujson.Object)
	if !ok {
		d.say(Error, 0, "", "the file holds no JSON object")
		return fail()
	}
	d.duplicates(obj, "")
	var counts []hujson.ObjectMember // exactly spelt, the last of its name
	for _, m := range obj.Members {
		name := m.Name.Value.(hujson.Literal).String()
		switch {
		case kept[name]:
		case honoured[name]:
			counts = slices.DeleteFunc(counts, func(o hujson.ObjectMember) bool { return o.Name.Value.(hujson.Literal).String() == name })
			counts = append(counts, m)
		case name == "initializeCommand":
			d.say(Error, m.Name.StartOffset, "move it to onCreateCommand, which runs in the workspace", "initializeCommand would run outside the workspace and is refused")
		default:
			d.unknown(name, m.Name.StartOffset)
		}
	}
	std := hujson.Value{Value: &hujson.Object{Members: counts}}
	std = std.Clone()
	std.Standardize()
	var r raw
	if err := json.Unmarshal(std.Pack(), &r); err != nil {
		name, what := "", err.Error()
		if te, ok := err.(*json.UnmarshalTypeError); ok {
			name, _, _ = strings.Cut(te.Field, ".")
			what = fmt.Sprintf("%s is a %s; it must be a %s", te.Field, te.Value, kindWord(te.Type.Kind().String()))
		}
		d.say(Error, d.at(name), "", "%s", what)
		return fail()
	}
	out := Definition{Path: p, Title: r.Name, Env: map[string]string{}, SessionEnv: map[string]string{}}
	vars := variables{folder: d.folder(r.WorkspaceFolder, src.Repository)}
	out.Folder = vars.folder
	d.image(&out, r, src, vars)
	out.User = r.RemoteUser
	if out.User == "" {
		out.User = r.ContainerUser
	}
	if !userName.MatchString(out.User) {
		d.say(Error, d.at("remoteUser"), "use a user name or number", "%q is no user name", out.User)
	}
	d.env(out.Env, r.ContainerEnv, "containerEnv", vars)
	remote := map[string]string{}
	for k, v := range r.RemoteEnv {
		if v != nil {
			remote[k] = *v
		}
	}
	d.env(out.SessionEnv, remote, "remoteEnv", vars)
	d.ports(&out, r.ForwardPorts)
	d.portLabels(&out, r.PortsAttributes)
	d.secrets(&out, r.Secrets)
	for _, m := range []struct {
		moment Moment
		value  any
	}{{OnCreate, r.OnCreate}, {UpdateContent, r.UpdateContent}, {PostCreate, r.PostCreate}, {PostStart, r.PostStart}} {
		if cs := d.commands(m.moment, m.value, vars); len(cs) > 0 {
			out.SetUp = append(out.SetUp, SetUp{Moment: m.moment, Commands: cs})
		}
	}
	return out
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
		at := d.at("build")
		base := path.Dir(out.Path)
		file, ok := inside(base, v.put(b.Dockerfile))
		if !ok {
			d.say(Error, at, "name a file inside the repository", "dockerfile %q lies outside the repository", b.Dockerfile)
			return
		}
		ctx := b.Context
		if ctx == "" {
			ctx = "."
		}
		dir, ok := inside(base, v.put(ctx))
		if !ok {
			d.say(Error, at, "name a folder inside the repository", "build context %q lies outside the repository", ctx)
			return
		}
		if _, ok := src.Read(file); !ok {
			d.say(Error, at, "", "dockerfile %q is not in the repository", file)
		}
		out.Build = &Build{Dockerfile: file, Context: dir, Target: b.Target, Args: map[string]string{}}
		for k, val := range b.Args {
			out.Build.Args[k] = v.put(val)
		}
	case strings.TrimSpace(r.Image) == "":
		d.say(Error, -1, "add \"image\" or \"build\"", "neither image nor build is given")
	case strings.ContainsFunc(r.Image, func(c rune) bool { return unicode.IsSpace(c) || unicode.IsControl(c) }):
		d.say(Error, d.at("image"), "take the blank out", "image %q has a blank in it", r.Image)
	default:
		out.Image = v.put(r.Image)
	}
}

// folder is the workspace folder: what the definition names, else
// /workspaces/REPOSITORY as the specification's default.
func (d *doc) folder(named, repository string) string {
	if named == "" {
		return "/workspaces/" + repository
	}
	f := path.Clean(variables{folder: "/workspaces/" + repository}.put(named))
	if !path.IsAbs(f) || f == "/" || systemFolder.MatchString(f) || strings.ContainsFunc(f, unicode.IsControl) {
		d.say(Error, d.at("workspaceFolder"), "use a folder such as /workspaces/"+repository, "workspaceFolder %q cannot be used", named)
	}
	return f
}

// systemFolder matches paths a volume must not cover.
var systemFolder = regexp.MustCompile(`^/(bin|boot|dev|etc|lib|lib64|proc|run|sbin|sys|usr|var|\.yardbench)(/|$)`)

var (
	userName = regexp.MustCompile(`^([A-Za-z0-9_][A-Za-z0-9_.-]{0,63})?$`)
	envName  = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
)

func (d *doc) env(into, from map[string]string, property string, v variables) {
	for _, k := range sortedKeys(from) {
		if !envName.MatchString(k) {
			d.say(Error, d.at(property), "use letters, digits and _", "%q in %s is no variable name", k, property)
			continue
		}
		into[k] = v.put(from[k])
	}
}

// portLabels reads the labels of ports; the other attributes are for editors.
func (d *doc) portLabels(out *Definition, attributes map[string]any) {
	for _, k := range sortedKeys(attributes) {
		port, err := strconv.Atoi(k)
		a, _ := attributes[k].(map[string]any)
		label, _ := a["label"].(string)
		if err != nil || label == "" || port < 1 || port > 65535 {
			continue // a range or a pattern, or nothing for us
		}
		if out.PortLabels == nil {
			out.PortLabels = map[int]string{}
		}
		if label = printable(label); len([]rune(label)) > 60 {
			label = string([]rune(label)[:60])
		}
		out.PortLabels[port] = label
	}
}

// MaxSecrets bounds the secrets a definition may ask for.
const MaxSecrets = 100

// secrets reads the names of the secrets that are wanted.
func (d *doc) secrets(out *Definition, wanted map[string]any) {
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
		if text = printable(text); len([]rune(text)) > 300 {
			text = string([]rune(text)[:300])
		}
		out.Secrets = append(out.Secrets, Wanted{Name: k, Description: text})
	}
}

func (d *doc) ports(out *Definition, values []any) {
	for _, val := range values {
		switch p := val.(type) {
		case float64:
			if p == math.Trunc(p) && p >= 1 && p <= 65535 {
				out.Ports = append(out.Ports, int(p))
				continue
			}
		case string: // "host:port" names another service; only our own host is known here
			host, port, _ := strings.Cut(p, ":")
			if n, err := strconv.Atoi(port); err == nil && host == "localhost" && n >= 1 && n <= 65535 {
				out.Ports = append(out.Ports, n)
				continue
			}
		}
		d.say(Error, d.at("forwardPorts"), "give numbers from 1 to 65535", "%v in forwardPorts is no port", val)
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
type variables struct{ folder string }

func (v variables) put(s string) string {
	return variable.Pattern.ReplaceAllStringFunc(s, func(m string) string {
		p := variable.Pattern.FindStringSubmatch(m)
		switch p[1] {
		case "localWorkspaceFolder", "containerWorkspaceFolder":
			return v.folder
		case "localWorkspaceFolderBasename", "containerWorkspaceFolderBasename":
			return path.Base(v.folder)
		case "localEnv", "env": // nobody's own machine takes part: the default counts
			return p[3]
		}
		return m
	})
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

// at is the offset of a top-level member's name, -1 when there is none.
func (d *doc) at(name string) int {
	if obj, ok := d.root.Value.(*hujson.Object); ok {
		for _, m := range obj.Members {
			if m.Name.Value.(hujson.Literal).String() == name {
				return m.Name.StartOffset
			}
		}
	}
	return -1
}

func position(text []byte, offset int) (line, column int) {
	if offset > len(text) {
		offset = len(text)
	}
	before := string(text[:offset])
	return strings.Count(before, "\n") + 1, offset - strings.LastIndexByte(before, '\n')
}

var parsePlace = regexp.MustCompile(`line (\d+), column (\d+): `)

// syntaxOffset takes the place out of the parser's message.
func syntaxOffset(text []byte, err error) int {
	m := parsePlace.FindStringSubmatch(err.Error())
	if m == nil {
		return -1
	}
	line, _ := strconv.Atoi(m[1])
	col, _ := strconv.Atoi(m[2])
	off := 0
	for range line - 1 {
		i := strings.IndexByte(string(text[off:]), '\n')
		if i < 0 {
			return -1
		}
		off += i + 1
	}
	return off + col - 1
}

func parseCause(err error) string {
	s := err.Error()
	if i := parsePlace.FindStringIndex(s); i != nil {
		return s[i[1]:]
	}
	return strings.TrimPrefix(s, "hujson: ")
}

// tooDeep finds nesting beyond MaxDepth without recursion.
func tooDeep(text []byte) (int, bool) {
	depth, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '/' && i+1 < len(text) && text[i+1] == '/':
			for i < len(text) && text[i] != '\n' {
				i++
			}
		case c == '/' && i+1 < len(text) && text[i+1] == '*':
			end := strings.Index(string(text[i+2:]), "*/")
			if end < 0 {
				return 0, false
			}
			i += 2 + end + 1
		case c == '{' || c == '[':
			if depth++; depth > MaxDepth {
				return i, true
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	return 0, false
}

// printable keeps a repository's control characters out of people's terminals.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return '\uFFFD'
		}
		return r
	}, s)
}

func kindWord(kind string) string {
	switch kind {
	case "map", "struct", "ptr":
		return "object"
	case "slice":
		return "array"
	}
	return kind
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}
