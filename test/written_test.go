package test

import (
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
	"golang.org/x/tools/txtar"
)

// standIn makes an image that stands in for those that the written repositories
// name: their tools write down where they were called and with what, and its
// own command answers on the ports of ordinary services with who it is.
func (w *world) standIn(names []string) {
	w.t.Helper()
	cli, ctx := w.docker(), w.t.Context()
	defer cli.Close()
	w.change(names[0], `set -e
for tool in yarn npm gunicorn levels-ready; do printf '#!/bin/sh\necho "$(basename $0) $* in $(pwd)" >> /tmp/did\n' > /usr/local/bin/$tool; chmod +x /usr/local/bin/$tool; done
cat > /usr/local/bin/answer <<'END'
import os, selectors, socket
all = selectors.DefaultSelector()
for port in (80, 3000, 5432, 6379, 8080):
    s = socket.create_server(("", port)); all.register(s, 1)
while True:
    for key, _ in all.select():
        c, _ = key.fileobj.accept(); c.sendall(("this is " + os.uname().nodename + "\n").encode()); c.close()
END
mkdir -p /var/www/html; echo none > /var/www/html/index.html`, `CMD ["python3", "/usr/local/bin/answer"]`)
	for _, n := range names[1:] {
		if _, err := cli.ImageTag(ctx, client.ImageTagOptions{Source: names[0], Target: n}); err != nil {
			w.t.Fatal(err)
		}
	}
}

// change makes an image of the base image that a script changed.
func (w *world) change(name, script string, changes ...string) {
	w.t.Helper()
	cli, ctx := w.docker(), w.t.Context()
	defer cli.Close()
	made, err := cli.ContainerCreate(ctx, client.ContainerCreateOptions{Config: &container.Config{Image: "skerryline/base:1", User: "root", Cmd: []string{"sh", "-c", script}}})
	if err != nil {
		w.t.Fatal(err)
	}
	defer func() {
		_, _ = cli.ContainerRemove(ctx, made.ID, client.ContainerRemoveOptions{Force: true}) // the engine goes in the end
	}()
	if _, err := cli.ContainerStart(ctx, made.ID, client.ContainerStartOptions{}); err != nil {
		w.t.Fatal(err)
	}
	wait := cli.ContainerWait(ctx, made.ID, client.ContainerWaitOptions{Condition: container.WaitConditionNotRunning})
	select {
	case r := <-wait.Result:
		if r.StatusCode != 0 {
			w.t.Fatalf("%s: exit code %d", name, r.StatusCode)
		}
	case err := <-wait.Error:
		w.t.Fatal(err)
	case <-time.After(time.Minute):
		w.t.Fatalf("%s is not made", name)
	}
	if _, err := cli.ContainerCommit(ctx, made.ID, client.ContainerCommitOptions{Reference: name, Changes: append([]string{"USER root", "ENTRYPOINT []"}, changes...)}); err != nil {
		w.t.Fatal(err)
	}
}

var writtenImage = regexp.MustCompile(`skerryline/[a-z]+:[0-9a-z.-]+`)

// Repositories as their developers write them come up on a real engine, and
// what their developer wants is there: the tree in its place, set-up run in it,
// services by their names, ports, a debugger.
func TestAsWrittenOnAnEngine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	const traced = `import ctypes, os, signal, subprocess
p = subprocess.Popen(["sleep", "60"])
libc = ctypes.CDLL(None, use_errno=True)
print("attached", libc.ptrace(16, p.pid, 0, 0), os.strerror(ctypes.get_errno()))
print("rights", [l.split()[1] for l in open("/proc/self/status") if l.startswith("CapBnd")][0])
os.waitpid(p.pid, 0); libc.ptrace(17, p.pid, 0, 0); p.kill()`
	const ask = `python3 -c "import socket; print(socket.create_connection(('%s', %d), 10).recv(99).decode())"`
	cases := []struct {
		name string
		file string // that shows where the tree is
		run  string
		says []string
	}{
		{"node-database", "/workspaces/node-database/marker", "cat /tmp/did; " + fmt.Sprintf(ask, "localhost", 5432), []string{"yarn install in /workspaces/node-database", "this is"}},
		{"node-compose-plain", "/app/marker", "echo $CACHE_URL; ls -d node_modules; " + fmt.Sprintf(ask, "cache", 6379), []string{"redis://cache:6379", "node_modules", "this is"}},
		{"node-usr-src", "/usr/src/app/marker", "pwd", []string{"/usr/src/app"}},
		{"python-two-files", "/app/marker", fmt.Sprintf(ask, "web", 22) + " 2>&1 | tail -1; env", []string{"TOKENIZERS_PARALLELISM=false", "PYTHONUNBUFFERED=1"}},
		{"go-debugger", "/workspaces/go-debugger/marker", "python3 -c '" + traced + "'", []string{"attached 0", "rights 00000000a80c25fb"}},
		{"go-microservices", "/src/marker", "getent hosts tides && ! getent hosts search && echo only", []string{"tides", "only"}},
		{"php-apache", "/var/www/html/marker", fmt.Sprintf(ask, "admin", 8080), []string{"this is"}},
		{"ruby-generated", "/workspaces/ruby-generated/marker", "echo $DB_HOST $BINDING; " + fmt.Sprintf(ask, "postgres", 5432), []string{"postgres 0.0.0.0", "this is"}},
		{"mono-web", "/workspaces/mono-web/marker", "pwd; cat /tmp/did", []string{"/workspaces/mono-web/web", "npm ci in /workspaces/mono-web/web"}},
		{"two-binds", "/src/marker", "pwd; ls -l /src", []string{"/app", "/src -> /app"}},
	}
	images := map[string]bool{"skerryline/standin:1": true}
	archives := map[string]map[string]string{}
	for _, c := range cases {
		a, err := txtar.ParseFile(filepath.Join("../internal/core/definition/testdata/written", c.name+".txtar"))
		if err != nil {
			t.Fatal(err)
		}
		files := map[string]string{"marker": c.name + "\n", "web/package.json": "{}", "package.json": "{}", "Makefile": "all:\n\techo made > made\n", "bin/setup": "#!/bin/sh\n"}
		for _, f := range a.Files {
			text := strings.ReplaceAll(string(f.Data), "tide-board", c.name)
			text = strings.NewReplacer(`"remoteUser": "node"`, `"remoteUser": "crew"`, "go install ./tools/...", "true", `["go", "mod", "download"]`, `["true"]`, "bin/setup", "sh bin/setup", "$RUBY_VERSION", "3.4", "USER crew", "").Replace(text)
			for _, i := range writtenImage.FindAllString(text, -1) {
				if i != "skerryline/base:1" {
					images[i] = true
				}
			}
			files[f.Name] = text
		}
		archives[c.name] = files
	}
	names := []string{"skerryline/standin:1"}
	for i := range images {
		if i != names[0] {
			names = append(names, i)
		}
	}
	w.standIn(names)
	w.must(w.as("ingrid", "", "list"), 0) // signs in, once
	var group sync.WaitGroup
	turn := make(chan struct{}, 3)
	for _, c := range cases {
		w.register(c.name, archives[c.name])
		group.Go(func() {
			turn <- struct{}{}
			defer func() { <-turn }()
			if r := w.as("ingrid", "", "launch", c.name); r.code != 0 {
				t.Errorf("%s does not launch: %s", c.name, r)
				return
			}
			r := w.as("ingrid", "", "run", c.name, "--", "sh", "-c", "cat "+c.file+"; git -C \"$(dirname $(realpath "+c.file+"))\" status --short | head -3; "+c.run)
			for _, says := range append(c.says, c.name) {
				if !strings.Contains(r.out, says) {
					t.Errorf("%s: it does not say %q: %s", c.name, says, r)
				}
			}
			if r := w.as("ingrid", "", "remove", c.name, "--yes", "--discard"); r.code != 0 {
				t.Errorf("%s is not removed: %s", c.name, r)
			}
		})
	}
	group.Wait()
}
