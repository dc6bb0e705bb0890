package steward

import (
	"bytes"
	"io"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/hashicorp/yamux"

	"yardbench/internal/bound"
)

// said is a stream that has said all that it will.
type said struct{ io.Reader }

func (said) Write(p []byte) (int, error) { return len(p), nil }
func (said) Close() error                { return nil }

// FuzzReceive: whatever comes over a stream costs what came.
func FuzzReceive(f *testing.F) {
	f.Add([]byte("\x00\x00\x00\x02{}\x01\x00\x00\x00\x03abc"))
	f.Add([]byte("\xff\xff\xff\xff"))
	f.Add([]byte("\x00\x0f\xff\xff[[[[[[[["))
	f.Add(append([]byte("\x00\x01\x86\xa0"), bytes.Repeat([]byte(`[`), 100_000)...))
	f.Fuzz(func(t *testing.T, text []byte) {
		bound.Hold(t, 64, func() {
			for _, v := range []any{&Status{}, &Hello{}, &Request{}, &WorkReport{}, &Exit{}} {
				_ = (&Conn{Stream: said{bytes.NewReader(text)}}).Receive(v)
			}
			c := &Conn{Stream: said{bytes.NewReader(text)}}
			for {
				if _, p, err := c.ReceiveFrame(); err != nil {
					return
				} else if len(p) > len(text) {
					t.Errorf("a frame of %d bytes came of %d", len(p), len(text))
				}
			}
		})
	})
}

// counted counts what is written to a connection.
type counted struct {
	net.Conn
	n atomic.Int64
}

func (c *counted) Write(p []byte) (int, error) {
	c.n.Add(int64(len(p)))
	return c.Conn.Write(p)
}

// Over an errand's input and output nothing goes by itself: it would look like work.
func TestErrandsAreSilent(t *testing.T) {
	for what, c := range map[string]struct {
		config *yamux.Config
		silent bool
	}{"an errand": {Errands(), true}, "a link": {Multiplex(), false}} {
		near, far := net.Pipe()
		ours := &counted{Conn: near}
		c.config.KeepAliveInterval = 10 * time.Millisecond
		s, err := yamux.Client(ours, c.config)
		if err != nil {
			t.Fatal(err)
		}
		other, err := yamux.Server(far, Errands())
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(200 * time.Millisecond)
		if got := ours.n.Load(); (got == 0) != c.silent {
			t.Errorf("%s sends %d bytes by itself", what, got)
		}
		s.Close()
		other.Close()
	}
}
