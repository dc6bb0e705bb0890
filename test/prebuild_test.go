package test

import (
	"bytes"
	"context"
	"io"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/moby/moby/client"

	yb "yardbench/client"
	"yardbench/internal/demo"
	"yardbench/internal/store"
	"yardbench/wire"
)

// A plan's runs serve launches, follow pushes that are signed, and a run that
// fails takes nothing away.
func TestPrebuilds(t *testing.T) {
	w := newWorld(t)
	c := w.client("ingrid")
	ctx := t.Context()
	w.register("press", map[string]string{
		".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew",
			"onCreateCommand": "sleep 2; echo printed > chart.txt; ln chart.txt twin.txt; mkdir -p ~/kept && echo home > ~/kept/mark; touch -d 2020-01-02 old.txt",
			"updateContentCommand": "echo updated >> updates.txt", "postCreateCommand": "cat chart.txt"}`,
		".gitignore": "*.txt\n", "secret-of": "x"})
	w.reads("press")
	w.must(w.as("ingrid", "", "prebuild", "put", "press"), 4, "does not allow")
	w.must(w.as("runa", "", "prebuild", "put", "press", "--branch", "mian", "--on-push"), 4, `no branch "mian"`)
	w.must(w.as("runa", "", "prebuild", "put", "press", "--at", "5:30"), 4, "no timetable")
	w.must(w.as("runa", "", "prebuild", "run", "press"), 3, "no prebuild plan")
	w.must(w.as("ingrid", "", "launch", "press", "--dry-run"), 0, "none: there is no prepared image")
	w.must(w.as("runa", "", "prebuild", "put", "press", "--on-push", "--keep", "1"), 0, "on push, by hand")
	w.must(w.as("ingrid", "hush-hush-hush\n", "secret", "put", "PIN", "--everywhere"), 0)
	w.must(w.as("runa", "", "prebuild", "run", "press"), 0, "Keep as prepared image", "prepared image 1 of press is kept")
	w.must(w.as("ingrid", "", "launch", "press", "--dry-run"), 0, "image 1 of today", "at the branch's head")
	began := time.Now()
	r := w.as("ingrid", "", "launch", "press", "--name", "one")
	w.must(r, 0, "served by prepared image 1")
	if out := r.errors; strings.Contains(out, "onCreateCommand") || strings.Contains(out, "updateContentCommand") || !strings.Contains(out, "postCreateCommand") {
		t.Errorf("of the set-up ran:\n%s", out)
	}
	t.Logf("launched from a prepared image in %s", time.Since(began))
	state := w.must(w.as("ingrid", "", "run", "one", "--", "sh", "-c", `cat chart.txt ~/kept/mark; stat -c '%h %U %Y' twin.txt old.txt; git status --short; git branch -vv`), 0, "printed", "home", "2 crew", "1 crew 15779", "[origin/main]")
	if strings.Contains(state, "??") || strings.Contains(state, " M ") {
		t.Errorf("the tree is not clean:\n%s", state)
	}
	// A push, by a person from inside a workspace: the git host tells the
	// service, a run follows it, and the launch after brings nothing in.
	w.must(w.as("astrid", "", "repository", "push-key", "press"), 0) // the git host's is another: this one breaks it
	push := `date +%N > note && git add note && git commit -qm note && git push -q`
	w.must(w.as("ingrid", "", "run", "one", "--", "sh", "-c", push), 0)
	w.must(w.as("ingrid", "", "launch", "press", "--dry-run"), 0, "1 commit behind")
	if plans, err := c.Prebuilds.Plans(ctx, "press"); err != nil || len(plans[0].Runs) != 1 {
		t.Fatalf("a push with a wrong mark set a run going: %+v, %v", plans, err)
	}
	w.must(w.as("ingrid", "", "launch", "press", "--name", "two"), 0, "1 commit behind", "updateContentCommand")
	w.must(w.as("ingrid", "", "run", "two", "--", "sh", "-c", "ls note && cat updates.txt"), 0, "updated\nupdated\n")
	w.setPushKey("press")
	w.must(w.as("ingrid", "", "run", "one", "--", "sh", "-c", push), 0)
	plan := w.untilPlan(c, "press", func(p wire.PrebuildPlan) bool { return len(p.Runs) == 2 && p.Runs[0].EndedAt != nil })
	if r := plan.Runs[0]; !r.Serves || !strings.HasPrefix(r.Reason, "on the push of") {
		t.Errorf("the push set going %+v", r)
	}
	w.must(w.as("ingrid", "", "launch", "press", "--dry-run"), 0, "image 2 of today", "at the branch's head")
	// A run that fails: the one before goes on serving those it fits.
	w.push("press", "main", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "onCreateCommand": "echo half; exit 3"}`})
	w.must(w.as("runa", "", "prebuild", "run", "press"), 6, "exit code 3", "earlier prepared images go on serving")
	w.must(w.as("ingrid", "", "launch", "press", "--dry-run"), 0, "none: prepared image 2 was made from another definition")
	w.push("press", "main", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew",
			"onCreateCommand": "sleep 2; echo printed > chart.txt; ln chart.txt twin.txt; mkdir -p ~/kept && echo home > ~/kept/mark; touch -d 2020-01-02 old.txt",
			"updateContentCommand": "echo updated >> updates.txt", "postCreateCommand": "cat chart.txt"}`})
	w.must(w.as("ingrid", "", "launch", "press", "--dry-run"), 0, "image 2 of today", "2 commits behind")
	plan = w.untilPlan(c, "press", func(p wire.PrebuildPlan) bool { return len(p.Runs) >= 3 && p.Runs[0].EndedAt != nil })
	for _, r := range plan.Runs {
		if r.Number == 1 && !r.Serves {
			t.Errorf("run 1 is dropped while workspaces are made from it")
		}
	}
	log := w.must(w.as("runa", "", "prebuild", "log", plan.Runs[len(plan.Runs)-1].ID), 0, "== onCreateCommand", "kept as yardbench/")
	if strings.Contains(log, "hush") {
		t.Error("somebody's secret reached a prebuild")
	}
	w.noSecretInPrepared("hush-hush-hush")
	for _, name := range []string{"one", "two"} {
		w.must(w.as("ingrid", "", "remove", name, "--yes"), 0)
	}
	w.untilPlan(c, "press", func(p wire.PrebuildPlan) bool { // only the newest good one is kept
		serving := 0
		for _, r := range p.Runs {
			if r.Serves {
				serving++
			}
		}
		return serving == 1
	})
	// Its name is given to another image behind its back: that is not what was kept.
	cli := w.docker()
	for _, tag := range w.prepared(cli) {
		if _, err := cli.ImageTag(ctx, client.ImageTagOptions{Source: "skerryline/base:1", Target: tag}); err != nil {
			t.Fatal(err)
		}
	}
	w.must(w.as("ingrid", "", "launch", "press", "--name", "swapped"), 0, "onCreateCommand")
	w.must(w.as("ingrid", "", "show", "swapped"), 0, "its name means another image now")
	w.must(w.as("ingrid", "", "remove", "swapped", "--yes"), 0)
	// The image is taken away: the launch goes on from scratch, saying so.
	w.dropPrepared()
	w.must(w.as("ingrid", "", "launch", "press", "--name", "three"), 0, "onCreateCommand")
	w.must(w.as("ingrid", "", "show", "three"), 0, "none: prepared image", "not in the yard any more")
	w.must(w.as("runa", "", "prebuild", "remove", "press", "--yes"), 0)
	w.must(w.as("runa", "", "prebuild", "list", "press"), 0, "there is no plan")
	// A plan that goes while a workspace is made from its image: the image goes
	// with the workspace.
	w.must(w.as("runa", "", "prebuild", "put", "press"), 0)
	w.must(w.as("runa", "", "prebuild", "run", "press"), 0)
	w.must(w.as("ingrid", "", "launch", "press", "--name", "four"), 0, "served by prepared image")
	w.must(w.as("runa", "", "prebuild", "remove", "press", "--yes"), 0)
	w.must(w.as("ingrid", "", "stop", "four"), 0)
	w.must(w.as("ingrid", "", "start", "four"), 0, "four is ready")
}

// reads gives a repository a credential of its own.
func (w *world) reads(repository string) {
	w.t.Helper()
	w.must(w.as("astrid", demo.GitToken(demo.Reader(repository)), "repository", "credential", repository, "--username", demo.Reader(repository)), 0, "read it as reader-of-")
}

// setPushKey gives a repository the key that the git-host stand-in signs with.
func (w *world) setPushKey(repository string) {
	w.t.Helper()
	w.kill() // the key is set as the demo sets it, by the service's own hand
	st, err := store.Open(w.t.Context(), filepath.Join(w.dir, "data", "yardbench.db"), time.Now)
	if err != nil {
		w.t.Fatal(err)
	}
	defer func() { _ = st.Close(); w.start() }()
	r, err := st.Read().RepositoryByName(w.t.Context(), repository)
	if err != nil {
		w.t.Fatal(err)
	}
	v := w.vault()
	sealed, err := v.Seal(demo.PushKey(repository), "push", r.ID)
	if err == nil {
		err = st.Write(w.t.Context(), func(tx *store.Tx) error { return tx.SetPushKey(w.t.Context(), r.ID, sealed) })
	}
	if err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) untilPlan(c *yb.Client, repository string, is func(wire.PrebuildPlan) bool) wire.PrebuildPlan {
	w.t.Helper()
	var last []wire.PrebuildPlan
	for end := time.Now().Add(slack * 20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		plans, err := c.Prebuilds.Plans(context.Background(), repository)
		if err == nil && len(plans) == 1 && is(plans[0]) {
			return plans[0]
		}
		last = plans
	}
	w.t.Fatalf("the plan did not come to be as wanted: %+v", last)
	return wire.PrebuildPlan{}
}

// prepared lists the names of prepared images in the engine.
func (w *world) prepared(cli *client.Client) (out []string) {
	w.t.Helper()
	list, err := cli.ImageList(context.Background(), client.ImageListOptions{Filters: client.Filters{}.Add("reference", "yardbench/"+w.installation()+":prepared-*")})
	if err != nil {
		w.t.Fatal(err)
	}
	for _, i := range list.Items {
		out = append(out, i.RepoTags...)
	}
	return out
}

func (w *world) dropPrepared() {
	w.t.Helper()
	cli := w.docker()
	defer cli.Close()
	for _, tag := range w.prepared(cli) {
		if _, err := cli.ImageRemove(context.Background(), tag, client.ImageRemoveOptions{Force: true}); err != nil {
			w.t.Fatal(err)
		}
	}
}

// noSecretInPrepared looks through every layer of the prepared images.
func (w *world) noSecretInPrepared(value string) {
	w.t.Helper()
	cli := w.docker()
	defer cli.Close()
	tags := w.prepared(cli)
	if len(tags) == 0 {
		w.t.Error("there is no prepared image to look through")
	}
	saved, err := cli.ImageSave(context.Background(), tags)
	if err != nil {
		w.t.Fatal(err)
	}
	defer saved.Close()
	if found, err := contains(saved, value, demo.GitToken("runa")); err != nil || found != "" {
		w.t.Errorf("a prepared image holds %q, %v", found, err)
	}
}

// contains looks for values in a stream, wherever its pieces are cut.
func contains(r io.Reader, values ...string) (string, error) {
	buf := make([]byte, 0, 1<<21)
	for {
		n, err := r.Read(buf[len(buf) : len(buf)+1<<20 : cap(buf)])
		buf = buf[:len(buf)+n]
		for _, v := range values {
			if bytes.Contains(buf, []byte(v)) {
				return v, nil
			}
		}
		if len(buf) > 4096 {
			buf = append(buf[:0], buf[len(buf)-4096:]...)
		}
		if err == io.EOF {
			return "", nil
		}
		if err != nil {
			return "", err
		}
	}
}
