package hunt

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"yardbench/internal/repo"
)

// trees stands for the copies of repositories.
type trees struct{}

var files = map[string]string{
	"berth-planner/.devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "postCreateCommand": "echo ready", "postStartCommand": "echo up"}`,
	"tide-board/.devcontainer/devcontainer.json":    `{"build": {"dockerfile": "Dockerfile"}, "workspaceFolder": "/workspaces/tide-board", "onCreateCommand": {"a": "echo a", "b": "echo b"}, "postAttachCommand": "echo hello"}`,
	"tide-board/.devcontainer/Dockerfile":           "FROM skerryline/base:1\nRUN echo made\n",
}

// names of repositories by their ids, filled as the ground is laid.
var nameOf = struct {
	sync.Mutex
	of map[string]string
}{of: map[string]string{}}

func at(id, path string) string {
	nameOf.Lock()
	defer nameOf.Unlock()
	return nameOf.of[id] + "/" + path
}

func (trees) DefaultBranch(context.Context, string, repo.Credential) (string, error) {
	return "main", nil
}

func (trees) Fetch(_ context.Context, id, address string, _ repo.Credential) error {
	nameOf.Lock()
	defer nameOf.Unlock()
	nameOf.of[id] = strings.TrimSuffix(filepath.Base(address), ".git")
	return nil
}

func (trees) Drop(string) error { return nil }

func (trees) FetchRequest(context.Context, string, string, repo.Credential, string) error {
	return nil
}

func (trees) FetchRequests(context.Context, string, string, repo.Credential, int) error { return nil }

func (trees) Branches(context.Context, string, int) ([]repo.Branch, error) { return nil, nil }

func (trees) Resolve(context.Context, string, string) (string, error) {
	return "0123456789abcdef0123456789abcdef01234567", nil
}
func (trees) Behind(context.Context, string, string, string) (int, error) { return 0, nil }

func (trees) ReadFile(_ context.Context, id, _, path string, _ int64) ([]byte, bool, error) {
	text, ok := files[at(id, path)]
	return []byte(text), ok, nil
}

func (trees) List(_ context.Context, id, _, folder string) (out []string, err error) {
	begin := at(id, folder)
	if folder != "" {
		begin = strings.TrimSuffix(begin, "/") + "/"
	}
	for f := range files {
		if rest, ok := strings.CutPrefix(f, begin); ok {
			if name, _, deeper := strings.Cut(rest, "/"); deeper {
				rest = name + "/"
			}
			if !slices.Contains(out, rest) {
				out = append(out, rest)
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

func (trees) Files(context.Context, string, string, string, int, int64) ([]repo.File, error) {
	return nil, nil
}
func (trees) Tree(context.Context, string, string, string) (string, error) { return "tree", nil }

func (trees) Pack(_ context.Context, id, _, folder, dest string) error {
	return os.MkdirAll(dest, 0o700)
}
