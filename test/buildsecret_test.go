package test

import (
	"strings"
	"testing"
	"time"
)

// What a build mounts as a secret is in nothing that the build leaves: no layer, no
// history, no log. A build that writes it down is refused with the path, and so is a
// prepared image that holds what the house gives.
func TestBuildSecrets(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	const mirror, house = "reads-the-mirror-of-ytre-skjer", "pins-to-the-board-in-the-hall"
	once := time.Now().Format(time.RFC3339Nano) // an engine that has built it before prints nothing
	file := func(run string) map[string]string {
		return map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew", "postCreateCommand": "true"}`,
			".devcontainer/Dockerfile": "FROM skerryline/base:1\nRUN --mount=type=secret,id=MIRROR_TOKEN : " + once + "; " + run + "\n"}
	}
	w.register("gull-mirror", file(`cat /run/secrets/MIRROR_TOKEN && wc -c < /run/secrets/MIRROR_TOKEN > /size`))
	w.must(w.as("runa", "x", "secret", "put", "MIRROR_TOKEN", "--of-team", "Timetable", "--everywhere", "--for-builds"), 4, "an image is everybody's")
	w.must(w.as("astrid", "the value of the house", "secret", "put", "MIRROR_TOKEN", "--of-house", "--everywhere", "--for-builds"), 0)
	w.must(w.as("runa", mirror, "secret", "put", "MIRROR_TOKEN", "--of-repository", "gull-mirror", "--for-builds"), 0, "--mount=type=secret,id=MIRROR_TOKEN")
	w.must(w.as("ingrid", "", "launch", "gull-mirror", "--name", "gull"), 0)
	w.must(w.as("ingrid", "", "run", "gull", "--", "sh", "-c", `cat /size; echo "MIRROR is $MIRROR_TOKEN"; ls -A /run/secrets 2>/dev/null; true`), 0, "30\nMIRROR is \n")
	if logs := w.must(w.as("ingrid", "", "logs", "gull"), 0, "[secret MIRROR_TOKEN]"); strings.Contains(logs, mirror) {
		t.Errorf("the build's log holds it:\n%s", logs)
	}
	w.must(w.as("ingrid", "", "secret", "explain", "gull-mirror"), 0, "for the builds of images alone")
	w.must(w.as("ingrid", "", "secret", "explain", "--in", "gull", "MIRROR_TOKEN"), 0, "for the builds of images alone")
	w.must(w.as("runa", "", "secret", "list", "--of-repository", "gull-mirror"), 0, "a build secret", "everybody in gull-mirror", "today")
	ws, err := w.client("ingrid").Workspaces.Show(t.Context(), "gull")
	if err != nil {
		t.Fatal(err)
	}
	w.nowhere(t, ws.ID, "", mirror, "the value of the house")
	// A build that writes it down, as it is or otherwise, is refused, and leaves nothing.
	for _, how := range []string{`cp /run/secrets/MIRROR_TOKEN /etc/mirror.conf`, `mkdir -p /opt/of/the && base64 -w0 < /run/secrets/MIRROR_TOKEN > /opt/of/the/mirror`} {
		w.push("gull-mirror", "main", file(how))
		w.must(w.as("ingrid", "", "launch", "gull-mirror", "--name", "leaky"), 6, "the value of secret MIRROR_TOKEN is in /"+strings.TrimPrefix(how[strings.LastIndex(how, " /")+1:], "/"))
		w.must(w.as("ingrid", "", "remove", "leaky", "--yes"), 0)
	}
	// A branch that it is not for has none, and a prepared image that holds a value of the house's is not kept.
	w.must(w.as("runa", mirror, "secret", "put", "MIRROR_TOKEN", "--of-repository", "gull-mirror", "--branch", "release/*"), 0)
	w.must(w.as("astrid", "", "secret", "remove", "MIRROR_TOKEN", "--of-house", "--yes"), 0)
	w.push("gull-mirror", "main", file(`test ! -e /run/secrets/MIRROR_TOKEN`))
	w.must(w.as("ingrid", "", "launch", "gull-mirror", "--name", "without"), 0)
	w.must(w.as("astrid", house, "secret", "put", "NOTICE_TOKEN", "--of-house", "--everywhere"), 0)
	w.push("gull-mirror", "main", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "onCreateCommand": "mkdir -p .cache && cat notice > .cache/kept"}`, "notice": "token = '" + house + "'\n"})
	w.reads("gull-mirror")
	w.must(w.as("runa", "", "prebuild", "put", "gull-mirror"), 0)
	w.must(w.as("runa", "", "prebuild", "run", "gull-mirror"), 6, "the value of secret NOTICE_TOKEN of the house is in /")
	w.must(w.as("astrid", "", "secret", "remove", "NOTICE_TOKEN", "--of-house", "--yes"), 0)
	w.must(w.as("runa", "", "prebuild", "run", "gull-mirror"), 0, "is kept")
}
