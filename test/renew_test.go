package test

import (
	"strings"
	"testing"
	"time"

	"yardbench/wire"
)

// What a definition leaves running at its start is named where it holds an older secret,
// and is begun anew with the one there is now, and nothing else is; what it says then
// holds no value.
func TestWhatHoldsOlderSecretsIsBegunAnew(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	c := w.client("ingrid")
	const first, second = "the-first-value-1", "the-second-value-2"
	w.push("tide-board", "main", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew",
		"postCreateCommand": "sleep 100000 &",
		"postStartCommand": {
			"server": "echo $TIDE_KEY >> /dev/shm/served; echo with $TIDE_KEY; (trap '' HUP; while true; do echo $TIDE_KEY > /dev/shm/now; sleep 0.2; done) &",
			"once": "echo $TIDE_KEY >> /dev/shm/onces"}}`})
	w.must(w.as("ingrid", first, "secret", "put", "TIDE_KEY", "--for", "tide-board"), 0)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "for i in $(seq 60); do test -e /dev/shm/now && test -e /dev/shm/onces && break; sleep 0.2; done; sleep 3"), 0) // set-up goes on while it is ready
	w.must(w.as("ingrid", "", "secret", "renew", "quay", "--json"), 0, `"postStartCommand server"`)                                                                            // at any time
	w.must(w.as("ingrid", second, "secret", "put", "TIDE_KEY"), 0, "version 2")
	ws := w.until(c, "quay", 15*time.Second, func(ws wire.Workspace) bool {
		return strings.Contains(condition(ws, "secrets changed"), "postStartCommand (since") && strings.Contains(condition(ws, "secrets changed"), "postCreateCommand (since")
	})
	w.must(w.as("ingrid", "", "secret", "explain", "--in", "quay"), 0, "postStartCommand")
	w.must(w.as("mats", "", "secret", "renew", "quay.ingrid"), 3)
	w.must(w.as("astrid", "", "secret", "renew", "quay.ingrid"), 4, "does not allow you")
	renewed := w.as("ingrid", "", "secret", "renew", "quay")
	w.must(renewed, 0, "postStartCommand server was begun anew", "with [secret TIDE_KEY]")
	if all := renewed.out + renewed.errors; strings.Contains(all, "once") || strings.Contains(all, second) || strings.Contains(all, first) {
		t.Errorf("it says %s", all)
	}
	w.until(c, "quay", 15*time.Second, func(ws wire.Workspace) bool { return !strings.Contains(condition(ws, "secrets changed"), "postStart") })
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "sleep 1; echo now $(cat /dev/shm/now); echo onces $(wc -l < /dev/shm/onces); echo served $(wc -l < /dev/shm/served); echo one $(grep -l trap /proc/[0-9]*/cmdline | wc -l)"), 0, "now "+second, "onces 1", "served 3")
	w.must(w.as("ingrid", "", "journal", "list", "--workspace", "quay", "--kind", "workspace.renewed"), 0, "quay")
	// A stop asks what was left to end, too, and a start brings it up as it is now.
	w.must(w.as("ingrid", "", "stop", "quay"), 0)
	w.must(w.as("ingrid", "", "secret", "renew", "quay"), 4, "start it")
	w.must(w.as("ingrid", "", "start", "quay"), 0)
	w.until(c, "quay", 15*time.Second, func(ws wire.Workspace) bool { return condition(ws, "secrets changed") == "" })
	w.nowhere(t, ws.ID, w.must(w.as("ingrid", "", "logs", "quay"), 0), first, second)
}
