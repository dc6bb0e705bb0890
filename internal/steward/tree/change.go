package tree

import (
	"context"
	"crypto/rand"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"yardbench/internal/steward"
)

// maxLinks bounds the links that are followed to the file that is written.
const maxLinks = 16

// target is the spot that a path is written at: that of the file a link leads to.
func (t *Tree) target(p string) (spot, *steward.FileEntry, error) {
	for range maxLinks {
		s, err := t.spot(p)
		if err != nil {
			return s, nil, err
		}
		e, err := s.look()
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return s, nil, nil
		case err != nil:
			s.dir.Close()
			return s, nil, told(p, err)
		case e.Kind != "link":
			return s, &e, nil
		}
		s.dir.Close()
		if next := string(e.Target); path.IsAbs(next) {
			p = next
		} else {
			p = path.Join(path.Dir(p), next)
		}
	}
	return spot{}, nil, told(p, syscall.ELOOP)
}

// Condition is what must hold of what is there.
type Condition struct {
	Tags []string // it has one of these tags; * is any
	New  bool     // there is nothing
}

func (c Condition) hold(p string, e *steward.FileEntry) error {
	switch {
	case c.New && e != nil:
		return told(p, fs.ErrExist)
	case len(c.Tags) == 0:
		return nil
	case e == nil:
		return told(p, fs.ErrNotExist)
	case !slices.Contains(c.Tags, e.Tag) && !slices.Contains(c.Tags, "*"):
		return problem(steward.FileChanged, "%q was changed since it was read", p)
	}
	return nil
}

// Write makes content the file at a path, in one step: whoever reads it sees the
// one before or this, whole. It keeps the permissions of what was there.
func (t *Tree) Write(ctx context.Context, p string, content io.Reader, c Condition) (steward.FileEntry, error) {
	none := steward.FileEntry{}
	s, was, err := t.target(p)
	if err != nil {
		return none, err
	}
	defer s.dir.Close()
	if was != nil && was.Kind != "file" {
		return none, problem(steward.FileKind, "%q is no file", p)
	}
	if err := c.hold(p, was); err != nil {
		return none, err // before it is sent
	}
	d, err := s.draft()
	if err != nil {
		return none, told(p, err)
	}
	defer d.drop()
	n, err := io.Copy(d, io.LimitReader(&until{ctx, content}, steward.MaxFileBytes+1))
	switch {
	case err != nil:
		return none, told(p, err)
	case n > steward.MaxFileBytes:
		return none, problem(steward.FileTooMuch, "a file that is written has at most %d GiB", steward.MaxFileBytes>>30)
	}
	if was != nil {
		if err := d.Chmod(os.FileMode(was.Mode & 0o777)); err != nil {
			return none, told(p, err)
		}
	}
	if err := d.Sync(); err != nil {
		return none, told(p, err)
	}
	t.writing.Lock()
	defer t.writing.Unlock()
	var is *steward.FileEntry
	if e, err := s.look(); err == nil {
		is = &e
	}
	if err := c.hold(p, is); err != nil {
		return none, err
	}
	if err := d.keep(!c.New); err != nil {
		return none, told(p, err)
	}
	e, err := s.look()
	return e, told(p, err)
}

// until ends reading with a context.
type until struct {
	ctx context.Context
	r   io.Reader
}

func (u *until) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.r.Read(p)
}

// draft is a file on its way to a spot. Where the file system can, it has no name
// until then, so that nothing stays of it when its writer is killed.
type draft struct {
	*os.File
	at   spot
	name string // its name for now; empty: it has none
}

const draftName = ".yardbench-part-"

func (s spot) draft() (*draft, error) {
	fd, err := unix.Openat(s.fd(), ".", unix.O_TMPFILE|unix.O_WRONLY|unix.O_CLOEXEC, 0o666)
	if err == nil {
		return &draft{os.NewFile(uintptr(fd), s.name), s, ""}, nil
	}
	name := draftName + rand.Text()[:12]
	if fd, err = unix.Openat(s.fd(), name, unix.O_CREAT|unix.O_EXCL|unix.O_WRONLY|unix.O_CLOEXEC|unix.O_NOFOLLOW, 0o666); err != nil {
		return nil, err
	}
	return &draft{os.NewFile(uintptr(fd), s.name), s, name}, nil
}

// link gives the draft a name, if it is free.
func (d *draft) link(name string) error {
	return unix.Linkat(unix.AT_FDCWD, "/proc/self/fd/"+strconv.Itoa(int(d.Fd())), d.at.fd(), name, unix.AT_SYMLINK_FOLLOW)
}

// keep makes the draft what stands at its spot; over what is there, if it may be.
func (d *draft) keep(over bool) error {
	if d.name == "" {
		err := d.link(d.at.name)
		if err == nil || !over || !errors.Is(err, fs.ErrExist) {
			return err
		}
		name := draftName + rand.Text()[:12]
		if err := d.link(name); err != nil {
			return err
		}
		d.name = name
	}
	flags := uint(unix.RENAME_NOREPLACE)
	if over {
		flags = 0
	}
	err := rename(d.at.fd(), d.name, d.at, flags)
	if err == nil {
		d.name = ""
	}
	return err
}

func (d *draft) drop() {
	d.Close()
	if d.name != "" {
		_ = unix.Unlinkat(d.at.fd(), d.name, 0) // it may have become what it was for
	}
}

// rename renames what is in a folder to a spot.
func rename(from int, name string, to spot, flags uint) error {
	err := unix.Renameat2(from, name, to.fd(), to.name, flags)
	if flags != 0 && (errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.ENOSYS)) {
		// The file system, or the kernel, has no renaming that takes care: it is looked at before.
		if _, there := to.look(); there == nil {
			return fs.ErrExist
		}
		return unix.Renameat(from, name, to.fd(), to.name)
	}
	return err
}

// Folder makes a folder, with those above it. One that is there is no problem.
func (t *Tree) Folder(p string) (steward.FileEntry, error) {
	root, rel, err := t.locate(p)
	if err != nil {
		return steward.FileEntry{}, err
	}
	if err := root.MkdirAll(rel, 0o777); err != nil {
		return steward.FileEntry{}, told(p, err)
	}
	return t.Show(p)
}

// Move gives what is at a path another one; over what is there, if over says so.
func (t *Tree) Move(from, to string, over bool) (steward.FileEntry, error) {
	a, err := t.spot(from)
	if err != nil {
		return steward.FileEntry{}, err
	}
	defer a.dir.Close()
	b, err := t.spot(to)
	if err != nil {
		return steward.FileEntry{}, err
	}
	defer b.dir.Close()
	flags := uint(unix.RENAME_NOREPLACE)
	if over {
		flags = 0
	}
	t.writing.Lock()
	defer t.writing.Unlock()
	if _, err := a.look(); err != nil {
		return steward.FileEntry{}, told(from, err)
	}
	err = rename(a.fd(), a.name, b, flags)
	if errors.Is(err, syscall.EINVAL) {
		return steward.FileEntry{}, problem(steward.FileInvalid, "a folder cannot be moved into itself")
	}
	if err != nil {
		return steward.FileEntry{}, told(to, err)
	}
	e, err := b.look()
	return e, told(to, err)
}

// Remove removes what is at a path: a folder that is not empty only if all says so.
func (t *Tree) Remove(p string, all bool, c Condition) error {
	root, rel, err := t.locate(p)
	if err != nil {
		return err
	}
	s, err := t.spot(p)
	if err != nil {
		return err
	}
	defer s.dir.Close()
	t.writing.Lock()
	defer t.writing.Unlock()
	e, err := s.look()
	if err != nil {
		return told(p, err)
	}
	if err := c.hold(p, &e); err != nil {
		return err
	}
	switch {
	case e.Kind != "folder":
		err = unix.Unlinkat(s.fd(), s.name, 0)
	case all:
		err = root.RemoveAll(rel)
	default:
		if err = unix.Unlinkat(s.fd(), s.name, unix.AT_REMOVEDIR); errors.Is(err, syscall.ENOTEMPTY) {
			return problem(steward.FileKind, "%q holds something", p)
		}
	}
	return told(p, err)
}

// set gives a file its permissions and its time.
func set(f *os.File, mode os.FileMode, at time.Time) error {
	if err := f.Chmod(mode.Perm()); err != nil {
		return err
	}
	times := []unix.Timespec{unix.NsecToTimespec(at.UnixNano()), unix.NsecToTimespec(at.UnixNano())}
	return unix.UtimesNanoAt(unix.AT_FDCWD, "/proc/self/fd/"+strconv.Itoa(int(f.Fd())), times, 0)
}
