package test

import (
	"strings"
	"testing"
	"time"

	"yardbench/wire"
)

// What failed for several people for the same reason is one cause: it is told once, with
// what the logs have in common and what was changed before; all that have it are
// tried again at once, when it is mended.
func TestAttentionOnAnEngine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	astrid := w.client("astrid")
	w.must(w.as("astrid", "", "attention"), 0, "nothing needs anybody")
	w.must(w.as("ingrid", "", "branch", "list", "chart-press"), 0, "main (the default)", "north", "Press the north chart")
	definition := func(run string) map[string]string {
		return map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`, ".devcontainer/Dockerfile": "FROM skerryline/base:1\nRUN " + run + "\n"}
	}
	w.register("pier", definition("echo looking for $(hostname) && echo the chart of the north is missing >&2 && exit 3"))
	for _, who := range []string{"ingrid", "runa"} {
		w.must(w.as(who, "", "launch", "pier", "--name", "of-"+who), 6)
	}
	w.must(w.as("mats", "", "launch", "tide-board", "--name", "well"), 0, "is ready")
	all, err := astrid.Attention.List(t.Context())
	if err != nil || len(all) != 1 || all[0].Count != 2 || all[0].People != 2 || all[0].Kind != "failed" {
		t.Fatalf("they are %+v, %v", all, err)
	}
	id := all[0].ID
	w.must(w.as("astrid", "", "attention"), 0, id, "failed at", "2 workspaces")
	w.must(w.as("astrid", "", "attention", "show", id), 0, "of-ingrid.ingrid", "of-runa.runa", "the chart of the north is missing", "repository.added", "yardbench start --where all,cause="+id)
	w.must(w.as("mats", "", "attention"), 0, "nothing needs anybody")
	w.must(w.as("mats", "", "attention", "show", id), 3)
	w.must(w.as("astrid", "", "list", "--all", "--cause", id), 0, "of-ingrid", "of-runa")
	w.must(w.as("ingrid", "", "attention", "quiet", id, "--why", "x"), 4)
	w.must(w.as("astrid", "", "attention", "quiet", id, "--for", "1h", "--why", "the chart is drawn"), 0, "is quiet until")
	w.must(w.as("astrid", "", "attention"), 0, "the chart is drawn")
	w.must(w.as("astrid", "", "attention", "quiet", id, "--end"), 0)
	w.push("pier", "main", definition("echo the chart is here"))
	w.must(w.as("astrid", "", "rebuild", "--where", "all,cause="+id, "--why", "the chart is here", "--yes"), 0)
	w.until(w.client("ingrid"), "of-ingrid", time.Minute, func(v wire.Workspace) bool { return v.Phase == "ready" })
	for end := time.Now().Add(slack * 20 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		r := w.as("astrid", "", "attention")
		if strings.Contains(r.out, "nothing needs anybody") {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("it is told still: %s", r)
		}
	}
}
