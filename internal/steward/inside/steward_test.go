package inside

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/hashicorp/yamux"

	"yardbench/internal/demo"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
)

// served is a git host for a test, and what the service does for a steward that
// clones from it.
type served struct {
	*httptest.Server
	allowed string
	dir     string
}

func gitHost(t *testing.T) served {
	t.Helper()
	bare := t.TempDir()
	if err := demo.MakeRepository(t.Context(), bare, "berth-planner", os.DirFS("../../demo")); err != nil {
		t.Fatal(err)
	}
	handler, err := demo.GitHost(bare, func() string { return "" })
	if err != nil {
		t.Fatal(err)
	}
	host := httptest.NewServer(handler)
	t.Cleanup(host.Close)
	return served{host, strings.TrimPrefix(host.URL, "http://"), bare}
}

func (h served) serve(_ string, c *steward.Conn) {
	outside.ServeGit(c, outside.GitWay{Scheme: "http", Host: h.allowed, SignIn: func(context.Context, bool) (outside.GitSignIn, string, bool) {
		return outside.GitSignIn{Username: "ingrid", Password: demo.GitToken("ingrid")}, "refused", true
	}})
}

// pair is both ends over a real socket: a hub and a serving steward, here as
// one process, without a container.
type pair struct {
	hub    *outside.Hub
	server *server
	folder string
}

const id, right = "ws-b1", "the-right-token"

func newPair(t *testing.T, serve func(id string, r steward.Request, c *steward.Conn)) pair {
	t.Helper()
	dir, err := os.MkdirTemp("", "yb")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	hub := outside.NewHub(filepath.Join(dir, "links"))
	hub.Serve = serve
	link, err := hub.Folder(id), hub.Open(id, right)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(hub.Shut)
	s, err := newServer(places{linkDir: link, runDir: filepath.Join(dir, "run"), recordDir: filepath.Join(dir, "record")})
	if err != nil {
		t.Fatal(err)
	}
	go s.connect()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	if err := hub.Await(ctx, id); err != nil {
		t.Fatal(err)
	}
	folder := filepath.Join(dir, "folder")
	if err := os.Mkdir(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	return pair{hub, s, folder}
}

func (p pair) ask(t *testing.T, r steward.Request) *steward.Conn {
	t.Helper()
	c, err := p.hub.Ask(t.Context(), id, r)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Stream.Close() })
	return c
}

// follow reads to the end, within a minute.
func follow(t *testing.T, c *steward.Conn) (string, steward.Exit) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var out bytes.Buffer
	x, err := outside.Follow(ctx, c, &out)
	if err != nil {
		t.Fatalf("%v after %q", err, out.String())
	}
	return out.String(), x
}

func shell(script string) steward.Process {
	return steward.Process{Argv: []string{"/bin/sh", "-c", script}, User: "root"}
}

// A connection that does not prove to be the workspace's steward is turned
// away, and what it sends is bounded.
func TestOnlyTheWorkspacesOwnSteward(t *testing.T) {
	p := newPair(t, nil)
	for name, hello := range map[string]any{
		"wrong token":    steward.Hello{Versions: steward.Versions, Token: "guess"},
		"no token":       steward.Hello{Versions: steward.Versions},
		"no version":     steward.Hello{Versions: []int{99}, Token: right},
		"rubbish":        "rubbish",
		"endless tokens": steward.Hello{Versions: steward.Versions, Token: strings.Repeat("x", 1<<20)},
	} {
		conn, err := net.Dial("unix", filepath.Join(p.server.linkDir, "steward.sock"))
		if err != nil {
			t.Fatal(err)
		}
		session := serverSession(t, conn)
		stream, err := session.OpenStream()
		if err != nil {
			t.Fatal(err)
		}
		c := &steward.Conn{Stream: stream}
		var w steward.Welcome
		// It may be shown out before it has said all it wanted.
		if c.Send(hello) == nil && c.Receive(&w) == nil && w.Refusal == "" {
			t.Errorf("%s is welcome", name)
		}
		conn.Close()
	}
	if !p.hub.Connected(id) {
		t.Error("strangers pushed the real steward out")
	}
	// The token's folder is for root alone.
	if st, err := os.Stat(p.server.linkDir); err != nil || st.Mode().Perm() != 0o700 {
		t.Errorf("the link's folder is open to others: %v, %v", st.Mode(), err)
	}
	if _, err := p.hub.Ask(t.Context(), id, steward.Request{Kind: "dance"}); !errors.As(err, new(outside.Refused)) {
		t.Errorf("an unknown request is answered %v", err)
	}
	if _, err := p.hub.Ask(t.Context(), "other-b1", steward.Request{Kind: steward.Work}); !errors.Is(err, outside.ErrAway) {
		t.Errorf("an unknown link is answered %v", err)
	}
}

// Messages and frames over their bounds end the stream and take no memory.
func TestBoundsOfTheProtocol(t *testing.T) {
	for name, bytesIn := range map[string][]byte{"message": {0xff, 0xff, 0xff, 0xff}, "frame": {'o', 0x7f, 0xff, 0xff, 0xff}, "half": {0, 0}} {
		a, b := net.Pipe()
		go func() { _, _ = a.Write(bytesIn); a.Close() }()
		c := &steward.Conn{Stream: b}
		var err error
		if name == "message" {
			err = c.Receive(new(steward.Hello))
		} else {
			_, _, err = c.ReceiveFrame()
		}
		if err == nil {
			t.Errorf("a %s out of bounds is taken", name)
		}
	}
	a, b := net.Pipe()
	from, to := &steward.Conn{Stream: a}, &steward.Conn{Stream: b}
	whole := bytes.Repeat([]byte("0123456789abcdef"), 60_000) // longer than one frame holds
	go func() { _ = from.SendFrame(steward.Output, whole); a.Close() }()
	var got []byte
	for {
		_, part, err := to.ReceiveFrame()
		if err != nil {
			break
		}
		got = append(got, part...)
	}
	if !bytes.Equal(got, whole) {
		t.Errorf("%d bytes of %d came over", len(got), len(whole))
	}
}

// A run has its input, output and exit code passed through, its environment
// made of the container's, the user's and the session's; it ends with whoever
// asked for it.
func TestRun(t *testing.T) {
	p := newPair(t, nil)
	t.Setenv("FROM_CONTAINER", "here")
	process := shell(`read line; echo "$line from $FROM_CONTAINER $EXTENDED $HOME"; pwd; echo oops >&2; kill -TERM $$`)
	process.Folder, process.Env = p.folder, map[string]string{"EXTENDED": "${containerEnv:FROM_CONTAINER}+${containerEnv:NO:none}"}
	c := p.ask(t, steward.Request{Kind: steward.Run, Process: process})
	if err := c.SendFrame(steward.Input, []byte("hello\nrest")); err != nil {
		t.Fatal(err)
	}
	if err := c.SendFrame(steward.NoMore, nil); err != nil {
		t.Fatal(err)
	}
	out, x := follow(t, c)
	// Output and errors come over apart: how they mix is nobody's promise.
	if got := strings.Replace(out, "oops\n", "", 1); got != "hello from here here+none /root\n"+p.folder+"\n" || got == out || x.Code != 128+15 {
		t.Errorf("it printed %q and ended with %+v", out, x)
	}
	for what, process := range map[string]steward.Process{"no such program": {Argv: []string{"no-such"}}, "no such user": {Argv: []string{"true"}, User: "captain"}, "no such path": {Argv: []string{"./no"}, Folder: p.folder}} {
		if _, x := follow(t, p.ask(t, steward.Request{Kind: steward.Run, Process: process})); x.Code != 127 || x.Problem == "" {
			t.Errorf("%s ended with %+v", what, x)
		}
	}
	mark := filepath.Join(p.folder, "alive")
	c = p.ask(t, steward.Request{Kind: steward.Run, Process: shell("trap '' HUP; (while :; do date > " + mark + "; sleep 0.05; done) & wait")})
	waitFor(t, "it to run", func() bool { _, err := os.Stat(mark); return err == nil })
	c.Stream.Close()
	waitFor(t, "it to end with its asker", func() bool {
		_ = os.Remove(mark)
		time.Sleep(200 * time.Millisecond)
		_, err := os.Stat(mark)
		return err != nil
	})
}

func waitFor(t *testing.T, what string, is func() bool) {
	t.Helper()
	for end := time.Now().Add(time.Minute); !is(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("waited in vain for %s", what)
		}
	}
}

// A terminal outlives its watchers, shows its scrollback to the next one, and
// has two at a time see the same.
func TestTerminalOutlivesItsWatchers(t *testing.T) {
	p := newPair(t, nil)
	open := func() (*steward.Conn, *atomic.Pointer[string]) {
		c := p.ask(t, steward.Request{Kind: steward.Terminal, ID: "main", Columns: 70, Rows: 20, Process: steward.Process{Argv: []string{"/bin/sh"}, Folder: p.folder}})
		seen := &atomic.Pointer[string]{}
		empty := ""
		seen.Store(&empty)
		go func() {
			for {
				k, part, err := c.ReceiveFrame()
				if err != nil {
					return
				}
				s := *seen.Load() + string(k) + string(part)
				seen.Store(&s)
			}
		}()
		return c, seen
	}
	has := func(seen *atomic.Pointer[string], what string) {
		t.Helper()
		waitFor(t, what, func() bool { return strings.Contains(*seen.Load(), what) })
	}
	c, seen := open()
	if err := c.SendFrame(steward.Input, []byte("stty size; X=42\n")); err != nil {
		t.Fatal(err)
	}
	has(seen, "20 70")
	c.Stream.Close()
	one, first := open()
	_, second := open()
	has(first, "20 70")
	if err := one.SendJSON(steward.Resize, steward.Size{Columns: 99, Rows: 1_000_000}); err != nil {
		t.Fatal(err)
	}
	if err := one.SendFrame(steward.Input, []byte("echo $X-$X; stty size; exit 3\n")); err != nil {
		t.Fatal(err)
	}
	for _, s := range []*atomic.Pointer[string]{first, second} {
		has(s, "42-42")
		has(s, "24 99") // an absurd height is none
		has(s, `x{"code":3}`)
	}
	_, fresh := open()
	time.Sleep(300 * time.Millisecond)
	if strings.Contains(*fresh.Load(), "42") {
		t.Error("a terminal whose shell has ended is joined again")
	}
}

// An unknown set-up command starts, a known one attaches, a finished one
// answers with its result, and one that was cut off in an earlier life is
// marked and not run again.
func TestSetUpCommandsRunOnce(t *testing.T) {
	p := newPair(t, nil)
	runs := filepath.Join(p.folder, "runs")
	ask := func(id string) *steward.Conn {
		return p.ask(t, steward.Request{Kind: steward.SetUp, ID: id, Process: shell("echo run >> " + runs + "; echo begun; sleep 0.5; echo ended; exit 4")})
	}
	first := ask("s1.postCreateCommand.0")
	first.Stream.Close() // the service is killed
	for _, again := range []string{"attaching", "asking for the result"} {
		out, x := follow(t, ask("s1.postCreateCommand.0"))
		if out != "begun\nended\n" || x.Code != 4 || x.Interrupted {
			t.Errorf("%s gave %q, %+v", again, out, x)
		}
	}
	// Another life of the container: the records are there, nothing runs.
	next, err := newServer(places{linkDir: p.server.linkDir, runDir: p.server.runDir, recordDir: p.server.recordDir})
	if err != nil {
		t.Fatal(err)
	}
	if err := keep(filepath.Join(p.server.recordDir, "s2.json"), record{}); err != nil {
		t.Fatal(err)
	}
	for id, want := range map[string]steward.Exit{"s1.postCreateCommand.0": {Code: 4}, "s2": {Code: 130, Interrupted: true}} {
		u, err := next.setUp(steward.Request{ID: id, Process: shell("echo run >> " + runs)})
		if err != nil || !u.over || u.exit != want {
			t.Errorf("in the next life %s is %+v, %v", id, u.exit, err)
		}
	}
	if content, err := os.ReadFile(runs); err != nil || string(content) != "run\n" {
		t.Errorf("it ran as %q, %v", content, err)
	}
	for _, bad := range []string{"", "../../etc/cron.d/x", "a/b", strings.Repeat("x", 200)} {
		if _, err := p.hub.Ask(t.Context(), id, steward.Request{Kind: steward.SetUp, ID: bad, Process: shell("true")}); err == nil {
			t.Errorf("the id %q is taken", bad)
		}
	}
}

// A clone goes through the service's proxy to its one git host, signed in there,
// and is marked last; the work report tells what is only here.
func TestCloneAndWork(t *testing.T) {
	host := gitHost(t)
	p := newPair(t, func(id string, _ steward.Request, c *steward.Conn) { host.serve(id, c) })
	process := steward.Process{Folder: p.folder, GitHost: host.URL + "/", Env: map[string]string{"GIT_TERMINAL_PROMPT": "0"},
		GitConfig: []string{"user.name", "Ingrid", "user.email", "ingrid@skerryline.example", "safe.directory", "*"}}
	if err := os.WriteFile(filepath.Join(p.folder, "half"), []byte("of an earlier clone"), 0o600); err != nil {
		t.Fatal(err)
	}
	clone := func() (string, steward.Exit) {
		return follow(t, p.ask(t, steward.Request{Kind: steward.CloneTo, Process: process, URL: host.URL + "/berth-planner.git", Branch: "main"}))
	}
	built := filepath.Join(p.folder, "deep", "built") // as of a volume for what is built
	if err := os.MkdirAll(built, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount(t.TempDir(), built, "", syscall.MS_BIND, ""); err != nil { // on the same device
		t.Logf("nothing can be mounted here, so that no mount within the tree is tried: %v", err)
	} else {
		t.Cleanup(func() { _ = syscall.Unmount(built, syscall.MNT_DETACH) }) // or its folder stays, and says so
	}
	if out, x := clone(); x.Code != 0 {
		t.Fatalf("the clone ended with %+v: %s", x, out)
	}
	if _, err := os.Stat(filepath.Join(p.folder, "half")); err == nil {
		t.Error("what an earlier clone left is still there")
	}
	work := func() (w steward.WorkReport) {
		c := p.ask(t, steward.Request{Kind: steward.Work, Process: process})
		if err := c.Receive(&w); err != nil {
			t.Fatal(err)
		}
		return w
	}
	if w := work(); !w.Clean() {
		t.Errorf("a fresh clone is told as %+v", w)
	}
	inTree := func(script string) {
		t.Helper()
		q := process
		q.Argv = []string{"/bin/sh", "-ec", script}
		if out, x := follow(t, p.ask(t, steward.Request{Kind: steward.Run, Process: q})); x.Code != 0 {
			t.Fatalf("%s: %+v %s", script, x, out)
		}
	}
	// An address with TLS goes the same way: the service speaks it to the host.
	process.GitConfig = append(process.GitConfig, "url.http://"+host.allowed+"/.insteadOf", "https://"+host.allowed+"/")
	inTree("git ls-remote https://" + host.allowed + "/berth-planner.git | grep -q refs/heads/main")
	inTree("! env | grep " + demo.GitToken("ingrid"))
	inTree("echo x > 'new file'; git checkout -q -b side; git commit -q --allow-empty -m 'Only here'; git checkout -q main; echo y >> README.md; git stash -q; echo z >> README.md")
	w := work()
	if fmt.Sprint(w.Uncommitted) != `[README.md "new file"]` || len(w.Unpushed) != 1 || !strings.HasSuffix(w.Unpushed[0], "Only here") || w.Stashes != 1 {
		t.Errorf("the work is told as %+v", w)
	}
	if _, x := clone(); x.Code != 0 || work().Clean() {
		t.Errorf("a marked folder was cloned again: %+v", x)
	}
	inTree("rm -rf .git")
	if w := work(); w.Problem == "" || w.Clean() {
		t.Errorf("a folder without git is told as %+v", w)
	}
	// The way through the service leads to the one host only.
	proxy, err := url.Parse(p.server.gitProxy)
	if err != nil {
		t.Fatal(err)
	}
	other := httptest.NewServer(http.NotFoundHandler())
	defer other.Close()
	through := &http.Client{Transport: &http.Transport{Proxy: func(*http.Request) (*url.URL, error) { return proxy, nil }}}
	res, err := through.Get(other.URL)
	if err != nil || res.StatusCode != http.StatusForbidden {
		t.Fatalf("another host is answered %v, %v", res, err)
	}
	text, _ := io.ReadAll(res.Body)
	res.Body.Close()
	if !strings.Contains(string(text), host.allowed) {
		t.Errorf("the refusal says %q", text)
	}
	if res, err := through.Get("https://elsewhere.example/"); err == nil {
		t.Errorf("a tunnel to elsewhere is answered %v", res)
	}
}

// Users are found as images write them.
func TestLookup(t *testing.T) {
	for user, want := range map[string]account{"": {name: "root", home: "/root", uid: 0}, "0:7": {name: "root", home: "/root", uid: 0, gid: 7}, "54321": {name: "54321", home: "/", uid: 54321, gid: 54321}} {
		a, err := lookup(user)
		if err != nil || a.name != want.name || a.home != want.home || a.uid != want.uid || a.gid != want.gid || a.shell == "" {
			t.Errorf("%q is %+v, %v", user, a, err)
		}
	}
	if _, err := lookup("captain"); err == nil || !strings.Contains(err.Error(), "remoteUser") {
		t.Errorf("an unknown user is answered %v", err)
	}
	var x steward.Exit
	if err := json.Unmarshal([]byte(`{"code":1,"unknown":"to an older steward"}`), &x); err != nil || x.Code != 1 {
		t.Errorf("a newer word ends an older steward: %v", err)
	}
}

func serverSession(t *testing.T, conn net.Conn) *yamux.Session {
	t.Helper()
	s, err := yamux.Server(conn, steward.Multiplex())
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// Many ask for the same new terminal, and for the same set-up command, at once:
// there is one of each, and all have it. While a shell is asked for its
// environment the steward answers others.
func TestManyAskForTheSameAtOnce(t *testing.T) {
	p := newPair(t, nil)
	slow := steward.Process{Probe: "loginInteractiveShell", Argv: []string{"/bin/sh"}, User: "root", Folder: p.folder}
	begin := time.Now()
	results := make(chan string, 8)
	for range 8 {
		go func() {
			c, err := p.hub.Ask(t.Context(), id, steward.Request{Kind: steward.Terminal, ID: "same", Process: slow, Columns: 80, Rows: 24})
			if err != nil {
				results <- err.Error()
				return
			}
			_ = c.SendFrame(steward.Input, []byte("echo pid $$\n"))
			var out strings.Builder
			for !pidLine.MatchString(out.String()) {
				k, b, err := c.ReceiveFrame()
				if err != nil {
					break
				}
				if k == steward.Output {
					out.Write(b)
				}
			}
			results <- pidLine.FindString(out.String())
		}()
	}
	first := ""
	for range 8 {
		select {
		case r := <-results:
			if first == "" {
				first = r
			}
			if r != first || !strings.HasPrefix(r, "pid ") {
				t.Errorf("one has %q, another %q", first, r)
			}
		case <-time.After(30 * time.Second):
			t.Fatalf("after %s not all have it", time.Since(begin))
		}
	}
}

var pidLine = regexp.MustCompile(`pid \d+`)
