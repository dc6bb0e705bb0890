package repo

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strconv"
	"strings"
)

// MaxContextFiles bounds the files of a build context.
const MaxContextFiles = 100_000

// packed is one entry of a folder that is packed.
type packed struct {
	mode, id, name string
}

// Pack writes a folder of the repository at a commit into dest, which must
// not exist: each file as it is kept, whatever the repository's attributes say
// should become of it. Links are written as links and never followed.
func (m *Mirrors) Pack(ctx context.Context, id, commit, folder, dest string) error {
	tree, err := m.Tree(ctx, id, commit, folder)
	if err != nil {
		return err
	}
	tooMuch := Problem{fmt.Sprintf("the build context %q has more than %d MiB or %d files", folder, MaxContextBytes>>20, MaxContextFiles), "name a smaller folder as context"}
	out, err := m.list(ctx, id, tree)
	if errors.Is(err, errCrowded) {
		return tooMuch
	}
	if err != nil {
		return fmt.Errorf("list the build context: %w", err)
	}
	var files []packed
	for l := range strings.SplitSeq(string(out), "\x00") {
		head, name, _ := strings.Cut(l, "\t")
		if e := strings.Fields(head); len(e) == 3 && e[1] == "blob" { // else the end, or a submodule, which is not there
			files = append(files, packed{e[0], e[2], name})
		}
	}
	if err := os.MkdirAll(dest, 0o700); err != nil {
		return err
	}
	root, err := os.OpenRoot(dest) // nothing is written outside of it, whatever links say
	if err != nil {
		return err
	}
	defer root.Close()
	ctx, cancel := context.WithTimeout(ctx, fetchTimeout)
	defer cancel()
	err = m.unpack(ctx, id, files, root)
	if errors.Is(err, errCrowded) {
		return tooMuch
	}
	if err != nil {
		return fmt.Errorf("pack the build context: %w", err)
	}
	return nil
}

// errCrowded says that a folder holds more than is packed.
var errCrowded = errors.New("it holds too much")

// list lists all files beneath a tree. A small repository may hold millions:
// git is ended where there are too many.
func (m *Mirrors) list(ctx context.Context, id, tree string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, readTimeout)
	defer cancel()
	cmd := command(ctx, m.path(id), nil, "ls-tree", "-r", "-z", "--full-tree", tree)
	names, errs := limited{most: maxOutput, records: MaxContextFiles, stop: cancel}, limited{most: 64 << 10, stop: cancel}
	cmd.Stdout, cmd.Stderr = &names, &errs
	switch err := cmd.Run(); {
	case names.over:
		return nil, errCrowded
	case err != nil:
		return nil, gitError{strings.TrimSpace(errs.kept.String()), err}
	}
	return names.kept.Bytes(), nil
}

// unpack writes files, read from one git that gives their contents one after the
// other (git-cat-file(1), BATCH OUTPUT).
func (m *Mirrors) unpack(ctx context.Context, id string, files []packed, root *os.Root) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	cmd := command(ctx, m.path(id), nil, "cat-file", "--batch")
	errs := limited{most: 64 << 10, stop: cancel}
	cmd.Stderr = &errs
	ask, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	answers, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	go func() { // git answers while it is asked
		defer ask.Close()
		for _, f := range files {
			if _, err := io.WriteString(ask, f.id+"\n"); err != nil {
				return // it has ended, which shows at what it answers
			}
		}
	}()
	in := bufio.NewReaderSize(answers, 256<<10)
	err = func() error {
		left := int64(MaxContextBytes)
		for _, f := range files {
			head, err := in.ReadString('\n')
			text, ok := strings.CutPrefix(strings.TrimSuffix(head, "\n"), f.id+" blob ")
			size, bad := strconv.ParseInt(text, 10, 64)
			if err != nil || !ok || bad != nil {
				return fmt.Errorf("git says %.100q of %q: %s", head, f.name, errs.kept.String())
			}
			if left -= size; left < 0 {
				return errCrowded
			}
			if err := write(root, f, size, io.LimitReader(in, size)); err != nil {
				return err
			}
			if end, err := in.ReadByte(); err != nil || end != '\n' {
				return fmt.Errorf("git gives %q at another length than it says", f.name)
			}
		}
		return nil
	}()
	if err != nil {
		cancel()
	}
	return errors.Join(err, cmd.Wait())
}

func write(root *os.Root, f packed, size int64, content io.Reader) error {
	if !goodPath(f.name) {
		return Problem{fmt.Sprintf("%q cannot be a file of a build context", f.name), "take it out of the repository"}
	}
	if dir := path.Dir(f.name); dir != "." {
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	switch f.mode {
	case "120000":
		to, err := io.ReadAll(io.LimitReader(content, 4097))
		if err == nil && len(to) > 4096 {
			err = Problem{fmt.Sprintf("the link %q leads to a path that is too long", f.name), "take it out of the repository"}
		}
		if err != nil {
			return err
		}
		return root.Symlink(string(to), f.name)
	case "100755":
		return fill(root, f.name, 0o755, size, content)
	}
	return fill(root, f.name, 0o644, size, content)
}

func fill(root *os.Root, name string, mode os.FileMode, size int64, content io.Reader) error {
	out, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, content)
	if err == nil && n != size {
		err = io.ErrUnexpectedEOF
	}
	return errors.Join(err, out.Close())
}

// goodPath tells whether a path of a tree may be written: none that leads
// elsewhere, and nothing of git's own.
func goodPath(name string) bool {
	for part := range strings.SplitSeq(name, "/") {
		if part == "" || part == "." || part == ".." || strings.EqualFold(part, ".git") {
			return false
		}
	}
	return true
}
