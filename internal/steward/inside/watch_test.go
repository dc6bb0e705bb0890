package inside

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"yardbench/internal/steward"
)

// until follows what the steward tells until one is as wanted.
func (p pair) until(t *testing.T, what string, is func(steward.Status) bool) steward.Status {
	t.Helper()
	c := p.ask(t, steward.Request{Kind: steward.Watch, FloorMilli: 300, Process: steward.Process{Folder: p.folder}})
	timer := time.AfterFunc(time.Minute, func() { c.Stream.Close() })
	defer timer.Stop()
	for {
		var st steward.Status
		if err := c.Receive(&st); err != nil {
			t.Fatalf("waited in vain for %s: %v", what, err)
		}
		if is(st) {
			c.Stream.Close()
			return st
		}
	}
}

func port(st steward.Status, n int) (steward.Port, bool) {
	for _, p := range st.Ports {
		if p.Number == n {
			return p, true
		}
	}
	return steward.Port{}, false
}

// The service is told of ports with their processes, of signs of work, and of
// who holds which secrets; when they end it is told that too.
func TestWatch(t *testing.T) {
	p := newPair(t, nil)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	n := l.Addr().(*net.TCPAddr).Port
	st := p.until(t, "the port", func(st steward.Status) bool { _, ok := port(st, n); return ok })
	if got, _ := port(st, n); !got.Loopback || !strings.HasPrefix(got.Process, "inside.test") {
		t.Errorf("the port is told as %+v", got)
	}
	if st.TypedMS != -1 || st.ReadMS != -1 || len(st.Holders) != 0 {
		t.Errorf("before anything was done it tells %+v", st)
	}
	process := shell("cat")
	process.Secrets = map[string]int{"KEY": 3}
	c := p.ask(t, steward.Request{Kind: steward.Run, Process: process})
	if err := c.SendFrame(steward.Input, []byte("hello\n")); err != nil {
		t.Fatal(err)
	}
	st = p.until(t, "signs of work", func(st steward.Status) bool { return st.TypedMS >= 0 && st.ReadMS >= 0 && len(st.Holders) == 1 })
	if h := st.Holders[0]; h.Label != "run sh" || h.Secrets["KEY"] != 3 || h.SinceMS < 0 {
		t.Errorf("the holder is told as %+v", h)
	}
	if err := c.SendFrame(steward.NoMore, nil); err != nil {
		t.Fatal(err)
	}
	follow(t, c)
	l.Close()
	p.until(t, "their ends", func(st steward.Status) bool { _, ok := port(st, n); return !ok && len(st.Holders) == 0 })
}

// A port is dialled where it listens, on loopback or not; where nothing does,
// that is said.
func TestDial(t *testing.T) {
	p := newPair(t, nil)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() { // all of the question before the answer: the half-closed way must hold
				all, _ := io.ReadAll(io.LimitReader(conn, 5))
				fmt.Fprintf(conn, "%s!", strings.ToUpper(string(all)))
				conn.Close()
			}()
		}
	}()
	c := p.ask(t, steward.Request{Kind: steward.Dial, Port: l.Addr().(*net.TCPAddr).Port})
	if _, err := c.Stream.Write([]byte("quays")); err != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(c.Stream); err != nil || string(got) != "QUAYS!" {
		t.Errorf("the answer is %q, %v", got, err)
	}
	n := l.Addr().(*net.TCPAddr).Port
	l.Close()
	for _, bad := range []int{n, 0, -1, 70000} {
		if _, err := p.hub.Ask(t.Context(), id, steward.Request{Kind: steward.Dial, Port: bad}); err == nil || !strings.Contains(err.Error(), "nothing listens on port") {
			t.Errorf("port %d is answered %v", bad, err)
		}
	}
}

// Secrets as files are their user's alone, replaced whole, and gone when they
// are not given any more; a name cannot lead elsewhere.
func TestSecretsAsFiles(t *testing.T) {
	p := newPair(t, nil)
	run := func(script string, files map[string]string) (string, steward.Exit) {
		process := shell(script)
		process.Files = files
		return follow(t, p.ask(t, steward.Request{Kind: steward.Run, Process: process}))
	}
	dir := filepath.Join(p.server.runDir, "secrets")
	if out, x := run("cd "+dir+" && cat PEM PIN && stat -c %a PEM . && ls", map[string]string{"PEM": "one\n", "PIN": "two\n"}); x.Code != 0 || out != "one\ntwo\n400\n711\nPEM\nPIN\n" {
		t.Errorf("it reads %q, %+v", out, x)
	}
	if out, _ := run("ls "+dir, nil); out != "PEM\nPIN\n" {
		t.Errorf("a process that says nothing of files leaves %q", out)
	}
	if out, _ := run("ls "+dir+"; cat "+dir+"/PEM", map[string]string{"PEM": "three\n"}); out != "PEM\nthree\n" {
		t.Errorf("after a change it reads %q", out)
	}
	if _, x := run("true", map[string]string{"../../escape": "x"}); x.Code != 0 {
		t.Errorf("it ended with %+v", x)
	}
	if _, err := os.Stat(filepath.Join(p.server.runDir, "..", "escape")); err == nil {
		t.Error("a secret's name leads out of its folder")
	}
	if out, _ := run("ls "+dir, map[string]string{}); out != "" {
		t.Errorf("with none given there are %q", out)
	}
}

// A notice is seen by who looks at a terminal, and not by its shell.
func TestNotice(t *testing.T) {
	p := newPair(t, nil)
	c := p.ask(t, steward.Request{Kind: steward.Terminal, ID: "main", Process: steward.Process{Argv: []string{"/bin/cat"}, User: "root"}, Columns: 80, Rows: 24})
	n := p.ask(t, steward.Request{Kind: steward.Notice, Text: "it is put to rest at 12:45"})
	n.Stream.Close()
	var seen strings.Builder
	timer := time.AfterFunc(time.Minute, func() { c.Stream.Close() })
	defer timer.Stop()
	for !strings.Contains(seen.String(), "at 12:45") {
		_, b, err := c.ReceiveFrame()
		if err != nil {
			t.Fatalf("seen is %q, %v", seen.String(), err)
		}
		seen.Write(b)
	}
	if strings.Count(seen.String(), "12:45") != 1 {
		t.Errorf("the shell saw it too: %q", seen.String())
	}
}

// A notice that comes the moment a terminal was answered is seen too.
func TestNoticeAtOnce(t *testing.T) {
	p := newPair(t, nil)
	here, there := net.Pipe()
	defer here.Close()
	go p.server.serve(&steward.Conn{Stream: &answering{Conn: there, then: func() {
		go p.server.notice("it is put to rest at 12:45")
		time.Sleep(100 * time.Millisecond)
	}}})
	c := &steward.Conn{Stream: here}
	go func() {
		_ = c.Send(steward.Request{Kind: steward.Terminal, ID: "main", Process: steward.Process{Argv: []string{"/bin/cat"}, User: "root"}})
	}()
	var r steward.Reply
	if err := c.Receive(&r); err != nil || r.Problem != "" {
		t.Fatal(err, r.Problem)
	}
	_ = here.SetReadDeadline(time.Now().Add(10 * time.Second)) // one that is missed never comes
	if _, b, err := c.ReceiveFrame(); err != nil || !strings.Contains(string(b), "at 12:45") {
		t.Errorf("it sees %q, %v", b, err)
	}
}

// answering does something once the first write is through.
type answering struct {
	net.Conn
	then func()
}

func (a *answering) Write(p []byte) (int, error) {
	n, err := a.Conn.Write(p)
	if then := a.then; then != nil {
		a.then = nil
		then()
	}
	return n, err
}

// A tree is copied as it is: owners, modes, times, links, hard links; what is
// no file of anybody's is left out, and no link is followed.
func TestCopyTree(t *testing.T) {
	from, to := t.TempDir(), filepath.Join(t.TempDir(), "to")
	old := time.Date(2020, 1, 2, 3, 4, 5, 6000, time.UTC)
	do := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	do(os.MkdirAll(filepath.Join(from, "deep", "er"), 0o750))
	do(os.WriteFile(filepath.Join(from, "deep", "file"), []byte("content"), 0o640))
	do(os.WriteFile(filepath.Join(from, "run"), []byte("#!"), 0o755))
	do(os.Chmod(filepath.Join(from, "run"), 0o4755))
	do(os.Lchown(filepath.Join(from, "run"), 1234, 4321))
	do(syscall.Chmod(filepath.Join(from, "run"), 0o4755))
	do(os.Link(filepath.Join(from, "deep", "file"), filepath.Join(from, "twin")))
	do(os.Symlink("/etc/passwd", filepath.Join(from, "outside")))
	do(os.Symlink("nowhere", filepath.Join(from, "dangling")))
	do(syscall.Mkfifo(filepath.Join(from, "pipe"), 0o644))
	do(os.Chtimes(filepath.Join(from, "deep", "file"), old, old))
	do(os.Chtimes(filepath.Join(from, "deep"), old, old))
	do(os.MkdirAll(to, 0o755))
	n, err := copyTree(from, to)
	if err != nil || n != 5 {
		t.Fatalf("%d files were copied, %v", n, err)
	}
	stat := func(name string) *syscall.Stat_t {
		t.Helper()
		var st syscall.Stat_t
		do(syscall.Lstat(filepath.Join(to, name), &st))
		return &st
	}
	if st := stat("run"); st.Mode&0o7777 != 0o4755 || st.Uid != 1234 || st.Gid != 4321 {
		t.Errorf("run has mode %o and belongs to %d:%d", st.Mode, st.Uid, st.Gid)
	}
	if a, b := stat("deep/file"), stat("twin"); a.Ino != b.Ino || a.Nlink != 2 || a.Mtim.Sec != old.Unix() {
		t.Errorf("the hard link came out as %d and %d, of %d", a.Ino, b.Ino, a.Mtim.Sec)
	}
	if st := stat("deep"); st.Mtim.Sec != old.Unix() || st.Mode&0o777 != 0o750 {
		t.Errorf("the folder has time %d and mode %o", st.Mtim.Sec, st.Mode)
	}
	if l, err := os.Readlink(filepath.Join(to, "outside")); err != nil || l != "/etc/passwd" {
		t.Errorf("a link came out as %q, %v", l, err)
	}
	if _, err := os.Lstat(filepath.Join(to, "pipe")); err == nil {
		t.Error("a pipe was copied")
	}
}

// Addresses of /proc/net/tcp, version 4 and 6, in this machine's order.
func TestSocketAddresses(t *testing.T) {
	for text, want := range map[string]string{"0100007F:1F40": "127.0.0.1 8000 true", "00000000:0050": "0.0.0.0 80 true", "00000000000000000000000001000000:1F40": "::1 8000 true",
		"0000000000000000FFFF00000100007F:0016": "127.0.0.1 22 true", "0B00007F:A4D9": "127.0.0.11 42201 true", "x": "invalid IP 0 false", "0100007F": "invalid IP 0 false", "010000:1F40": "invalid IP 0 false"} {
		a, n, ok := socketAddress(text)
		if got := fmt.Sprint(a, n, ok); got != want {
			t.Errorf("%s is read %s, not %s", text, got, want)
		}
	}
}

// What goes in and out of a quiet run is no sign of work; of another it is.
func TestQuietRuns(t *testing.T) {
	p := newPair(t, nil)
	for _, quiet := range []bool{true, false} {
		process := shell("cat")
		process.Quiet = quiet
		c := p.ask(t, steward.Request{Kind: steward.Run, Process: process})
		if err := c.SendFrame(steward.Input, []byte("six bells\n")); err != nil {
			t.Fatal(err)
		}
		if k, text, err := c.ReceiveFrame(); err != nil || k != steward.Output || string(text) != "six bells\n" {
			t.Fatalf("it says %q, %v", text, err)
		}
		if typed, read := p.server.signs.typed.ago(), p.server.signs.read.ago(); (typed < 0) != quiet || (read < 0) != quiet {
			t.Errorf("quiet: %v; typed %d, read %d ms ago", quiet, typed, read)
		}
		c.Stream.Close()
	}
}
