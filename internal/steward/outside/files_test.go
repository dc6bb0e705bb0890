package outside

import (
	"bytes"
	"context"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/hashicorp/yamux"

	"yardbench/internal/steward"
)

// helperThat is the files of a workspace whose helper answers each operation as it likes.
func helperThat(t *testing.T, answers func(c *steward.Conn, a steward.FileAsk)) *Files {
	t.Helper()
	near, far := net.Pipe()
	theirs := &steward.Conn{Stream: far}
	in, feed := io.Pipe()
	go func() { // what the errand's input is, in frames
		for {
			k, p, err := theirs.ReceiveFrame()
			if err != nil {
				feed.CloseWithError(err)
				return
			}
			if k == steward.Input {
				_, _ = feed.Write(p)
			}
		}
	}()
	s, err := yamux.Server(errandEnd{in, theirs.Writer(steward.Output), far}, steward.Errands())
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		for {
			stream, err := s.AcceptStream()
			if err != nil {
				return
			}
			go func() {
				defer stream.Close()
				c := &steward.Conn{Stream: stream}
				var a steward.FileAsk
				if c.Receive(&a) == nil {
					answers(c, a)
				}
			}()
		}
	}()
	f, err := OpenFiles(&steward.Conn{Stream: near})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close(); s.Close() })
	return f
}

type errandEnd struct {
	io.Reader
	io.Writer
	io.Closer
}

// What a workspace's helper says of files is bounded and held to what can be.
func TestHostileFiles(t *testing.T) {
	entry := func(name string) *steward.FileEntry { return &steward.FileEntry{Name: []byte(name), Kind: "file"} }
	for what, r := range map[string]steward.FileReply{
		"a path for a name":   {Entry: entry("../up")},
		"no name":             {Entry: entry("")},
		"a zero in it":        {Entry: entry("a\x00")},
		"one too long":        {Entry: entry(strings.Repeat("x", 256))},
		"a kind of its own":   {Entry: &steward.FileEntry{Name: []byte("x"), Kind: "door"}},
		"less than nothing":   {Entry: &steward.FileEntry{Name: []byte("x"), Kind: "file", Bytes: -1}},
		"more than was asked": {Entries: make([]steward.FileEntry, steward.MaxFilePart+1)},
		"a mark without end":  {Next: make([]byte, 5000)},
		"a word without end":  {Problem: &steward.FileProblem{Kind: strings.Repeat("k", 1<<20), Detail: "\x1b[2J" + strings.Repeat("d", 1<<20)}},
	} {
		f := helperThat(t, func(c *steward.Conn, _ steward.FileAsk) { _ = c.Send(r) })
		_, err := f.Do(t.Context(), steward.FileAsk{Op: steward.FileShow})
		if err == nil || len(err.Error()) > 3*maxProblem || strings.Contains(err.Error(), "\x1b") {
			t.Errorf("%s: %.200v", what, err)
		}
	}
	f := helperThat(t, func(c *steward.Conn, a steward.FileAsk) {
		switch a.Op {
		case steward.FileRead: // more than was asked
			_ = c.Send(steward.FileReply{Entry: entry("x")})
			for c.SendFrame(steward.Output, make([]byte, 1000)) == nil {
			}
		case steward.FileSearch: // what is no message
			_ = c.Send(steward.FileReply{})
			_, _ = c.Stream.Write([]byte{0xff, 0xff, 0xff, 0xff})
			_, _ = io.Copy(io.Discard, c.Stream)
		case steward.FileWrite: // it takes nothing, and says nothing
			_ = c.Send(steward.FileReply{})
			time.Sleep(time.Minute)
		case steward.FileUnpack: // it says no before it has all
			_ = c.Send(steward.FileReply{})
			_, _, _ = c.ReceiveFrame()
			_ = c.Send(steward.FileReply{Problem: &steward.FileProblem{Kind: steward.FileBeyond, Detail: "it leads out"}})
		}
	})
	var got bytes.Buffer
	if err := f.Read(t.Context(), []byte("x"), 0, 1500, &got, nil); err == nil || got.Len() > 1500 {
		t.Errorf("of 1,500 bytes it gives %d, %v", got.Len(), err)
	}
	if err := f.Follow(t.Context(), steward.FileAsk{Op: steward.FileSearch}, func(steward.FileNews) error { return nil }); err == nil {
		t.Error("what is no message is none")
	}
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	began := time.Now()
	if _, err := f.Send(ctx, steward.FileAsk{Op: steward.FileWrite}, strings.NewReader(strings.Repeat("x", 8<<20))); err == nil || time.Since(began) > 5*time.Second {
		t.Errorf("who takes nothing is waited for %s, %v", time.Since(began), err)
	}
	if _, err := f.Send(t.Context(), steward.FileAsk{Op: steward.FileUnpack}, strings.NewReader(strings.Repeat("x", 8<<20))); err == nil || !strings.Contains(err.Error(), "leads out") {
		t.Errorf("an early no is %v", err)
	}
}
