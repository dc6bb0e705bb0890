package repo

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/changes"
)

// Branch is one of a repository, or a pull request, whose name is its whole ref then;
// see [changes.Request].
type Branch struct {
	Name, Commit, Subject string
	At                    time.Time // of its newest commit
}

// Branches lists the branches and pull requests that were fetched last, at most so many, those with the
// newest commits first (git-for-each-ref(1)).
func (m *Mirrors) Branches(ctx context.Context, id string, most int) ([]Branch, error) {
	text, err := m.read(ctx, id, append([]string{"for-each-ref", "--sort=-committerdate", "--count=" + strconv.Itoa(most),
		"--format=%(refname)%00%(objectname)%00%(committerdate:unix)%00%(contents:subject)", "refs/heads"}, changes.RequestPatterns...)...)
	if err != nil {
		return nil, fmt.Errorf("list the branches: %w", err)
	}
	var out []Branch
	for line := range strings.Lines(string(text)) {
		parts := strings.SplitN(strings.TrimSuffix(line, "\n"), "\x00", 4)
		if len(parts) < 4 {
			continue
		}
		at, _ := strconv.ParseInt(parts[2], 10, 64) // of a commit that names no time there is none
		out = append(out, Branch{Name: strings.TrimPrefix(parts[0], "refs/heads/"), Commit: parts[1], Subject: parts[3], At: time.Unix(at, 0).UTC()})
	}
	return out, nil
}
