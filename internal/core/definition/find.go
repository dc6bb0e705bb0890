package definition

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"yardbench/internal/core/rules"
)

// Places are where a repository's first definition may stand, in the order in
// which they count.
var Places = []string{".devcontainer/devcontainer.json", ".devcontainer.json"}

// Where nothing else is there: compose files and build files in the root, in
// the order in which they count.
var (
	composeNames = []string{"compose.yaml", "compose.yml", "docker-compose.yaml", "docker-compose.yml"}
	buildNames   = []string{"Dockerfile", "Containerfile"}
)

// MaxNames bounds the definitions of one repository.
const MaxNames = 50

// Names lists the definitions of a repository by name: "" is the first one,
// the others are folders under .devcontainer.
func Names(src Source) (out []string) {
	for _, p := range Places {
		if _, ok := src.Read(p); ok {
			out = append(out, "")
			break
		}
	}
	for _, n := range src.list(".devcontainer") {
		n, folder := strings.CutSuffix(n, "/")
		if !folder || hasControl(n) || len(out) >= MaxNames {
			continue
		}
		if _, ok := src.Read(named(n)); ok {
			out = append(out, n)
		}
	}
	return out
}

func named(name string) string { return ".devcontainer/" + name + "/devcontainer.json" }

// find looks for the definition that is asked for, and resolves it.
func find(src Source) (Definition, *doc) {
	refuse := func(path, fix, format string, args ...any) (Definition, *doc) {
		d := &doc{path: path}
		d.say(Error, -1, fix, format, args...)
		return Definition{}, d
	}
	at := func(p, name string) (Definition, *doc) {
		content, _ := src.Read(p)
		d := &doc{path: p, text: content}
		out := d.resolve(src)
		out.Name = name
		return out, d
	}
	if src.Name == "" {
		for _, p := range Places {
			if _, ok := src.Read(p); ok {
				return at(p, "")
			}
		}
	}
	names := slices.DeleteFunc(Names(src), func(n string) bool { return n == "" })
	if src.Name != "" && src.Name != "." && src.Name != ".." && !strings.Contains(src.Name, "/") && !hasControl(src.Name) {
		if _, ok := src.Read(named(src.Name)); ok { // of very many not all are listed
			return at(named(src.Name), src.Name)
		}
	}
	switch {
	case src.Name != "":
		next := "leave the name out: there are no others"
		if len(names) > 0 {
			next = "name one of: " + strings.Join(names, ", ")
		}
		return refuse(".devcontainer", next, "the repository has no definition %q", src.Name)
	case len(names) == 1:
		return at(named(names[0]), names[0])
	case len(names) > 1:
		return refuse(".devcontainer", "name one of: "+strings.Join(names, ", "), "the repository has %d definitions, and none is the first", len(names))
	}
	out, d := usual(src)
	checkDoc{d}.linked(src)
	return out, d
}

// linked tells of a definition that is a link: what it leads to is not looked
// for, as it may lie anywhere.
func (d checkDoc) linked(src Source) {
	for _, p := range append([]string{".devcontainer"}, Places...) {
		folder, name := path.Split(p)
		if slices.Contains(src.list(strings.TrimSuffix(folder, "/")), name+"@") {
			f := &doc{path: p}
			f.rule("not-honoured", Warning, -1, "put the file itself there", "%s is a link, and links are not followed: what it leads to counts for nothing", p)
			d.findings = append(d.findings, f.findings...)
		}
	}
}

// usual makes do without a definition: a compose file, a build file, or an
// image by what the tree holds.
func usual(src Source) (Definition, *doc) {
	begin := func(p string) (Definition, *doc, variables) {
		d := &doc{path: p, loose: true}
		if p != "" {
			d.text, _ = src.Read(p)
		}
		out := Definition{Path: p}
		out.setFolders("/workspaces/"+src.Repository, "")
		out.note("folder", "usual")
		return out, d, layerDoc{d}.variablesOf(out)
	}
	const fix = "add .devcontainer/devcontainer.json to say more: the user, ports, commands"
	for _, p := range composeNames {
		if _, ok := src.Read(p); ok {
			out, d, v := begin(p)
			composeDoc{d}.compose(&out, raw{DockerComposeFile: p}, src, &v)
			d.beside(&out, raw{}, src)
			if _, bad := Fatal(d.all()); bad {
				return Definition{}, d
			}
			d.underneath(&out, v)
			forward := func(service, host string, ports []int) {
				for _, n := range ports {
					out.note(fmt.Sprintf("ports.%d", n), out.Origins["service "+service+".ports"])
					layerDoc{d}.port(&out, n, host)
				}
			}
			forward(out.service(), "", out.Compose.Ports)
			for _, s := range out.Compose.Services {
				forward(s.Name, s.Name, s.Published)
			}
			d.rule("no-definition", Note, -1, fix, "there is no definition: the compose file %s is taken as it is, people work in its service %q at %s, and its ports are forwarded", p, out.service(), out.Folder)
			return out, d
		}
	}
	for _, p := range buildNames {
		if _, ok := src.Read(p); ok {
			out, d, _ := begin(p)
			out.Build = d.buildOf(-1, ".", p, "", "", nil, src)
			out.note("build", p)
			d.beside(&out, raw{}, src)
			d.rule("no-definition", Note, -1, fix, "there is no definition: the image is built from %s", p)
			return out, d
		}
	}
	out, d, _ := begin("")
	image, why := usualImage(src)
	out.Image = d.imageName(image, -1, src)
	out.note("image", "house rules: images.usual")
	d.beside(&out, raw{}, src)
	d.path = Places[0]
	d.rule("no-definition", Note, -1, "add .devcontainer/devcontainer.json to say otherwise", "there is no definition: the image is %s, as %s", out.Image, why)
	return out, d
}

// usualImage chooses by what the root of the tree holds.
func usualImage(src Source) (image, why string) {
	usual := rules.BuiltIn
	if src.House != nil && len(src.House.Images.Usual) > 0 {
		usual = src.House.Images.Usual
	}
	files := src.list("")
	for _, u := range usual {
		if u.Holds == "" {
			return u.Image, "it holds nothing that says more"
		}
		for _, f := range files {
			if f == u.Holds {
				return u.Image, fmt.Sprintf("it holds %s", u.Holds)
			}
		}
	}
	last := rules.BuiltIn[len(rules.BuiltIn)-1]
	return last.Image, "it holds nothing that says more"
}
