// Package test tests the whole thing through its doors: the real binary, a
// real engine, real git, a real browser.
//
// `make test` builds the binary, starts an engine for the tests and names
// both in the environment. Without them these tests skip, saying so.
package test

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/moby/moby/client"

	yb "yardbench/client"
	"yardbench/internal/demo"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// world is a service with its git host and people, for one test.
type world struct {
	more       []string // further arguments of the service
	t          testing.TB
	dir        string // short: there are sockets in it
	place      string // the data directory in it; "" is data
	git        string // the git host's address
	host       *demo.GitHostServer
	bare       string // where its repositories stand
	engine     string
	sshAddress string // where its door of SSH is to be; "" is anywhere
	address    string // the service's, once it runs
	service    *exec.Cmd
	output     *syncBuffer
	config     map[string]string // by person: where their sign-in is kept
}

type syncBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *syncBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *syncBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

func needEngine(t testing.TB) string {
	t.Helper()
	engine := os.Getenv("YARDBENCH_TEST_ENGINE")
	if engine == "" || os.Getenv("YARDBENCH_TEST_BINARY") == "" {
		t.Skip("needs a container engine and the built binary: run it by `make test`")
	}
	return engine
}

// newWorld starts a git host and a service on the tests' engine.
func newWorld(t testing.TB) *world { return newWorldOn(t, needEngine(t)) }

// newWorldOn is newWorld on another engine.
func newWorldOn(t testing.TB, engine string) *world {
	t.Helper()
	w := &world{t: t, engine: engine, config: map[string]string{}}
	dir, err := os.MkdirTemp("", "ybt-")
	if err != nil {
		t.Fatal(err)
	}
	w.dir, w.bare = dir, filepath.Join(dir, "git")
	t.Cleanup(func() { os.RemoveAll(dir) })
	w.hostGit()
	w.start()
	t.Cleanup(w.wipe)
	return w
}

// repositories are the demo's, made once for all worlds, which have a copy each.
var repositories = sync.OnceValues(func() (dir string, err error) {
	if dir, err = os.MkdirTemp("", "ybt-git-"); err != nil {
		return "", err
	}
	shared = dir
	for _, name := range demo.Repositories {
		if err := demo.MakeRepository(context.Background(), dir, name, os.DirFS("../internal/demo")); err != nil {
			return "", err
		}
	}
	return dir, nil
})

// shared is what the tests share, to be taken away after them.
var shared string

func TestMain(m *testing.M) {
	code := m.Run()
	if shared != "" {
		os.RemoveAll(shared)
	}
	os.Exit(code)
}

// hostGit starts a git host with the demo's repositories.
func (w *world) hostGit() {
	w.t.Helper()
	made, err := repositories()
	if err == nil {
		err = os.CopyFS(w.bare, os.DirFS(made))
	}
	if err != nil {
		w.t.Fatal(err)
	}
	handler, err := demo.GitHost(w.bare, func() string { return w.address })
	if err != nil {
		w.t.Fatal(err)
	}
	w.host = handler
	host := httptest.NewServer(handler)
	w.t.Cleanup(host.Close)
	w.git = strings.Replace(host.URL, "127.0.0.1", "git.skerryline.localhost", 1)
}

// data is the service's data directory.
func (w *world) data() string { return filepath.Join(w.dir, cmp.Or(w.place, "data")) }

// start starts the service, or starts it again.
func (w *world) start() {
	w.t.Helper()
	listen := "127.0.0.1:0"
	if w.address != "" {
		listen = strings.TrimPrefix(w.address, "http://") // it comes back where it was
	}
	sshListen := "127.0.0.1:0"
	if w.sshAddress != "" {
		sshListen = w.sshAddress
	}
	w.service = exec.Command(os.Getenv("YARDBENCH_TEST_BINARY"), "demo", "service", "--data", w.data(),
		"--listen", listen, "--ssh-listen", sshListen, "--engine", w.engine, "--git-host", w.git)
	w.service.Args = append(w.service.Args, w.more...)
	if w.more == nil {
		w.service.Args = append(w.service.Args, bounds()...)
		if _, measured := w.t.(*testing.B); measured {
			w.service.Args = append(w.service.Args, "--changes-per-hour", "0")
		}
	}
	w.output = &syncBuffer{}
	out, err := w.service.StdoutPipe()
	if err != nil {
		w.t.Fatal(err)
	}
	w.service.Stderr = w.output
	w.service.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := w.service.Start(); err != nil {
		w.t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if _, address, ok := strings.Cut(lines.Text(), "the service is at "); ok {
			w.address = address
			return
		}
	}
	w.t.Fatalf("the service did not come up:\n%s", w.output)
}

// bounds are the flags by which this machine can bound workspaces further.
var bounds = sync.OnceValue(func() []string {
	out, err := exec.Command("../tools/bounds").Output()
	if err != nil {
		return nil
	}
	return strings.Fields(string(out))
})

// bounded tells whether this machine can bound workspaces' disks.
func bounded() bool { return slices.Contains(bounds(), "--bound-disks") }

// kill ends the service as a power cut would.
func (w *world) kill() {
	_ = w.service.Process.Kill() // it may have ended by itself, which Wait shows
	_ = w.service.Wait()
}

// wipe removes every workspace and checks that the engine has nothing of ours.
func (w *world) wipe() {
	installation := w.installation()
	c := w.client("astrid")
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	all, err := c.Workspaces.List(ctx, yb.ListQuery{All: true})
	if err != nil {
		w.t.Errorf("list for the end: %v\n%s", err, w.output)
	}
	for _, ws := range all {
		ref := ws.Name + "." + ws.Owner
		if ws.Adopted != "" {
			_, err = c.Containers.LetGo(ctx, ref)
		} else {
			_, err = c.Workspaces.Remove(ctx, ref, true)
		}
		if err != nil {
			w.t.Errorf("remove %s for the end: %v", ref, err)
		}
	}
	plans, err := c.Prebuilds.Plans(ctx, "")
	if err != nil {
		w.t.Errorf("list the plans for the end: %v", err)
	}
	for len(all) > 0 && ctx.Err() == nil {
		time.Sleep(50 * time.Millisecond)
		if all, err = c.Workspaces.List(ctx, yb.ListQuery{All: true}); err != nil {
			break
		}
	}
	for _, p := range plans {
		if err := c.Prebuilds.DropPlan(ctx, p.Repository, p.Branch); err != nil {
			w.t.Errorf("drop the plan of %s for the end: %v", p.Repository, err)
		}
	}
	// What a prebuild run was made in is taken away after the run has ended.
	left, disks := "", []string(nil)
	for end := time.Now().Add(slack * 20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		left = w.leftovers(installation)
		disks, _ = filepath.Glob(filepath.Join(w.data(), "disks", "*"))
		for _, hierarchy := range []string{"", "memory", "cpu", "pids"} { // control groups of either version
			groups, _ := filepath.Glob(filepath.Join("/sys/fs/cgroup", hierarchy, "yardbench", "yb-"+installation+"-*"))
			disks = append(disks, groups...)
		}
		if left == "" && len(disks) == 0 || time.Now().After(end) {
			break
		}
	}
	if left != "" || len(disks) > 0 {
		w.t.Errorf("there is still of ours, in the engine:\n%s\nand of disks and control groups: %v; of workspaces: %+v\n--- service\n%s", left, disks, all, w.output)
	}
	_ = w.service.Process.Signal(syscall.SIGTERM)
	if err := w.service.Wait(); err != nil {
		w.t.Errorf("the service ended with %v:\n%s", err, w.output)
	}
	w.dropClaims(installation)
}

// dropClaims takes away what tells the engine whose an installation's part is.
func (w *world) dropClaims(installation string) {
	if w.engine == "" || strings.HasPrefix(w.engine, "sim:") {
		return
	}
	cli := w.docker()
	defer cli.Close()
	f := client.Filters{}.Add("label", "yardbench.installation="+installation).Add("label", "yardbench.claim")
	vs, err := cli.VolumeList(context.Background(), client.VolumeListOptions{Filters: f})
	if err != nil {
		w.t.Fatal(err)
	}
	if len(vs.Items) != 1 {
		w.t.Errorf("the engine has %d claims of the installation; one is wanted", len(vs.Items))
	}
	for _, v := range vs.Items {
		if _, err := cli.VolumeRemove(context.Background(), v.Name, client.VolumeRemoveOptions{}); err != nil {
			w.t.Error(err)
		}
	}
}

func (w *world) installation() string {
	db := openDatabase(w.t, filepath.Join(w.data(), "yardbench.db"))
	defer db.Close()
	var id string
	if err := db.QueryRow("SELECT value FROM meta WHERE key = 'installation'").Scan(&id); err != nil {
		w.t.Fatal(err)
	}
	return id
}

// leftovers lists everything in the engine that carries the installation's id.
func (w *world) leftovers(installation string) string {
	ctx := context.Background()
	cli := w.docker()
	defer cli.Close()
	f := client.Filters{}.Add("label", "yardbench.installation="+installation)
	var left []string
	cs, err := cli.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: f})
	if err != nil {
		w.t.Fatal(err)
	}
	for _, c := range cs.Items {
		left = append(left, "container "+c.Names[0])
	}
	vs, err := cli.VolumeList(ctx, client.VolumeListOptions{Filters: f})
	if err != nil {
		w.t.Fatal(err)
	}
	for _, v := range vs.Items {
		if v.Labels["yardbench.claim"] == "" { // that stays, as the installation does
			left = append(left, "volume "+v.Name)
		}
	}
	ns, err := cli.NetworkList(ctx, client.NetworkListOptions{Filters: f})
	if err != nil {
		w.t.Fatal(err)
	}
	for _, n := range ns.Items {
		left = append(left, "network "+n.Name)
	}
	is, err := cli.ImageList(ctx, client.ImageListOptions{Filters: client.Filters{}.Add("reference", "yardbench/"+installation)})
	if err != nil {
		w.t.Fatal(err)
	}
	for _, i := range is.Items {
		left = append(left, "image "+strings.Join(i.RepoTags, " "))
	}
	slices.Sort(left)
	return strings.Join(left, "\n")
}

// vault opens the service's own keys.
func (w *world) vault() *vault.Vault {
	w.t.Helper()
	v, err := vault.Open(filepath.Join(w.data(), "keys", "sealing.json"), nil)
	if err != nil {
		w.t.Fatal(err)
	}
	return v
}

func (w *world) docker() *client.Client {
	cli, err := client.New(client.WithHost(w.engine))
	if err != nil {
		w.t.Fatal(err)
	}
	return cli
}

// client is the Go client, signed in as a person.
func (w *world) client(name string) *yb.Client {
	w.t.Helper()
	c, err := yb.New(w.address, "")
	if err != nil {
		w.t.Fatal(err)
	}
	in, err := c.Self.SignIn(context.Background(), name, demo.Password)
	if err != nil {
		w.t.Fatal(err)
	}
	c, err = yb.New(w.address, in.Token)
	if err != nil {
		w.t.Fatal(err)
	}
	return c
}

// result is what a command line gave.
type result struct {
	code        int
	out, errors string
}

func (r result) String() string {
	return fmt.Sprintf("exit code %d\n--- output\n%s--- errors\n%s", r.code, r.out, r.errors)
}

// as runs the real command line as a person.
func (w *world) as(name, stdin string, args ...string) result {
	w.t.Helper()
	if w.config[name] == "" {
		w.config[name] = filepath.Join(w.dir, "config-"+name)
		if r := w.command(name, demo.Password+"\n", "sign-in", w.address, "--as", name).run(); r.code != 0 {
			w.t.Fatalf("sign-in: %s", r)
		}
	}
	return w.command(name, stdin, args...).run()
}

type commandLine struct {
	*exec.Cmd
	t testing.TB
}

func (w *world) command(name, stdin string, args ...string) commandLine {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	w.t.Cleanup(cancel)
	cmd := exec.CommandContext(ctx, os.Getenv("YARDBENCH_TEST_BINARY"), args...)
	cmd.Env = append(os.Environ(), "YARDBENCH_CONFIG="+filepath.Join(w.dir, "config-"+name), "YARDBENCH_ADDRESS=", "YARDBENCH_TOKEN=")
	cmd.Stdin = strings.NewReader(stdin)
	return commandLine{cmd, w.t}
}

func (c commandLine) run() result {
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	if c.ProcessState == nil {
		c.t.Fatalf("run %v: %v", c.Args, err)
	}
	return result{c.ProcessState.ExitCode(), out.String(), errs.String()}
}

// must fails the test unless a command ended with code and said every word.
func (w *world) must(r result, code int, words ...string) string {
	w.t.Helper()
	for _, word := range words {
		if !strings.Contains(r.out+r.errors, word) {
			w.t.Errorf("%q is not said", word)
		}
	}
	if r.code != code {
		w.t.Errorf("exit code %d is wanted", code)
	}
	if w.t.Failed() {
		w.t.Fatalf("%s\n--- service\n%s", r, w.output)
	}
	return r.out
}

// slack is how much longer than usual a busy machine may take before a wait
// counts as in vain.
const slack = 6

// until waits for a workspace to be as wanted.
func (w *world) until(c *yb.Client, name string, limit time.Duration, is func(wire.Workspace) bool) wire.Workspace {
	w.t.Helper()
	var last wire.Workspace
	for end := time.Now().Add(slack * limit); time.Now().Before(end); time.Sleep(30 * time.Millisecond) {
		ws, err := c.Workspaces.Show(context.Background(), name)
		if err == nil && is(ws) {
			return ws
		}
		last = ws
	}
	w.t.Fatalf("%s did not come to be as wanted within %s; it is %s: %s\n--- service\n%s", name, limit, last.Phase, last.Cause, w.output)
	return last
}

func inPhase(p string) func(wire.Workspace) bool {
	return func(ws wire.Workspace) bool { return ws.Phase == p }
}

// push commits files to a branch of a repository, as a colleague would.
func (w *world) push(repository, branch string, files map[string]string) {
	w.t.Helper()
	ctx := w.t.Context()
	bare, tree := filepath.Join(w.bare, repository+".git"), w.t.TempDir()
	if _, err := os.Stat(bare); err != nil {
		if err := demo.MakeRepository(ctx, w.bare, repository, os.DirFS(w.emptyTree(repository))); err != nil {
			w.t.Fatal(err)
		}
	}
	steps := [][]string{{"clone", "--quiet", bare, tree}, {"-C", tree, "checkout", "--quiet", "-B", branch}}
	for _, s := range steps {
		if err := demo.Git(ctx, s...); err != nil {
			w.t.Fatal(err)
		}
	}
	for name, content := range files {
		p := filepath.Join(tree, name)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			w.t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(content), 0o644); err != nil {
			w.t.Fatal(err)
		}
	}
	for _, s := range [][]string{{"-C", tree, "add", "--all"}, {"-C", tree, "commit", "--quiet", "-m", "Change " + branch}, {"-C", tree, "push", "--quiet", "origin", branch}} {
		if err := demo.Git(ctx, s...); err != nil {
			w.t.Fatal(err)
		}
	}
}

func (w *world) emptyTree(repository string) string {
	dir := w.t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "repositories", repository), 0o755); err != nil {
		w.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "repositories", repository, "README.md"), []byte("# "+repository+"\n"), 0o644); err != nil {
		w.t.Fatal(err)
	}
	return dir
}

// register pushes a definition to a new repository and registers it.
func (w *world) register(name string, files map[string]string) {
	w.t.Helper()
	w.push(name, "main", files)
	if r := w.as("astrid", "", "repository", "add", w.git+"/"+name+".git"); r.code != 0 {
		w.t.Fatalf("register %s: %s", name, r)
	}
}

func freeAddress(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}
