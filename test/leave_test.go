package test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/moby/moby/client"

	"yardbench/wire"
)

// An installation is taken out of the engine for good: not while its service runs, with or
// without people's files, and nothing of another one with it.
func TestLeavesTheEngine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.kill()
	w.more = []string{} // bounded disks lie in the data directory, and stay there
	w.start()
	w.must(w.as("ingrid", "", "launch", "tide-board"), 0, "is ready")
	w.must(w.as("runa", "", "launch", "gull-count"), 0, "is ready")
	w.must(w.as("runa", "", "stop", "gull-count"), 0)
	id := w.installation()
	cli := w.docker()
	defer cli.Close()
	const other = "yb-another-files"
	if _, err := cli.VolumeCreate(context.Background(), client.VolumeCreateOptions{Name: other, Labels: map[string]string{"yardbench.installation": "another", "yardbench.owner": "hauk"}}); err != nil {
		t.Fatal(err)
	}
	defer func() {
		if _, err := cli.VolumeRemove(context.Background(), other, client.VolumeRemoveOptions{}); err != nil {
			t.Error(err)
		}
	}()
	yard := func(args ...string) result {
		return w.command("astrid", "", append([]string{"yard"}, append(args, "--engine", w.engine)...)...).run()
	}
	w.must(yard("show"), 0, id, "ingrid, runa", w.data(), "another", "hauk")
	w.must(yard("clean", id, "--yes"), 1, "runs, at", "stop it first")
	w.kill()
	w.must(yard("clean", "nosuch", "--yes"), 2, "nothing of an installation")
	w.must(yard("clean", id), 2, "--yes")
	w.must(yard("clean", id, "--yes", "--keep-files"), 0, "is out of the engine")
	left := w.leftovers(id)
	if strings.Contains(left, "container") || strings.Contains(left, "network") || strings.Contains(left, "image") || strings.Count(left, "volume ") < 2 {
		t.Errorf("without the files there is left:\n%s", left)
	}
	w.must(yard("clean", id, "--yes"), 0)
	if out := yard("show"); strings.Contains(out.out, id) || !strings.Contains(out.out, "another") {
		t.Errorf("after it there is\n%s", out)
	}
	// Who starts its service again has what the records know, and none of the files.
	w.start()
	w.until(w.client("ingrid"), "tide-board", 20*time.Second, func(ws wire.Workspace) bool { return ws.Phase != "ready" })
}
