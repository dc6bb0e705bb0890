package inside

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"yardbench/internal/steward"
)

// keep copies the workspace's files to where an image of the container holds
// them. The copy is whole under its name or not there at all.
func (s trees) keep(r steward.Request) steward.Exit {
	s.tree.Lock()
	defer s.tree.Unlock()
	next := steward.PreparedFolder + ".new"
	err := errors.Join(os.RemoveAll(next), os.RemoveAll(steward.PreparedFolder), os.MkdirAll(next, 0o755))
	if err == nil {
		_, err = copyTree(cmp.Or(r.Mount, r.Process.Folder), next)
	}
	within := ""
	if err == nil && r.Mount != "" {
		within, err = filepath.Rel(r.Mount, r.Process.Folder)
	}
	if err == nil {
		err = os.Remove(filepath.Join(next, within, ".git", "yardbench-seeded")) // each workspace is marked by itself
	}
	if err == nil {
		err = os.Rename(next, steward.PreparedFolder)
	}
	if err != nil {
		return steward.Exit{Code: 1, Problem: fmt.Sprintf("keep the tree: %s", err)}
	}
	return steward.Exit{}
}

// inode identifies a file that has several names.
type inode struct{ device, number uint64 }

// copyTree copies a tree with owners, modes, times, links and hard links, and
// tells how many files it copied. Links are copied as links and never
// followed; sockets, pipes and devices are left out.
func copyTree(from, to string) (files int, err error) {
	names := map[inode]string{}
	type stamped struct {
		path string
		st   *syscall.Stat_t
	}
	var folders []stamped // their times are set last: copying into them changes them
	err = filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		dest := filepath.Join(to, rel)
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it went meanwhile
		}
		if err != nil {
			return err
		}
		st := info.Sys().(*syscall.Stat_t)
		switch {
		case d.IsDir():
			if err := os.Mkdir(dest, 0o700); err != nil && !(errors.Is(err, fs.ErrExist)) {
				return err
			}
			folders = append(folders, stamped{dest, st})
			return nil
		case d.Type()&fs.ModeSymlink != 0:
			target, err := os.Readlink(path)
			if err == nil {
				err = os.Symlink(target, dest)
			}
			if err != nil {
				return err
			}
			files++
			return os.Lchown(dest, int(st.Uid), int(st.Gid))
		case !d.Type().IsRegular():
			return nil
		}
		files++
		key := inode{uint64(st.Dev), st.Ino}
		if first, ok := names[key]; ok {
			return os.Link(first, dest)
		}
		if st.Nlink > 1 {
			names[key] = dest
		}
		return copyFile(path, dest, st)
	})
	for i := len(folders) - 1; i >= 0 && err == nil; i-- {
		err = stamp(folders[i].path, folders[i].st)
	}
	return files, err
}

func copyFile(from, to string, st *syscall.Stat_t) error {
	in, err := os.OpenFile(from, os.O_RDONLY|syscall.O_NOFOLLOW, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close(), stamp(to, st))
}

// stamp gives a copy its owner, mode and times.
func stamp(path string, st *syscall.Stat_t) error {
	return errors.Join(
		os.Lchown(path, int(st.Uid), int(st.Gid)),
		syscall.Chmod(path, st.Mode&0o7777), // after the owner, whose change drops some bits
		syscall.UtimesNano(path, []syscall.Timespec{st.Atim, st.Mtim}))
}
