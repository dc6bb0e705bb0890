package definition

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/moby/buildkit/frontend/dockerfile/instructions"
	"github.com/moby/buildkit/frontend/dockerfile/parser"

	"yardbench/internal/core/plain"
)

// Proposed is one property of a proposed definition, and why it is proposed.
type Proposed struct {
	Property string `json:"property"`
	Value    any    `json:"value"`
	Reason   string `json:"reason"`
}

// language is what a file in the root of a tree tells.
type language struct {
	file string
	// version finds which version is wanted: in a file, by the first group.
	version []versionIn
	// installs are the commands that install the project's packages, by the
	// file that tells of each; the first that is there counts.
	installs [][2]string
}

type versionIn struct {
	file string
	form *regexp.Regexp
}

var number = regexp.MustCompile(`^\s*v?(\d+(?:\.\d+)?)`)

// languages are told by their own files, in the order of the house's usual
// images.
var languages = []language{
	{"go.mod", []versionIn{{"go.mod", regexp.MustCompile(`(?m)^go (\d+\.\d+)`)}}, [][2]string{{"go.mod", "go mod download"}}},
	{"package.json", []versionIn{{".nvmrc", number}, {".node-version", number}, {"package.json", regexp.MustCompile(`"node"\s*:\s*"[^0-9"]*(\d+)`)}},
		[][2]string{{"pnpm-lock.yaml", "pnpm install --frozen-lockfile"}, {"yarn.lock", "yarn install --immutable"}, {"bun.lock", "bun install --frozen-lockfile"}, {"package-lock.json", "npm ci"}, {"package.json", "npm install"}}},
	{"pyproject.toml", []versionIn{{".python-version", number}, {"pyproject.toml", regexp.MustCompile(`requires-python\s*=\s*"[^0-9"]*(\d+\.\d+)`)}},
		[][2]string{{"uv.lock", "uv sync"}, {"poetry.lock", "poetry install"}, {"requirements.txt", "pip install -r requirements.txt"}, {"pyproject.toml", "pip install -e ."}}},
	{"requirements.txt", []versionIn{{".python-version", number}}, [][2]string{{"requirements.txt", "pip install -r requirements.txt"}}},
	{"Cargo.toml", []versionIn{{"rust-toolchain.toml", regexp.MustCompile(`channel\s*=\s*"(\d+\.\d+)`)}, {"rust-toolchain", number}, {"Cargo.toml", regexp.MustCompile(`rust-version\s*=\s*"(\d+\.\d+)`)}}, [][2]string{{"Cargo.toml", "cargo fetch"}}},
	{"Gemfile", []versionIn{{".ruby-version", number}, {"Gemfile", regexp.MustCompile(`(?m)^ruby ["'](\d+\.\d+)`)}}, [][2]string{{"Gemfile", "bundle install"}}},
	{"pom.xml", nil, [][2]string{{"mvnw", "./mvnw -q dependency:go-offline"}, {"pom.xml", "mvn -q dependency:go-offline"}}},
}

// Propose looks at a tree that has no definition and proposes one, each
// property with its reason, in the order in which people write them.
func Propose(src Source) (out []Proposed) {
	put := func(property string, value any, format string, args ...any) {
		out = append(out, Proposed{property, value, plain.Text(fmt.Sprintf(format, args...))})
	}
	read := func(name string) string {
		content, ok := src.Read(name)
		if !ok || len(content) > MaxBytes {
			return ""
		}
		return string(content)
	}
	there := func(name string) bool { _, ok := src.Read(name); return ok }
	var spoken *language
	for i := range languages {
		if there(languages[i].file) {
			spoken = &languages[i]
			break
		}
	}
	put("name", src.Repository, "the repository's name")
	def, _ := Resolve(src) // what a launch would take as it is
	var ports []any
	var told []string // why those ports
	switch {
	case def.Compose != nil:
		put("dockerComposeFile", "../"+def.Compose.Files[0], "%s says what runs", def.Compose.Files[0])
		put("service", def.Compose.Work, "the repository is mounted into it or built for it")
		put("workspaceFolder", def.Folder, "that is where it is mounted")
		for _, p := range def.Ports {
			if host := def.PortHosts[p]; host != "" {
				ports = append(ports, fmt.Sprintf("%s:%d", host, p))
			} else {
				ports = append(ports, p)
			}
		}
		if len(ports) > 0 {
			told = append(told, def.Compose.Files[0]+" publishes them")
		}
	case def.Build != nil:
		build := map[string]any{"dockerfile": "../" + def.Build.Dockerfile, "context": ".."}
		why := def.Build.Dockerfile + " says what is in it"
		stages := stagesOf(read(def.Build.Dockerfile))
		target := len(stages) - 1
		if i := developers(stages); i >= 0 {
			target = i
			build["target"] = stages[i].Name
			why += fmt.Sprintf(", and its stage %s is for people", stages[i].Name)
		}
		put("build", build, "%s", why)
		base, _ := reached(stages, target)
		user, exposes := endsAs(stages, base, target)
		for _, p := range exposes {
			ports = append(ports, p.port)
		}
		if len(ports) > 0 {
			told = append(told, def.Build.Dockerfile+" exposes them")
		}
		if user != "" && !isRoot(user) {
			put("remoteUser", user, "%s ends as that user", def.Build.Dockerfile)
		}
	default:
		image, why := usualImage(src)
		if spoken != nil {
			v, file := spoken.wanted(read)
			if v == "" {
				v, file = checkedWith(src, image, read)
			}
			if v != "" {
				image, why = withVersion(image, v), fmt.Sprintf("it holds %s, and %s asks for %s", spoken.file, file, v)
			}
		}
		put("image", image, "%s", why)
	}
	if spoken != nil {
		for _, i := range spoken.installs {
			if there(i[0]) {
				put("updateContentCommand", i[1], "%s names the packages; a prebuild has them ready", i[0])
				break
			}
		}
	}
	if there("Makefile") {
		if t := regexp.MustCompile(`(?m)^(setup|bootstrap|deps|install-deps):`).FindStringSubmatch(read("Makefile")); t != nil {
			put("postCreateCommand", "make "+t[1], "the Makefile has that target")
		}
	}
	if len(ports) > 0 {
		put("forwardPorts", ports, "%s", strings.Join(told, ", "))
	}
	secrets := map[string]any{}
	for _, file := range []string{".env.example", ".env.sample", ".env.template"} {
		for _, line := range strings.Split(read(file), "\n") {
			name, _, ok := strings.Cut(strings.TrimPrefix(strings.TrimSpace(line), "export "), "=")
			if ok && envName.MatchString(name) && secretName.MatchString(name) && !notSecret.MatchString(name) && len(secrets) < 20 {
				secrets[name] = map[string]any{"description": "see " + file}
			}
		}
		if len(secrets) > 0 {
			put("secrets", secrets, "%s leaves them for each person to fill in", file)
			break
		}
	}
	return out
}

// wanted is the version that a tree asks for, and the file that says so.
func (l language) wanted(read func(string) string) (version, file string) {
	for _, v := range l.version {
		if m := v.form.FindStringSubmatch(read(v.file)); m != nil {
			return m[1], v.file
		}
	}
	return "", ""
}

// Where the checks of a project are written down, in YAML: files of the root, and
// folders of them.
var (
	checkFiles   = []string{".gitlab-ci.yml", ".woodpecker.yml", ".woodpecker.yaml"}
	checkFolders = []string{".github/workflows", ".gitea/workflows", ".forgejo/workflows", ".woodpecker"}
	// checkVersion is a version that a check asks for by the language's name.
	checkVersion = regexp.MustCompile(`(?m)^[ \t-]*(go|node|python|rust|ruby)-version:[ \t]*["']?(\d+(?:\.\d+)?)`)
	// checkImage is an image that a check runs in, by its last name.
	checkImage = regexp.MustCompile(`(?m)^[ \t-]*(?:image|container|name):[ \t]*["']?(?:[\w.:-]+/)*([a-z]+):(\d+(?:\.\d+)?)`)
)

// checkedWith is the version of a usual image that the project's own checks
// run with, and the file that says so.
func checkedWith(src Source, image string, read func(string) string) (version, file string) {
	files := slices.Clone(checkFiles)
	for _, folder := range checkFolders {
		for _, name := range src.list(folder) {
			if strings.HasSuffix(name, ".yml") || strings.HasSuffix(name, ".yaml") {
				files = append(files, folder+"/"+name)
			}
		}
	}
	own, _, _ := strings.Cut(image[strings.LastIndexByte(image, '/')+1:], ":")
	for _, f := range files[:min(len(files), 20)] {
		text := read(f)
		for _, m := range checkVersion.FindAllStringSubmatch(text, -1) {
			if m[1] == own || m[1]+"lang" == own {
				return m[2], f
			}
		}
		for _, m := range checkImage.FindAllStringSubmatch(text, -1) {
			if m[1] == own {
				return m[2], f
			}
		}
	}
	return "", ""
}

var imageVersion = regexp.MustCompile(`:\d+(\.\d+)*`)

// withVersion puts a version in the place of an image's.
func withVersion(image, version string) string {
	if !imageVersion.MatchString(image) {
		return image
	}
	return imageVersion.ReplaceAllLiteralString(image, ":"+version)
}

// stagesOf are the stages of a build file; none where it cannot be read.
func stagesOf(dockerfile string) []instructions.Stage {
	parsed, err := parser.Parse(strings.NewReader(dockerfile))
	if err != nil {
		return nil
	}
	stages, _, err := instructions.Parse(parsed.AST, nil)
	if err != nil {
		return nil
	}
	return stages
}

// developers is the stage that is named as for people who work in it; -1 where
// none is.
func developers(stages []instructions.Stage) int {
	return slices.IndexFunc(stages, func(s instructions.Stage) bool {
		return slices.Contains([]string{"dev", "develop", "development", "devcontainer", "workspace"}, strings.ToLower(s.Name))
	})
}

// ProposalText is a proposed definition as a file, the reason beside each line.
func ProposalText(ps []Proposed) []byte {
	var b bytes.Buffer
	b.WriteString("{\n")
	for i, p := range ps {
		value, err := json.Marshal(p.Value)
		if err != nil { // plain values always marshal
			panic(err)
		}
		comma := ","
		if i == len(ps)-1 {
			comma = ""
		}
		fmt.Fprintf(&b, "  // %s\n  %q: %s%s\n", p.Reason, p.Property, value, comma)
	}
	b.WriteString("}\n")
	return b.Bytes()
}
