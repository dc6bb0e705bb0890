package definition

import (
	"bytes"
	"cmp"
	"math"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"github.com/tailscale/hujson"

	"yardbench/internal/core/definition/variable"
	"yardbench/internal/core/plain"
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
	"builder-frontend":  "the service reads build files itself, in their newest syntax: there is nothing to fetch, and what is checked is what is built",
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
	near := plain.Near(name, known)
	if strings.EqualFold(near, name) {
		d.rule("wrong-case", Warning, at, "write "+near, "%s is no property: %s is", name, near)
		return
	}
	fix := "take it out"
	if near != "" {
		fix = "write " + near + ", if that is meant"
	}
	d.rule("unknown-property", Warning, at, fix, "%s is no property %s", name, of)
}

// envFiles are where values for an environment are commonly left behind.
var envFiles = []string{".env", ".devcontainer/.env"}

// secretsInEnvFile finds what nobody should see in a committed file of values;
// one that only chooses versions and profiles may be there.
func secretsInEnvFile(path string, text []byte) []Finding {
	e := &doc{path: path, text: text}
	values, err := environment(text, &allowance{})
	if err != nil {
		return nil // told where it is used
	}
	for n := 1; e.line(n) >= 0 && !e.full(); n++ {
		line, _, _ := strings.Cut(string(text[e.line(n):]), "\n")
		name, _, ok := strings.Cut(strings.TrimPrefix(strings.TrimSpace(line), "export "), "=")
		if name = strings.TrimSpace(name); ok && !strings.HasPrefix(name, "#") {
			if why := looksSecret(name, values[name]); why != "" {
				e.rule("env-file", Warning, e.line(n), "take it out, ignore the file, and give the value as a secret", "%s %s, and the file is committed", name, why).Subject = name
			}
		}
	}
	return e.findings
}

// maxBuildBytes bounds the build files of one definition together, one that
// several services are built from counted for each.
const maxBuildBytes = 2 << 20

// Check is Resolve with advice: what is allowed and yet likely to hurt. What
// src.Read gives is taken for committed.
func Check(src Source) (Definition, []Finding) {
	out, d := find(src)
	_, bad := Fatal(d.all())
	if bad && out.Path == "" { // nothing was read that could be looked at further
		return out, Bounded(d.all())
	}
	if src.House != nil {
		var fs []Finding
		out, fs = Permit(out, src.Repository, *src.House)
		d.findings = append(d.findings, fs...)
	} else {
		_, fs := Permit(out, src.Repository, rules.Rules{})
		for _, f := range fs { // what they are is the service's to know
			if f.Severity == Error {
				f.Severity, f.What = Warning, strings.Replace(f.What, " is closed by", " may be closed by", 1)
			}
			d.findings = append(d.findings, f)
		}
	}
	user := out.Person()
	builds := []*Build{out.Build}
	(checkDoc{d}).advise(out)
	if out.Compose != nil {
		for _, s := range out.Compose.Services {
			builds = append(builds, s.Build)
			if why := unpinned(s.Image); s.Build == nil && why != "" {
				composeDoc{d}.tell("image-unpinned", Warning, s.Name, "image", "name a version, or a digest", "image %q of service %q %s", s.Image, s.Name, why).Subject = s.Image
			}
		}
		composeDoc{d}.portsNotForwarded(out)
	}
	looked := 0
	for i, b := range builds {
		if b == nil {
			continue
		}
		f := &doc{path: b.Dockerfile, text: []byte(b.Inline)}
		if b.Inline != "" {
			f.path = composeFileOf(d, out)
		} else {
			content, ok := src.Read(b.Dockerfile)
			if !ok {
				continue
			}
			f.text = content
		}
		if looked += len(f.text); looked > maxBuildBytes {
			d.rule("build-file", Error, -1, "make them smaller, or let several services use one image", "the build files come to more than the %d bytes allowed", maxBuildBytes)
			break
		}
		other := "other" // the user of a service is its own matter
		last := &user
		if i > 0 {
			last = &other
		}
		checkDoc{f}.dockerfile(out.Ports, last, b, src.House)
		d.findings = append(d.findings, f.findings...)
	}
	switch {
	case d.root.Value == nil, bad: // nobody wrote it, or it may yet say
	case isRoot(user):
		d.rule("root-user", Note, d.at("remoteUser"), "name another in remoteUser", "the workspace's user is root")
	case user == "":
		d.rule("root-user", Note, -1, "name a user in remoteUser", "no user is named: it is root, unless the image says otherwise")
	}
	for _, p := range envFiles {
		if text, ok := src.Read(p); ok && len(text) <= MaxBytes {
			d.findings = append(d.findings, secretsInEnvFile(p, text)...)
		}
	}
	return out, Bounded(d.all())
}

// isRoot tells whether a user, with a group or without, is root.
func isRoot(user string) bool {
	name, _, _ := strings.Cut(user, ":")
	return name == "root" || name == "0"
}

// composeFileOf is where a build file without a file of its own stands.
func composeFileOf(d *doc, out Definition) string {
	if out.Compose != nil {
		return out.Compose.Files[0]
	}
	return d.path
}

// advise looks at what the definition comes to.
func (d checkDoc) advise(out Definition) {
	d.variablesWithoutDefault()
	tell := func(key, where, name, value string) {
		if why := looksSecret(name, value); why != "" {
			path, line, column := out.placeOf(key)
			f := &doc{path: path}
			f.rule("secret-in-file", Warning, -1, "take it out and ask for it in secrets; each person gives theirs", "%s in %s %s", name, where, why).Subject = name
			f.findings[0].Line, f.findings[0].Column = line, column
			d.findings = append(d.findings, f.findings...)
		}
	}
	for _, k := range sortedKeys(out.Env) {
		tell("env."+k, "the environment", k, out.Env[k])
	}
	for _, k := range sortedKeys(out.SessionEnv) {
		tell("session_env."+k, "the environment", k, out.SessionEnv[k])
	}
	if out.Build != nil {
		for _, k := range sortedKeys(out.Build.Args) {
			tell(cmp.Or(nonempty(out.Origins, "build.args."+k), "build"), "the build's arguments", k, out.Build.Args[k])
		}
	}
	if why := unpinned(out.Image); out.Image != "" && why != "" && out.Build == nil {
		file, at := d.doc, d.at("image")
		if out.Compose != nil {
			file, at = composeDoc(d).spot("services", out.Compose.Work, "image")
		}
		if out.Compose != nil || d.root.Value != nil { // else nobody wrote it
			file.rule("image-unpinned", Warning, at, "name a version, or a digest", "image %q %s", out.Image, why).Subject = out.Image
		}
	}
	if out.Compose != nil {
		for _, s := range out.Compose.Services {
			for _, k := range sortedKeys(s.Env) {
				if why := looksSecret(k, s.Env[k]); why != "" {
					file, at := composeDoc(d).spot("services", s.Name, "environment", k)
					file.rule("secret-in-file", Warning, at, "write ${"+k+":-VALUE} with a value that opens nothing", "%s of service %q %s", k, s.Name, why).Subject = k
				}
			}
		}
	}
	d.slowSetUp(out)
}

var (
	// secretName matches names of what opens something, notSecret those that
	// speak of one: where it lies, how long it is, whether there is one.
	secretName = regexp.MustCompile(`(?i)(secret|token|passw(or)?d|(^|_)(pass|pw)$|api_?key|private_?key|access_?key|credential)`)
	notSecret  = regexp.MustCompile(`(?i)(_file|_path|_dir|_realm|_url|_uri|_name|_id|_user|_minutes|_seconds|_hours|_days|_ttl|_length|_min|_max|_type|_method|_algorithm|_issuer|_expiry|_enabled)$|^(public_|min_|max_|.*_allow_|.*parallelism)`)
	// tokenForms are the forms of tokens that their makers publish so that
	// they can be found.
	tokenForms = regexp.MustCompile(`\b(gh[pousr]_[A-Za-z0-9]{36}|github_pat_[A-Za-z0-9_]{40,}|glpat-[A-Za-z0-9_-]{20}|xox[abprs]-[A-Za-z0-9-]{10,}|A(KI|SI)A[0-9A-Z]{16}|[rs]k_live_[A-Za-z0-9]{20,}|npm_[A-Za-z0-9]{36}|eyJ[A-Za-z0-9_-]{10,}\.eyJ[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]{10,})`)
	// inAddress is the password in an address (RFC 3986, userinfo).
	inAddress = regexp.MustCompile(`[a-z][a-z0-9+.-]*://[^/\s:@]*:([^/\s@]+)@`)
	// ownDefault is a variable with a default, alone.
	ownDefault = regexp.MustCompile(`^\$\{[A-Za-z_][A-Za-z0-9_]*:?-(.*)\}$`)
)

// looksSecret tells why a value is taken for a secret; "" when it is not. What
// is put in from elsewhere is none. A name alone is no reason: the value must
// be one that could open something.
func looksSecret(name, value string) string {
	value = strings.TrimSpace(value)
	if m := ownDefault.FindStringSubmatch(value); m != nil {
		value = m[1]
	}
	if strings.Contains(value, "-----BEGIN ") && strings.Contains(value, "PRIVATE KEY") {
		return "is a private key"
	}
	if tokenForms.MatchString(value) {
		return "has the form of a token"
	}
	for _, m := range inAddress.FindAllStringSubmatch(value, 9) {
		if couldOpen(m[1]) {
			return "has a password in its address"
		}
	}
	switch {
	case value == "" || strings.Contains(value, "$") || strings.Contains(value, "://") || strings.HasPrefix(value, "/") || strings.HasPrefix(value, "./"):
		return ""
	case secretName.MatchString(name) && !notSecret.MatchString(name) && couldOpen(value):
		return "is named like a secret"
	case len(value) >= 24 && !strings.ContainsAny(value, " /.:,;") && entropy(value) > 4.2 && strings.ContainsAny(value, "0123456789"):
		return "looks like a key"
	}
	return ""
}

// couldOpen tells whether a value is of a shape that secrets have: letters and
// digits together, or long and of many letters. Words and numbers alone, as
// throwaway databases have them, are not.
func couldOpen(value string) bool {
	if strings.Contains(value, "$") {
		return false
	}
	letters := strings.ContainsFunc(value, unicode.IsLetter)
	digits := strings.ContainsFunc(value, unicode.IsDigit)
	return len(value) >= 6 && letters && digits || len(value) >= 16 && entropy(value) > 3
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

// variablesWithoutDefault finds ${localEnv:NAME}, in what counts: not in
// comments, and not in mounts of somebody's home, which are told.
func (d checkDoc) variablesWithoutDefault() {
	text, err := standard(d.text) // comments become blanks, nothing moves
	if err != nil {
		return
	}
	for _, at := range variable.Pattern.FindAllSubmatchIndex(text, -1) {
		kind := string(text[at[2]:at[3]])
		if (kind != "localEnv" && kind != "env") || at[6] >= 0 {
			continue
		}
		if homeOf.Match(text[at[0]:at[1]]) && bytes.HasPrefix(text[at[1]:], []byte("/")) {
			continue
		}
		d.rule("no-default", Note, at[0], "give a default, as in ${localEnv:NAME:value}, or ask for it in secrets", "%s has no default", text[at[0]:at[1]])
	}
}

// moving are tags that mean another image tomorrow by their very name.
var moving = []string{"latest", "main", "master", "nightly", "edge", "lts", "current", "stable", "rolling", "dev", "next"}

// unpinned says what is loose about an image's name; "" when nothing is.
func unpinned(image string) string {
	if strings.ContainsAny(image, "$") || strings.Contains(image, "@sha256:") {
		return ""
	}
	last := image[strings.LastIndexByte(image, '/')+1:]
	switch _, tag, ok := strings.Cut(last, ":"); {
	case !ok:
		return "names no version"
	case slices.Contains(moving, tag):
		return "is whatever is the " + map[bool]string{true: "latest", false: "image of " + tag}[tag == "latest"]
	}
	return ""
}

func firstLineOf(err error) string {
	s, _, _ := strings.Cut(err.Error(), "\n")
	return s
}

var (
	systemInstall  = regexp.MustCompile(`\b(apt-get|apt|apk|dnf|yum|zypper|pacman)\s+(-\S+\s+)*(install|add|-S)\b`)
	packageInstall = regexp.MustCompile(`(^|[\s;&|(])(npm (ci|install|i)|yarn( install)?|pnpm (install|i)|bun install|pip3? install|uv sync|poetry install|bundle install|go mod (download|tidy)|cargo (fetch|build)|mvn \S+|\./mvnw \S+|gradle \S+|\./gradlew \S+|composer install|dotnet restore)(\s|$|[;&|)])`)
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
