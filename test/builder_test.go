package test

import (
	"context"
	"strings"
	"testing"

	"github.com/moby/moby/client"
)

// The builder is given the graph that was checked: what a build would take is
// held against the rules as the builder understood it, triggers of images
// followed, and newer syntax needs no newer engine and nothing from outside.
func TestBuildsAreWhatWasChecked(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	cli := w.docker()
	trap := "skerryline/trap-" + w.installation() + ":1"
	made, err := cli.ContainerCreate(t.Context(), client.ContainerCreateOptions{Image: "skerryline/base:1"})
	if err == nil {
		t.Cleanup(func() {
			_, _ = cli.ContainerRemove(context.Background(), made.ID, client.ContainerRemoveOptions{Force: true})
			_, _ = cli.ImageRemove(context.Background(), trap, client.ImageRemoveOptions{Force: true})
		})
		_, err = cli.ContainerCommit(t.Context(), made.ID, client.ContainerCommitOptions{Reference: trap, Changes: []string{"ONBUILD COPY --from=elsewhere/stolen:1 / /stolen"}})
	}
	if err != nil {
		t.Fatal(err)
	}
	w.rules("mirrors: {", "mirrors: {old.skerryline.example: docker.io/skerryline, ")
	w.register("eider-count", map[string]string{"README": "eiders"})
	build := func(branch, file string) {
		w.push("eider-count", branch, map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile", "context": ".."}, "remoteUser": "crew"}`, ".devcontainer/Dockerfile": file, "README": "eiders\n"})
	}
	const base = "FROM skerryline/base:1\n"
	for name, c := range map[string]struct{ file, says string }{
		"trigger":   {"FROM " + trap + "\n", "elsewhere/stolen:1"},
		"loopback":  {base + "ADD http://127.0.0.1:5999/probe /x\n", "127.0.0.1 is the machine's own"},
		"metadata":  {base + "ARG H=169.254.169.254\nADD http://$H/latest /x\n", "169.254.169.254 is the machine's own"},
		"name":      {base + "ADD https://localhost/x /x\n", "localhost is the machine itself"},
		"git":       {base + "ADD https://127.0.0.1/a.git#main /x\n", "127.0.0.1 is the machine's own"},
		"git-short": {base + "ADD git@127.0.0.1:a.git /x\n", "127.0.0.1 is the machine's own"},
		"host":      {base + "RUN --network=host true\n", "the engine's own network"},
		"too-new":   {base + "COPY --exclude=*.md . /all\n", "too old for the build file: it does not know file.copy.includeexcludepatterns"},
		"unbounded": {"# syntax=docker/dockerfile:1-labs\n" + base + "RUN --security=insecure true\n", "to be run without bounds"},
	} {
		build(name, c.file)
		if r := w.as("ingrid", "", "launch", "eider-count", "--branch", name, "--name", name); r.code == 0 || !strings.Contains(r.String(), c.says) {
			t.Errorf("%s: %s", name, r)
		}
		w.must(w.as("ingrid", "", "remove", name, "--yes"), 0)
	}
	build("newest", "# syntax=docker/dockerfile:1.20\nFROM --platform=$TARGETPLATFORM old.skerryline.example/base:1 AS first\nRUN <<END\necho first > /made\nEND\nFROM first\nCOPY --link --chmod=644 --chown=7:7 README /linked\nCOPY <<ONE <<TWO /here/\none\nONE\ntwo\nTWO\nRUN --mount=type=bind,from=first,source=/made,target=/was cat /was > /seen\n")
	w.must(w.as("ingrid", "", "launch", "eider-count", "--branch", "newest", "--name", "newest"), 0, "is ready", "FROM")
	if got := w.must(w.as("ingrid", "", "run", "newest", "--", "sh", "-c", "cat /seen /linked /here/*; stat -c '%a %u' /linked"), 0); strings.Join(strings.Fields(got), " ") != "first eiders one two 644 7" {
		t.Errorf("it holds %q", got)
	}
	w.rules("starters: starters", "starters: starters\nbuilds: {network: closed}")
	build("closed", base+"RUN ls /sys/class/net > /nets\n")
	build("reopened", base+"RUN --network=default ls /sys/class/net > /nets\n")
	if got := w.as("ingrid", "", "launch", "eider-count", "--branch", "reopened", "--name", "reopened"); got.code != 0 {
		t.Errorf("what asks for the usual network is %s", got)
	} else if got := strings.TrimSpace(w.must(w.as("ingrid", "", "run", "reopened", "--", "cat", "/nets"), 0)); got != "lo" {
		t.Errorf("a closed build that asks for a network has %q", got)
	}
	w.must(w.as("ingrid", "", "launch", "eider-count", "--branch", "closed", "--name", "closed"), 0, "is ready")
	if got := strings.TrimSpace(w.must(w.as("ingrid", "", "run", "closed", "--", "cat", "/nets"), 0)); got != "lo" {
		t.Errorf("a closed build has the networks %q", got)
	}
}
