package ssh

import (
	"io"
	"net"
	"strings"
	"testing"

	"yardbench/internal/steward"
)

// What comes with a visitor is their language and their colours, and the name of
// their terminal, which is no path.
func TestWhatComesAlong(t *testing.T) {
	for name, may := range map[string]bool{"LANG": true, "LC_ALL": true, "TZ": true, "COLORTERM": true, "PATH": false, "LD_PRELOAD": false, "BASH_ENV": false, "lang": false, "LCX": false, "": false} {
		if given(name) != may {
			t.Errorf("%q comes along: %v", name, !may)
		}
	}
	for term, want := range map[string]string{"xterm-256color": "xterm-256color", "st+x.1_2": "st+x.1_2", "../../etc/passwd": "", "a b": "", "x\n": "", strings.Repeat("x", 65): "", "": ""} {
		if got := clean(term); got != want {
			t.Errorf("the terminal %q is %q", term, got)
		}
	}
}

// Strangers are bounded in number and by address; who is known, or has gone, counts
// no more.
func TestStrangersAreBounded(t *testing.T) {
	d := &Server{strangers: map[string]int{}}
	var gone []func()
	for n := range maxFromOne {
		known, ok := d.greet("10.0.0.1")
		if !ok {
			t.Fatalf("the %dth of one address is turned away", n)
		}
		gone = append(gone, known)
	}
	if _, ok := d.greet("10.0.0.1"); ok {
		t.Error("one more of that address is let in")
	}
	if known, ok := d.greet("10.0.0.2"); !ok {
		t.Error("another address is turned away")
	} else {
		known()
	}
	gone[0]()
	if _, ok := d.greet("10.0.0.1"); !ok {
		t.Error("when one is known there is no room")
	}
	for n := range 1000 {
		d.greet(string(rune('a' + n)))
	}
	if d.count != maxStrangers {
		t.Errorf("%d strangers are let in", d.count)
	}
}

// A run's input and output are one connection: what it prints is read, what goes
// wrong beside it is not, and its end is the end.
func TestFramed(t *testing.T) {
	near, far := net.Pipe()
	f, c := steward.NewPipe(&steward.Conn{Stream: near}), &steward.Conn{Stream: far}
	go func() {
		_ = c.SendFrame(steward.Output, []byte("six "))
		_ = c.SendFrame(steward.Errors, []byte("oops"))
		_ = c.SendFrame(steward.Output, []byte("bells"))
		_ = c.SendJSON(steward.Ended, steward.Exit{})
	}()
	if b, err := io.ReadAll(f); string(b) != "six bells" || err != nil {
		t.Errorf("it says %q, %v", b, err)
	}
	if n, err := f.Read(make([]byte, 1)); n != 0 || err != io.EOF {
		t.Errorf("after its end comes %d, %v", n, err)
	}
	go func() { _, _ = f.Write([]byte("in")); _ = f.CloseWrite() }()
	if k, p, err := c.ReceiveFrame(); k != steward.Input || string(p) != "in" || err != nil {
		t.Errorf("it is sent %c %q, %v", k, p, err)
	}
	if k, _, err := c.ReceiveFrame(); k != steward.NoMore || err != nil {
		t.Errorf("then %c, %v", k, err)
	}
}
