package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-git/go-git/v5/plumbing/format/index"

	"yardbench/internal/core/definition"
)

// tree is a folder on this machine as it lies there. It may be anybody's: no
// program is run in it or for it, nothing outside of it is read but git's list
// of files, and nothing is opened that could hold the reader up.
type tree struct {
	folder string
	root   *os.Root
	index  func() map[string]bool // the files that git keeps, by path from the folder; nil where nobody knows
}

// checkTime bounds a look at a definition: what takes longer is not meant to end.
const checkTime = 30 * time.Second

func openTree(folder string) (*tree, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, fmt.Errorf("the folder cannot be looked at: %w", err)
	}
	return &tree{folder, root, sync.OnceValue(func() map[string]bool { return indexOf(folder) })}, nil
}

// look has a definition looked at, for a bounded time, and ends when ctx does.
func look[T any](ctx context.Context, do func() T) (out T, err error) {
	done := make(chan T, 1)
	go func() { done <- do() }()
	t := time.NewTimer(checkTime)
	defer t.Stop()
	select {
	case out = <-done:
		return out, nil
	case <-ctx.Done():
		return out, ctx.Err()
	case <-t.C:
		return out, fmt.Errorf("the definition takes more than %s to look at; make it smaller", checkTime)
	}
}

// source is what a definition is resolved from.
func (t *tree) source(name string) definition.Source {
	return definition.Source{Repository: filepath.Base(t.folder), Name: name, List: t.list, Read: t.read}
}

// read gives a plain file of the tree; one that git does not keep, of those
// that are commonly left lying about, is not of the repository.
func (t *tree) read(p string) ([]byte, bool) {
	if path.Base(p) == ".env" {
		if kept := t.index(); kept != nil && !kept[p] {
			return nil, false
		}
	}
	if !t.plain(p, false) {
		return nil, false
	}
	f, err := t.root.OpenFile(p, os.O_RDONLY|syscall.O_NONBLOCK, 0) // it may have become a pipe
	if err != nil {
		return nil, false
	}
	defer f.Close()
	if i, err := f.Stat(); err != nil || !i.Mode().IsRegular() {
		return nil, false
	}
	content, err := io.ReadAll(io.LimitReader(f, definition.MaxBytes+1))
	return content, err == nil
}

// plain tells whether a path leads to a plain file or folder over plain folders
// alone: links are not followed, as in the repository at the service.
func (t *tree) plain(p string, folder bool) bool {
	for i, c := range p + "/" {
		if c != '/' {
			continue
		}
		info, err := t.root.Lstat(p[:i])
		if end := i == len(p); err != nil || !info.IsDir() && (!end || folder || !info.Mode().IsRegular()) || info.IsDir() && end && !folder {
			return false
		}
	}
	return true
}

// maxListed bounds the names of one folder.
const maxListed = 2000

// list gives the names in a folder, folders with a closing slash and links with
// a closing @.
func (t *tree) list(folder string) (names []string) {
	if folder == "" {
		folder = "."
	}
	if !t.plain(folder, true) {
		return nil
	}
	f, err := t.root.OpenFile(folder, os.O_RDONLY|syscall.O_NONBLOCK|syscall.O_DIRECTORY, 0)
	if err != nil {
		return nil
	}
	defer f.Close()
	entries, _ := f.ReadDir(maxListed) // what can be read is enough
	for _, e := range entries {
		switch {
		case e.IsDir():
			names = append(names, e.Name()+"/")
		case e.Type()&os.ModeSymlink != 0:
			names = append(names, e.Name()+"@")
		case e.Type().IsRegular():
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	return names
}

// maxIndex bounds git's list of files: a hundred times the largest in use.
const maxIndex = 1 << 30

// indexOf reads the list of files that git keeps of the folder, without git,
// which would read the folder's configuration and run what that names (see
// git's gitformat-index). nil where there is none, or it cannot be read.
func indexOf(folder string) (kept map[string]bool) {
	defer func() {
		if recover() != nil { // it may be anything
			kept = nil
		}
	}()
	for above := folder; ; above = filepath.Dir(above) {
		dir := filepath.Join(above, ".git")
		i, err := os.Lstat(dir)
		switch {
		case err == nil && i.Mode().IsRegular(): // a worktree or submodule: it says where
			text, err := readPlain(dir, 4096)
			at, ok := strings.CutPrefix(strings.TrimSpace(string(text)), "gitdir: ")
			if err != nil || !ok {
				return nil
			}
			if dir = at; !filepath.IsAbs(dir) {
				dir = filepath.Join(above, at)
			}
		case err != nil || !i.IsDir():
			if above == filepath.Dir(above) {
				return nil
			}
			continue
		}
		f, err := openPlain(filepath.Join(dir, "index"))
		if errors.Is(err, os.ErrNotExist) {
			return map[string]bool{} // nothing was added yet
		}
		if err != nil {
			return nil
		}
		defer f.Close()
		var x index.Index
		if index.NewDecoder(bufio.NewReader(io.LimitReader(f, maxIndex))).Decode(&x) != nil {
			return nil
		}
		within, err := filepath.Rel(above, folder)
		if err != nil {
			return nil
		}
		kept = map[string]bool{}
		for _, e := range x.Entries {
			if within == "." {
				kept[e.Name] = true
			} else if p, ok := strings.CutPrefix(e.Name, filepath.ToSlash(within)+"/"); ok {
				kept[p] = true
			}
		}
		return kept
	}
}

// openPlain opens a file, if it is a plain one.
func openPlain(name string) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	if i, err := f.Stat(); err != nil || !i.Mode().IsRegular() {
		f.Close()
		return nil, errors.New(name + " is no plain file")
	}
	return f, nil
}

func readPlain(name string, most int64) ([]byte, error) {
	f, err := openPlain(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, most))
}
