package test

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// shell is a person's own machine with OpenSSH on it, configured for the world.
type shell struct {
	w    *world
	t    *testing.T
	home string
}

// shellOf configures a person's ssh.
func (w *world) shellOf(t *testing.T, who string, flags ...string) shell {
	t.Helper()
	for _, p := range []string{"ssh", "sftp", "scp", "rsync"} {
		if _, err := exec.LookPath(p); err != nil {
			t.Skip("needs OpenSSH's client and rsync")
		}
	}
	s := shell{w, t, t.TempDir()}
	w.must(w.as(who, "", append([]string{"ssh", "configure", "--file", s.config()}, flags...)...), 0, "NAME.bench")
	return s
}

func (s shell) config() string { return filepath.Join(s.home, "config") }

// run runs one of OpenSSH's programs, with input.
func (s shell) run(input string, program string, args ...string) result {
	s.t.Helper()
	if program != "rsync" && program != "timeout" {
		args = append([]string{"-F", s.config()}, args...)
	}
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), "HOME="+s.home, "RSYNC_RSH=ssh -F "+s.config(), "LC_BELL=six", "SECRET_OF_MINE=no")
	cmd.Stdin = strings.NewReader(input)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	r := result{out: out.String(), errors: errs.String()}
	if cmd.ProcessState != nil {
		r.code = cmd.ProcessState.ExitCode()
	} else {
		r.errors, r.code = fmt.Sprint(err), -1
	}
	return r
}

// Whatever speaks SSH is at home in a workspace: commands with their input, output
// and exit code, terminals, files, forwarding of all kinds.
func TestSSH(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	for _, over := range []string{"", "--over-http"} {
		s := w.shellOf(t, "ingrid", strings.Fields(over)...)
		w.must(s.run("six bells\n", "ssh", "quay.bench", "cat; pwd; id -un; echo $LC_BELL$SECRET_OF_MINE; echo oops >&2; exit 7"), 7, "six bells\n/workspaces/tide-board\ncrew\nsix\n", "oops")
		w.must(s.run("", "ssh", "nowhere.bench", "true"), 255, "there is no workspace “nowhere”")
		w.must(s.run(strings.Repeat("x", 8<<20), "ssh", "-o", "RekeyLimit=1M", "quay.bench", "wc -c; head -c 8388608 /dev/zero | tr '\\0' y"), 0, "8388608\nyyyy", strings.Repeat("y", 1<<20))
		w.must(s.run("", "ssh", "-tt", "quay.bench", "stty size; echo $TERM; tty"), 0, "/dev/pts/")

		// Files, by each program.
		here := t.TempDir()
		for name, text := range map[string]string{"a": "one\n", "deep/b b": "two\n", "odd\nname": "three\n"} {
			if err := os.MkdirAll(filepath.Dir(filepath.Join(here, "in", name)), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(here, "in", name), []byte(text), 0o640); err != nil {
				t.Fatal(err)
			}
		}
		w.must(s.run("", "scp", "-r", filepath.Join(here, "in"), "quay.bench:brought"), 0)
		w.must(s.run("", "scp", "-r", "quay.bench:brought", filepath.Join(here, "out")), 0)
		w.must(s.run("put "+filepath.Join(here, "in", "a")+" put\nls -l put\n", "sftp", "-b", "-", "quay.bench"), 0, "put")
		w.must(s.run("", "rsync", "-a", filepath.Join(here, "in")+"/", "quay.bench:/tmp/synced/"), 0)
		w.must(s.run("", "rsync", "-a", "quay.bench:/tmp/synced/", filepath.Join(here, "back")+"/"), 0)
		for _, at := range []string{"out", "back"} {
			if diff, err := exec.Command("diff", "-r", filepath.Join(here, "in"), filepath.Join(here, at)).CombinedOutput(); err != nil {
				t.Errorf("%s: %s", at, diff)
			}
		}
		w.must(s.run("", "ssh", "quay.bench", "rm -r brought put /tmp/synced; git status --porcelain"), 0)
	}
	w.must(w.as("ingrid", "", "ssh", "quay", "--", "echo", "$((6 * 7))"), 0, "42")
	w.must(w.as("mats", "", "ssh", "quay.ingrid", "--", "id"), 255, "there is no workspace")

	// One's own key.
	s := w.shellOf(t, "ingrid")
	key := filepath.Join(s.home, "own")
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "the laptop", "-f", key).CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	door, err := w.client("ingrid").Self.SSHDoor(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	host, port, _ := strings.Cut(door.Address, ":")
	own := func(args ...string) result {
		t.Helper()
		return s.run("", "ssh", append([]string{"-F", "none", "-i", key, "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=accept-new", "-o", "UserKnownHostsFile=" + filepath.Join(s.home, "known"), "-p", port}, args...)...)
	}
	w.must(own("quay@"+host, "true"), 255, "Permission denied (publickey)")
	w.must(w.as("ingrid", "", "key", "add", key), 2, "private", "not sent")
	w.must(w.as("ingrid", "", "key", "add", key+".pub"), 0, "lets you in")
	w.must(w.as("mats", "", "key", "add", key+".pub"), 4, "already")
	w.must(own("quay@"+host, "id", "-un"), 0, "crew")
	id := strings.Fields(w.must(w.as("ingrid", "", "key", "list", "--no-head"), 0, "the laptop"))[0]
	w.must(own("ghost@"+host, "true"), 255, "there is no workspace")
	gone := make(chan result, 1)
	go func() { gone <- own("quay@"+host, "echo begun; sleep 60") }()
	time.Sleep(2 * time.Second)
	w.must(w.as("ingrid", "", "key", "remove", id), 0)
	select {
	case r := <-gone:
		if r.code != 255 || !strings.Contains(r.out, "begun") {
			t.Errorf("what stood on a key that was removed ends as %s", r)
		}
	case <-time.After(5 * time.Second):
		t.Error("what stands on a key that was removed goes on")
	}
	w.must(own("quay@"+host, "true"), 255, "Permission denied (publickey)")

	// A stopped workspace is woken, unless the house rules say no.
	w.must(w.as("ingrid", "", "stop", "quay"), 0)
	w.must(s.run("", "ssh", "quay.bench", "echo awake"), 0, "awake", "yardbench: quay is being started: ")
	w.must(w.as("ingrid", "", "stop", "quay"), 0)
	w.rules("idle:", "idle:\n  wake: []")
	w.must(s.run("", "ssh", "quay.bench", "echo awake"), 255, "the house rules do not have it started")
}

// Forwarding of every kind, forty things at once over one connection as editors do,
// and an agent that is asked from within.
func TestSSHForwards(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	s := w.shellOf(t, "ingrid")
	w.must(s.run("", "ssh", "quay.bench", "echo six bells > bells; (python3 -m http.server 8400 >/dev/null 2>&1 &)"), 0)
	get := func(client *http.Client, address string) string {
		t.Helper()
		var body string
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
			res, err := client.Get(address)
			if err != nil {
				body = err.Error()
				continue
			}
			b, _ := io.ReadAll(res.Body)
			res.Body.Close()
			if body = string(b); res.StatusCode == 200 {
				break
			}
		}
		return body
	}

	// By the client's own forwards several come at once, and go on over a stop.
	first, second := freeAddress(t), freeAddress(t)
	_, one, _ := net.SplitHostPort(first)
	_, two, _ := net.SplitHostPort(second)
	w.must(w.as("ingrid", "", "forward", "quay", "8400:"+one, "84x0"), 2, "is no port")
	w.must(w.as("ingrid", "", "forward", "quay"), 2, "--all")
	forward := w.command("ingrid", "", "forward", "quay", "8400:"+one, "8000:"+two)
	if err := forward.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = forward.Process.Kill(); _ = forward.Wait() }() // it would go on for ever
	if got := get(http.DefaultClient, "http://"+first+"/bells"); got != "six bells\n" {
		t.Errorf("by the client's forward comes %q", got)
	}
	w.must(w.as("ingrid", "", "stop", "quay"), 0)
	w.must(s.run("", "ssh", "quay.bench", "(python3 -m http.server 8400 >/dev/null 2>&1 &); (python3 -m http.server 8000 >/dev/null 2>&1 &)"), 0)
	for _, address := range []string{first, second} {
		if got := get(http.DefaultClient, "http://"+address+"/bells"); got != "six bells\n" {
			t.Errorf("after a stop and a start by %s comes %q", address, got)
		}
	}

	// Outside, what the workspace is to reach.
	here := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "from outside\n") }))
	defer here.Close()
	sockets := t.TempDir()
	master := filepath.Join(sockets, "m")
	local, socks := freeAddress(t), freeAddress(t)
	_, agent := startAgent(t, sockets)
	cmd := exec.Command("ssh", "-F", s.config(), "-M", "-S", master, "-N", "-A", "-o", "ExitOnForwardFailure=yes",
		"-L", local+":localhost:8400", "-D", socks, "-R", "9400:"+strings.TrimPrefix(here.URL, "http://"),
		"-L", filepath.Join(sockets, "in")+":/tmp/quay.sock", "-R", "/tmp/out.sock:"+strings.TrimPrefix(here.URL, "http://"), "quay.bench")
	cmd.Env = append(os.Environ(), "HOME="+s.home, "SSH_AUTH_SOCK="+agent)
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }() // it would go on for ever
	if got := get(http.DefaultClient, "http://"+local+"/bells"); got != "six bells\n" {
		t.Errorf("by a local forward comes %q\n%s", got, said.String())
	}
	through := &http.Client{Transport: &http.Transport{Proxy: func(*http.Request) (*url.URL, error) { return url.Parse("socks5://" + socks) }}}
	if got := get(through, "http://localhost:8400/bells"); got != "six bells\n" {
		t.Errorf("by a dynamic forward comes %q", got)
	}
	if got := get(through, "http://quay:8400/bells"); got != "six bells\n" {
		t.Errorf("by the workspace's own name comes %q", got)
	}
	for _, address := range []string{"169.254.169.254:80", "[fe80::1]:80", "0.0.0.0:0"} {
		if res, err := through.Get("http://" + address); err == nil {
			t.Errorf("%s is answered %s", address, res.Status)
		}
	}
	mux := func(input string, args ...string) result {
		t.Helper()
		return s.run(input, "ssh", append([]string{"-S", master}, args...)...)
	}
	w.must(mux("", "quay.bench", "python3 -c \"import urllib.request as u; print(u.urlopen('http://127.0.0.1:9400').read().decode())\""), 0, "from outside")
	w.must(mux("", "quay.bench", `python3 -c "
import socket
s = socket.socket(socket.AF_UNIX); s.connect('/tmp/out.sock'); s.sendall(b'GET / HTTP/1.0\r\n\r\n'); print(s.makefile().read())"`), 0, "from outside")
	w.must(mux("", "quay.bench", `python3 -c "
import socket, threading
l = socket.socket(socket.AF_UNIX); l.bind('/tmp/quay.sock'); l.listen()
print('listens', flush=True)
c, _ = l.accept(); c.sendall(b'by a socket'); c.close()" > /tmp/said 2>&1 & sleep 1; cat /tmp/said`), 0, "listens")
	if conn, err := net.Dial("unix", filepath.Join(sockets, "in")); err != nil {
		t.Error(err)
	} else {
		b, err := io.ReadAll(conn)
		if string(b) != "by a socket" {
			t.Errorf("by a socket comes %q, %v", b, err)
		}
		conn.Close()
	}

	// The agent's one key is listed from within (draft-ietf-sshm-ssh-agent, 3.5), by the
	// workspace's user alone, and not when it is over.
	const identities = `python3 -c "
import os, socket, struct
s = socket.socket(socket.AF_UNIX); s.connect(os.environ['SSH_AUTH_SOCK']); s.sendall(struct.pack('>IB', 1, 11))
n, kind, keys = struct.unpack('>IBI', s.recv(9)); print('keys', keys, oct(os.stat(os.environ['SSH_AUTH_SOCK']).st_mode & 0o777))"; echo $SSH_AUTH_SOCK`
	lone := exec.Command("ssh", "-F", s.config(), "-S", "none", "-A", "quay.bench", identities)
	lone.Env = append(os.Environ(), "HOME="+s.home, "SSH_AUTH_SOCK="+agent)
	out, err := lone.CombinedOutput()
	if err != nil || !strings.HasPrefix(string(out), "keys 1 0o600\n") {
		t.Errorf("the agent is asked from within: %s, %v", out, err)
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	w.must(mux("", "quay.bench", "test -S "+lines[len(lines)-1]), 1)

	// As an editor does: a script is run, a program copied in and started, forty
	// things at once, and one of them long.
	var wg sync.WaitGroup
	for n := range 40 {
		wg.Go(func() {
			if r := mux(strings.Repeat("x", 1<<16), "quay.bench", fmt.Sprintf("cat | wc -c; exit %d", n)); r.code != n || !strings.Contains(r.out, "65536") {
				t.Errorf("the %dth of forty: %s", n, r)
			}
		})
	}
	wg.Wait()
	w.must(mux("", "quay.bench", "kill -TERM $$"), 143)
	if r := s.run("", "ssh", "-S", master, "-O", "exit", "quay.bench"); r.code != 0 {
		t.Errorf("%s", r)
	}
}

// startAgent starts an agent with one key.
func startAgent(t *testing.T, dir string) (key, socket string) {
	t.Helper()
	key, socket = filepath.Join(dir, "agent-key"), filepath.Join(dir, "agent")
	cmd := exec.Command("ssh-agent", "-D", "-a", socket)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	for end := time.Now().Add(5 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if _, err := os.Stat(socket); err == nil {
			break
		}
	}
	add := exec.Command("sh", "-c", "ssh-keygen -q -t ed25519 -N '' -f "+key+" && ssh-add -q "+key)
	add.Env = append(os.Environ(), "SSH_AUTH_SOCK="+socket)
	if out, err := add.CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	return key, socket
}

// A terminal with a name outlives its connection and the service; files that were
// on their way say so, and what is sent again comes to the same.
func TestSSHOverARestart(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	s := w.shellOf(t, "ingrid")
	door, err := w.client("ingrid").Self.SSHDoor(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	w.sshAddress = door.Address
	deck := func(input string) result { return s.run(input, "ssh", "-tt", "-l", "quay+deck", "quay.bench") }

	// What is typed goes in, and the connection ends: the terminal does not.
	in, out := io.Pipe()
	cmd := exec.Command("ssh", "-F", s.config(), "-tt", "-l", "quay+deck", "quay.bench")
	cmd.Env, cmd.Stdin = append(os.Environ(), "HOME="+s.home), in
	seen := &syncBuffer{}
	cmd.Stdout, cmd.Stderr = seen, seen
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := io.WriteString(out, "MARK=buoy-$((10 + 2)); echo set $MARK\n"); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(10 * time.Second); !strings.Contains(seen.String(), "set buoy-12") && time.Now().Before(end); {
		time.Sleep(50 * time.Millisecond)
	}

	tree := t.TempDir()
	for n := range 3000 {
		dir := filepath.Join(tree, fmt.Sprint(n%50))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprint(n)), bytes.Repeat([]byte{byte(n)}, n*10), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	sent := make(chan result, 1)
	go func() { sent <- s.run("", "rsync", "-a", "--bwlimit=4m", tree+"/", "quay.bench:/tmp/tree/") }()
	time.Sleep(1500 * time.Millisecond)
	w.kill()
	w.start()
	if r := <-sent; r.code == 0 || !strings.Contains(r.errors, "rsync error") {
		t.Errorf("files that were on their way when the service went: %s", r)
	}
	out.Close()
	_ = cmd.Wait() // its connection is gone with the service
	w.must(s.run("", "rsync", "-a", tree+"/", "quay.bench:/tmp/tree/"), 0)
	back := t.TempDir()
	w.must(s.run("", "rsync", "-a", "quay.bench:/tmp/tree/", back+"/"), 0)
	if diff, err := exec.Command("diff", "-r", tree, back).CombinedOutput(); err != nil {
		t.Errorf("it comes to another: %s", diff)
	}
	r := deck("echo \"<$MARK>\"; exit 3\n")
	if r.code != 3 || !strings.Contains(r.out, "<buoy-12>") || !strings.Contains(r.out, "set buoy-12") {
		t.Errorf("the terminal after the restart: %s", r)
	}
	w.must(s.run("", "ssh", "-l", "quay+UPPER", "-tt", "quay.bench"), 255, "is no label")

	// One without a name ends with its connection.
	w.must(s.run("exec sleep 4321\n", "timeout", "3", "ssh", "-F", s.config(), "-tt", "quay.bench"), 124)
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if r := s.run("", "ssh", "quay.bench", "pgrep -x sleep"); r.code == 1 {
			break
		} else if time.Now().After(end) {
			t.Errorf("a terminal whose connection is gone was not hung up: %s", r)
			break
		}
	}
}
