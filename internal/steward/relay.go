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
