package definition

import (
	"bytes"
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/distribution/reference"
	"github.com/moby/buildkit/frontend/dockerfile/instructions"
	"github.com/moby/buildkit/frontend/dockerfile/parser"
	"github.com/moby/buildkit/frontend/dockerfile/shell"

	"yardbench/internal/core/rules"
)

// ownImages begins the names of the images that the service itself makes: they
// hold other people's repositories, and are its own to use.
const ownImages = "yardbench/"

// imageID matches what an engine takes for the id of an image rather than for
// a name.
var imageID = regexp.MustCompile(`^(sha256:)?[0-9a-f]{12,64}$`)

// ours tells whether a name means, or may mean, an image of the service's own.
func ours(image string) bool {
	image = strings.TrimSpace(image)
	if imageID.MatchString(image) {
		return true
	}
	named, err := reference.ParseNormalizedNamed(image)
	return err == nil && reference.Domain(named) == "docker.io" && strings.HasPrefix(reference.Path(named), ownImages) || strings.HasPrefix(image, ownImages)
}

// mayUse holds an image against what is the service's own, and against the
// house rules.
func (d checkDoc) mayUse(image string, at int, house *rules.Rules) {
	switch {
	case strings.Contains(image, "$"):
		d.say(Error, at, "write the image's name", "which image %q is cannot be told", image)
	case ours(image):
		d.say(Error, at, "name an image of a registry", "image %q is one that the service made, or an id; neither can be used by name", image)
	case house != nil && !house.Images.May(house.Images.Mirrored(image)):
		d.rule("closed", Error, at, "use one from: "+strings.Join(house.Images.From, ", "), "image %q comes from where the house rules do not allow", image)
	}
}

// namedImage is an image that a build file takes something from.
type namedImage struct {
	image string
	line  int
	base  bool // a stage begins with it
	stage int
}

// platform are the arguments that the builder itself gives a value
// (Dockerfile reference, "Automatic platform ARGs").
var platform = []string{"BUILDPLATFORM=linux/amd64", "BUILDOS=linux", "BUILDARCH=amd64", "BUILDVARIANT=", "TARGETPLATFORM=linux/amd64", "TARGETOS=linux", "TARGETARCH=amd64", "TARGETVARIANT="}

// given are arguments that have a value; see [shell.EnvGetter].
type given map[string]string

func (g given) Get(name string) (string, bool) { v, ok := g[name]; return v, ok }
func (g given) Keys() []string                 { return sortedKeys(g) }

// imagesOf lists the images of a build file, in every instruction that names
// one, the file's own stages left out and build arguments put in.
func imagesOf(parsed *parser.Result, args map[string]string) (out []namedImage, err error) {
	for name := range args {
		if strings.HasPrefix(name, "BUILDKIT_") {
			return nil, fmt.Errorf("the build argument %s would steer the builder itself: leave it out", name)
		}
	}
	stages, global, err := instructions.Parse(parsed.AST, nil)
	if err != nil {
		return nil, err
	}
	lex := shell.NewLex(parsed.EscapeToken)
	env := given{}
	for _, p := range platform {
		k, v, _ := strings.Cut(p, "=")
		env[k] = v
	}
	put := func(word string) (string, error) {
		value, _, err := lex.ProcessWord(word, env)
		return value, err
	}
	for _, arg := range global {
		for _, a := range arg.Args {
			value := ""
			if a.Value != nil {
				if value, err = put(*a.Value); err != nil {
					return nil, err
				}
			}
			if mine, ok := args[a.Key]; ok {
				value = mine
			}
			env[a.Key] = value
		}
	}
	known := map[string]bool{"scratch": true}
	stage := 0
	add := func(image string, line int, base bool) {
		if _, err := strconv.Atoi(image); image != "" && (err != nil || base) && !known[strings.ToLower(image)] {
			out = append(out, namedImage{image, line, base, stage})
		}
	}
	for i, s := range stages {
		stage = i
		image, err := put(s.BaseName)
		if err != nil {
			return nil, err
		}
		add(image, lineOf(s.Location), true)
		for _, c := range s.Commands {
			if err := takesFrom(c, func(image string) { add(image, lineOf(c.Location()), false) }); err != nil {
				return nil, err
			}
		}
		if s.Name != "" {
			known[strings.ToLower(s.Name)] = true
		}
	}
	return out, nil
}

// takesFrom calls add with the images that an instruction takes files from.
func takesFrom(c instructions.Command, add func(image string)) error {
	switch c := c.(type) {
	case *instructions.CopyCommand:
		add(c.From)
	case *instructions.RunCommand:
		for _, m := range instructions.GetMounts(c) {
			add(m.From)
		}
	case *instructions.OnbuildCommand: // run in whatever is built on this
		inner, err := parser.Parse(strings.NewReader(c.Expression))
		if err != nil {
			return err
		}
		for _, n := range inner.AST.Children {
			command, err := instructions.ParseCommand(n)
			if err != nil {
				return err
			}
			if err := takesFrom(command, add); err != nil {
				return err
			}
		}
	}
	return nil
}

func lineOf(where []parser.Range) int {
	if len(where) == 0 {
		return 1
	}
	return where[0].Start.Line
}

// Bases are the images that a build takes something from.
func Bases(dockerfile []byte, args map[string]string) (out []string) {
	parsed, err := parser.Parse(bytes.NewReader(dockerfile))
	if err != nil {
		return nil
	}
	named, _ := imagesOf(parsed, args) // one that cannot be read is told by Check
	for _, b := range named {
		if !slices.Contains(out, b.image) {
			out = append(out, b.image)
		}
	}
	return out
}

// dockerfile looks at a build file. user becomes the image's last user where
// the definition names none.
func (d checkDoc) dockerfile(forwarded []int, user *string, b *Build, house *rules.Rules) {
	if len(d.text) > MaxBytes {
		d.rule("build-file", Error, -1, "make it smaller", "the build file has more than the %d bytes allowed", MaxBytes)
		return
	}
	if syntax, _, where, ok := parser.DetectSyntax(d.text); ok {
		line := 1
		if len(where) > 0 {
			line = where[0].Start.Line
		}
		d.rule("builder-frontend", Note, d.line(line), "leave the line out, or keep it for others", "the front end %s is not fetched", syntax)
	}
	parsed, err := parser.Parse(bytes.NewReader(d.text))
	var named []namedImage
	if err == nil {
		err = buildCost(parsed.AST.Children, b.Args)
	}
	if err == nil {
		named, err = imagesOf(parsed, b.Args)
	}
	if err != nil {
		d.rule("build-file", Error, d.placeNamed(err.Error()), "correct it; the Dockerfile reference says what may stand there", "the build file cannot be read: %s", firstLineOf(err))
		return
	}
	for _, f := range named {
		d.mayUse(f.image, d.line(f.line), house)
	}
	for _, image := range b.CacheFrom {
		d.mayUse(image, -1, house)
	}
	stages, _, err := instructions.Parse(parsed.AST, nil)
	if err != nil || len(stages) == 0 {
		return // told already
	}
	target := targetOf(stages, b.Target)
	if target < 0 {
		var names []string
		for _, s := range stages {
			if s.Name != "" {
				names = append(names, s.Name)
			}
		}
		d.say(Error, -1, "name one of: "+strings.Join(names, ", "), "the build file has no stage %q", b.Target)
		return
	}
	base, needed := reached(stages, target)
	if s := stages[target]; strings.EqualFold(s.BaseName, "scratch") {
		d.rule("build-file", Warning, d.line(lineOf(s.Location)), "begin with an image that has a shell, or build an earlier stage: \"build\": {\"target\": …}", "the stage begins with nothing: people find no shell in it")
	}
	for _, f := range named {
		if why := unpinned(f.image); why != "" && needed[f.stage] {
			d.rule("image-unpinned", Warning, d.line(f.line), "name a version, or a digest", "image %q %s", f.image, why).Subject = f.image
		}
	}
	for i, s := range stages {
		if needed[i] {
			d.secretsInStage(s)
		}
	}
	last, ports := endsAs(stages, base, target)
	for _, p := range ports {
		if !slices.Contains(forwarded, p.port) {
			d.rule("port-not-declared", Warning, d.line(p.line), fmt.Sprintf("add %d to forwardPorts", p.port), "port %d is exposed and not forwarded", p.port).Subject = strconv.Itoa(p.port)
		}
	}
	if *user == "" {
		*user = last
	}
}

// exposure is a port that a build file exposes, and in which line.
type exposure struct{ port, line int }

// endsAs tells of a stage, with those that it begins with, who its last user is
// and which ports it exposes, each once; of very many not all.
func endsAs(stages []instructions.Stage, base []int, target int) (user string, ports []exposure) {
	seen := map[int]bool{}
	for i := target; i >= 0; i = base[i] {
		for _, c := range slices.Backward(stages[i].Commands) {
			switch c := c.(type) {
			case *instructions.UserCommand:
				user = cmp.Or(user, c.User)
			case *instructions.ExposeCommand:
				for _, text := range c.Ports {
					if len(seen) >= maxPublished { // a few letters name many
						break
					}
					for _, p := range exposed(text) {
						if !seen[p] {
							seen[p] = true
							ports = append(ports, exposure{p, lineOf(c.Location())})
						}
					}
				}
			}
		}
	}
	return user, ports
}

// targetOf is the stage that is built, by its name or number; -1 where there is
// none of that name. "" is the last.
func targetOf(stages []instructions.Stage, name string) int {
	if name == "" {
		return len(stages) - 1
	}
	if i := slices.IndexFunc(stages, func(s instructions.Stage) bool { return strings.EqualFold(s.Name, name) }); i >= 0 {
		return i
	}
	if i, err := strconv.Atoi(name); err == nil && i >= 0 && i < len(stages) {
		return i
	}
	return -1
}

// reached follows stages: base is the stage that each begins with, -1 where
// that is an image; needed are those without which target cannot be built.
func reached(stages []instructions.Stage, target int) (base []int, needed []bool) {
	base, needed = make([]int, len(stages)), make([]bool, len(stages))
	numbers := map[string]int{} // of the stages before, by name
	uses := make([][]int, len(stages))
	for i, s := range stages {
		before := func(name string) int {
			if n, ok := numbers[strings.ToLower(name)]; ok {
				return n
			}
			if n, err := strconv.Atoi(name); err == nil && n >= 0 && n < i {
				return n
			}
			return -1
		}
		base[i] = -1
		if n, ok := numbers[strings.ToLower(s.BaseName)]; ok {
			base[i] = n
		}
		for _, c := range s.Commands {
			_ = takesFrom(c, func(name string) { // one that cannot be read was told
				if n := before(name); name != "" && n >= 0 {
					uses[i] = append(uses[i], n)
				}
			})
		}
		if s.Name != "" {
			numbers[strings.ToLower(s.Name)] = i
		}
	}
	var visit func(i int)
	visit = func(i int) {
		if i < 0 || needed[i] {
			return
		}
		needed[i] = true
		visit(base[i])
		for _, n := range uses[i] {
			visit(n)
		}
	}
	visit(target)
	return base, needed
}

// secretsInStage finds secrets in the environment and arguments of a stage.
func (d checkDoc) secretsInStage(s instructions.Stage) {
	tell := func(where []parser.Range, name, value string) {
		if why := looksSecret(name, value); why != "" {
			d.rule("secret-in-file", Warning, d.line(lineOf(where)), "take it out, and have what needs it done by a command, where the person's secrets are", "%s %s", name, why).Subject = name
		}
	}
	for _, c := range s.Commands {
		switch c := c.(type) {
		case *instructions.EnvCommand:
			for _, e := range c.Env {
				tell(c.Location(), e.Key, e.Value)
			}
		case *instructions.ArgCommand:
			for _, a := range c.Args {
				if a.Value != nil {
					tell(c.Location(), a.Key, *a.Value)
				}
			}
		}
	}
}

// SameImage tells whether two names are of one image, as the engine fills them
// in: the registry in front, and latest where no version is named.
func SameImage(a, b string) bool {
	whole := func(name string) string {
		named, err := reference.ParseNormalizedNamed(name)
		if err != nil {
			return name
		}
		return reference.TagNameOnly(named).String()
	}
	return whole(a) == whole(b)
}

// BuildTakes is the name by which a build takes an image, by the house rules, or
// why it may not.
func BuildTakes(image string, images rules.Images) (name string, err error) {
	if ours(image) {
		return "", fmt.Errorf("image %q is one that the service made, or an id; neither can be used by name", image)
	}
	if name = images.Mirrored(image); !images.May(name) {
		return "", fmt.Errorf("image %q comes from where the house rules do not allow; use one from: %s", image, strings.Join(images.From, ", "))
	}
	return name, nil
}
