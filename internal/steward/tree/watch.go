package tree

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"os"
	"path"
	"strconv"
	"time"

	"golang.org/x/sys/unix"

	"yardbench/internal/steward"
)

// Bounds of a watch.
const (
	maxWatched = 20000                  // folders the kernel is asked about
	gather     = 100 * time.Millisecond // what changes within is told at once
	maxTold    = 500                    // paths told at once; of more it is told that all is looked at anew
	lookEvery  = 3 * time.Second        // where the kernel does not tell
	maxLooked  = 100000                 // entries looked at then
)

func procPath(f *os.File) string { return "/proc/self/fd/" + strconv.Itoa(int(f.Fd())) }

// Watch calls changed with the paths, from the folder it is given, beneath which
// something came, went or became another, until ctx ends or changed fails; no path
// means that all is to be looked at anew. What is in .git is told but for its
// objects. Where the kernel cannot tell (too many folders), it is looked at.
func (t *Tree) Watch(ctx context.Context, p string, changed func(paths []string) error) error {
	root, rel, err := t.locate(p)
	if err != nil {
		return err
	}
	if dir, err := openFolder(root, rel); err != nil {
		return told(p, err)
	} else {
		dir.Close()
	}
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if err != nil {
		return t.lookAgain(ctx, root, rel, lookEvery, changed)
	}
	w := &watch{root: root, rel: rel, fd: fd, file: os.NewFile(uintptr(fd), "inotify"), at: map[int32]string{}}
	defer w.file.Close()
	if err := w.add(ctx, rel, "", func(string) {}); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return t.lookAgain(ctx, root, rel, lookEvery, changed)
	}
	if err := changed(nil); err != nil { // from here on nothing is missed
		return err
	}
	err = w.run(ctx, changed)
	if errors.Is(err, errTooMany) {
		return t.lookAgain(ctx, root, rel, lookEvery, changed)
	}
	return err
}

type watch struct {
	root *os.Root
	rel  string
	fd   int
	file *os.File
	at   map[int32]string // the folder's name from where the watch begins
}

var errTooMany = errors.New("there are too many folders to watch")

const watched = unix.IN_CREATE | unix.IN_DELETE | unix.IN_MOVED_FROM | unix.IN_MOVED_TO | unix.IN_CLOSE_WRITE | unix.IN_MODIFY | unix.IN_ATTRIB | unix.IN_ONLYDIR | unix.IN_EXCL_UNLINK

// add watches a folder and those in it; found is told of all that is there already.
func (w *watch) add(ctx context.Context, rel, name string, found func(name string)) error {
	if err := w.one(rel, name); err != nil {
		return err
	}
	err := walk(ctx, w.root, rel, name, func(_ spot, rel, name string, e steward.FileEntry) (bool, error) {
		if found(name); e.Kind != "folder" || ofGit(name) {
			return false, nil
		}
		return true, w.one(rel, name)
	})
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, os.ErrPermission) {
		return nil // it went, or is not to be seen
	}
	return err
}

// ofGit tells that a folder is within .git, and none that people look at.
func ofGit(name string) bool {
	dir, base := path.Split(name)
	return path.Base(path.Clean(dir)) == ".git" && base != "refs"
}

func (w *watch) one(rel, name string) error {
	dir, err := openFolder(w.root, rel)
	if err != nil {
		return err
	}
	defer dir.Close()
	if len(w.at) >= maxWatched {
		return errTooMany
	}
	wd, err := unix.InotifyAddWatch(w.fd, procPath(dir), watched)
	if err != nil {
		return errTooMany // the user's share of them is used up, most likely
	}
	w.at[int32(wd)] = name
	return nil
}

// run reads what the kernel tells.
func (w *watch) run(ctx context.Context, changed func([]string) error) error {
	stop := context.AfterFunc(ctx, func() { w.file.Close() })
	defer stop()
	buf := make([]byte, 64<<10)
	for {
		n, err := w.file.Read(buf)
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return err
		}
		paths, anew := map[string]bool{}, false
		until := time.Now().Add(gather)
		for {
			over, err := w.take(ctx, buf[:n], paths)
			if err != nil {
				return err
			}
			anew = anew || over
			_ = w.file.SetReadDeadline(until) // where it cannot, what comes is told one by one
			if n, err = w.file.Read(buf); err != nil {
				break
			}
		}
		_ = w.file.SetReadDeadline(time.Time{})
		if ctx.Err() != nil {
			return ctx.Err()
		}
		out := make([]string, 0, len(paths))
		for p := range paths {
			out = append(out, p)
		}
		if anew || len(out) > maxTold {
			out = nil
		} else if len(out) == 0 {
			continue
		}
		if err := changed(out); err != nil {
			return err
		}
	}
}

// take notes what one reading tells; over is that the kernel lost some.
func (w *watch) take(ctx context.Context, p []byte, paths map[string]bool) (over bool, err error) {
	for len(p) >= unix.SizeofInotifyEvent {
		wd, mask, size := int32(binary.NativeEndian.Uint32(p)), binary.NativeEndian.Uint32(p[4:]), int(binary.NativeEndian.Uint32(p[12:]))
		name := string(bytes.TrimRight(p[unix.SizeofInotifyEvent:unix.SizeofInotifyEvent+size], "\x00"))
		p = p[unix.SizeofInotifyEvent+size:]
		in, known := w.at[wd]
		switch {
		case mask&unix.IN_Q_OVERFLOW != 0:
			over = true
			continue
		case mask&unix.IN_IGNORED != 0:
			delete(w.at, wd)
			continue
		case !known, len(name) >= len(draftName) && name[:len(draftName)] == draftName:
			continue
		}
		full := path.Join(in, name)
		if name != "" && path.Base(in) == ".git" && len(name) > 5 && name[len(name)-5:] == ".lock" {
			continue
		}
		paths[full] = true
		if mask&unix.IN_ISDIR != 0 && mask&(unix.IN_CREATE|unix.IN_MOVED_TO) != 0 && !ofGit(full) {
			// What came into it before it was watched is told with it.
			if err := w.add(ctx, path.Join(w.rel, full), full, func(name string) { paths[name] = true }); err != nil {
				return over, err
			}
		}
	}
	return over, nil
}

// lookAgain tells what changes by looking.
func (t *Tree) lookAgain(ctx context.Context, root *os.Root, rel string, every time.Duration, changed func([]string) error) error {
	before, _, err := stamps(ctx, root, rel)
	if err != nil {
		return err
	}
	if err := changed(nil); err != nil {
		return err
	}
	pause := every
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		began := time.Now()
		now, whole, err := stamps(ctx, root, rel)
		if err != nil {
			return err
		}
		pause = max(every, 10*time.Since(began)) // a tenth of a processor at most
		var paths []string
		for name, tag := range now {
			if was, ok := before[name]; !ok || was != tag {
				paths = append(paths, name)
			}
		}
		for name := range before {
			if _, ok := now[name]; !ok {
				paths = append(paths, name)
			}
		}
		before = now
		if len(paths) > maxTold || (!whole && len(paths) > 0) {
			paths = nil
		} else if len(paths) == 0 {
			continue
		}
		if err := changed(paths); err != nil {
			return err
		}
	}
}

// stamps are the tags of what is beneath a folder; whole is false where it is too much.
func stamps(ctx context.Context, root *os.Root, rel string) (out map[string]string, whole bool, err error) {
	out = map[string]string{}
	enough := errors.New("enough")
	err = walk(ctx, root, rel, "", func(_ spot, _, name string, e steward.FileEntry) (bool, error) {
		if len(out) >= maxLooked {
			return false, enough
		}
		if e.Kind != "folder" {
			out[name] = e.Kind + e.Tag + string(e.Target)
		} else {
			out[name] = e.Kind
		}
		return !ofGit(name), nil
	})
	if errors.Is(err, enough) {
		return out, false, nil
	}
	return out, true, err
}
