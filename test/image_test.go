package test

import (
	"archive/tar"
	"bytes"
	"io"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
)

// baseBusybox is the busybox of the base image.
func (w *world) baseBusybox() []byte {
	w.t.Helper()
	cli, ctx := w.docker(), w.t.Context()
	defer cli.Close()
	made, err := cli.ContainerCreate(ctx, client.ContainerCreateOptions{Config: &container.Config{Image: "skerryline/base:1"}})
	if err != nil {
		w.t.Fatal(err)
	}
	defer func() {
		_, _ = cli.ContainerRemove(ctx, made.ID, client.ContainerRemoveOptions{Force: true}) // the engine goes in the end
	}()
	program, err := cli.CopyFromContainer(ctx, made.ID, client.CopyFromContainerOptions{SourcePath: "/usr/bin/busybox"})
	if err != nil {
		w.t.Fatal(err)
	}
	defer program.Content.Close()
	from := tar.NewReader(program.Content)
	if _, err := from.Next(); err != nil {
		w.t.Fatal(err)
	}
	content, err := io.ReadAll(from)
	if err != nil {
		w.t.Fatal(err)
	}
	return content
}

// alone makes an image that holds one program and who there is, and nothing
// else: no shell by its name, no libraries, no git.
func (w *world) alone(name string, program []byte) {
	w.t.Helper()
	cli, ctx := w.docker(), w.t.Context()
	defer cli.Close()
	var all bytes.Buffer
	to := tar.NewWriter(&all)
	for _, f := range []struct {
		name string
		mode int64
		text []byte
	}{{"bin/busybox", 0o755, program}, {"etc/passwd", 0o644, []byte("root:x:0:0::/root:/bin/sh\nkeeper:x:1234:1234::/nowhere:/bin/ash\n")}, {"etc/group", 0o644, []byte("root:x:0:\nkeeper:x:1234:\n")}} {
		if err := to.WriteHeader(&tar.Header{Name: f.name, Mode: f.mode, Size: int64(len(f.text))}); err != nil {
			w.t.Fatal(err)
		}
		if _, err := to.Write(f.text); err != nil {
			w.t.Fatal(err)
		}
	}
	if err := to.Close(); err != nil {
		w.t.Fatal(err)
	}
	res, err := cli.ImageImport(ctx, client.ImageImportSource{Source: &all, SourceName: "-"}, name, client.ImageImportOptions{})
	if err != nil {
		w.t.Fatal(err)
	}
	defer res.Close()
	if _, err := io.Copy(io.Discard, res); err != nil {
		w.t.Fatal(err)
	}
}

// A workspace comes up from any image that can run a program: without git,
// without a shell, for a user without a home, whose own command ends at once or
// has to run. What exists only in it is known all the same.
func TestAnyImageOnAnEngine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.change("skerryline/gitless:1", "rm -rf /usr/bin/git /usr/lib/git-core")
	w.change("skerryline/ends:1", "true", `ENTRYPOINT ["/bin/false"]`)
	w.change("skerryline/begins:1", `printf '#!/bin/sh\necho begun > /tmp/begun\nexec "$@"\n' > /begin; chmod +x /begin`, `ENTRYPOINT ["/begin"]`, `CMD ["sleep", "infinity"]`)
	w.alone("skerryline/busy:1", w.baseBusybox())
	type kind struct {
		name, definition, run string
		says                  []string
	}
	kinds := []kind{
		{"gitless", `{"image": "skerryline/gitless:1", "remoteUser": "crew", "onCreateCommand": "echo made > made"}`, "cat marker made; ls -d .git; stat -c %U marker .git", []string{"here", "made", ".git", "crew\ncrew"}},
		{"busy", `{"image": "skerryline/busy:1", "remoteUser": "keeper", "onCreateCommand": "echo made > made"}`, "cat marker made; id -u; pwd", []string{"here", "made", "1234", "/workspaces/busy"}},
		{"ends", `{"image": "skerryline/ends:1", "remoteUser": "crew", "overrideCommand": false}`, "cat marker", []string{"here"}},
		{"sealed", `{"image": "skerryline/base:1", "remoteUser": "crew", "runArgs": ["--read-only"], "onCreateCommand": "echo made > made"}`, "cat marker made", []string{"here", "made"}},
		{"begins", `{"image": "skerryline/begins:1", "remoteUser": "crew", "overrideCommand": false}`, "cat marker /tmp/begun", []string{"here", "begun"}},
	}
	if at := os.Getenv("YARDBENCH_TEST_EMULATED"); at != "" { // a busybox for another processor
		program, err := os.ReadFile(at)
		if err != nil {
			t.Fatal(err)
		}
		w.alone("skerryline/other:1", program)
		kinds = append(kinds, kind{"other", `{"image": "skerryline/other:1", "remoteUser": "keeper", "onCreateCommand": "uname -m > made"}`, "cat marker made; id -u", []string{"here", "aarch64", "1234"}})
	}
	for _, c := range kinds {
		w.register(c.name, map[string]string{".devcontainer/devcontainer.json": c.definition, "marker": "here\n"})
		if r := w.as("ingrid", "", "launch", c.name); r.code != 0 {
			t.Errorf("%s does not launch: %s", c.name, r)
			continue
		}
		r := w.as("ingrid", "", "run", c.name, "--", "/bin/sh", "-c", c.run)
		for _, says := range c.says {
			if !strings.Contains(r.out, says) {
				t.Errorf("%s: it does not say %q: %s", c.name, says, r)
			}
		}
		if !slices.Contains([]string{"gitless", "busy", "other"}, c.name) {
			w.must(w.as("ingrid", "", "stop", c.name), 0)
			continue
		}
		w.must(w.as("ingrid", "", "logs", c.name), 0, "This image has no git")
		// What exists only here keeps it from being removed.
		w.must(w.as("ingrid", "", "run", c.name, "--", "/bin/sh", "-c", "echo only > here"), 0)
		if r := w.as("ingrid", "", "remove", c.name, "--yes"); r.code == 0 || !strings.Contains(r.out+r.errors, "here") {
			t.Errorf("%s is removed with what is only in it: %s", c.name, r)
		}
		w.must(w.as("ingrid", "", "stop", c.name), 0, "is stopped")
		w.must(w.as("ingrid", "", "start", c.name), 0, "is ready")
		w.must(w.as("ingrid", "", "remove", c.name, "--yes", "--discard"), 0, "is removed")
	}
}
