package definition

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"

	"yardbench/internal/core/plain"
)

// Step is one thing that a launch does because of a definition, in its order.
type Step struct {
	// When it is done: once for an image, once for a workspace, at each start,
	// or in each new terminal.
	When string
	// What is done.
	What string
	// As is the user it runs as, and Where the folder it runs in; "" where
	// neither matters.
	As, Where string
	// From is where the definition says so; see [Value].
	From string
}

// When a step is done.
const (
	ForTheImage  = "for the image"
	OnceForAll   = "once"
	EachStart    = "at each start"
	EachTerminal = "in each terminal"
)

// Explain lists what a launch does, in its order: what runs, as whom, where,
// and which line says so.
func Explain(d Definition) (out []Step) {
	imageUser := "the image's user"
	person := cmp.Or(d.Person(), imageUser)
	add := func(when, what, as, where, origin string) {
		out = append(out, Step{when, plain.Text(what), as, where, cmp.Or(d.Origins[origin], "usual")})
	}
	image := func(of, image string, b *Build, origin string) {
		switch {
		case b != nil:
			what := "build " + of + " from " + cmp.Or(b.Dockerfile, "the compose file")
			if b.Target != "" {
				what += ", stage " + b.Target
			}
			add(ForTheImage, what, "root", b.Context, origin)
		case image != "":
			add(ForTheImage, "use "+image+strings.TrimPrefix(of, "the image"), "", "", origin)
		}
	}
	image("the image", d.Image, d.Build, cmp.Or(nonempty(d.Origins, "build"), "image"))
	for _, f := range d.Features {
		add(ForTheImage, "put on the feature "+strings.TrimSpace(f.ID+" "+f.Version), "root", "", "features."+f.Ref)
	}
	var services []Service
	if d.Compose != nil {
		services = d.Compose.Services
	}
	for _, s := range services {
		key := "service " + s.Name
		image("the image for "+s.Name, s.Image, s.Build, cmp.Or(nonempty(d.Origins, key+".build"), key+".image"))
	}
	for _, b := range d.Beside {
		add(OnceForAll, "clone "+b.Repository+" beside it, at "+cmp.Or(b.Branch, "its default branch"), person, "", "beside."+b.Repository)
	}
	add(OnceForAll, "clone the repository", person, d.TreeFolder(), cmp.Or(nonempty(d.Origins, "tree"), "folder"))
	container := cmp.Or(d.ContainerUser, imageUser)
	for _, e := range d.Entrypoints {
		add(EachStart, "run the entrypoint "+e, container, "", "entrypoints."+e)
	}
	if d.RunsOwnCommand() {
		what := "run the image's own command"
		if d.Compose != nil && len(d.Compose.Entrypoint)+len(d.Compose.Command) > 0 {
			what = "run " + words(slices.Concat(d.Compose.Entrypoint, d.Compose.Command))
		}
		add(EachStart, what, container, "", cmp.Or(nonempty(d.Origins, "own_command"), "service "+d.service()+".command"))
	}
	for _, s := range services {
		what := "start the service " + s.Name
		for _, n := range s.Needs {
			what += ", when " + n.Service + " is " + strings.NewReplacer("service_", "", "completed_successfully", "done").Replace(n.Condition)
		}
		add(EachStart, what, cmp.Or(s.User, imageUser), s.Folder, cmp.Or(nonempty(d.Origins, "service "+s.Name+".command"), "service "+s.Name+".image"))
	}
	ready := false
	for _, m := range Moments {
		when := OnceForAll
		switch {
		case m == PostAttach:
			when = EachTerminal
		case m.EveryStart():
			when = EachStart
		}
		for _, s := range d.At(m) {
			origin := "set_up." + string(m)
			if s.From != "" {
				origin += "." + s.From
			}
			for _, c := range s.Commands {
				what := strings.TrimSpace(c.Shell + words(c.Args))
				if len(s.Commands) > 1 {
					what += " (beside the others of its moment)"
				}
				add(when, what, person, d.Folder, origin)
			}
		}
		if last := cmp.Or(d.WaitFor, PostStart); m == last && !ready {
			ready = true
			what := "the workspace is ready"
			if len(d.Ports) > 0 {
				what += fmt.Sprintf(", %d of its ports forwarded", len(d.Ports))
			}
			add(EachStart, what, "", "", "wait_for")
		}
	}
	return out
}

// BuildFiles adds to values the digests of the build files that they name, so
// that a change of one is a difference. files are digests by path.
func BuildFiles(values []Value, files map[string]string) []Value {
	out := slices.Clone(values)
	for _, v := range values {
		if key, ok := strings.CutSuffix(v.Key, ".dockerfile"); ok && files[v.Value] != "" {
			out = append(out, Value{Key: key + ".content", Value: files[v.Value], Origin: v.Value})
		}
	}
	return out
}

// Noting is a source that notes the digest of each file that is read from it:
// the first 12 hexadecimal digits of its SHA-256.
func Noting(src Source, files map[string]string) Source {
	read := src.Read
	src.Read = func(p string) ([]byte, bool) {
		content, ok := read(p)
		if ok {
			files[p] = fmt.Sprintf("%.12x", sha256.Sum256(content))
		}
		return content, ok
	}
	return src
}

// Change is a value of a definition that is another in a second one; "" is none.
type Change struct{ Key, Old, New string }

// Differences are the values that differ between two resolved definitions, in
// order; where they come from does not count.
func Differences(old, next []Value) (out []Change) {
	flat := func(vs []Value) map[string]string {
		m := map[string]string{}
		for _, v := range vs {
			if m[v.Key] != "" {
				m[v.Key] += "; "
			}
			m[v.Key] += v.Value
		}
		return m
	}
	a, b := flat(old), flat(next)
	keys := sortedKeys(a)
	for k := range b {
		if _, both := a[k]; !both {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	for _, k := range keys {
		if a[k] != b[k] {
			out = append(out, Change{k, a[k], b[k]})
		}
	}
	return out
}

// Due is what changes make due for workspaces that are there: nothing, a
// rebuild, or a rebuild from an image that must be made first.
func Due(changes []Change) string {
	if len(changes) == 0 {
		return "nothing"
	}
	for _, c := range changes {
		key, _, _ := strings.Cut(strings.TrimPrefix(c.Key, "service "), ".")
		if _, of, service := strings.Cut(c.Key, "."); service && strings.HasPrefix(c.Key, "service ") {
			key, _, _ = strings.Cut(of, ".")
		}
		if key == "image" || key == "build" || strings.HasPrefix(key, "feature ") {
			return "a new image, and a rebuild of the workspaces that are there"
		}
	}
	return "a rebuild of the workspaces that are there; the image stays"
}
