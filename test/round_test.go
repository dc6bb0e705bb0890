package test

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gorilla/websocket"
	"github.com/moby/moby/client"

	yb "yardbench/internal/client"
	"yardbench/internal/demo"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

// rules puts the demo's house rules with some of their words changed.
func (w *world) rules(changes ...string) {
	w.t.Helper()
	file := filepath.Join(w.dir, "rules.yaml")
	if err := os.WriteFile(file, []byte(strings.NewReplacer(changes...).Replace(demo.Rules)), 0o600); err != nil {
		w.t.Fatal(err)
	}
	w.must(w.as("astrid", "", "rules", "put", file, "--why", "for a test"), 0, "is in force")
}

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
	w.must(w.as("ingrid", "", "prebuild", "plan", "press"), 4, "does not allow")
	w.must(w.as("runa", "", "prebuild", "plan", "press", "--branch", "mian", "--on-push"), 4, `no branch "mian"`)
	w.must(w.as("runa", "", "prebuild", "plan", "press", "--at", "5:30"), 4, "no timetable")
	w.must(w.as("runa", "", "prebuild", "run", "press"), 3, "no prebuild plan")
	w.must(w.as("ingrid", "", "launch", "press", "--dry-run"), 0, "none: there is no prepared image")
	w.must(w.as("runa", "", "prebuild", "plan", "press", "--on-push", "--keep", "1"), 0, "on push, by hand")
	w.must(w.as("ingrid", "hush-hush-hush\n", "secret", "put", "PIN", "--everywhere"), 0)
	w.must(w.as("runa", "", "prebuild", "run", "press"), 0, "Keep as prepared image", "prepared image 1 of press is kept")
	w.must(w.as("ingrid", "", "launch", "press", "--dry-run"), 0, "image 1 of today", "at the branch's head")
	began := time.Now()
	out := w.must(w.as("ingrid", "", "launch", "press", "--name", "one"), 0, "served by prepared image 1")
	if strings.Contains(out, "onCreateCommand") || strings.Contains(out, "updateContentCommand") || !strings.Contains(out, "postCreateCommand") {
		t.Errorf("of the set-up ran:\n%s", out)
	}
	t.Logf("launched from a prepared image in %s", time.Since(began))
	state := w.must(w.as("ingrid", "", "run", "one", "--", "sh", "-c", `cat chart.txt ~/kept/mark; stat -c '%h %U %Y' twin.txt old.txt; git status --short; git branch -vv`), 0, "printed", "home", "2 crew", "1 crew 15779", "[origin/main]")
	if strings.Contains(state, "??") || strings.Contains(state, " M ") {
		t.Errorf("the tree is not clean:\n%s", state)
	}
	// A push, by a person from inside a workspace: the git host tells the
	// service, a run follows it, and the launch after brings nothing in.
	w.must(w.as("astrid", "", "repos", "push-key", "press"), 0) // the git host's is another: this one breaks it
	push := `date +%N > note && git add note && git commit -qm note && git push -q`
	w.must(w.as("ingrid", "", "run", "one", "--", "sh", "-c", push), 0)
	w.must(w.as("ingrid", "", "launch", "press", "--dry-run"), 0, "1 commit behind")
	if plans, err := c.Plans(ctx, "press"); err != nil || len(plans[0].Runs) != 1 {
		t.Fatalf("a push with a wrong mark set a run going: %+v, %v", plans, err)
	}
	out = w.must(w.as("ingrid", "", "launch", "press", "--name", "two"), 0, "1 commit behind", "updateContentCommand")
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
	// The image is taken away behind its back: the launch goes on from scratch, saying so.
	w.dropPrepared()
	w.must(w.as("ingrid", "", "launch", "press", "--name", "three"), 0, "onCreateCommand")
	w.must(w.as("ingrid", "", "show", "three"), 0, "none: prepared image", "not in the yard any more")
	w.must(w.as("runa", "", "prebuild", "drop", "press"), 0)
	w.must(w.as("runa", "", "prebuild", "list", "press"), 0, "there is no plan")
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
		plans, err := c.Plans(context.Background(), repository)
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
			if strings.Contains(string(buf), v) {
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

// Secrets by level and form reach what is opened next; what still holds an
// older value is named; nothing of them is written down.
func TestSecretsByLevelAndForm(t *testing.T) {
	w := newWorld(t)
	c := w.client("ingrid")
	const mine, house, changed = "mine-of-ingrid-1", "the-house-value-1", "mine-of-ingrid-2"
	w.must(w.as("ingrid", mine, "secret", "put", "KEY"), 4, "say whom it is given to")
	w.must(w.as("runa", house, "secret", "put", "KEY", "--of-repository", "tide-board"), 0)
	w.must(w.as("runa", house+"-pem", "secret", "put", "PEM", "--of-repository", "tide-board", "--as-file"), 0)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0)
	see := func(want string) {
		t.Helper()
		w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", `echo "KEY is $KEY"; echo "PEM is $PEM, in $PEM_FILE: $(cat $PEM_FILE)"; stat -c '%U %a' $PEM_FILE; stat -f -c %T $PEM_FILE`), 0, want,
			"PEM is , in /run/yardbench/secrets/PEM: "+house+"-pem", "crew 400", "tmpfs")
	}
	see("KEY is " + house)
	w.must(w.as("ingrid", mine, "secret", "put", "KEY", "--for", "tide-board"), 0, "version 1")
	see("KEY is " + mine) // mine before the repository's
	w.must(w.as("ingrid", "", "secret", "explain", "tide-board"), 0, "it is yours, for this repository", "your own of the same name counts before", "TIDE_API_KEY", "nobody gives it")
	w.must(w.as("mats", "", "secret", "explain", "tide-board"), 0, "it is the repository's")

	s, err := c.Open(t.Context(), "quay", wire.Run{Terminal: "old", Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	w.until(c, "quay", 10*time.Second, func(ws wire.Workspace) bool { return condition(ws, "secrets changed") == "" })
	w.must(w.as("ingrid", changed, "secret", "put", "KEY"), 0, "version 2")
	see("KEY is " + changed)
	w.until(c, "quay", 10*time.Second, func(ws wire.Workspace) bool {
		return regexp.MustCompile(`terminal old \(since .*\) holds an older KEY`).MatchString(condition(ws, "secrets changed"))
	})
	if err := s.Send('i', []byte("exit\n")); err != nil {
		t.Fatal(err)
	}
	w.until(c, "quay", 10*time.Second, func(ws wire.Workspace) bool { return condition(ws, "secrets changed") == "" })
	w.must(w.as("runa", "", "secret", "remove", "PEM", "--of-repository", "tide-board"), 0)
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "ls -A /run/yardbench/secrets; echo end"), 0, "end")
	if out := w.as("ingrid", "", "run", "quay", "--", "ls", "-A", "/run/yardbench/secrets").out; out != "" {
		t.Errorf("a removed secret's file stays: %s", out)
	}
	ws, err := c.Show(t.Context(), "quay")
	if err != nil {
		t.Fatal(err)
	}
	w.nowhere(t, ws.ID, w.must(w.as("ingrid", "", "logs", "quay"), 0), mine, house, changed)
}

func condition(ws wire.Workspace, kind string) string {
	for _, c := range ws.Conditions {
		if c.Kind == kind {
			return c.Reason
		}
	}
	return ""
}

// Two hundred launches at the same time where there is room for three: three
// come up, in the size they were given, and the others are told why.
func TestTwoHundredLaunchesAtOnce(t *testing.T) {
	w := newWorld(t)
	w.rules("person: {existing: 5, running: 3, cores: 6, memory: 12 GiB}", "person: {running: 3}", "small:  {cores: 1, memory: 1 GiB", "small:  {cores: 0.5, memory: 256 MiB")
	c := w.client("ingrid")
	errs := make([]error, 200)
	var wg sync.WaitGroup
	for n := range errs {
		wg.Go(func() { _, errs[n] = c.Launch(context.Background(), wire.Launch{Repository: "berth-planner"}) })
	}
	wg.Wait()
	accepted := 0
	for _, err := range errs {
		switch {
		case err == nil:
			accepted++
		case !strings.Contains(err.Error(), "running, ingrid: 3 used + 1 asked of 3 allowed"):
			t.Fatalf("a launch is refused with %v", err)
		}
	}
	if accepted != 3 {
		t.Fatalf("%d launches were accepted", accepted)
	}
	for _, name := range []string{"berth-planner", "berth-planner-2", "berth-planner-3"} {
		ws := w.until(c, name, 60*time.Second, inPhase("ready"))
		if ws.CoresMilli != 500 || ws.Size != "small" {
			t.Errorf("%s has %+v", name, ws)
		}
	}
	cli := w.docker()
	defer cli.Close()
	list, err := cli.ContainerList(context.Background(), client.ContainerListOptions{Filters: client.Filters{}.Add("label", "yardbench.installation="+w.installation())})
	if err != nil || len(list.Items) != 3 {
		t.Fatalf("the engine runs %d containers, %v", len(list.Items), err)
	}
	in, err := cli.ContainerInspect(context.Background(), list.Items[0].ID, client.ContainerInspectOptions{})
	if err != nil || in.Container.HostConfig.NanoCPUs != 5e8 || in.Container.HostConfig.Memory != 256<<20 || in.Container.HostConfig.MemorySwap != 256<<20 {
		t.Errorf("the engine bounds it to %d, %d, %d, %v", in.Container.HostConfig.NanoCPUs, in.Container.HostConfig.Memory, in.Container.HostConfig.MemorySwap, err)
	}
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--dry-run"), 4, "running, ingrid: 3 used + 1 asked of 3 allowed — over")
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--size", "huge"), 4, "the house rules have: small, middle, large")
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--rest-after", "11h"), 4, "at most 10 h")
	w.must(w.as("ingrid", "", "stop", "berth-planner-2"), 0)
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "fourth"), 0)
	w.must(w.as("ingrid", "", "start", "berth-planner-2"), 4, "3 used + 1 asked", "stop one of yours that runs: berth-planner, berth-planner-3, fourth")
}

// What works stays awake, what is held is not put to rest, what is idle is
// warned and put to rest, with the reason, and its unpushed work is known.
func TestRest(t *testing.T) {
	w := newWorld(t)
	w.rules("quiet_after: 5 min", "quiet_after: 2 s", "rest_after: 45 min", "rest_after: 9 s", "warn_before: 5 min", "warn_before: 4 s", "person: {existing: 5, running: 3, cores: 6, memory: 12 GiB}", "person: {running: 8}")
	c := w.client("ingrid")
	for _, name := range []string{"left", "busy", "held"} {
		w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", name, "--no-wait"), 0)
	}
	for _, name := range []string{"left", "busy", "held"} {
		w.until(c, name, 40*time.Second, inPhase("ready"))
	}
	w.must(w.as("ingrid", "", "hold", "held", "13h", "--why", "x"), 4, "at most 12 h")
	w.must(w.as("ingrid", "", "hold", "held", "1h"), 2, "why")
	w.must(w.as("mats", "", "hold", "held.ingrid", "1h", "--why", "x"), 3)
	w.must(w.as("ingrid", "", "hold", "held", "1h", "--why", "a long test runs"), 0, "not put to rest before")
	w.must(w.as("ingrid", "", "run", "left", "--", "sh", "-c", "echo precious > note.txt"), 0)
	s, err := c.Open(t.Context(), "left", wire.Run{Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var seen syncBuffer
	go func() {
		for {
			_, p, err := s.Receive()
			if err != nil {
				return
			}
			_, _ = seen.Write(p)
		}
	}()
	b, err := c.Open(t.Context(), "busy", wire.Run{Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	if err := b.Send('i', []byte("while :; do :; done\n")); err != nil {
		t.Fatal(err)
	}
	w.until(c, "left", 10*time.Second, func(ws wire.Workspace) bool { return condition(ws, "idle") != "" && ws.Rest != nil && ws.Rest.Warn })
	ws := w.until(c, "left", 20*time.Second, inPhase("stopped"))
	if !regexp.MustCompile(`put to rest: .* at \d\d:\d\d, and nothing since`).MatchString(ws.Cause) || ws.RemovesAt == nil || !strings.Contains(condition(ws, "unpushed work"), "1 not committed") {
		t.Errorf("at rest it says %q, goes at %v, with %v", ws.Cause, ws.RemovesAt, ws.Conditions)
	}
	if !strings.Contains(seen.String(), "this workspace is put to rest at") {
		t.Errorf("nobody at the terminal was warned: %q", seen.String())
	}
	w.must(w.as("ingrid", "", "remove", "left", "--yes"), 4, "note.txt") // looked at before it stopped
	for name, why := range map[string]string{"busy": "its processor was busy", "held": ""} {
		ws := w.until(c, name, time.Second, inPhase("ready"))
		if ws.Rest == nil || !strings.Contains(ws.Rest.LastSign, why) {
			t.Errorf("%s is awake by %+v", name, ws.Rest)
		}
	}
	if ws, _ := c.Show(t.Context(), "held"); ws.Rest == nil || ws.Rest.HeldUntil == nil || condition(ws, "held") == "" || condition(ws, "idle") == "" {
		t.Errorf("held it is %+v", ws)
	}
	w.must(w.as("ingrid", "", "hold", "held", "--end"), 0)
	w.until(c, "held", 10*time.Second, inPhase("stopped"))
	w.must(w.as("ingrid", "", "start", "left"), 0)
	w.must(w.as("ingrid", "", "run", "left", "--", "cat", "note.txt"), 0, "precious")
	journal := w.must(w.as("ingrid", "", "journal", "--workspace", "left", "--kind", "workspace.rested"), 0, "put to rest")
	if strings.Count(journal, "workspace.rested") != 1 {
		t.Errorf("it was put to rest more than once:\n%s", journal)
	}
}

// A port is listed with its process within seconds, reached from outside by
// those who may, by forwarding, and over WebSocket; nobody else.
func TestPorts(t *testing.T) {
	w := newWorld(t)
	c := w.client("ingrid")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0)
	w.must(w.as("ingrid", "", "ports", "quay"), 0, "8000", "The board on the quay", "nothing", "only you")
	const server = `import base64, hashlib, http.server, os
class H(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def do_GET(self):
        if self.headers.get("Upgrade") == "websocket":
            key = base64.b64encode(hashlib.sha1((self.headers["Sec-WebSocket-Key"] + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11").encode()).digest()).decode()
            self.wfile.write(("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: " + key + "\r\n\r\n").encode())
            head = self.rfile.read(6); n = head[1] & 127; mask = head[2:6]
            data = bytes(b ^ mask[i % 4] for i, b in enumerate(self.rfile.read(n)))
            self.wfile.write(bytes([0x81, n]) + data[::-1]); self.wfile.flush(); self.close_connection = True
            return
        body = ("host %s cookie %s path %s address %s" % (self.headers["Host"], self.headers.get("Cookie"), self.path, os.environ["YARDBENCH_PORT_8000_ADDRESS"])).encode()
        self.send_response(200); self.send_header("Content-Length", str(len(body))); self.send_header("Set-Cookie", "theirs=1"); self.end_headers(); self.wfile.write(body)
    def log_message(self, *a): pass
http.server.ThreadingHTTPServer(("127.0.0.1", 8000), H).serve_forever()
`
	w.must(w.as("ingrid", server, "run", "quay", "--", "sh", "-c", "cat > /tmp/server.py"), 0)
	s, err := c.Open(t.Context(), "quay", wire.Run{Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	began := time.Now()
	if err := s.Send('i', []byte("python3 /tmp/server.py\n")); err != nil {
		t.Fatal(err)
	}
	var port wire.Port
	for end := time.Now().Add(slack * 5 * time.Second); !port.Listening && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		ports, err := c.Ports(t.Context(), "quay")
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range ports {
			if p.Number == 8000 {
				port = p
			}
		}
	}
	t.Logf("it was seen to listen after %s", time.Since(began))
	if !port.Listening || port.Process != "python3" || !port.Loopback || !port.Declared || port.Shared {
		t.Fatalf("the port is %+v", port)
	}
	visitor := func(name string) (*http.Client, *yb.Client) {
		jar, _ := cookiejar.New(nil)
		dialer := &net.Dialer{}
		tr := &http.Transport{DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return dialer.DialContext(ctx, network, strings.TrimPrefix(w.address, "http://")) // *.localhost is here
		}}
		return &http.Client{Jar: jar, Transport: tr, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
			if r.URL.Path == "/visit" {
				return http.ErrUseLastResponse // the console's page: the test goes on from there by the API
			}
			return nil
		}}, w.client(name)
	}
	get := func(h *http.Client, address string) (int, string, *http.Response) {
		t.Helper()
		res, err := h.Get(address)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return res.StatusCode, string(body), res
	}
	h, own := visitor("ingrid")
	code, _, res := get(h, port.Address+"/tides?day=1")
	to, _ := url.Parse(res.Header.Get("Location"))
	if code != http.StatusFound || !strings.HasPrefix(res.Header.Get("Location"), w.address+"/visit?") || to.Query().Get("to") != port.Address+"/tides?day=1" {
		t.Fatalf("a stranger is answered %d, led to %s", code, res.Header.Get("Location"))
	}
	pass, err := own.Visit(t.Context(), to.Query().Get("to"))
	if err != nil {
		t.Fatal(err)
	}
	code, body, _ := get(h, pass.Go)
	host := strings.TrimPrefix(port.Address, "http://")
	if code != 200 || body != "host "+host+" cookie None path /tides?day=1 address "+port.Address {
		t.Fatalf("the way in ends with %d: %s", code, body)
	}
	if _, body, _ = get(h, port.Address+"/again"); !strings.Contains(body, "cookie theirs=1 path /again") {
		t.Errorf("the second visit is answered %s", body)
	}
	if code, _, _ = get(h, pass.Go); code != http.StatusUnauthorized {
		t.Errorf("a pass used again is answered %d", code)
	}
	// WebSocket, with the cookie of the host.
	u, _ := url.Parse(port.Address)
	header := http.Header{}
	for _, k := range h.Jar.Cookies(u) {
		header.Add("Cookie", k.Name+"="+k.Value)
	}
	dialer := websocket.Dialer{NetDialContext: h.Transport.(*http.Transport).DialContext}
	ws, _, err := dialer.Dial("ws://"+host+"/live", header)
	if err != nil {
		t.Fatalf("WebSocket: %v", err)
	}
	if err := ws.WriteMessage(websocket.TextMessage, []byte("reload")); err != nil {
		t.Fatal(err)
	}
	if _, m, err := ws.ReadMessage(); err != nil || string(m) != "daoler" {
		t.Errorf("over WebSocket came %q, %v", m, err)
	}
	ws.Close()
	if _, res, err := dialer.Dial("ws://"+host+"/live", nil); err == nil || res == nil || res.StatusCode != http.StatusUnauthorized {
		t.Errorf("WebSocket without the cookie is answered %v, %v", res, err)
	}
	// A colleague: not before it is shared, and not after.
	_, mats := visitor("mats")
	if _, err := mats.Visit(t.Context(), port.Address); err == nil {
		t.Error("a private port is shown to a colleague")
	}
	w.must(w.as("mats", "", "ports", "quay.ingrid"), 3)
	w.must(w.as("ingrid", "", "ports", "quay", "--share", "8000"), 0, "everybody signed in")
	hm, mats := visitor("mats")
	if pass, err = mats.Visit(t.Context(), port.Address); err != nil {
		t.Fatal(err)
	}
	if code, body, _ = get(hm, pass.Go); code != 200 || !strings.Contains(body, "path /") {
		t.Errorf("a shared port is answered %d: %s", code, body)
	}
	w.must(w.as("ingrid", "", "ports", "quay", "--keep-private", "8000"), 0)
	if code, _, _ = get(hm, port.Address); code != http.StatusNotFound {
		t.Errorf("after it is private again a colleague is answered %d", code)
	}
	for address, want := range map[string]int{strings.Replace(port.Address, "-8000", "-9999", 1): 302, strings.Replace(port.Address, host[:5], "zzzzz", 1): 302} {
		if code, _, _ = get(h, address); code != want {
			t.Errorf("%s is answered %d", address, code)
		}
	}
	// Nobody listens: told, with its name.
	pass, err = own.Visit(t.Context(), strings.Replace(port.Address, "-8000", "-9999", 1))
	if err != nil {
		t.Fatal(err)
	}
	if code, body, _ = get(h, pass.Go); code < 400 || !strings.Contains(body, "nothing listens on port 9999") {
		t.Errorf("a port nobody listens on is answered %d: %s", code, body)
	}
	// Forwarding to localhost.
	cmd := w.command("ingrid", "", "forward", "quay", "8000:"+strings.TrimPrefix(freeAddress(t), "127.0.0.1:"))
	said, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	line, _ := bufio.NewReader(said).ReadString('\n')
	local, _, _ := strings.Cut(line, " ")
	for range 3 {
		res, err := http.Get("http://" + local + "/by-hand")
		if err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if !strings.Contains(string(body), "path /by-hand") {
			t.Errorf("forwarded it is answered %s", body)
		}
	}
	_ = cmd.Process.Signal(os.Interrupt)
	if err := cmd.Wait(); cmd.ProcessState.ExitCode() != 130 {
		t.Errorf("forwarding ended with %v", err)
	}
	w.must(w.as("ingrid", "", "forward", "quay", "0"), 2, "no port")
	w.must(w.as("mats", "", "forward", "quay.ingrid", "8000"), 3)
	w.must(w.as("ingrid", "", "stop", "quay"), 0)
	if code, body, _ = get(h, port.Address); code != http.StatusConflict && code != http.StatusBadGateway || !strings.Contains(body, "stopped") {
		t.Errorf("of a stopped workspace it is answered %d: %s", code, body)
	}
}

// What was used is metered to the second, the same after a kill, priced by
// the rules, and seen by whom it concerns.
func TestCost(t *testing.T) {
	w := newWorld(t)
	c := w.client("ingrid")
	w.rules("small: 0.06", "small: 3600") // a euro a second
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "metered"), 0)
	began := time.Now()
	time.Sleep(1500 * time.Millisecond)
	w.kill()
	time.Sleep(1500 * time.Millisecond)
	w.start()
	w.until(c, "metered", 10*time.Second, inPhase("ready"))
	w.must(w.as("ingrid", "", "stop", "metered"), 0)
	ran := time.Since(began)
	report, err := c.Cost(t.Context(), yb.CostQuery{By: "workspace"})
	if err != nil || len(report.Rows) != 1 || report.Rows[0].Key != "metered.ingrid" || report.Currency != "EUR" {
		t.Fatalf("the report is %+v, %v", report, err)
	}
	row := report.Rows[0]
	if euros := time.Duration(row.ActiveMicros+row.IdleMicros) * time.Microsecond; euros < 3*time.Second || euros > ran+5*time.Second {
		t.Errorf("at a euro a second it cost %s, and ran %s", euros, ran)
	}
	if ws, err := c.Show(t.Context(), "metered"); err != nil || ws.CostMicros != report.Total.TotalMicros || len(ws.Day) == 0 {
		t.Errorf("the workspace says %d, the report %d, %v", ws.CostMicros, report.Total.TotalMicros, err)
	}
	w.must(w.as("runa", "", "cost", "--by", "person"), 0, "ingrid")
	if out := w.must(w.as("mats", "", "cost"), 0); strings.Contains(out, "Timetable") {
		t.Errorf("somebody else sees it:\n%s", out)
	}
	rows, err := csv.NewReader(strings.NewReader(w.must(w.as("audun", "", "cost", "--by", "day", "--csv"), 0))).ReadAll()
	if err != nil || len(rows) < 2 || rows[0][9] != "total_EUR" || !regexp.MustCompile(`^\d{4}-\d\d-\d\d$`).MatchString(rows[1][0]) {
		t.Errorf("as CSV it is %v, %v", rows, err)
	}
	w.must(w.as("ingrid", "", "cost", "--from", "yesterday"), 4, "is no day")
	w.must(w.as("ingrid", "", "cost", "--from", "2026-02-01", "--to", "2026-01-01"), 4, "cannot be reported")
	w.must(w.as("ingrid", "", "cost", "--by", "colour"), 4, "by")
	w.kill()
	st, err := store.Open(t.Context(), filepath.Join(w.dir, "data", "yardbench.db"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	stored, computed, err := st.Read().Remeter(t.Context())
	if err != nil || len(stored) < 2 || !reflect.DeepEqual(stored, computed) {
		t.Errorf("stored is %v, the journal comes to %v, %v", stored, computed, err)
	}
	st.Close()
	w.start()
}

// The first start of a service prints one link; by it the first operator sets
// up their account, and brings others in.
func TestFirstOperator(t *testing.T) {
	needEngine(t)
	dir, err := os.MkdirTemp("", "ybt-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	w := &world{t: t, dir: dir, config: map[string]string{}, output: &syncBuffer{}}
	cmd := w.command("service", "", "serve", "--data", filepath.Join(dir, "data"), "--listen", "127.0.0.1:0", "--engine", "unix:///nowhere/engine.sock")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	var link string
	for sc := bufio.NewScanner(out); w.address == "" && sc.Scan(); {
		if strings.Contains(sc.Text(), "/enrol#") {
			link = strings.TrimSpace(sc.Text())
		}
		_, w.address, _ = strings.Cut(sc.Text(), "the service is at ")
	}
	w.must(w.command("astrid", "short", "enrol", link, "--as", "astrid", "--full-name", "Astrid Holm", "--email", "astrid@skerryline.example").run(), 4, "too short")
	w.must(w.command("astrid", demo.Password, "enrol", link, "--as", "astrid", "--full-name", "Astrid Holm", "--email", "astrid@skerryline.example").run(), 0, "operator")
	w.must(w.command("mallory", demo.Password, "enrol", link, "--as", "mallory", "--full-name", "M", "--email", "m@x.example").run(), 3, "was used")
	w.must(w.as("astrid", "", "people", "add-team", "Harbour"), 0)
	var e wire.Enrolment
	if err := json.Unmarshal([]byte(w.must(w.as("astrid", "", "people", "enrol", "--team", "Harbour", "--json"), 0)), &e); err != nil {
		t.Fatal(err)
	}
	w.must(w.command("mats", demo.Password, "enrol", e.Link, "--as", "mats", "--full-name", "Mats Eide", "--email", "mats@skerryline.example").run(), 0, "developer")
	w.must(w.as("mats", "", "people"), 4, "does not allow")
	token := strings.TrimSpace(w.must(w.as("mats", "", "token", "make", "nightly"), 0))
	program := w.command("nobody", "", "list")
	program.Env = append(program.Env, "YARDBENCH_ADDRESS="+w.address, "YARDBENCH_TOKEN="+token)
	w.must(program.run(), 0, "no workspaces")
	w.must(w.as("astrid", "", "people", "close", "mats"), 0, "may not sign in")
	program = w.command("nobody", "", "list")
	program.Env = append(program.Env, "YARDBENCH_ADDRESS="+w.address, "YARDBENCH_TOKEN="+token)
	w.must(program.run(), 5)
	w.must(w.as("astrid", "", "people", "close", "astrid"), 4, "your own")
	w.must(w.as("astrid", "", "people", "set", "nobody", "--role", "lead"), 3, "nobody")
	w.must(w.as("astrid", "", "people"), 0, "Mats Eide", "closed")
	for range 11 {
		w.command("mats", "wrong", "sign-in", w.address, "--as", "mats").run()
	}
	w.must(w.command("mats", demo.Password, "sign-in", w.address, "--as", "mats").run(), 4, "too many")
}
