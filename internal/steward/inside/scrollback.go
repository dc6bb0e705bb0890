package inside

import (
	"errors"
	"io/fs"
	"os"
	"sync/atomic"
)

const (
	// scrollbackBytes is how much of a terminal's output is kept.
	scrollbackBytes = 8 << 20
	// scrollbackRoom bounds that of all terminals: there must be room on the tmpfs
	// beside it, for secrets say, which has 64 MiB more (yard/engine/body.go).
	scrollbackRoom = 256 << 20
)

// scrollback is the newest output of a terminal. It lies in a file without a name, on
// tmpfs, and takes as much room as was printed. Places in it are counted in bytes
// from the terminal's first.
type scrollback struct {
	file  *os.File
	room  *atomic.Int64 // what of scrollbackRoom is free
	size  int64         // of the file
	first int64         // the oldest that is there
	next  int64         // where the next byte comes to stand
}

func newScrollback(dir string, room *atomic.Int64) (*scrollback, error) {
	f, err := os.CreateTemp(dir, "scrollback")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(f.Name()); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return &scrollback{file: f, room: room}, nil
}

// add keeps what was printed. What cannot be kept, for want of room, is forgotten
// with all before it.
func (b *scrollback) add(p []byte) {
	end := b.next + int64(len(p))
	for at := b.next; len(p) > 0; {
		from := at % scrollbackBytes
		n := min(int64(len(p)), scrollbackBytes-from)
		more := max(0, from+n-b.size)
		if b.room.Add(-more) < 0 {
			b.room.Add(more)
			b.forget(end)
			return
		}
		b.size += more
		if _, err := b.file.WriteAt(p[:n], from); err != nil {
			b.forget(end)
			return
		}
		p, at = p[n:], at+n
	}
	b.next = end
	b.first = max(b.first, b.next-scrollbackBytes)
}

// forget gives the room back; what was printed before a place is not kept.
func (b *scrollback) forget(before int64) {
	_ = b.file.Truncate(0) // of a file on tmpfs; else the room stays used
	b.room.Add(b.size)
	b.size, b.first, b.next = 0, before, before
}

// read gives what stands at a place, at most so much as there is room for.
func (b *scrollback) read(p []byte, at int64) (int, error) {
	if at < b.first || at > b.next {
		return 0, fs.ErrNotExist
	}
	n := min(int64(len(p)), b.next-at, scrollbackBytes-at%scrollbackBytes)
	return b.file.ReadAt(p[:n], at%scrollbackBytes)
}
