package inside

import (
	"errors"
	"io"
	"os"
	"os/exec"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// heldMost is how long a child that a command left behind may hold its output without a
// word, once the command itself has ended.
const heldMost = 2 * time.Second

// outputs are the two outputs of a command, each passed on as it comes, however slowly it
// is taken: what was printed is whole, also where the command ends long before it is read.
type outputs struct {
	mine, theirs []*os.File // the ends that are read, and those that the command writes to
	to           []io.Writer
	ended        atomic.Bool
	copied       sync.WaitGroup
}

// outputsOf has a command that is not begun write to out and errs.
func outputsOf(cmd *exec.Cmd, out, errs io.Writer) (*outputs, error) {
	o := &outputs{to: []io.Writer{out, errs}}
	for range o.to {
		r, w, err := os.Pipe()
		if err != nil {
			o.close()
			return nil, err
		}
		o.mine, o.theirs = append(o.mine, r), append(o.theirs, w)
	}
	cmd.Stdout, cmd.Stderr = o.theirs[0], o.theirs[1]
	return o, nil
}

// close is for a command that was not begun.
func (o *outputs) close() {
	for _, f := range append(o.mine, o.theirs...) {
		f.Close()
	}
}

// pass passes on what comes, once the command has begun.
func (o *outputs) pass() {
	for _, f := range o.theirs {
		f.Close() // it has its own
	}
	for i, r := range o.mine {
		o.copied.Go(func() {
			defer r.Close()
			_, err := io.Copy(o.to[i], printed{r, o})
			if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
				_, _ = io.Copy(io.Discard, printed{r, o}) // nobody takes it any more: the command need not wait for that
			}
		})
	}
}

// wait waits, once the command has ended, until all that it printed was taken.
func (o *outputs) wait() {
	o.ended.Store(true)
	for _, r := range o.mine {
		_ = r.SetReadDeadline(time.Now().Add(heldMost)) // one that is read to its end is closed
	}
	o.copied.Wait()
}

// printed is an output as it is read.
type printed struct {
	file *os.File
	of   *outputs
}

// Read implements [io.Reader].
func (p printed) Read(buf []byte) (int, error) {
	if p.of.ended.Load() {
		_ = p.file.SetReadDeadline(time.Now().Add(heldMost)) // what is there is read, however late
	}
	return p.file.Read(buf)
}

// SyscallConn implements [syscall.Conn], by which a pipe is widened.
func (p printed) SyscallConn() (syscall.RawConn, error) { return p.file.SyscallConn() }
