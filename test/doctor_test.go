package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"strings"
	"testing"
)

// What of an installation is open is told to operators, of the real engine too,
// and to nobody else.
func TestDoctor(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	out := w.must(w.as("astrid", "", "doctor"), 0, "nothing stands between you and the service", "you           astrid, operator", "house rules", "yard", "when the engine's disk gets short")
	if strings.Contains(out, "--icc=false") {
		t.Errorf("builds reach each other in the engine that the tests start:\n%s", out)
	}
	var told struct {
		Problems []string
		Openings []struct{ Kind string }
	}
	if err := json.Unmarshal([]byte(w.must(w.as("astrid", "", "doctor", "--json"), 0)), &told); err != nil || len(told.Openings) < 5 {
		t.Errorf("it is told as %+v, %v", told, err)
	}
	if out := w.must(w.as("ingrid", "", "doctor"), 0, "nothing stands between"); strings.Contains(out, "open here") {
		t.Errorf("a developer is told what is open:\n%s", out)
	}
	stranger := exec.Command(os.Getenv("YARDBENCH_TEST_BINARY"), "--address", w.address, "doctor")
	stranger.Env = append(os.Environ(), "YARDBENCH_CONFIG="+t.TempDir(), "YARDBENCH_TOKEN=")
	if told, err := stranger.CombinedOutput(); stranger.ProcessState.ExitCode() != 1 || !strings.Contains(string(told), "the service   "+w.address+", from --address") || !strings.Contains(string(told), "you are not signed in") {
		t.Errorf("a stranger is told %s, %v", told, err)
	}
	if _, err := w.client("ingrid").Openings(t.Context()); err == nil || !strings.Contains(err.Error(), "does not allow") {
		t.Errorf("a developer who asks is told %v", err)
	}
	// What was opened since is told.
	w.rules("mirrors: {", "mirrors: {", "from: [docker.io/skerryline]", "from: []")
	w.must(w.as("astrid", "", "enrolment", "add", "--role", "operator"), 0)
	w.must(w.as("astrid", "", "doctor"), 0, "images come from any registry", "no backup was ever made", "an enrolment link for an operator is open until", "take it back with: yardbench enrolment remove ")
}
