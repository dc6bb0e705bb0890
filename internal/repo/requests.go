package repo

import (
	"cmp"
	"context"
	"fmt"
	"os/exec"
	"slices"
	"strings"

	"yardbench/internal/core/changes"
)

// FetchRequest brings a pull request's commits into the mirror.
func (m *Mirrors) FetchRequest(ctx context.Context, id, address string, c Credential, ref string) error {
	if changes.Request(ref) == 0 {
		return Problem{fmt.Sprintf("%q is no pull request", ref), "write it like refs/pull/12/head"}
	}
	l := m.lock(id)
	l.Lock()
	defer l.Unlock()
	ctx, cancel := context.WithTimeout(ctx, fetchTimeout)
	defer cancel()
	err := fetchRefs(ctx, m.path(id), address, c, "+"+ref+":"+ref)
	if err != nil && strings.Contains(err.Error(), "couldn't find remote ref") {
		return Problem{fmt.Sprintf("there is no pull request %d in the repository", changes.Request(ref)), "see those that are there at its git host"}
	}
	return err
}

// FetchRequests brings the newest pull requests of a repository into its mirror, at
// most so many, and forgets those that its host does not show any more.
func (m *Mirrors) FetchRequests(ctx context.Context, id, address string, c Credential, most int) error {
	l := m.lock(id)
	l.Lock()
	defer l.Unlock()
	ctx, cancel := context.WithTimeout(ctx, fetchTimeout)
	defer cancel()
	out, err := atHost(ctx, address, c, func(at string) (*exec.Cmd, error) {
		return command(ctx, "", &c, append([]string{"ls-remote", "--quiet", "--refs", "--", at}, changes.RequestPatterns...)...), nil
	})
	if err != nil {
		return err
	}
	theirs := commits(string(out), "\t")
	out, err = m.read(ctx, id, append([]string{"for-each-ref", "--format=%(objectname) %(refname)"}, changes.RequestPatterns...)...)
	if err != nil {
		return fmt.Errorf("list the pull requests: %w", err)
	}
	ours := commits(string(out), " ")
	refs := make([]string, 0, len(theirs))
	for ref := range theirs {
		refs = append(refs, ref)
	}
	slices.SortFunc(refs, func(a, b string) int { return cmp.Or(changes.Request(b)-changes.Request(a), strings.Compare(a, b)) })
	var want []string
	for _, ref := range refs[:min(most, len(refs))] {
		if ours[ref] != theirs[ref] {
			want = append(want, "+"+ref+":"+ref)
		}
	}
	for ref := range ours {
		if theirs[ref] == "" {
			if _, err := m.read(ctx, id, "update-ref", "-d", ref); err != nil {
				return fmt.Errorf("forget a pull request: %w", err)
			}
		}
	}
	if len(want) == 0 {
		return nil
	}
	return fetchRefs(ctx, m.path(id), address, c, want...)
}

// commits reads lines of a commit and a ref, of pull requests alone.
func commits(text, between string) map[string]string {
	of := map[string]string{}
	for line := range strings.Lines(text) {
		commit, ref, _ := strings.Cut(strings.TrimSuffix(line, "\n"), between)
		if changes.Request(ref) > 0 {
			of[ref] = commit
		}
	}
	return of
}
