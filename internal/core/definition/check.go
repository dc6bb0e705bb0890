package definition

import (
	"math"
	"regexp"
	"strings"

	"github.com/tailscale/hujson"

	"yardbench/internal/core/definition/variable"
	"yardbench/internal/core/rules"
)

// Rules are the rules of [Check], each with why it matters.
var Rules = map[string]string{
	"refused":           "nothing is launched from it",
	"build-file":        "the builder will most likely not read it either",
	"duplicate-key":     "readers differ in which of the two they take",
	"wrong-case":        "names are told apart by case, and this one is passed over without a word",
	"unknown-property":  "what is misspelt is passed over without a word, and is missing later",
	"not-honoured":      "what it asks for will not be there",
	"image-unpinned":    "a moved tag gives another environment tomorrow, and two people two different ones today",
	"secret-in-file":    "everybody who sees the repository has it, and it stays in the image and its history",
	"env-file":          "everybody who sees the repository has what is in it",
	"root-user":         "what runs as root can change the environment under itself, and files belong to root",
	"port-not-declared": "nobody is shown the port before something listens on it",
	"builder-frontend":  "it is fetched from outside at each build, and the builder may not have a way there",
	"builder-syntax":    "the build fails at that line",
	"slow-set-up":       "everybody waits for it at every launch, where a prebuild or the image would have it ready",
	"closed":            "nothing is launched from it: it reaches beyond the workspace",
	"no-definition":     "everybody gets what is usual, which may not be what the repository needs",
	"feature":           "without it something that the repository counts on is missing",
	"feature-loop":      "no order is right in which to put them on",
	"compose-file":      "no service of it can be started",
	"compose-folder":    "the specification's usual is the root of the file system, where no clone can be",
	"size-too-small":    "it may run out of what it needs",
	"missing-program":   "the command fails, and those after it are not run",
	"no-default":        "nobody's own machine takes part, so without a default it is always empty",
}

// duplicates finds what is said twice in an object and in those within it.
func (d checkDoc) duplicates(obj *hujson.Object, in string) {
	seen := map[string]bool{}
	for _, m := range obj.Members {
		name := m.Name.Value.(hujson.Literal).String()
		if seen[name] {
			d.rule("duplicate-key", Warning, m.Name.StartOffset, "keep one of the two", "%s%s stands here a second time; the last one counts", in, name)
		}
		seen[name] = true
		if o, ok := m.Value.Value.(*hujson.Object); ok {
			d.duplicates(o, in+name+".")
		}
	}
}

// moved are properties that the specification once had, and where they went.
var moved = map[string]string{
	"extensions": "move it to customizations, under the name of the editor",
	"settings":   "move it to customizations, under the name of the editor",
	"devPort":    "take it out: nothing reads it any more",
}

// unknown says of a property that is none what may be meant; in is the property
// that it stands in, "" at the top.
func (d checkDoc) unknown(name string, at int, known []string, in string) {
	if d.full() {
		return
	}
	of := "of the specification"
	if in != "" {
		of = "of " + in
	}
	if fix := moved[name]; fix != "" && in == "" {
		d.rule("unknown-property", Warning, at, fix, "%s is no property %s any more", name, of)
		return
	}
	near, distance := "", 3
	for _, k := range known {
		if strings.EqualFold(k, name) {
			d.rule("wrong-case", Warning, at, "write "+k, "%s is no property: %s is", name, k)
			return
		}
		if n := edits(strings.ToLower(k), strings.ToLower(name)); n < distance {
			near, distance = k, n
		}
	}
	fix := "take it out"
	if near != "" {
		fix = "write " + near + ", if that is meant"
	}
	d.rule("unknown-property", Warning, at, fix, "%s is no property %s", name, of)
}

// edits is the number of letters to change, put in or take out that lead from
// one word to the other (Levenshtein's distance), at most 9.
func edits(a, b string) int {
	if len(a)-len(b) > 8 || len(b)-len(a) > 8 {
		return 9
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		before := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := before
			if a[i-1] != b[j-1] {
				cost = min(before, row[j], row[j-1]) + 1
			}
			before, row[j] = row[j], cost
		}
	}
	return min(row[len(b)], 9)
}

// envFiles are where values for an environment are commonly left behind.
var envFiles = []string{".env", ".devcontainer/.env"}

// Check is Resolve with advice: what is allowed and yet likely to hurt. What
// src.Read gives is taken for committed.
func Check(src Source) (Definition, []Finding) {
	out, d := find(src)
	_, bad := Fatal(d.all())
	if bad && out.Path == "" { // nothing was read that could be looked at further
		return out, bounded(d.all())
	}
	if d.root.Value != nil {
		checkDoc{d}.advise(out)
	}
	if src.House != nil {
		d.findings = append(d.findings, Permit(out, src.Repository, *src.House)...)
	} else if fs := Permit(out, src.Repository, rules.Rules{}); len(fs) > 0 {
		for _, f := range fs { // what they are is the service's to know
			f.Severity = Warning
			d.findings = append(d.findings, f)
		}
	}
	user := out.Person()
	builds := []*Build{out.Build}
	if out.Compose != nil {
		for _, s := range out.Compose.Services {
			builds = append(builds, s.Build)
			if why := unpinned(s.Image); s.Build == nil && why != "" {
				d.rule("image-unpinned", Warning, d.at("dockerComposeFile"), "name a version, or a digest", "image %q of service %q %s", s.Image, s.Name, why)
			}
		}
		composeDoc{d}.portsNotForwarded(out)
	}
	for i, b := range builds {
		if b == nil {
			continue
		}
		f := &doc{path: b.Dockerfile, text: []byte(b.Inline)}
		if b.Inline == "" {
			content, ok := src.Read(b.Dockerfile)
			if !ok {
				continue
			}
			f.text = content
		}
		other := "other" // the user of a service is its own matter
		last := &user
		if i > 0 {
			last = &other
		}
		checkDoc{f}.dockerfile(out.Ports, last, b, src.House)
		checkDoc{f}.syntax(src.Syntax)
		d.findings = append(d.findings, f.findings...)
	}
	switch {
	case d.root.Value == nil, bad: // nobody wrote it, or it may yet say
	case user == "root" || user == "0":
		d.rule("root-user", Note, d.at("remoteUser"), "name another in remoteUser", "the workspace's user is root")
	case user == "":
		d.rule("root-user", Note, -1, "name a user in remoteUser", "no user is named: it is root, unless the image says otherwise")
	}
	for _, p := range envFiles {
		if _, ok := src.Read(p); ok {
			e := &doc{path: p}
			e.rule("env-file", Warning, -1, "take it out, ignore it, and give its values as secrets", "%s is committed", p)
			d.findings = append(d.findings, e.findings...)
		}
	}
	return out, bounded(d.all())
}

// advise looks at what the definition itself says.
func (d checkDoc) advise(out Definition) {
	d.variablesWithoutDefault()
	for _, property := range []string{"containerEnv", "remoteEnv"} {
		d.secretsIn(property)
	}
	d.secretsIn("build", "args")
	if out.Image != "" && out.Compose == nil {
		if why := unpinned(out.Image); why != "" {
			d.rule("image-unpinned", Warning, d.at("image"), "name a version, or a digest", "image %q %s", out.Image, why)
		}
	}
	if out.Compose != nil {
		for _, s := range out.Compose.Services {
			for _, k := range sortedKeys(s.Env) {
				if why := looksSecret(k, s.Env[k]); why != "" {
					d.rule("secret-in-file", Warning, d.at("dockerComposeFile"), "give it a default that opens nothing, or take it out", "%s of service %q %s", k, s.Name, why)
				}
			}
		}
	}
	d.slowSetUp(out)
}

// members lists the members of a nested object by its path.
func (d *doc) members(path ...string) []hujson.ObjectMember {
	v := d.root.Value
	for n := 0; ; n++ {
		obj, ok := v.(*hujson.Object)
		if !ok {
			return nil
		}
		if n == len(path) {
			return obj.Members
		}
		v = nil
		for _, m := range obj.Members {
			if m.Name.Value.(hujson.Literal).String() == path[n] {
				v = m.Value.Value
			}
		}
	}
}

var secretName = regexp.MustCompile(`(?i)(secret|token|passw(or)?d|api_?key|private_?key|access_?key|credential)`)

// looksSecret tells why a value is taken for a secret; "" when it is not.
// What is put in from elsewhere is none.
func looksSecret(name, value string) string {
	value = strings.TrimSpace(value)
	switch {
	case value == "" || strings.Contains(value, "$"):
		return ""
	case strings.Contains(value, "-----BEGIN ") && strings.Contains(value, "PRIVATE KEY"):
		return "is a private key"
	case secretName.MatchString(name) && len(value) >= 4:
		return "is named like a secret"
	case len(value) >= 24 && !strings.ContainsAny(value, " /.:,;") && entropy(value) > 4.2 && strings.ContainsAny(value, "0123456789"):
		return "looks like a key"
	}
	return ""
}

// entropy is Shannon's, in bits a byte.
func entropy(s string) (h float64) {
	count := map[rune]float64{}
	for _, r := range s {
		count[r]++
	}
	n := float64(len([]rune(s)))
	for _, c := range count {
		h -= c / n * math.Log2(c/n)
	}
	return h
}

func (d checkDoc) secretsIn(path ...string) {
	for _, m := range d.members(path...) {
		name := m.Name.Value.(hujson.Literal).String()
		value, ok := m.Value.Value.(hujson.Literal)
		if !ok || value.Kind() != '"' {
			continue
		}
		if why := looksSecret(name, value.String()); why != "" {
			d.rule("secret-in-file", Warning, m.Name.StartOffset, "take it out and ask for it in secrets; each person gives theirs", "%s in %s %s", name, strings.Join(path, "."), why)
		}
	}
}

func (d checkDoc) variablesWithoutDefault() {
	for _, at := range variable.Pattern.FindAllSubmatchIndex(d.text, -1) {
		kind := string(d.text[at[2]:at[3]])
		if (kind == "localEnv" || kind == "env") && at[6] < 0 {
			d.rule("no-default", Note, at[0], "give a default, as in ${localEnv:NAME:value}, or ask for it in secrets", "%s has no default", d.text[at[0]:at[1]])
		}
	}
}

// unpinned says what is loose about an image's name; "" when nothing is.
func unpinned(image string) string {
	if strings.ContainsAny(image, "$") || strings.Contains(image, "@sha256:") {
		return ""
	}
	last := image[strings.LastIndexByte(image, '/')+1:]
	switch _, tag, ok := strings.Cut(last, ":"); {
	case !ok:
		return "names no version"
	case tag == "latest":
		return "is whatever is the latest"
	}
	return ""
}

func firstLineOf(err error) string {
	s, _, _ := strings.Cut(err.Error(), "\n")
	return s
}

var (
	systemInstall  = regexp.MustCompile(`\b(apt-get|apt|apk|dnf|yum|zypper|pacman)\s+(-\S+\s+)*(install|add|-S)\b`)
	packageInstall = regexp.MustCompile(`\b(npm (ci|install|i)|yarn install|pnpm install|pip3? install|poetry install|bundle install|go mod download|cargo (fetch|build)|mvn \S*|gradle \S*|composer install)\b`)
)

// slowSetUp finds what everybody waits for at a moment where it need not be.
func (d checkDoc) slowSetUp(out Definition) {
	for _, u := range out.SetUp {
		for _, c := range u.Commands {
			text := c.Shell + strings.Join(c.Args, " ")
			switch {
			case systemInstall.MatchString(text):
				d.rule("slow-set-up", Warning, d.at(string(u.Moment)), "install them in the image", "%s installs system packages", u.Moment)
			case !u.Moment.BeforePerson() && packageInstall.MatchString(text):
				d.rule("slow-set-up", Note, d.at(string(u.Moment)), "move it to onCreateCommand or updateContentCommand, which a prebuild runs ahead", "%s installs the project's packages", u.Moment)
			}
		}
	}
}
