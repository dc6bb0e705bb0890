package secret

import (
	"fmt"
	"slices"
	"sort"
)

// Level is where a secret is kept.
type Level string

// The levels. A person's own value counts before their repository's.
const (
	OfPerson     Level = "person"
	OfRepository Level = "repository"
)

// Form is how a secret reaches processes.
type Form string

// The forms: a variable, or a file on tmpfs with a variable NAME_FILE that
// holds its path.
const (
	Variable Form = "variable"
	File     Form = "file"
)

// FileFolder is where secrets in the form of a file stand in a workspace.
const FileFolder = "/run/yardbench/secrets"

// Secret is one secret, without its value.
type Secret struct {
	Level   Level
	Name    string
	Form    Form
	Version int
	// Repository is whose it is, for a repository's.
	Repository string
	// Everywhere tells that a person's is given to all their workspaces;
	// otherwise only to those of Repositories.
	Everywhere   bool
	Repositories []string
}

// Choice is one secret and what becomes of it in a workspace.
type Choice struct {
	Secret
	Given bool
	Why   string
}

// Choose says of each secret, for a workspace of the repository, whether it
// is given and why: sorted by name, the given one first.
func Choose(repository string, all []Secret) []Choice {
	var out []Choice
	for _, s := range all {
		c := Choice{Secret: s}
		switch {
		case s.Level == OfRepository && s.Repository == repository && CheckSharedName(s.Name) != nil:
			c.Why = "it is the repository's, and its name could steer your shell: give it another"
		case s.Level == OfRepository && s.Repository == repository:
			c.Given, c.Why = true, "it is the repository's"
		case s.Level == OfRepository:
			continue // another repository's is no matter here
		case s.Everywhere:
			c.Given, c.Why = true, "it is yours, for all repositories"
		case slices.Contains(s.Repositories, repository):
			c.Given, c.Why = true, "it is yours, for this repository"
		default:
			c.Why = fmt.Sprintf("it is yours and not for %s; give it with: yardbench secret put %s --for %s", repository, s.Name, repository)
		}
		out = append(out, c)
	}
	for i := range out {
		for _, o := range out {
			if out[i].Given && out[i].Level == OfRepository && o.Given && o.Name == out[i].Name && o.Level == OfPerson {
				out[i].Given, out[i].Why = false, "your own of the same name counts before the repository's"
				break
			}
		}
	}
	sort.SliceStable(out, func(a, b int) bool {
		if out[a].Name != out[b].Name {
			return out[a].Name < out[b].Name
		}
		return out[a].Given && !out[b].Given
	})
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
