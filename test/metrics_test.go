package test

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"
)

// fetched is what an address answers somebody without a sign-in.
func (w *world) fetched(address string) (int, string) {
	w.t.Helper()
	res, err := http.Get(address)
	if err != nil {
		w.t.Fatal(err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil {
		w.t.Fatal(err)
	}
	return res.StatusCode, string(body)
}

// What is counted is what was done, names nobody, and is what is written down of it.
func TestWatchedFromOutside(t *testing.T) {
	t.Parallel()
	if os.Getenv("YARDBENCH_TEST_BINARY") == "" {
		t.Skip("needs the built binary: run it by `make test`")
	}
	w := simWorld(t)
	at := fmt.Sprintf("127.0.0.1:%d", freePort(t))
	w.kill()
	w.more = append(w.more, "--metrics-listen", at)
	w.start()
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "pier"), 0, "is ready")
	w.must(w.as("ingrid", "", "stop", "pier"), 0)
	if _, err := http.Post(w.address+"/api/v1/sign-in", "application/json", strings.NewReader(`{"name": "ingrid", "password": "guessed-wrong"}`)); err != nil {
		t.Fatal(err)
	}
	w.must(w.operate("backup", "make", w.dir+"/kept", "--data", w.data(), "--without-keys"), 0)

	status, text := w.fetched("http://" + at + "/metrics")
	if status != 200 {
		t.Fatalf("%d: %s", status, text)
	}
	for _, line := range []string{`yardbench_workspaces{phase="ready"} 1`, `yardbench_workspaces{phase="stopped"} 1`, `yardbench_workspaces{phase="failed"} 0`, `yardbench_trouble{kind="yard away"} 0`, `yardbench_launch_seconds_count{prepared="no"} 2`, `yardbench_step_seconds_count{step="clone"} 2`, `yardbench_sign_ins_refused_total 1`, `yardbench_webhooks_failing 0`, `yardbench_phases_entered_total{phase="ready"} 2`, `yardbench_phases_entered_total{phase="stopped"} 1`, `yardbench_journal_entries_total{kind="workspace.`} {
		if !strings.Contains(text, "\n"+line) {
			t.Errorf("it does not say %s", line)
		}
	}
	if strings.Contains(text, "yardbench_last_backup_timestamp_seconds 0") {
		t.Error("the backup is not seen")
	}
	if !strings.Contains(text, "\nyardbench_sealing_key_made_timestamp_seconds 0\n") {
		t.Error("the first sealing key has a time")
	}
	w.must(w.as("astrid", "", "keys", "rotate"), 0)
	if _, text := w.fetched("http://" + at + "/metrics"); !regexp.MustCompile(`\nyardbench_sealing_key_made_timestamp_seconds [1-9]`).MatchString(text) {
		t.Error("another sealing key has no time")
	}
	for _, name := range []string{"ingrid", "quay", "tide-board", "skerry"} {
		if strings.Contains(text, name) {
			t.Errorf("it names %s", name)
		}
	}
	// What is written down is there, and what is there is written down.
	doc, err := os.ReadFile("../docs/watching.md")
	if err != nil {
		t.Fatal(err)
	}
	rules, err := os.ReadFile("../docs/alerts.yaml")
	if err != nil {
		t.Fatal(err)
	}
	var read any
	if err := yaml.Unmarshal(rules, &read); err != nil {
		t.Errorf("the rules are no YAML: %v", err)
	}
	name := regexp.MustCompile(`yardbench_[a-z_]+`)
	is := map[string]bool{}
	for _, m := range regexp.MustCompile(`(?m)^# TYPE (yardbench_[a-z_]+) `).FindAllStringSubmatch(text, -1) {
		is[m[1]] = true
		if !strings.Contains(string(doc), "`"+m[1]) {
			t.Errorf("%s is not written down", m[1])
		}
	}
	is["yardbench_conditions"] = true // nothing stands beside these workspaces
	for _, n := range name.FindAllString(string(doc)+string(rules), -1) {
		if !is[n] {
			t.Errorf("%s is written down, and is not there", n)
		}
	}

	for _, door := range []string{w.address, "http://" + at} {
		if status, text := w.fetched(door + "/live"); status != 200 || text != "alive\n" {
			t.Errorf("%s lives: %d %s", door, status, text)
		}
		if res, err := http.Head(door + "/ready"); err != nil || res.StatusCode != 200 || res.Header.Get("Content-Type") != "application/json" {
			t.Errorf("%s asked for its head answers %v, %v", door, res, err)
		}
		if status, text := w.fetched(door + "/ready"); status != 200 || !strings.Contains(text, `"status":"ok"`) {
			t.Errorf("%s is ready: %d %s", door, status, text)
		}
	}
	for _, probe := range []string{"/metrics", "/healthz"} {
		if status, text := w.fetched(w.address + probe); status != 404 || strings.Contains(text, "<html") {
			t.Errorf("%s of the service's own address is answered %d: %.100s", probe, status, text)
		}
	}
}
