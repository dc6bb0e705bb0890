package tree

import (
	"archive/tar"
	"archive/zip"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"yardbench/internal/steward"
)

// walk calls do for everything beneath a folder, in order, a folder before what is
// in it. What went meanwhile is passed over. do says whether a folder is
// gone into.
func walk(ctx context.Context, root *os.Root, rel, name string, do func(at spot, rel, name string, e steward.FileEntry) (into bool, err error)) error {
	dir, err := openFolder(root, rel)
	if err != nil {
		return err
	}
	all, err := names(dir)
	if err == nil {
		err = walkAll(ctx, root, dir, all, rel, name, do)
	}
	dir.Close()
	return err
}

func walkAll(ctx context.Context, root *os.Root, dir *os.File, all []fs.DirEntry, rel, name string, do func(spot, string, string, steward.FileEntry) (bool, error)) error {
	for _, e := range all {
		if err := ctx.Err(); err != nil {
			return err
		}
		at, below, called := spot{dir, e.Name()}, path.Join(rel, e.Name()), path.Join(name, e.Name())
		is, err := at.look()
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		into, err := do(at, below, called, is)
		if err != nil {
			return err
		}
		if !into || is.Kind != "folder" {
			continue
		}
		err = walk(ctx, root, below, called, do)
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
			continue
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// packer takes what is packed.
type packer interface {
	add(e steward.FileEntry, name string, content io.Reader) error
	Close() error
}

func modified(e steward.FileEntry) time.Time { return time.Unix(0, e.ModifiedNS) }

type tarPacker struct{ *tar.Writer }

func (t tarPacker) add(e steward.FileEntry, name string, content io.Reader) error {
	h := &tar.Header{Name: name, Mode: int64(e.Mode & 0o777), ModTime: modified(e).Truncate(time.Second), Typeflag: tar.TypeReg, Size: e.Bytes}
	switch e.Kind {
	case "folder":
		h.Typeflag, h.Name, h.Size = tar.TypeDir, name+"/", 0
	case "link":
		h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, string(e.Target), 0
	}
	if err := t.WriteHeader(h); err != nil || content == nil {
		return err
	}
	n, err := io.Copy(t, io.LimitReader(content, e.Bytes))
	if err == nil && n < e.Bytes { // it became shorter: what was announced is filled up
		_, err = io.CopyN(t, zeros{}, e.Bytes-n)
	}
	return err
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

type zipPacker struct{ *zip.Writer }

func (z zipPacker) add(e steward.FileEntry, name string, content io.Reader) error {
	h := &zip.FileHeader{Name: name, Modified: modified(e), Method: zip.Deflate}
	switch e.Kind {
	case "folder":
		h.Name += "/"
		h.Method = zip.Store
		h.SetMode(fs.ModeDir | fs.FileMode(e.Mode&0o777))
	case "link":
		h.SetMode(fs.ModeSymlink | 0o777)
		content = strings.NewReader(string(e.Target))
	default:
		h.SetMode(fs.FileMode(e.Mode & 0o777))
	}
	w, err := z.CreateHeader(h)
	if err != nil || content == nil {
		return err
	}
	_, err = io.Copy(w, content)
	return err
}

// Pack writes what is at a path as an archive (tar or zip), under its own name;
// with names only those beneath it, as they are called from there, and all in them. Links are
// packed as links. left is how much was left out: what is neither file, folder nor
// link, what may not be read, and what went.
func (t *Tree) Pack(ctx context.Context, p, form string, only [][]byte, w io.Writer) (left int, err error) {
	root, rel, err := t.locate(p)
	if err != nil {
		return 0, err
	}
	var out packer
	switch form {
	case "tar":
		out = tarPacker{tar.NewWriter(w)}
	case "zip":
		out = zipPacker{zip.NewWriter(w)}
	default:
		return 0, problem(steward.FileInvalid, "an archive is a tar or a zip")
	}
	put := func(at spot, _, name string, e steward.FileEntry) (bool, error) {
		if e.Kind != "file" {
			if e.Kind == "other" {
				left++
				return false, nil
			}
			return true, out.add(e, name, nil)
		}
		fd, err := unix.Openat(at.fd(), at.name, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
		if err != nil {
			left++
			return false, nil
		}
		f := os.NewFile(uintptr(fd), at.name)
		defer f.Close()
		var st unix.Stat_t
		if err := unix.Fstat(fd, &st); err != nil || kindOf(st.Mode) != "file" {
			left++
			return false, err
		}
		return false, out.add(entryOf(at.name, st), name, &until{ctx, f})
	}
	one := func(p, name string) error {
		s, err := t.spot(p)
		if err != nil {
			return err
		}
		defer s.dir.Close()
		e, err := s.look()
		if err != nil {
			return told(p, err)
		}
		if _, err := put(s, "", name, e); err != nil || e.Kind != "folder" {
			return err
		}
		root, rel, err := t.locate(p)
		if err != nil {
			return err
		}
		return walk(ctx, root, rel, name, put)
	}
	switch {
	case only != nil:
		for _, n := range only {
			name := path.Clean(string(n))
			if path.IsAbs(name) || name == ".." || strings.HasPrefix(name, "../") || name == "." {
				return left, problem(steward.FileBeyond, "%q is not beneath %q", name, p)
			}
			err := one(path.Join(p, name), name)
			var own *steward.FileProblem
			if errors.As(err, &own) && (own.Kind == steward.FileMissing || own.Kind == steward.FileDenied) {
				left++
				continue
			}
			if err != nil {
				return left, err
			}
		}
	case rel == ".":
		err = walk(ctx, root, rel, "", put)
	default:
		err = one(p, path.Base(rel))
	}
	if err != nil {
		return left, told(p, err)
	}
	return left, out.Close()
}

// maxFold bounds how much larger than an archive its content may be: what is
// packed honestly by zip grows by 1,032 at most.
const maxFold = 1100

// Brought is what an archive brought.
type Brought struct {
	Files int
	Bytes int64
	Left  int // what was left out: devices, pipes and the like
}

// Unpack brings an archive's content beneath a folder, which is made if it is not
// there. Each file comes in one step, over what is there. A name that leads out is
// refused; what came before it stays.
func (t *Tree) Unpack(ctx context.Context, p, form string, r io.Reader) (b Brought, err error) {
	if _, err := t.Folder(p); err != nil {
		return b, err
	}
	root, rel, err := t.locate(p)
	if err != nil {
		return b, err
	}
	u := &unpacker{tree: t, root: root, rel: rel, done: &b}
	defer u.close()
	switch form {
	case "tar":
		err = u.tar(ctx, tar.NewReader(&until{ctx, r}))
	case "zip":
		err = u.zip(ctx, r)
	default:
		err = problem(steward.FileInvalid, "an archive is a tar or a zip")
	}
	return b, told(p, err)
}

type unpacker struct {
	tree *Tree
	root *os.Root
	rel  string
	done *Brought
	dir  *os.File // the folder that was written to last
	at   string
}

func (u *unpacker) close() {
	if u.dir != nil {
		u.dir.Close()
	}
}

// spot is where an archive's name comes to stand; the folders above it are made.
func (u *unpacker) spot(name string) (spot, error) {
	clean := path.Clean(name)
	if path.IsAbs(name) || clean == "." || clean == ".." || strings.HasPrefix(clean, "../") || strings.ContainsRune(name, 0) {
		return spot{}, problem(steward.FileBeyond, "the archive holds %q, which leads out of the folder", name)
	}
	if u.done.Files++; u.done.Files > steward.MaxFiles {
		return spot{}, problem(steward.FileTooMuch, "an archive holds at most %d files", steward.MaxFiles)
	}
	full := path.Join(u.rel, clean)
	dir := path.Dir(full)
	if u.dir == nil || u.at != dir {
		f, err := openFolder(u.root, dir)
		if errors.Is(err, fs.ErrNotExist) {
			if err = u.root.MkdirAll(dir, 0o777); err == nil {
				f, err = openFolder(u.root, dir)
			}
		}
		if err != nil {
			return spot{}, told(name, err)
		}
		u.close()
		u.dir, u.at = f, dir
	}
	return spot{u.dir, path.Base(full)}, nil
}

func (u *unpacker) tar(ctx context.Context, r *tar.Reader) error {
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		switch h.Typeflag {
		case tar.TypeXGlobalHeader:
			continue
		case tar.TypeReg, tar.TypeDir, tar.TypeSymlink, tar.TypeLink:
		default:
			u.done.Left++
			continue
		}
		for k := range h.PAXRecords {
			if strings.HasPrefix(k, "GNU.sparse.") { // it unfolds to any size
				return problem(steward.FileInvalid, "%q is a sparse file: pack it without", h.Name)
			}
		}
		if h.Typeflag == tar.TypeDir && path.Clean(h.Name) == "." {
			continue
		}
		s, err := u.spot(h.Name)
		if err != nil {
			return err
		}
		switch h.Typeflag {
		case tar.TypeDir:
			err = u.folder(s)
		case tar.TypeSymlink:
			err = u.link(s, h.Linkname)
		case tar.TypeLink:
			err = u.second(s, h.Linkname)
		default:
			err = u.file(ctx, s, fs.FileMode(h.Mode).Perm(), h.ModTime, r, steward.MaxFileBytes)
		}
		if err != nil {
			return told(h.Name, err)
		}
	}
}

// zip unpacks a zip archive, whose table stands at its end: it is taken in first,
// into a file without a name.
func (u *unpacker) zip(ctx context.Context, r io.Reader) error {
	dir, err := openFolder(u.root, u.rel)
	if err != nil {
		return err
	}
	defer dir.Close()
	fd, err := unix.Openat(int(dir.Fd()), ".", unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, 0o600)
	var kept *os.File
	if err == nil {
		kept = os.NewFile(uintptr(fd), "archive")
	} else if kept, err = os.CreateTemp("", "archive"); err == nil {
		err = os.Remove(kept.Name())
	}
	if err != nil {
		return err
	}
	defer kept.Close()
	size, err := io.Copy(kept, io.LimitReader(&until{ctx, r}, steward.MaxFileBytes+1))
	if err != nil {
		return err
	}
	if size > steward.MaxFileBytes {
		return problem(steward.FileTooMuch, "an archive has at most %d GiB", steward.MaxFileBytes>>30)
	}
	z, err := zip.NewReader(kept, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) { // names are looked at below
		return err
	}
	most := min(size*maxFold, steward.MaxFileBytes)
	for _, f := range z.File {
		mode := f.Mode()
		if mode.Type() != 0 && mode.Type() != fs.ModeDir && mode.Type() != fs.ModeSymlink {
			u.done.Left++
			continue
		}
		s, err := u.spot(f.Name)
		if err != nil {
			return err
		}
		if mode.IsDir() {
			err = u.folder(s)
		} else {
			err = u.zipped(ctx, s, f, most)
		}
		if err != nil {
			return told(f.Name, err)
		}
	}
	return nil
}

func (u *unpacker) zipped(ctx context.Context, s spot, f *zip.File, most int64) error {
	r, err := f.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	if f.Mode().Type() == fs.ModeSymlink {
		to, err := io.ReadAll(io.LimitReader(r, steward.MaxFilePath))
		if err != nil {
			return err
		}
		return u.link(s, string(to))
	}
	mode := f.Mode().Perm()
	if mode == 0 {
		mode = 0o644 // it comes from a system without them
	}
	return u.file(ctx, s, mode, f.Modified, r, most)
}

func (u *unpacker) folder(s spot) error {
	err := unix.Mkdirat(s.fd(), s.name, 0o777)
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if e, err := s.look(); err != nil || e.Kind == "folder" || e.Kind == "link" {
		return err // what a link leads to is found when something comes beneath it
	}
	return problem(steward.FileThere, "%q is there, and no folder", s.name)
}

func (u *unpacker) link(s spot, to string) error {
	err := unix.Symlinkat(to, s.fd(), s.name)
	if errors.Is(err, fs.ErrExist) {
		if err = unix.Unlinkat(s.fd(), s.name, 0); err == nil {
			err = unix.Symlinkat(to, s.fd(), s.name)
		}
	}
	return err
}

// second gives a file of the archive a second name.
func (u *unpacker) second(s spot, to string) error {
	clean := path.Clean(to)
	if path.IsAbs(to) || clean == ".." || strings.HasPrefix(clean, "../") {
		return problem(steward.FileBeyond, "the archive names %q, which leads out of the folder", to)
	}
	full := path.Join(u.rel, clean)
	dir, err := openFolder(u.root, path.Dir(full))
	if err != nil {
		return err
	}
	defer dir.Close()
	err = unix.Linkat(int(dir.Fd()), path.Base(full), s.fd(), s.name, 0)
	if errors.Is(err, fs.ErrExist) {
		if err = unix.Unlinkat(s.fd(), s.name, 0); err == nil {
			err = unix.Linkat(int(dir.Fd()), path.Base(full), s.fd(), s.name, 0)
		}
	}
	return err
}

func (u *unpacker) file(ctx context.Context, s spot, mode fs.FileMode, at time.Time, r io.Reader, most int64) error {
	d, err := s.draft()
	if err != nil {
		return err
	}
	defer d.drop()
	n, err := io.Copy(d, io.LimitReader(&until{ctx, r}, most-u.done.Bytes+1))
	if u.done.Bytes += n; err != nil {
		return err
	}
	if u.done.Bytes > most {
		return problem(steward.FileTooMuch, "the archive unfolds to more than %d MiB", most>>20)
	}
	if err := set(d.File, mode, at); err != nil {
		return err
	}
	return d.keep(true)
}
