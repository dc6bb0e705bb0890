package test

import (
	"bufio"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/moby/moby/client"

	"yardbench/internal/demo"
	"yardbench/wire"
)

// A service that must be healthy first is; its files are those of the one
// mounted tree; everybody has services and volumes of their own, which live
// through a stop and a rebuild, and go with the workspace.
func TestComposeOnAnEngine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "gull-count"), 0, "services", "is ready")
	w.must(w.as("mats", "", "launch", "gull-count"), 0, "is ready")
	w.must(w.as("ingrid", "", "logs", "gull-count"), 0, "count waits for roost to be healthy", "counted: kittiwake 230")
	w.must(w.as("ingrid", "", "service", "list", "gull-count"), 0, "roost", "healthy", "7700")
	w.must(w.as("ingrid", "", "service", "list", "gull-count", "--json"), 0, `"state": "healthy"`)
	w.must(w.as("ingrid", "", "logs", "gull-count", "--of", "roost"), 0, "the roost of Ytre Skjer is open")
	w.must(w.as("ingrid", "", "logs", "gull-count", "--of", "ghost"), 4, "no service", "ghost")
	w.must(w.as("jonas", "", "service", "list", "gull-count.ingrid"), 3, "gull-count.ingrid")
	w.must(w.as("ingrid", "", "port", "list", "gull-count"), 0, "The roost, by line", "service roost")

	// Each has their own, and a port of a service is reached like one's own.
	cli, ctx := w.docker(), t.Context()
	defer cli.Close()
	c := w.client("ingrid")
	mine, err := c.Workspaces.Show(ctx, "gull-count")
	if err != nil {
		t.Fatal(err)
	}
	box := "yb-" + w.installation() + "-" + mine.ID + "-b1-roost"
	in, err := cli.ContainerInspect(ctx, box, client.ContainerInspectOptions{})
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range in.Container.Mounts {
		if m.Type == "bind" {
			t.Errorf("a service has a bind of %s", m.Source)
		}
	}
	if _, err := cli.ContainerStatPath(ctx, box, client.ContainerStatPathOptions{Path: "/srv/roost.py"}); err != nil {
		t.Errorf("the service's file: %v", err)
	}
	w.must(w.as("ingrid", "", "run", "gull-count", "--", "sh", "-c", `sed -i 's/kittiwake 230/kittiwake 999/' seed/gulls.txt && python3 count.py`), 0, "kittiwake 230")
	s, far := net.Pipe()
	go func() {
		if err := c.Ports.Tunnel(ctx, "gull-count", 7700, far); err != nil {
			t.Errorf("the way to the roost: %v", err)
		}
	}()
	fmt.Fprintln(s, "herring")
	if line, err := bufio.NewReader(s).ReadString('\n'); err != nil || line != "herring gull 41\n" {
		t.Errorf("the roost answers %q, %v", line, err)
	}
	s.Close()

	// What it keeps is in its volume: the changed seed is not taken again.
	w.must(w.as("ingrid", "", "stop", "gull-count"), 0, "is stopped")
	w.must(w.as("ingrid", "", "service", "list", "gull-count"), 0, "ended")
	w.must(w.as("ingrid", "", "start", "gull-count"), 0, "services", "is ready")
	w.must(w.as("ingrid", "", "run", "gull-count", "--", "python3", "count.py"), 0, "kittiwake 230")
	w.must(w.as("ingrid", "", "rebuild", "gull-count"), 0, "services", "is ready")
	w.must(w.as("ingrid", "", "run", "gull-count", "--", "python3", "count.py"), 0, "kittiwake 230")
	w.must(w.as("ingrid", "", "remove", "gull-count", "--yes", "--discard"), 0, "is removed")
	w.must(w.as("mats", "", "service", "list", "gull-count"), 0, "healthy")
}

// A service that never gets well is told with its last words, and the
// workspace can be looked at; one that builds its image, shares the
// workspace's network, and one that has to have ended first.
func TestComposeServices(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.register("quay-lights", map[string]string{
		".devcontainer/devcontainer.json": `{"dockerComposeFile": "compose.yaml", "service": "work", "workspaceFolder": "/src", "remoteUser": "crew", "onCreateCommand": "cat /filled/mark; python3 -c \"import socket; print('beside:', socket.create_connection(('127.0.0.1', 7800)).recv(9))\""}`,
		".devcontainer/compose.yaml": `
services:
  work: {image: "skerryline/base:1", command: sleep infinity, network_mode: "service:beside", volumes: ["..:/src", "filled:/filled"], depends_on: {fill: {condition: service_completed_successfully}, beside: {condition: service_healthy}}}
  fill: {image: "skerryline/base:1", command: ["sh", "-c", "echo filled > /filled/mark"], volumes: ["filled:/filled"]}
  beside: {build: {context: ., dockerfile_inline: "FROM skerryline/base:1\nRUN echo lit > /lit\n"}, volumes: ["../light.py:/light.py"], command: ["python3", "/light.py"], init: true,
    healthcheck: {test: "python3 -c \"import socket; socket.create_connection(('127.0.0.1', 7800))\"", interval: 500ms, retries: 60}}
volumes: {filled: {}}
`,
		"light.py": "import socket\ns = socket.create_server(('', 7800))\nwhile True:\n    c, _ = s.accept()\n    c.sendall(open('/lit').read().encode())\n    c.close()\n"})
	w.must(w.as("ingrid", "", "launch", "quay-lights"), 0, "is ready")
	w.must(w.as("ingrid", "", "logs", "quay-lights"), 0, "filled", "beside: b'lit\\n'")
	w.must(w.as("ingrid", "", "service", "list", "quay-lights"), 0, "fill", "ended", "beside", "healthy")
	w.must(w.as("ingrid", "", "remove", "quay-lights", "--yes"), 0)

	w.push("quay-lights", "main", map[string]string{".devcontainer/compose.yaml": `
services:
  work: {image: "skerryline/base:1", command: sleep infinity, volumes: ["..:/src"], depends_on: {dark: {condition: service_healthy}}}
  dark: {image: "skerryline/base:1", command: ["sh", "-c", "echo no oil is left >&2; exit 3"], healthcheck: {test: ["CMD", "true"], interval: 500ms}}
`})
	w.must(w.as("ingrid", "", "launch", "quay-lights"), 0, "set-up failed", "work waits for dark, and it ended: exit code 3; its last line: no oil is left", "is ready")
	w.must(w.as("ingrid", "", "service", "list", "quay-lights"), 0, "dark", "failed: exit code 3")
	w.must(w.as("ingrid", "", "run", "quay-lights", "--", "pwd"), 0, "/src")
}

// Features from the repository, a registry and an archive are put on in their
// order, with their options, as root, for the user; what they bring is merged.
func TestFeaturesOnAnEngine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "signal-mast"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "signal-mast", "--", "sh", "-c", `lantern; lamp; echo "$LANTERN_HOME $MAST"; grep -c /var/lib/signals /proc/mounts`), 0,
		"a red light, seen for 12 miles, kept by crew", "the lamp is lit (oil: true)", "/opt/lantern signal-mast", "1")
	w.must(w.as("ingrid", "", "logs", "signal-mast"), 0, "feature lantern 1.1.0", "-- postStartCommand of feature lantern", "== postCreateCommand")
	w.must(w.as("ingrid", "", "definition", "show", "signal-mast"), 0, "lantern:1.COLOUR", "red", "feature registry.skerryline.example/features/lantern:1", "comes to      sha256:")
	if ws := w.must(w.as("ingrid", "", "show", "signal-mast"), 0); !strings.Contains(ws, "middle: 2 cores") {
		t.Errorf("the size that the definition needs is not taken:\n%s", ws)
	}

	archive, err := demo.FeatureArchive("pennant")
	if err != nil {
		t.Fatal(err)
	}
	host := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) { _, _ = rw.Write(archive) }))
	defer host.Close()
	link := host.URL + "/pennant.tgz"
	w.register("flag-locker", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "features": {"` + link + `": {}}, "postCreateCommand": "cat /opt/pennant"}`})
	w.must(w.as("ingrid", "", "launch", "flag-locker"), 4, "the house rules do not let the feature", link)
	w.rules("features_from: [", "features_from: ["+strings.TrimPrefix(host.URL, "http://")+", ")
	w.must(w.as("ingrid", "", "launch", "flag-locker"), 0, "is ready")
	w.must(w.as("ingrid", "", "logs", "flag-locker"), 0, "a green light, seen for 12 miles, kept by crew")

	// A definition that nobody can have is told before anything is made.
	for ref, says := range map[string]string{"registry.skerryline.example/features/ghost:1": "cannot be had", "registry.skerryline.example/features/lantern:9": "cannot be had"} {
		w.push("flag-locker", "main", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "features": {"` + ref + `": {}}}`})
		w.must(w.as("ingrid", "", "definition", "check", "flag-locker"), 4, says, ref)
	}
}

// Who things run as, in which order, with which environment, and what an
// image says of itself in its label.
func TestUsersAndOrderOnAnEngine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.register("bell-buoy", map[string]string{
		".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}, "containerUser": "root", "overrideCommand": false, "workspaceMount": "source=${localWorkspaceFolder},target=/src,type=bind", "workspaceFolder": "/src/sub",
			"mounts": ["type=bind,source=${localWorkspaceFolder}/charts,target=/opt/charts", "type=tmpfs,target=/scratch"], "runArgs": ["--cap-drop=MKNOD", "--init"],
			"containerEnv": {"WHERE": "container"}, "remoteEnv": {"WHERE_TOO": "${containerEnv:WHERE}"},
			"onCreateCommand": "echo 1 $(id -un) $PROFILED >> /tmp/order", "updateContentCommand": ["sh", "-c", "echo 2 $PWD >> /tmp/order"], "postCreateCommand": {"a": "echo 3 >> /tmp/order", "b": ["sh", "-c", "echo 3 >> /tmp/order"]},
			"postStartCommand": "echo 4 >> /tmp/order; sleep 3; echo 5 >> /tmp/order", "postAttachCommand": "echo attached as $(id -un)", "waitFor": "postCreateCommand"}`,
		".devcontainer/Dockerfile": `FROM skerryline/base:1
RUN echo 'export PROFILED=yes' > /etc/profile.d/buoy.sh
LABEL devcontainer.metadata='[{"remoteUser": "crew", "onCreateCommand": "echo 0 label >> /tmp/order", "containerEnv": {"WHERE": "label", "LABELLED": "yes"}}]'
CMD ["sh", "-c", "echo $(id -un) > /ran"]
`, "sub/x": "", "charts/north": "deep\n"})
	w.must(w.as("ingrid", "", "launch", "bell-buoy", "--no-wait"), 0)
	c := w.client("ingrid")
	w.until(c, "bell-buoy", 60*time.Second, inPhase("ready"))
	if out := w.must(w.as("ingrid", "", "run", "bell-buoy", "--", "cat", "/tmp/order"), 0, "0 label\n1 crew yes\n2 /src/sub\n3\n3\n"); strings.Contains(out, "5") {
		t.Errorf("it was ready only when all was over: %s", out)
	}
	w.must(w.as("ingrid", "", "run", "bell-buoy", "--", "sh", "-c", `while ! grep -q 5 /tmp/order; do sleep 0.1; done; cat /opt/charts/north /ran; readlink /opt/charts; echo "$WHERE $WHERE_TOO $LABELLED $PROFILED"; id -un; pwd; grep -c /scratch /proc/mounts; git -C /src status -sb`), 0,
		"deep", "root", "/src/charts", "container container yes yes", "crew", "/src/sub", "1", "## main...origin/main")
	w.must(w.as("ingrid", "", "definition", "show", "bell-buoy"), 0, "label of image", "LABELLED")
	s, err := c.Workspaces.Open(t.Context(), "bell-buoy", wire.Run{Terminal: "one", Columns: 100, Rows: 30})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var seen strings.Builder
	for end := time.Now().Add(slack * 5 * time.Second); !strings.Contains(seen.String(), "attached as crew") && time.Now().Before(end); {
		_, p, err := s.Receive()
		if err != nil {
			t.Fatalf("the terminal ended with %v after %q", err, seen.String())
		}
		seen.Write(p)
	}
	w.must(w.as("ingrid", "", "rebuild", "bell-buoy"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "bell-buoy", "--", "cat", "/opt/charts/north"), 0, "deep")
}

// What the house rules close cannot be launched, whoever asks; opened for a
// repository it can, and what an engine then refuses is told in its words.
func TestHouseRulesOnAnEngine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "signal-mast", "--definition", "night"), 4, "the host's network is closed by the house rules", "allow.repositories.signal-mast.host_network")
	w.must(w.as("astrid", "", "launch", "signal-mast", "--definition", "night"), 4, "closed by the house rules")
	w.must(w.as("ingrid", "", "launch", "signal-mast", "--definition", "dusk"), 4, "no definition \"dusk\"", "name one of: night")
	w.register("dive-bell", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "privileged": true}`})
	w.must(w.as("ingrid", "", "launch", "dive-bell"), 4, "privileged is closed by the house rules")
	w.register("dive-boat", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "privileged": true}`})
	until := time.Now().Add(slack * 5 * time.Second)
	w.rules("starters: starters", "starters: starters\nallow:\n  everywhere: {capabilities: [SYS_PTRACE]}\n  repositories:\n    dive-boat: {privileged: yes, until: "+until.UTC().Format(time.RFC3339)+"}\n    dive-bell: {privileged: yes, security: [seccomp=unconfined], run_options: [shm-size, hostname]}")
	w.must(w.as("ingrid", "", "launch", "dive-boat", "--dry-run"), 0)
	if r := w.as("ingrid", "", "launch", "dive-bell"); r.code != 0 && !regexp.MustCompile(`(?i)start the container: .*(permi|privileg|operation not)`).MatchString(r.out+r.errors) {
		t.Errorf("an engine that refuses is told as %s", r)
	}
	w.push("dive-bell", "main", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "capAdd": ["SYS_PTRACE"], "runArgs": ["--shm-size=32m", "--hostname=bell"]}`})
	w.must(w.as("ingrid", "", "launch", "dive-bell", "--name", "bell"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "bell", "--", "sh", "-c", "hostname; df -m /dev/shm | tail -1"), 0, "bell", " 32 ")
	// What was opened until a time is closed after it, also where it was looked at before.
	time.Sleep(time.Until(until.Add(time.Second)))
	w.must(w.as("ingrid", "", "launch", "dive-boat", "--dry-run"), 4, "privileged is closed by the house rules")
	// A label may ask for what is closed too.
	w.push("dive-bell", "main", map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}}`, ".devcontainer/Dockerfile": "FROM skerryline/base:1\nLABEL devcontainer.metadata='[{\"capAdd\": [\"SYS_ADMIN\"]}]'\n"})
	w.must(w.as("ingrid", "", "launch", "dive-bell", "--name", "deep"), 6, "the capability SYS_ADMIN is closed by the house rules")
	w.push("dive-bell", "main", map[string]string{".devcontainer/devcontainer.json": `{"image": "elsewhere.example/base:1"}`})
	w.must(w.as("ingrid", "", "launch", "dive-bell", "--name", "else"), 4, "comes from where the house rules do not allow", "docker.io/skerryline")
}

// A definition that changes after the build is told: in the list, on the page,
// in a new terminal; a rebuild ends it.
func TestRebuildDue(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board"), 0, "is ready")
	c := w.client("ingrid")
	w.push("tide-board", "main", map[string]string{"NOTES.md": "no definition\n"})
	w.must(w.as("ingrid", "", "definition", "check", "tide-board"), 0)
	time.Sleep(300 * time.Millisecond)
	if ws, err := c.Workspaces.Show(t.Context(), "tide-board"); err != nil || condition(ws, "rebuild due") != "" {
		t.Errorf("a change of other files is told as %q, %v", condition(ws, "rebuild due"), err)
	}
	w.push("tide-board", "main", map[string]string{".devcontainer/Dockerfile": "FROM skerryline/base:1\nRUN echo new > /new\nUSER crew\n", ".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile", "context": ".."}, "remoteUser": "crew", "containerEnv": {"TIDE_STATION": "Indre Skjer"}}`})
	w.must(w.as("mats", "", "definition", "check", "tide-board"), 0) // anybody's look tells all
	w.until(c, "tide-board", 10*time.Second, func(ws wire.Workspace) bool {
		reason := condition(ws, "rebuild due")
		return strings.Contains(reason, "env.TIDE_STATION: Ytre Skjer → Indre Skjer") && strings.Contains(reason, ".devcontainer/Dockerfile changed")
	})
	w.must(w.as("ingrid", "", "list"), 0, "ready, rebuild due")
	s, err := c.Workspaces.Open(t.Context(), "tide-board", wire.Run{Terminal: "new", Columns: 100, Rows: 30})
	if err != nil {
		t.Fatal(err)
	}
	kind, p, err := s.Receive()
	for err == nil && kind != 'o' {
		kind, p, err = s.Receive()
	}
	if s.Close(); err != nil || !strings.Contains(string(p), "A rebuild is due") {
		t.Errorf("a new terminal begins with %q, %v", p, err)
	}
	w.must(w.as("ingrid", "", "rebuild", "tide-board"), 0, "is ready")
	if ws, err := c.Workspaces.Show(t.Context(), "tide-board"); err != nil || condition(ws, "rebuild due") != "" {
		t.Errorf("after the rebuild it is told %q, %v", condition(ws, "rebuild due"), err)
	}
	w.must(w.as("ingrid", "", "run", "tide-board", "--", "sh", "-c", "cat /new; echo $TIDE_STATION"), 0, "new", "Indre Skjer")
}

// Several repositories lie side by side, also after a prebuild; work in each
// of them counts.
func TestRepositoriesBeside(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--beside", "fare-desk", "--beside", "deck-log@main"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "tide-board", "--", "sh", "-c", "pwd; ls ..; git -C ../fare-desk rev-parse --abbrev-ref HEAD; echo x > ../deck-log/found"), 0, "/workspaces/tide-board", "deck-log", "fare-desk", "main")
	w.must(w.as("ingrid", "", "remove", "tide-board", "--yes"), 4, "holds work that exists nowhere else", "deck-log: found")
	w.must(w.as("ingrid", "", "stop", "tide-board"), 0)
	w.must(w.as("ingrid", "", "start", "tide-board"), 0)
	w.must(w.as("ingrid", "", "rebuild", "tide-board"), 0)
	w.must(w.as("ingrid", "", "run", "tide-board", "--", "cat", "../deck-log/found"), 0, "x")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "no", "--beside", "ghost"), 4, "ghost", "is not registered")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "no", "--beside", "fare-desk@nowhere"), 4, "no branch", "nowhere")
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "no", "--beside", "tide-board"), 4, "cannot be cloned beside")

	w.register("harbour-map", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "onCreateCommand": "cat ../route-notes/north.txt > made", "customizations": {"yardbench": {"repositories": ["route-notes"]}}}`, ".gitignore": "made\n"})
	w.must(w.as("runa", "", "prebuild", "put", "harbour-map"), 0)
	w.must(w.as("runa", "", "prebuild", "run", "harbour-map"), 4, "it has no credential of its own", "yardbench repository credential harbour-map")
	w.must(w.as("runa", "x", "repository", "credential", "harbour-map", "--username", "x"), 4, "does not allow")
	w.must(w.as("astrid", "wrong", "repository", "credential", "harbour-map", "--username", demo.Reader("harbour-map")), 4, "cannot be read")
	w.must(w.as("astrid", demo.GitToken(demo.Reader("fare-desk")), "repository", "credential", "harbour-map", "--username", demo.Reader("fare-desk")), 4, "cannot be read")
	w.reads("harbour-map")
	w.must(w.as("astrid", "", "repository", "list"), 0, "as itself")
	// Nobody lends a prebuild their right: what the branch names beside is not
	// fetched by it, and comes with who launches.
	w.must(w.as("runa", "", "prebuild", "run", "harbour-map"), 6, "route-notes/north.txt")
	w.push("harbour-map", "main", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "onCreateCommand": "ls .. > made; git ls-remote origin > asked 2>&1 || true", "customizations": {"yardbench": {"repositories": ["route-notes"]}}}`, ".gitignore": "made\nasked\n"})
	w.must(w.as("runa", "", "prebuild", "run", "harbour-map"), 0)
	w.must(w.as("mats", "", "launch", "harbour-map"), 0, "served by prepared image", "is ready")
	w.must(w.as("mats", "", "run", "harbour-map", "--", "sh", "-c", "cat made asked; git status -sb && git -C ../route-notes status -sb"), 0, "cannot sign in at the git host", "## main...origin/main\n## main...origin/main")
	if made := w.must(w.as("mats", "", "run", "harbour-map", "--", "cat", "made"), 0); strings.Contains(made, "route-notes") {
		t.Errorf("the prebuild had %s", made)
	}
	w.must(w.as("astrid", "", "repository", "credential", "harbour-map", "--remove", "--yes"), 0)
	w.must(w.as("astrid", "", "repository", "credential", "harbour-map", "--remove", "--yes"), 3, "no credential")
	w.must(w.as("runa", "", "prebuild", "run", "harbour-map"), 4, "it has no credential of its own")
	// As mats, and with nothing in the workspace that could be taken from it.
	w.must(w.as("mats", "", "run", "harbour-map", "--", "git", "ls-remote", "origin"), 0, "refs/heads/main")
	w.must(w.as("mats", "", "run", "harbour-map", "--", "sh", "-c", "(printf 'protocol=http\\nhost="+strings.TrimPrefix(w.git, "http://")+"\\n\\n' | GIT_TERMINAL_PROMPT=0 git credential fill; env; git config --list --show-origin; cat /proc/[0-9]*/environ) 2>&1 | grep -ac "+demo.GitToken("mats")), 1, "0\n")
	w.must(w.as("mats", "", "credential", "remove", strings.TrimPrefix(w.git, "http://"), "--yes"), 0)
	w.must(w.as("mats", "", "run", "harbour-map", "--", "sh", "-c", "git ls-remote origin 2>&1"), 128, "you have no credential for", "yardbench credential put")
}

// What stands where there is no definition, and what a check finds in a built
// image.
func TestWithoutADefinition(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "route-notes", "--dry-run"), 0, "there is no definition: the image is skerryline/base:1", "definition  none")
	w.must(w.as("ingrid", "", "launch", "route-notes"), 0, "from the usual image", "is ready")
	w.register("log-line", map[string]string{"Dockerfile": "FROM skerryline/base:1\nRUN echo bare > /bare\n"})
	w.must(w.as("ingrid", "", "launch", "log-line"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "log-line", "--", "cat", "/bare"), 0, "bare")
	w.push("log-line", "main", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "postCreateCommand": "make all && sounding-lead --drop | head -1"}`})
	w.must(w.as("ingrid", "", "definition", "check", "log-line"), 0, "postCreateCommand needs sounding-lead, and the image does not have it")

	dir := t.TempDir()
	w.must(w.as("ingrid", "", "starter", "list"), 0, "board", "desk", "port, quay")
	w.must(w.as("ingrid", "", "starter", "show", "board"), 0, "Where it hangs", "north, south")
	w.must(w.as("ingrid", "", "starter", "show", "ghost"), 2, "ghost")
	w.must(w.as("ingrid", "", "starter", "write", "board", dir, "--choose", "port=8123"), 0, ".devcontainer/devcontainer.json", "2 files of board")
	w.must(w.as("ingrid", "", "starter", "write", "board", dir), 1, "is there already")
	w.must(w.as("ingrid", "", "starter", "write", "board", dir, "--replace", "--choose", "quay=west"), 4, "one of north, south")
	if text, err := os.ReadFile(filepath.Join(dir, ".devcontainer/devcontainer.json")); err != nil || !strings.Contains(string(text), "[8123]") || !strings.Contains(string(text), "north quay") {
		t.Errorf("it is written as %s, %v", text, err)
	}
	w.must(w.as("ingrid", "", "definition", "check", dir), 0, "nothing is wrong")
}

// Cache mounts of builds are their repository's, and of its default branch:
// neither another repository nor a branch puts anything into them.
func TestCacheMountsAreTheRepositorysOwn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	files := func(who string) map[string]string {
		return map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`,
			".devcontainer/Dockerfile": "FROM skerryline/base:1\nRUN --mount=type=cache,target=/c,id=common touch /c/" + who + " && ls /c | tr '\\n' ' ' > /seen\n"}
	}
	for _, c := range []struct{ repository, branch, who, want string }{
		{"harbour-map", "main", "harbour", "harbour"},
		{"lamp-room", "main", "lamp", "lamp"},
		{"harbour-map", "topic", "topic", "topic"},
		{"harbour-map", "main", "again", "again harbour"}, // of the size of the one before
		{"harbour-map", "other", "other", "other"},
	} {
		if c.who == "harbour" || c.who == "lamp" {
			w.register(c.repository, files(c.who))
		} else {
			w.push(c.repository, c.branch, files(c.who))
		}
		w.must(w.as("ingrid", "", "launch", c.repository, "--branch", c.branch, "--name", c.who), 0, "is ready")
		if got := strings.TrimSpace(w.must(w.as("ingrid", "", "run", c.who, "--", "cat", "/seen"), 0)); got != c.want {
			t.Errorf("the build of %s@%s finds %q in the cache, not %q", c.repository, c.branch, got, c.want)
		}
		w.must(w.as("ingrid", "", "remove", c.who, "--yes"), 0)
	}
}
