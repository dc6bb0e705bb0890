package definition

import (
	"fmt"
	"strings"
	"testing"
)

// composedOver resolves a definition over compose files in the root.
func composedOver(files ...string) (Definition, []Finding) {
	return Resolve(source(`{"dockerComposeFile": "../compose.yaml", "service": "app", "workspaceFolder": "/w", "remoteUser": "crew"}`, files...))
}

// Files include others, each with paths and variables of its own.
func TestInclude(t *testing.T) {
	const app = "\nservices: {app: {image: 'a:1', volumes: ['.:/w']}}\n"
	for _, c := range []struct {
		what  string
		files []string
		want  string // of the service db
	}{
		{"a file", []string{"compose.yaml", "include: [in/c.yaml]" + app, "in/c.yaml", "services: {db: {image: 'b:1', volumes: ['./x:/x']}}"}, "b:1 in/x"},
		{"by its long form", []string{"compose.yaml", "include: [{path: in/c.yaml}]" + app, "in/c.yaml", "services: {db: {image: 'b:1', volumes: ['./x:/x']}}"}, "b:1 in/x"},
		{"several as one", []string{"compose.yaml", "include: [{path: [in/c.yaml, other/d.yaml]}]" + app, "in/c.yaml", "services: {db: {image: 'b:1', volumes: ['./x:/x']}}", "other/d.yaml", "services: {db: {image: 'b:2'}}"}, "b:2 in/x"},
		{"a folder of its own", []string{"compose.yaml", "include: [{path: in/c.yaml, project_directory: deep/er}]" + app, "in/c.yaml", "services: {db: {image: 'b:1', volumes: ['./x:/x']}}"}, "b:1 deep/er/x"},
		{"variables beside it", []string{"compose.yaml", "include: [in/c.yaml]" + app, "in/c.yaml", "services: {db: {image: 'b:${V}', volumes: ['./x:/x']}}", "in/.env", "V=3\n"}, "b:3 in/x"},
		{"variables of the one above first", []string{"compose.yaml", "include: [in/c.yaml]" + app, "in/c.yaml", "services: {db: {image: 'b:${V}', volumes: ['./x:/x']}}", "in/.env", "V=3\n", ".env", "V=4\n"}, "b:4 in/x"},
		{"variables named", []string{"compose.yaml", "include: [{path: in/c.yaml, env_file: [v.env]}]" + app, "in/c.yaml", "services: {db: {image: 'b:${V}', volumes: ['./x:/x']}}", "v.env", "V=5\n", "in/.env", "V=3\n"}, "b:5 in/x"},
		{"deeper", []string{"compose.yaml", "include: [in/c.yaml]" + app, "in/c.yaml", "include: [../other/d.yaml]", "other/d.yaml", "services: {db: {image: 'b:1', volumes: ['./x:/x']}}"}, "b:1 other/x"},
	} {
		def, fs := composedOver(c.files...)
		if f, bad := Fatal(fs); bad || len(def.Compose.Services) != 1 {
			t.Errorf("%s: %v", c.what, f)
			continue
		}
		s := def.Compose.Services[0]
		if got := s.Image + " " + s.Mounts[0].Source; s.Name != "db" || got != c.want {
			t.Errorf("%s: it comes to %s, not to %s", c.what, got, c.want)
		}
	}
	deep := func(n int) []string {
		files := []string{"compose.yaml", "include: [c1.yaml]" + app}
		for i := 1; i < n; i++ {
			files = append(files, fmt.Sprintf("c%d.yaml", i), fmt.Sprintf("include: [c%d.yaml]\nservices: {}\n", i+1))
		}
		return append(files, fmt.Sprintf("c%d.yaml", n), "services: {db: {image: 'b:1'}}")
	}
	if _, fs := composedOver(deep(maxIncluded)...); len(fs) > 0 {
		t.Errorf("as deep as may be is told as %v", fs)
	}
	for _, c := range []struct {
		what  string
		files []string
		says  string
	}{
		{"deeper than may be", deep(maxIncluded + 1), "c8.yaml:1:11: error: files include each other more than 8 deep"},
		{"itself", []string{"compose.yaml", "include: [compose.yaml]" + app}, "more than 8 deep"},
		{"nothing", []string{"compose.yaml", "include: [{path: []}]" + app}, "compose.yaml:1:11: error: it includes no file"},
		{"from outside", []string{"compose.yaml", "include: [../x.yaml]" + app}, "\"../x.yaml\" is not in the repository and is not included"},
		{"what is not there", []string{"compose.yaml", "include: [x.yaml]" + app}, "compose.yaml:1:11: error: compose file \"x.yaml\" is not in the repository"},
		{"a folder outside", []string{"compose.yaml", "include: [{path: c.yaml, project_directory: ../..}]" + app, "c.yaml", "services: {}"}, "project_directory \"../..\" lies outside"},
		{"the same service", []string{"compose.yaml", "include: [c.yaml]" + app, "c.yaml", "services: {app: {image: 'b:1'}}"}, "compose.yaml:2:12: error: the service \"app\" stands in an included file too"},
		{"a service that is nobody's", []string{"compose.yaml", "include: [c.yaml]\nservices: {app: {image: 'a:1', depends_on: [ghost]}}", "c.yaml", "services: {db: {image: 'b:1'}}"}, "ghost"},
		{"one without an image", []string{"compose.yaml", "include: [c.yaml]" + app, "c.yaml", "services: {db: {command: x}}"}, "c.yaml:1:12: error: service \"db\" has neither an image nor a build"},
		{"variables that cannot be read", []string{"compose.yaml", "include: [c.yaml]" + app, "c.yaml", "services: {db: {image: 'b:1'}}", ".env", "A='x\n"}, ".env: error: it cannot be read"},
	} {
		if _, fs := composedOver(c.files...); !strings.Contains(fmt.Sprint(fs), c.says) {
			t.Errorf("%s is told as %v, not as %s", c.what, fs, c.says)
		}
	}
}

// Services extend those of other files; their paths stay where they were.
func TestExtend(t *testing.T) {
	base := `services:
  root: {environment: {R: root}, env_file: r.env}
  base:
    extends: {service: root}
    build: {dockerfile: D}
    env_file: [b.env, {path: none.env, required: false}]
    volumes: ["./v:/v", "named:/n", "/abs:/abs", {type: bind, source: ./long, target: /long}, {type: volume, source: named, target: /m}]
  far: {extends: {file: far/f.yaml, service: far}, image: "near:1"}
  short: {build: .}
  text: {extends: root, image: "x:1"}
`
	files := []string{"compose.yaml", "services:\n  app: {image: 'a:1', volumes: ['.:/w']}\n  db: {extends: {file: lib/b.yaml, service: NAME}, environment: {OWN: own}}\nvolumes: {named: {}}\n",
		"lib/b.yaml", base, "lib/D", "FROM a:1\n", "lib/Dockerfile", "FROM a:1\n", "lib/b.env", "B=b\n", "lib/r.env", "E=e\n", "lib/far/f.yaml", "services: {far: {image: 'far:1', volumes: ['../up:/up'], env_file: f.env}}", "lib/far/f.env", "F=f\n"}
	of := func(name string) (Definition, []Finding) {
		with := append([]string{}, files...)
		with[1] = strings.Replace(with[1], "NAME", name, 1)
		return composedOver(with...)
	}
	for name, want := range map[string]string{
		"base":  `{"name":"db","build":{"dockerfile":"lib/D","context":"lib"},"env":{"B":"b","E":"e","OWN":"own","R":"root"},"mounts":[{"kind":"tree","source":"lib/v","target":"/v"},{"kind":"volume","source":"named","target":"/n"},{"kind":"host","source":"/abs","target":"/abs"},{"kind":"tree","source":"lib/long","target":"/long"},{"kind":"volume","source":"named","target":"/m"}]}`,
		"far":   `{"name":"db","image":"near:1","env":{"F":"f","OWN":"own"},"mounts":[{"kind":"tree","source":"lib/up","target":"/up"}]}`,
		"short": `{"name":"db","build":{"dockerfile":"lib/Dockerfile","context":"lib"},"env":{"OWN":"own"}}`,
		"text":  `{"name":"db","image":"x:1","env":{"E":"e","OWN":"own","R":"root"}}`,
	} {
		def, fs := of(name)
		if f, bad := Fatal(fs); bad || len(def.Compose.Services) != 1 {
			t.Errorf("%s: %v", name, fs)
			_ = f
			continue
		}
		sameJSON(t, name, def.Compose.Services[0], want)
	}
	for name, says := range map[string]string{
		"ghost": "compose.yaml:3:8: error: lib/b.yaml has no service \"ghost\"; name one of: base, far, root, short, text",
		"root":  "service \"db\" has neither an image nor a build",
	} {
		if _, fs := of(name); !strings.Contains(fmt.Sprint(fs), says) {
			t.Errorf("%s is told as %v, not as %s", name, fs, says)
		}
	}
	for what, c := range map[string][]string{
		"a loop":             {"compose.yaml", "services: {app: {extends: {file: b.yaml, service: x}}}", "b.yaml", "services: {x: {extends: {file: b.yaml, service: y}}, y: {extends: {service: x}}}", "ircular"},
		"nothing at all":     {"compose.yaml", "services: {app: {extends: {file: b.yaml, service: x}}}", "b.yaml", "services: {x: }", "the service \"x\" of b.yaml says nothing"},
		"from outside":       {"compose.yaml", "services: {app: {extends: {file: ../b.yaml, service: x}}}", "b.yaml", "", "is not extended"},
		"what is not there":  {"compose.yaml", "services: {app: {extends: {file: c.yaml, service: x}}}", "b.yaml", "", "compose file \"c.yaml\" is not in the repository"},
		"no service by name": {"compose.yaml", "services: {app: {extends: {file: b.yaml}}}", "b.yaml", "services: {x: {image: 'a:1'}}", "has no service \"\""},
	} {
		if _, fs := composedOver(c[:4]...); !strings.Contains(fmt.Sprint(fs), c[4]) {
			t.Errorf("%s is told as %v, not as %s", what, fs, c[4])
		}
	}
}
