package secret

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"
)

// Level is where a secret is kept.
type Level string

// The levels.
const (
	OfPerson     Level = "person"
	OfRepository Level = "repository"
	OfTeam       Level = "team"
	OfHouse      Level = "house"
)

// Levels lists them in the order in which they count: of one name the first that
// is given to a workspace is the one it gets.
var Levels = []Level{OfPerson, OfRepository, OfTeam, OfHouse}

// Form is how a secret reaches processes.
type Form string

// The forms: a variable; a file on tmpfs with a variable NAME_FILE that holds its
// path; or a build secret, which no process of a workspace gets, but the builds of
// images alone, where they mount it (RUN --mount=type=secret,id=NAME); or what the
// images of a registry are fetched with, which nothing inside ever gets.
const (
	Variable Form = "variable"
	File     Form = "file"
	Build    Form = "build"
	Registry Form = "registry"
)

// FileFolder is where secrets in the form of a file stand in a workspace.
const FileFolder = "/run/yardbench/secrets"

// Secret is one secret, without its value.
type Secret struct {
	Level Level
	Name  string
	Form  Form
	// Path is where a file stands beside FileFolder: beginning with ~/, a link to
	// it there; and Mode its permission bits, 0400 where it is zero. Of a registry's
	// it is who signs in where; see [Secret.SignsIn].
	Path string
	Mode uint32
	// Owner is whose a file is, by a name or number that the image has; the workspace's
	// user's where it is empty, or the image has none such.
	Owner   string
	Version int
	// Whose is the name of the repository or team whose it is.
	Whose string
	// Everywhere tells that it is given to all workspaces its level reaches;
	// otherwise only to those of Repositories. A repository's goes to its own.
	Everywhere   bool
	Repositories []string
	// Prebuilds tells that the set-up of prepared images is given it too.
	Prebuilds bool
	// Branches are patterns, as [path.Match] has them, one of which a workspace's
	// branch must fit; none is every branch.
	Branches []string
}

// Place is what a secret may be given to: a workspace, or what would be one.
type Place struct {
	Repository, Branch string
	// Teams are those of its owner.
	Teams []string
	// Build tells that it is the build of an image, which gets build secrets alone.
	Build bool
	// Prebuild tells that it is the set-up of a prepared image, which gets those that
	// are for it alone.
	Prebuild bool
}

// Choice is one secret and what becomes of it in a workspace.
type Choice struct {
	Secret
	Given bool
	Why   string
	// Hides are the levels at which the same name would be given too.
	Hides []Level
}

// SignsIn says at which registry one of the form [Registry] signs in, and as whom.
func (s Secret) SignsIn() (host, username string) {
	i := strings.LastIndex(s.Path, "@")
	return s.Path[i+1:], s.Path[:max(i, 0)]
}

// reach says whether a secret is given to a place but for others of its name, and
// why. What is no matter there at all is not known.
func reach(p Place, s Secret) (given, known bool, why string) {
	whose := map[Level]string{OfPerson: "yours", OfRepository: "the repository's", OfTeam: "your team " + s.Whose + "'s", OfHouse: "the house's"}[s.Level]
	switch {
	case s.Level == OfRepository && s.Whose != p.Repository, s.Level == OfTeam && !slices.Contains(p.Teams, s.Whose):
		return false, false, ""
	case s.Level != OfPerson && CheckSharedName(s.Name) != nil:
		return false, true, fmt.Sprintf("it is %s, and its name could steer your shell: give it another", whose)
	case s.Level != OfRepository && !s.Everywhere && !slices.Contains(s.Repositories, p.Repository):
		return false, true, fmt.Sprintf("it is %s and not for %s, but for %s", whose, p.Repository, strings.Join(s.Repositories, ", "))
	case !OnBranch(s.Branches, p.Branch):
		return false, true, fmt.Sprintf("it is %s, for branches like %s, and this is %s", whose, strings.Join(s.Branches, ", "), p.Branch)
	case p.Build && s.Form != Build && s.Form != Registry, p.Prebuild && !s.Prebuilds:
		return false, false, ""
	case s.Form == Build && !p.Build:
		return false, true, fmt.Sprintf("it is %s, for the builds of images alone", whose)
	case s.Form == Registry && !p.Build:
		host, _ := s.SignsIn()
		return false, true, fmt.Sprintf("it is %s, and signs in to %s for images alone", whose, host)
	}
	why = "it is " + whose
	switch {
	case s.Level == OfRepository:
	case s.Everywhere:
		why += ", for all repositories"
	default:
		why += ", for this repository"
	}
	if len(s.Branches) > 0 {
		why += ", on branches like " + strings.Join(s.Branches, ", ")
	}
	return true, true, why
}

// OnBranch tells whether a branch fits one of the patterns; none fits all. In one
// that ends in /** the rest may hold slashes.
func OnBranch(patterns []string, branch string) bool {
	return len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool {
		if under, all := strings.CutSuffix(p, "/**"); all {
			head := branch
			for strings.Count(head, "/") > strings.Count(under, "/") {
				head = path.Dir(head)
			}
			fits, err := path.Match(under, head)
			return err == nil && fits && head != branch
		}
		fits, err := path.Match(p, branch)
		return err == nil && fits
	})
}

// Choose says of each secret, for a place, whether it is given and why: sorted by
// name, the given one first, then by level. A name counts at the first level that
// gives it; of several teams, at the first by name.
func Choose(p Place, all []Secret) []Choice {
	var out []Choice
	for _, s := range all {
		if given, known, why := reach(p, s); known {
			out = append(out, Choice{Secret: s, Given: given, Why: why})
		}
	}
	inOrder := func(a, b int) bool {
		x, y := out[a], out[b]
		if x.Name != y.Name {
			return x.Name < y.Name
		}
		if x.Given != y.Given {
			return x.Given
		}
		if x.Level != y.Level {
			return slices.Index(Levels, x.Level) < slices.Index(Levels, y.Level)
		}
		return x.Whose < y.Whose
	}
	sort.SliceStable(out, inOrder)
	for i := 0; i < len(out); i++ {
		first := &out[i]
		for i+1 < len(out) && out[i+1].Name == first.Name {
			if i++; !out[i].Given {
				continue
			}
			first.Hides = append(first.Hides, out[i].Level)
			out[i].Given, out[i].Why = false, fmt.Sprintf("the %s's of the same name counts before it", first.Level)
			if first.Level == OfPerson {
				out[i].Why = "your own of the same name counts before it"
			}
		}
	}
	sort.SliceStable(out, inOrder)
	return out
}

// Missing gives those of the wanted names that no given secret has.
func Missing(wanted []string, choices []Choice) (out []string) {
	for _, w := range wanted {
		if !slices.ContainsFunc(choices, func(c Choice) bool { return c.Given && c.Name == w }) {
			out = append(out, w)
		}
	}
	return out
}

// Absent says why a name is not given, of which there is no choice: at which
// levels it was looked for, and which are written nearly so.
func Absent(name string, p Place, choices []Choice) string {
	looked := []string{"yourself", "the repository"}
	for _, t := range p.Teams {
		looked = append(looked, "team "+t)
	}
	why := fmt.Sprintf("nobody gives it: neither %s nor the house", strings.Join(looked, ", "))
	for _, c := range choices {
		if c.Given && like(c.Name, name) {
			return why + "; is it " + c.Name + "?"
		}
	}
	return why
}

// like tells whether two names differ in letter case, underlines or one character.
func like(a, b string) bool {
	plain := func(s string) string { return strings.ToLower(strings.ReplaceAll(s, "_", "")) }
	a, b = plain(a), plain(b)
	if len(a) > len(b) {
		a, b = b, a
	}
	if len(b)-len(a) > 1 {
		return false
	}
	i := 0
	for i < len(a) && a[i] == b[i] {
		i++
	}
	if len(a) == len(b) {
		return i == len(a) || a[i+1:] == b[i+1:]
	}
	return a[i:] == b[i+1:]
}
