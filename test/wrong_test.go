package test

import (
	"context"
	"encoding/json"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/moby/moby/client"

	yb "yardbench/client"
	"yardbench/wire"
)

func killContainer(t *testing.T, cli *client.Client, installation string) {
	t.Helper()
	ctx := context.Background()
	cs, err := cli.ContainerList(ctx, client.ContainerListOptions{Filters: client.Filters{}.Add("label", "yardbench.installation="+installation)})
	if err != nil || len(cs.Items) != 1 {
		t.Fatalf("%d containers, %v", len(cs.Items), err)
	}
	if _, err := cli.ContainerKill(ctx, cs.Items[0].ID, client.ContainerKillOptions{Signal: "KILL"}); err != nil {
		t.Fatal(err)
	}
}

// What is wrong is told in one message that names the thing and the next
// step, with a proper exit code, and leaves nothing behind.
func TestWrongInput(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.rules("existing: 5", "existing: 50")
	definition := func(text string) map[string]string {
		return map[string]string{".devcontainer/devcontainer.json": text}
	}
	w.push("bare", "main", map[string]string{"main.py": "print(1)\n"})
	w.must(w.as("astrid", "", "repository", "add", w.git+"/bare.git"), 0, "bare is registered")
	w.register("nojson", definition("{\n  \"image\": \"skerryline/base:1\",\n  oops\n}"))
	w.register("outside", definition(`{"build": {"dockerfile": "../../etc/passwd"}}`))
	w.register("nobody", definition(`{"image": "skerryline/nowhere:9"}`))
	w.register("breaks", map[string]string{".devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}}`, "Dockerfile": "FROM skerryline/base:1\nRUN echo the mast is gone && exit 7\n"})
	w.register("floats", map[string]string{".devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}}`, "Dockerfile": "FROM skerryline/nowhere:9\n"})
	w.register("misspelt", map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "x"}, "forwardPort": [8100], "remoteUser": "crew"}`, ".devcontainer/x": "FROM skerryline/base:1\nENV QUAY_PASSWORD=ebb-1234\n"})
	w.register("setup", definition(`{"image": "skerryline/base:1", "remoteUser": "crew", "postCreateCommand": "echo no rope here; exit 9", "postStartCommand": "echo never"}`))
	w.register("nouser", definition(`{"image": "skerryline/base:1", "remoteUser": "captain"}`))

	for _, c := range []struct {
		name string
		args []string
		code int
		says []string
	}{
		{"unknown repository", []string{"launch", "ghost-ship"}, 3, []string{"no repository “ghost-ship”", "yardbench repository list"}},
		{"unknown branch", []string{"launch", "tide-board", "--branch", "mian"}, 4, []string{`no branch "mian"`, "its branches: main"}},
		{"a branch that is an option", []string{"launch", "tide-board", "--branch=--upload-pack=x"}, 4, []string{"no branch"}},
		{"malformed name", []string{"launch", "tide-board", "--name", "Tide Board"}, 4, []string{"no workspace name", "lower-case"}},
		{"no definition of that name", []string{"launch", "bare", "--definition", "night"}, 4, []string{"no definition \"night\"", "there are no others"}},
		{"no JSON", []string{"launch", "nojson"}, 4, []string{".devcontainer/devcontainer.json:3:3", "not JSON"}},
		{"build file outside the repository", []string{"launch", "outside"}, 4, []string{"../../etc/passwd", "outside the repository"}},
		{"image nobody has", []string{"launch", "nobody"}, 6, []string{"nobody has image skerryline/nowhere:9", "yardbench rebuild"}},
		{"build on an image nobody has", []string{"launch", "floats"}, 6, []string{"skerryline/nowhere:9", "yardbench rebuild"}},
		{"failing build", []string{"launch", "breaks"}, 6, []string{"the mast is gone", "RUN echo the mast is gone", "exit code: 7"}},
		{"user the image has not", []string{"launch", "nouser"}, 6, []string{`no user "captain"`, "remoteUser"}},
		{"a check of one with no JSON", []string{"definition", "check", "nojson"}, 4, []string{".devcontainer/devcontainer.json:3:3: error: not JSON", "why  nothing is launched from it", "1 error"}},
		{"a check that warns", []string{"definition", "check", "floats@main"}, 0, []string{"floats at main", ".devcontainer.json: note: no user is named", "1 note"}},
		{"a check of what it asks for, strictly", []string{"definition", "check", "--strict", "misspelt"}, 4, []string{".devcontainer/devcontainer.json:1:32: warning: forwardPort is", "write forwardPorts", ".devcontainer/x:2:1: warning: QUAY_PASSWORD", "2 warnings"}},
		{"a look before the launch", []string{"launch", "misspelt", "--dry-run"}, 0, []string{"warning: QUAY_PASSWORD is named like a secret"}},
		{"a check of an unknown branch", []string{"definition", "check", "nojson@mian"}, 4, []string{`no branch "mian"`}},
		{"a check of an unknown repository", []string{"definition", "check", "ghost-ship"}, 3, []string{"no repository “ghost-ship”"}},
		{"unknown workspace", []string{"show", "flying-dutchman"}, 3, []string{"no workspace", "yardbench list"}},
		{"no such command", []string{"lauhcn"}, 2, []string{"there is no command"}},
		{"no such option", []string{"list", "--everything"}, 2, []string{"unknown flag"}},
		{"missing argument", []string{"launch"}, 2, []string{"write: yardbench launch REPOSITORY"}},
		{"unasked removal", []string{"remove", "nobody"}, 2, []string{"--yes"}},
		{"secret name that is none", []string{"secret", "put", "1-KEY"}, 4, []string{"no secret name"}},
		{"secret that would break sessions", []string{"secret", "put", "LD_PRELOAD"}, 4, []string{"taken by the session"}},
		{"registration by a developer", []string{"repository", "add", w.git + "/fare-desk.git"}, 4, []string{"does not allow"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := w.as("ingrid", "value\n", c.args...)
			for _, s := range c.says {
				if !strings.Contains(r.errors+r.out, s) {
					t.Errorf("%q is not said", s)
				}
			}
			if r.code != c.code || strings.Contains(r.errors+r.out, "panic") {
				t.Errorf("exit code %d is wanted", c.code)
			}
			if t.Failed() {
				t.Log(r)
			}
		})
	}
	for address, says := range map[string]string{
		"ssh://git.skerryline.example/tide-board.git":         "as whom",
		" http://git.skerryline.example/tide-board.git":       "blank",
		"http://git.skerryline.example/tide board.git":        "blank",
		"http://ingrid:pw@git.skerryline.example/tide.git":    "user name or password",
		w.git + "/no-such.git":                                "knows no repository",
		"http://" + freeAddress(t) + "/tide.git":              "cannot be used",
		"http://git.skerryline.example/tide-board.git?x=true": "query",
	} {
		w.must(w.as("astrid", "", "repository", "add", address), 4, says)
	}
	// The failed launches are told of and hold nothing in the engine.
	w.must(w.as("ingrid", "", "list"), 0, "failed in preparing", "failed in starting")
	if left := w.leftovers(w.installation()); left != "" {
		t.Errorf("failed launches leave:\n%s", left)
	}
	// A failing set-up command: the workspace comes up, marked, its log shown.
	w.must(w.as("ingrid", "", "launch", "setup"), 0, "set-up failed", "postCreateCommand ended with exit code 9", "no rope here", "setup is ready")
	if out := w.must(w.as("ingrid", "", "logs", "setup"), 0, "no rope here"); strings.Contains(out, "never") {
		t.Errorf("a command after the failed one ran:\n%s", out)
	}
	w.must(w.as("ingrid", "", "logs", "setup", "--json"), 0, `{"line":"no rope here"}`)
	w.must(w.as("ingrid", "", "launch", "setup", "--name", "setup"), 4, "already", "--name")
	w.must(w.as("ingrid", "", "launch", "setup", "--no-wait"), 0, "setup-2")
	// A rebuild that fails leaves the workspace as it was.
	w.push("setup", "main", definition(`{"image": "skerryline/nowhere:9"}`))
	w.must(w.as("ingrid", "", "run", "setup", "--", "touch", "kept"), 0)
	w.must(w.as("ingrid", "", "rebuild", "setup"), 6, "nobody has image", "as it was before")
	w.must(w.as("ingrid", "", "run", "setup", "--", "ls", "kept"), 0, "kept")
}

// The door is shut to strangers, and to requests another site's page makes.
func TestStrangersAtTheDoor(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	text, err := os.ReadFile("../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Paths map[string]map[string]json.RawMessage `json:"paths"`
	}
	if err := json.Unmarshal(text, &doc); err != nil || len(doc.Paths) < 10 {
		t.Fatalf("%d paths, %v", len(doc.Paths), err)
	}
	call := func(method, path string, header http.Header) *http.Response {
		req, err := http.NewRequest(method, w.address+path, strings.NewReader("{}"))
		if err != nil {
			t.Fatal(err)
		}
		req.Header = header
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		return res
	}
	open := map[string]bool{"POST /api/v1/sign-in-questions": true, "POST /api/v1/passkey-sign-ins": true, "GET /api/v1/git-hosts/return": true, "GET /api/v1/health": true, "POST /api/v1/sign-in": true, "POST /api/v1/enrolments/offer": true, "POST /api/v1/enrolments/use": true, "POST /api/v1/pushes": true,
		// Ways in, by a provider and for the command line; what a README shows of a launch link.
		"GET /api/v1/sign-in": true, "GET /api/v1/sign-in/{provider}/begin": true, "GET /api/v1/sign-in/{provider}/return": true, "GET /api/v1/sign-in/{provider}/over": true, "POST /api/v1/sign-in/{provider}/signed-out": true,
		"POST /api/v1/oauth/device_authorization": true, "POST /api/v1/oauth/token": true, "GET /api/v1/launch-links/{link}/badge.svg": true, "GET /api/v1/launch-links/{link}/qr.png": true}
	for path, methods := range doc.Paths {
		for method := range methods {
			method = strings.ToUpper(method)
			filled := strings.NewReplacer("{workspace}", "tide-board", "{name}", "KEY", "{host}", "host").Replace(path)
			for _, token := range []string{"", "Bearer yb_wrong"} {
				header := http.Header{}
				if token != "" {
					header.Set("Authorization", token)
				}
				if res := call(method, filled, header); (res.StatusCode == 401) == open[method+" "+path] {
					t.Errorf("a stranger's %s %s (%q) is answered %d", method, path, token, res.StatusCode)
				}
			}
		}
	}
	if res := call("POST", "/api/v1/sign-in", http.Header{"Origin": {"http://elsewhere.example"}, "Sec-Fetch-Site": {"cross-site"}}); res.StatusCode != 403 {
		t.Errorf("another site's sign-in is answered %d", res.StatusCode)
	}
	c, err := yb.New(w.address, "")
	if err != nil {
		t.Fatal(err)
	}
	var p *wire.Problem
	for i := range 12 {
		_, err := c.Self.SignIn(t.Context(), "audun", "wrong")
		p, _ = err.(*wire.Problem)
		if p == nil || (i < 10 && p.Status != 401) {
			t.Fatalf("wrong password number %d: %v", i+1, err)
		}
	}
	if p.Status != 429 {
		t.Errorf("the twelfth wrong password is answered %d", p.Status)
	}
	// A sign-in that was ended opens nothing any more.
	w.must(w.as("mats", "", "list"), 0)
	kept := filepath.Join(w.dir, "config-mats", "sign-in.json")
	old, err := os.ReadFile(kept)
	if err != nil {
		t.Fatal(err)
	}
	w.must(w.as("mats", "", "sign-out"), 0)
	if err := os.WriteFile(kept, old, 0o600); err != nil {
		t.Fatal(err)
	}
	w.must(w.as("mats", "", "list"), 5, "not signed in")
}

// An engine that is not there, and a port that is taken.
func TestNothingToRunOn(t *testing.T) {
	w := newWorld(t)
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	lone := filepath.Join(w.dir, "lone")
	r := w.command("astrid", "password\n", "serve", "--data", lone, "--ssh-listen", "", "--listen", taken.Addr().String()).run()
	w.must(r, 1, taken.Addr().String(), "address already in use", "--listen")
	for address, says := range map[string]string{"bench.example": "is no address that people reach the console at", "ftp://bench.example": "is no address", "https://bench.example/yard": "is no address"} {
		w.must(w.command("astrid", "", "serve", "--data", lone, "--ssh-listen", "", "--listen", "127.0.0.1:0", "--public-address", address).run(), 2, says)
	}
	w.must(w.command("astrid", "", "serve", "--data", lone, "--ssh-listen", "", "--listen", "0.0.0.0:0").run(), 2, "say with --public-address where they do")
	r = w.command("astrid", "", "serve", "--data", filepath.Join(w.dir, "data"), "--ssh-listen", "", "--listen", "127.0.0.1:0").run()
	w.must(r, 1, "another service is using")
	r = w.command("nobody", "", "list", "--address", "http://"+freeAddress(t)).run()
	w.must(r, 7, "does not answer")
	r = w.command("nobody", "", "list").run()
	w.must(r, 5, "yardbench sign-in")

	installation := w.installation()
	_ = w.service.Process.Kill()
	_ = w.service.Wait()
	real := w.engine
	w.engine = "unix://" + filepath.Join(w.dir, "no-engine.sock")
	w.start()
	// What is asked for meanwhile waits, and says why.
	w.must(w.as("ingrid", "", "list"), 0, "the yard does not answer")
	launch := w.command("ingrid", "", "launch", "tide-board")
	told := &syncBuffer{}
	launch.Stderr = told
	if err := launch.Start(); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(slack * 20 * time.Second); !strings.Contains(told.String(), "it waits: ") && time.Now().Before(end); {
		time.Sleep(50 * time.Millisecond)
	}
	if !strings.Contains(told.String(), "does not answer at unix://") {
		t.Errorf("the launch says %q", told.String())
	}
	w.must(w.as("ingrid", "", "show", "tide-board"), 0, "waits for the yard")
	if err := launch.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	_ = launch.Wait() // its exit code says that it was left
	if !strings.Contains(told.String(), "goes on by itself") {
		t.Errorf("left, it says %q", told.String())
	}
	w.must(w.as("ingrid", "", "launch", "deck-log", "--no-wait"), 0)
	w.must(w.as("ingrid", "", "remove", "deck-log", "--yes", "--no-wait"), 0)
	// The engine is back, with another life of the service: it is done.
	w.kill()
	w.engine = real
	w.start()
	if w.installation() != installation {
		t.Error("the installation got another id")
	}
	w.must(w.as("ingrid", "", "wait", "tide-board", "--timeout", "2m"), 0)
	for end := time.Now().Add(slack * 20 * time.Second); w.as("ingrid", "", "show", "deck-log").code != 3; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("what was to be removed is there still")
		}
	}
	if out := w.must(w.as("ingrid", "", "list"), 0, "tide-board"); strings.Contains(out, "waits for the yard") {
		t.Errorf("it says still\n%s", out)
	}
}
