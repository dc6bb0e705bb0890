package steward

import (
	"io"
	"sync"
)

// Relay passes on what comes over either of two connections to the other, the end
// of one direction too, until both directions have ended. The connections are
// their caller's to close.
func Relay(a, b io.ReadWriter) {
	var wg sync.WaitGroup
	for _, d := range [][2]io.ReadWriter{{a, b}, {b, a}} {
		wg.Go(func() {
			_, _ = io.Copy(d[0], d[1]) // an error is an end, too
			switch to := d[0].(type) {
			case interface{ CloseWrite() error }:
				_ = to.CloseWrite()
			case io.Closer:
				_ = to.Close() // a stream of yamux goes on being read
			}
		})
	}
	wg.Wait()
}

// Pipe is what goes over a run's input and output as one connection.
type Pipe struct {
	c    *Conn
	rest []byte
	buf  []byte
	err  error
}

// NewPipe makes a run's stream a connection.
func NewPipe(c *Conn) *Pipe { return &Pipe{c: c} }

// Read reads what the run puts out; its end is io.EOF.
func (f *Pipe) Read(p []byte) (int, error) {
	for len(f.rest) == 0 && f.err == nil {
		k, b, err := f.c.ReceiveFrameIn(f.buf)
		if cap(b) > cap(f.buf) {
			f.buf = b[:0]
		}
		switch {
		case err != nil:
			f.err = err
		case k == Output:
			f.rest = b
		case k == Ended:
			f.err = io.EOF
		}
	}
	if len(f.rest) == 0 {
		return 0, f.err
	}
	n := copy(p, f.rest)
	f.rest = f.rest[n:]
	return n, nil
}

// Write writes to the run's input.
func (f *Pipe) Write(p []byte) (int, error) {
	if err := f.c.SendFrame(Input, p); err != nil {
		return 0, err
	}
	return len(p), nil
}

// CloseWrite tells that nothing more comes.
func (f *Pipe) CloseWrite() error { return f.c.SendFrame(NoMore, nil) }

// Close closes the stream, which ends the run.
func (f *Pipe) Close() error { return f.c.Stream.Close() }
