package outside

import (
	"encoding/binary"
	"net"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"testing"
	"time"

	"github.com/hashicorp/yamux"

	"yardbench/internal/steward"
)

// A body's root may do with its socket what it likes: it costs the service
// little, in connections, streams, memory and words.
func TestHostileSteward(t *testing.T) {
	h := NewHub(t.TempDir())
	defer h.Shut()
	var changed, served, at, most atomic.Int64
	h.Changed = func(string) { changed.Add(1) }
	hold := make(chan bool)
	h.Serve = func(_ string, _ steward.Request, c *steward.Conn) {
		if n := at.Add(1); n > most.Load() {
			most.Store(n)
		}
		served.Add(1)
		<-hold
		at.Add(-1)
	}
	folder, err := h.Folder("w-b1"), h.Open("w-b1", "token")
	if err != nil {
		t.Fatal(err)
	}
	dial := func() net.Conn {
		t.Helper()
		c, err := net.Dial("unix", filepath.Join(folder, "steward.sock"))
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		return c
	}
	greet := func() *yamux.Session {
		t.Helper()
		s, err := yamux.Server(dial(), steward.Multiplex())
		if err != nil {
			t.Fatal(err)
		}
		first, err := s.OpenStream()
		if err != nil {
			t.Fatal(err)
		}
		c := &steward.Conn{Stream: first}
		var w steward.Welcome
		if err := c.Send(steward.Hello{Versions: steward.Versions, Token: "token"}); err != nil {
			t.Fatal(err)
		}
		if err := c.Receive(&w); err != nil || w.Refusal != "" {
			t.Fatalf("%+v, %v", w, err)
		}
		return s
	}
	session := greet()
	if err := h.Await(t.Context(), "w-b1"); err != nil {
		t.Fatal(err)
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)

	// Streams that announce much and say nothing, and streams that ask.
	for range 200 {
		s, err := session.OpenStream()
		if err != nil {
			t.Fatal(err)
		}
		_, _ = s.Write(binary.BigEndian.AppendUint32(nil, 4<<20)) // it may be closed already
	}
	for range 500 {
		s, err := session.OpenStream()
		if err != nil {
			t.Fatal(err)
		}
		_ = (&steward.Conn{Stream: s}).Send(steward.Request{Kind: steward.Git})
	}
	// Connections that say nothing.
	for range 100 {
		c, err := net.Dial("unix", filepath.Join(folder, "steward.sock"))
		if err == nil {
			t.Cleanup(func() { c.Close() })
		}
	}
	time.Sleep(300 * time.Millisecond)
	runtime.ReadMemStats(&after)
	if grew := int64(after.HeapAlloc) - int64(before.HeapAlloc); grew > 32<<20 {
		t.Errorf("the service has grown by %d MiB", grew>>20)
	}
	if n := runtime.NumGoroutine(); n > 1000 {
		t.Errorf("%d goroutines", n)
	}
	if most.Load() > maxStreams {
		t.Errorf("%d streams were served at once", most.Load())
	}
	close(hold)

	// It comes and goes without end: after a while it has to wait.
	session.Close()
	time.Sleep(50 * time.Millisecond)
	seen := changed.Load()
	end := time.Now().Add(2 * time.Second)
	for time.Now().Before(end) {
		c, err := net.Dial("unix", filepath.Join(folder, "steward.sock"))
		if err != nil {
			continue
		}
		s, err := yamux.Server(c, steward.Multiplex())
		if err != nil {
			continue
		}
		if first, err := s.OpenStream(); err == nil {
			k := &steward.Conn{Stream: first}
			_ = k.Send(steward.Hello{Versions: steward.Versions, Token: "token"})
			_ = first.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
			var w steward.Welcome
			_ = k.Receive(&w)
		}
		s.Close()
	}
	if n := changed.Load() - seen; n > 2*maxSessions+2 {
		t.Errorf("it was told %d times that the steward came or went", n)
	}
}
