package definition

import (
	"fmt"
	"strings"
	"testing"
)

// What a launch does, in its order, as whom, where, and because of which line.
func TestExplain(t *testing.T) {
	def, fs := Resolve(source(`{"dockerComposeFile": "c.yaml", "service": "app", "workspaceFolder": "/src/web", "remoteUser": "crew", "features": {"./lamp": {}},
"onCreateCommand": {"a": "make a", "b": ["make", "b c"]}, "postStartCommand": "serve", "postAttachCommand": "git status", "waitFor": "onCreateCommand", "forwardPorts": [80]}`,
		".devcontainer/c.yaml", "services:\n  app: {build: {context: ., target: dev}, user: keeper, volumes: ['..:/src'], command: [run, it], depends_on: [db]}\n  db: {image: 'levels:1', user: levels, depends_on: {fill: {condition: service_completed_successfully}}}\n  fill: {image: 'levels:1', command: fill}\n",
		".devcontainer/Dockerfile", "FROM a:1 AS dev\n", ".devcontainer/lamp/devcontainer-feature.json", `{"id": "lamp", "version": "2", "entrypoint": "/lit"}`, ".devcontainer/lamp/install.sh", ""))
	if f, bad := Fatal(fs); bad {
		t.Fatal(f)
	}
	def.Beside = []Beside{{Repository: "deck-log"}}
	var got []string
	for _, s := range Explain(def) {
		got = append(got, strings.Join([]string{s.When, s.What, s.As, s.Where, strings.TrimPrefix(s.From, ".devcontainer/")}, " | "))
	}
	want := `for the image | build the image from .devcontainer/Dockerfile, stage dev | root | .devcontainer | c.yaml:2:9
for the image | put on the feature lamp 2 | root |  | devcontainer.json:1:117
for the image | use levels:1 for fill |  |  | c.yaml:4:10
for the image | use levels:1 for db |  |  | c.yaml:3:8
once | clone deck-log beside it, at its default branch | crew |  | usual
once | clone the repository | crew | /src | c.yaml:2:57
at each start | run the entrypoint /lit | keeper |  | feature ./lamp
at each start | run run it | keeper |  | c.yaml:2:79
at each start | start the service fill | the image's user |  | c.yaml:4:29
at each start | start the service db, when fill is done | levels |  | c.yaml:3:8
once | make a (beside the others of its moment) | crew | /src/web | devcontainer.json:2:1
once | make 'b c' (beside the others of its moment) | crew | /src/web | devcontainer.json:2:1
at each start | the workspace is ready, 1 of its ports forwarded |  |  | devcontainer.json:2:123
at each start | serve | crew | /src/web | devcontainer.json:2:59
in each terminal | git status | crew | /src/web | devcontainer.json:2:88`
	if s := strings.Join(got, "\n"); s != want {
		t.Errorf("it is explained as\n%s\nnot as\n%s", s, want)
	}
}

// What a change makes due.
func TestDue(t *testing.T) {
	at := func(text, file string) []Value {
		files := map[string]string{}
		src := Noting(source(text, ".devcontainer/Dockerfile", file, ".devcontainer/c.yaml", "services: {app: {image: 'a:1'}, db: {image: '"+file+"'}}"), files)
		def, _ := Resolve(src)
		return BuildFiles(Values(def), files)
	}
	const image, built, composed = `{"image": "a:1"`, `{"build": {"dockerfile": "Dockerfile"}`, `{"dockerComposeFile": "c.yaml", "service": "app", "workspaceFolder": "/w"`
	for _, c := range []struct{ old, oldFile, next, nextFile, says, due string }{
		{image + "}", "", image + "}", "x", "", "nothing"},
		{image + "}", "", `{"image": "a:2"}`, "", "image: a:1 → a:2", "a new image"},
		{image + "}", "", image + `, "containerEnv": {"A": "1"}}`, "", "env.A:  → 1", "a rebuild of the workspaces that are there; the image stays"},
		{built + "}", "FROM a:1", built + "}", "FROM a:2", "build.content: ", "a new image"},
		{built + "}", "FROM a:1", built + "}", "FROM a:1", "", "nothing"},
		{composed + "}", "b:1", composed + "}", "b:2", "service db.image: b:1 → b:2", "a new image"},
		{composed + "}", "b:1", composed + `, "forwardPorts": ["db:1"]}`, "b:1", "ports.1:  → (service db)", "a rebuild"},
	} {
		changes := Differences(at(c.old, c.oldFile), at(c.next, c.nextFile))
		said := ""
		for _, x := range changes {
			said += fmt.Sprintf("%s: %s → %s\n", x.Key, x.Old, x.New)
		}
		if got := Due(changes); !strings.HasPrefix(got, c.due) || !strings.HasPrefix(said, c.says) {
			t.Errorf("from %s %s to %s %s: %q is due for %q", c.old, c.oldFile, c.next, c.nextFile, got, said)
		}
	}
}
