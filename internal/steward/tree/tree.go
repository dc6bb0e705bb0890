// Package tree is the files beneath some folders. Everything goes by handles
// that were opened beneath them: no name and no link leads out, whoever changes
// them meanwhile. It may touch those files and nothing else.
//
// os.Root holds that on every kernel and under every filter of system calls
// (openat2 is missing, or forbidden, on some of them); what it has no word for is
// done with one name in a folder that it opened.
package tree

import (
	"archive/tar"
	"archive/zip"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"yardbench/internal/steward"
)

// Tree serves the files beneath its folders.
type Tree struct {
	folders []folder
	writing sync.Mutex // a tag is looked at and the file replaced by one at a time
}

type folder struct {
	path string
	root *os.Root
}

// Open opens folders, of which relative paths begin at the first. One that is not
// there is left out, unless it is the first.
func Open(folders ...string) (*Tree, error) {
	t := &Tree{}
	for i, p := range folders {
		root, err := os.OpenRoot(p)
		if err != nil && i == 0 {
			return nil, err
		}
		if err == nil {
			t.folders = append(t.folders, folder{path.Clean(p), root})
		}
	}
	if len(t.folders) == 0 {
		return nil, errors.New("no folder was named")
	}
	return t, nil
}

// Close lets go of the folders.
func (t *Tree) Close() {
	for _, f := range t.folders {
		f.root.Close()
	}
}

func problem(kind, form string, args ...any) *steward.FileProblem {
	return &steward.FileProblem{Kind: kind, Detail: fmt.Sprintf(form, args...)}
}

// told makes a problem of what the system says of a path.
func told(p string, err error) error {
	var own *steward.FileProblem
	if err == nil || errors.As(err, &own) {
		return err
	}
	kind, text := steward.FileOther, ""
	switch {
	case errors.Is(err, fs.ErrNotExist):
		kind, text = steward.FileMissing, "there is none"
	case errors.Is(err, fs.ErrExist), errors.Is(err, syscall.ENOTEMPTY):
		kind, text = steward.FileThere, "there is one already"
	case errors.Is(err, fs.ErrPermission):
		kind, text = steward.FileDenied, "the workspace's user may not"
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		kind, text = steward.FileFull, "there is no room left"
	case errors.Is(err, syscall.EFBIG):
		kind, text = steward.FileTooMuch, "it is too large"
	case errors.Is(err, syscall.ENOTDIR):
		kind, text = steward.FileKind, "a part of the path is no folder"
	case errors.Is(err, syscall.EISDIR):
		kind, text = steward.FileKind, "it is a folder"
	case errors.Is(err, syscall.ELOOP):
		kind, text = steward.FileBeyond, "its links go round"
	case errors.Is(err, syscall.EXDEV):
		kind, text = steward.FileKind, "it lies on another volume: copy it"
	case errors.Is(err, syscall.ENAMETOOLONG):
		kind, text = steward.FileInvalid, "the name is too long"
	case errors.Is(err, tar.ErrHeader), errors.Is(err, zip.ErrFormat), errors.Is(err, zip.ErrAlgorithm), errors.Is(err, zip.ErrChecksum), errors.Is(err, io.ErrUnexpectedEOF):
		kind, text = steward.FileInvalid, "this is no whole archive, or no whole file: "+err.Error()
	case strings.Contains(err.Error(), "escapes from parent"): // os.Root has no value for it
		kind, text = steward.FileBeyond, "a link leads out of the workspace's folders"
	default:
		var errno syscall.Errno
		if text = "the system says no"; errors.As(err, &errno) {
			text = errno.Error()
		}
	}
	return problem(kind, "%q: %s", p, text)
}

// locate finds the folder a path lies beneath, and the way from there.
func (t *Tree) locate(p string) (root *os.Root, rel string, err error) {
	switch {
	case strings.ContainsRune(p, 0):
		return nil, "", problem(steward.FileInvalid, "a path has no zero byte")
	case len(p) > steward.MaxFilePath:
		return nil, "", problem(steward.FileInvalid, "a path has at most %d bytes", steward.MaxFilePath)
	}
	in, rel := t.folders[0], path.Clean(cmp.Or(p, "."))
	if path.IsAbs(rel) {
		in = folder{}
		for _, f := range t.folders {
			if (rel == f.path || strings.HasPrefix(rel, strings.TrimSuffix(f.path, "/")+"/")) && len(f.path) > len(in.path) {
				in = f
			}
		}
		if in.root == nil {
			return nil, "", problem(steward.FileBeyond, "%q is not beneath the workspace's folders", p)
		}
		rel = cmp.Or(strings.Trim(strings.TrimPrefix(rel, in.path), "/"), ".")
	}
	if rel == ".." || strings.HasPrefix(rel, "../") {
		return nil, "", problem(steward.FileBeyond, "%q is not beneath the workspace's folders", p)
	}
	return in.root, rel, nil
}

// spot is a name in an opened folder. Its name is never . or .. and has no slash,
// so that calls with its handle lead nowhere else.
type spot struct {
	dir  *os.File
	name string
}

func (s spot) fd() int { return int(s.dir.Fd()) }

// spot opens the folder in which a path's last name stands.
func (t *Tree) spot(p string) (spot, error) {
	root, rel, err := t.locate(p)
	if err != nil {
		return spot{}, err
	}
	if rel == "." {
		return spot{}, problem(steward.FileKind, "%q is the folder itself", p)
	}
	dir, err := openFolder(root, path.Dir(rel))
	if err != nil {
		return spot{}, told(path.Dir(rel), err)
	}
	return spot{dir, path.Base(rel)}, nil
}

func openFolder(root *os.Root, rel string) (*os.File, error) {
	return root.OpenFile(rel, os.O_RDONLY|unix.O_DIRECTORY|unix.O_NONBLOCK, 0)
}

func kindOf(mode uint32) string {
	switch mode & unix.S_IFMT {
	case unix.S_IFREG:
		return "file"
	case unix.S_IFDIR:
		return "folder"
	case unix.S_IFLNK:
		return "link"
	}
	return "other"
}

func entryOf(name string, st unix.Stat_t) steward.FileEntry {
	e := steward.FileEntry{Name: []byte(name), Kind: kindOf(st.Mode), ModifiedNS: st.Mtim.Nano(), Mode: st.Mode & 0o7777}
	if e.Kind == "file" {
		e.Bytes = st.Size
		n := func(v int64) string { return strconv.FormatInt(v, 36) }
		e.Tag = n(int64(st.Ino)) + "-" + n(st.Size) + "-" + n(st.Mtim.Nano()) + "-" + n(st.Ctim.Nano())
	}
	return e
}

// look gives the entry at a spot.
func (s spot) look() (steward.FileEntry, error) {
	var st unix.Stat_t
	if err := unix.Fstatat(s.fd(), s.name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return steward.FileEntry{}, err
	}
	e := entryOf(s.name, st)
	if e.Kind == "link" {
		buf := make([]byte, steward.MaxFilePath)
		if n, err := unix.Readlinkat(s.fd(), s.name, buf); err == nil {
			e.Target = buf[:n]
		}
	}
	return e, nil
}

// follow says what a link leads to, where that is beneath the folder.
func follow(root *os.Root, rel string, e *steward.FileEntry) {
	if e.Kind != "link" {
		return
	}
	if st, err := root.Stat(rel); err == nil && st.IsDir() {
		e.Leads = "folder"
	} else if err == nil && st.Mode().IsRegular() {
		e.Leads = "file"
	}
}

// Show gives one entry: a link as a link.
func (t *Tree) Show(p string) (steward.FileEntry, error) {
	root, rel, err := t.locate(p)
	if err != nil {
		return steward.FileEntry{}, err
	}
	if rel == "." {
		dir, err := openFolder(root, ".")
		if err != nil {
			return steward.FileEntry{}, told(p, err)
		}
		defer dir.Close()
		var st unix.Stat_t
		err = unix.Fstat(int(dir.Fd()), &st)
		return entryOf(".", st), told(p, err)
	}
	s, err := t.spot(p)
	if err != nil {
		return steward.FileEntry{}, err
	}
	defer s.dir.Close()
	e, err := s.look()
	follow(root, rel, &e)
	return e, told(p, err)
}

// maxNames bounds the names of one folder that are read.
const maxNames = 500000

// names lists a folder: folders first, each by its bytes.
func names(dir *os.File) ([]fs.DirEntry, error) {
	var all []fs.DirEntry
	for {
		some, err := dir.ReadDir(4096)
		all = append(all, some...)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if len(all) > maxNames {
			return nil, problem(steward.FileTooMuch, "the folder holds more than %d names", maxNames)
		}
	}
	slices.SortFunc(all, func(a, b fs.DirEntry) int { return cmp.Compare(mark(a), mark(b)) })
	return all, nil
}

// mark is where an entry stands in its folder.
func mark(e fs.DirEntry) string {
	if e.IsDir() {
		return "0" + e.Name()
	}
	return "1" + e.Name()
}

// List gives a part of a folder: folders first, each by the bytes of its name.
// next goes on; it is empty where that was all.
func (t *Tree) List(p, after string, limit int) (out []steward.FileEntry, next string, err error) {
	root, rel, err := t.locate(p)
	if err != nil {
		return nil, "", err
	}
	dir, err := openFolder(root, rel)
	if err != nil {
		return nil, "", told(p, err)
	}
	defer dir.Close()
	all, err := names(dir)
	if err != nil {
		return nil, "", told(p, err)
	}
	limit = min(max(limit, 1), steward.MaxFilePart)
	from, _ := slices.BinarySearchFunc(all, after, func(e fs.DirEntry, after string) int {
		if mark(e) <= after {
			return -1
		}
		return 1
	})
	for i := from; i < len(all); i++ {
		if len(out) == limit {
			return out, mark(all[i-1]), nil
		}
		e, err := spot{dir, all[i].Name()}.look()
		if errors.Is(err, fs.ErrNotExist) {
			continue // it went meanwhile
		}
		if err != nil {
			return nil, "", told(all[i].Name(), err)
		}
		follow(root, path.Join(rel, all[i].Name()), &e)
		out = append(out, e)
	}
	return out, "", nil
}

// Read opens a file; links beneath the folders are followed.
func (t *Tree) Read(p string) (*os.File, steward.FileEntry, error) {
	root, rel, err := t.locate(p)
	if err != nil {
		return nil, steward.FileEntry{}, err
	}
	f, err := root.OpenFile(rel, os.O_RDONLY|unix.O_NONBLOCK, 0) // a pipe must not have it wait
	if err != nil {
		return nil, steward.FileEntry{}, told(p, err)
	}
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		f.Close()
		return nil, steward.FileEntry{}, told(p, err)
	}
	e := entryOf(path.Base(rel), st)
	if e.Kind != "file" {
		f.Close()
		return nil, e, problem(steward.FileKind, "%q is no file", p)
	}
	return f, e, nil
}
