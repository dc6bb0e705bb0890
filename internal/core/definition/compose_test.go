package definition

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yardbench/internal/bound"
)

const composeFile = ".devcontainer/compose.yaml"

func composed(t *testing.T, more string, files ...string) (Definition, []Finding) {
	t.Helper()
	return Resolve(source(`{"dockerComposeFile": "compose.yaml", "service": "app", "workspaceFolder": "/work"`+more+`}`, files...))
}

// What a compose file comes to: each value of each service.
func TestCompose(t *testing.T) {
	def, fs := composed(t, `, "containerEnv": {"A": "mine"}, "forwardPorts": [8000, "db:5432"], "runServices": ["web"], "remoteUser": "crew"`, composeFile, `
services:
  app:
    build: {context: .., dockerfile: .devcontainer/Dockerfile, target: dev, args: {V: "${V:-3}"}}
    command: sleep infinity
    user: keeper
    environment: {A: theirs, B: "${LEVEL}"}
    volumes: ["..:/work:cached", "../charts:/charts:ro", "cache:/cache"]
    depends_on: {db: {condition: service_healthy}}
  db:
    image: skerryline/base:1
    entrypoint: ["serve", "tides"]
    env_file: [db.env, {path: none.env, required: false}]
    environment: [PLAIN=1, UNSET]
    volumes: ["levels:/var/levels", "../seed/first.sql:/seed/first.sql", {type: tmpfs, target: /scratch}]
    healthcheck: {test: ["CMD", "true"], interval: 2s, timeout: 1s, retries: 5, start_period: 1m}
    depends_on: [fill]
    expose: ["5432"]
    ports: ["9999:9998"]
    networks: {default: {aliases: [tides]}}
    cap_add: [SYS_NICE]
    restart: unless-stopped
    mem_limit: 256m
    cpus: 0.5
  fill: {image: "skerryline/base:1", command: ["true"], working_dir: /x, read_only: true, stop_signal: SIGINT}
  web: {image: "skerryline/base:1", network_mode: "service:app", depends_on: {fill: {condition: service_completed_successfully}}}
  idle: {image: "skerryline/base:1", profiles: [extra]}
  never: {image: "skerryline/base:1"}
volumes: {levels: {}, cache: {}}
`, ".devcontainer/db.env", "FROM_FILE=yes\nPLAIN=0\n", ".devcontainer/.env", "LEVEL=high\n")
	if f, bad := Fatal(fs); bad {
		t.Fatal(f)
	}
	for _, c := range []struct {
		what string
		got  any
		want string
	}{
		{"the image of the workspace", def.Build, `{"dockerfile":".devcontainer/Dockerfile","context":".","target":"dev","args":{"V":"3"}}`},
		{"its environment beneath the definition's", def.Env, `{"A":"mine","B":"high"}`},
		{"its users", []string{def.Person(), def.ContainerUser}, `["crew","keeper"]`},
		{"its folders", []string{def.Folder, def.TreeFolder()}, `["/work","/work"]`},
		{"its mounts, the repository's own left out", def.Mounts, `[{"kind":"tree","source":"charts","target":"/charts","read_only":true},{"kind":"volume","source":"cache","target":"/cache"}]`},
		{"its ports", []any{def.Ports, def.PortHosts}, `[[8000,5432],{"5432":"db"}]`},
		{"its own command runs", []any{def.RunsOwnCommand(), def.Compose.Command}, `[true,["sleep","infinity"]]`},
		{"what it waits for", def.Compose.Needs, `[{"service":"db","condition":"service_healthy"}]`},
		{"its names", def.Compose.Aliases, `["app","web"]`},
		{"the services, each after what it needs, without the others", names(def), `["fill","db","web"]`},
		{"the first", def.Compose.Services[0], `{"name":"fill","image":"skerryline/base:1","command":["true"],"folder":"/x","read_only":true,"stop_signal":"SIGINT"}`},
		{"the database", def.Compose.Services[1], `{"name":"db","image":"skerryline/base:1","entrypoint":["serve","tides"],"env":{"FROM_FILE":"yes","PLAIN":"1"},"mounts":[{"kind":"volume","source":"levels","target":"/var/levels"},{"kind":"tree","source":"seed/first.sql","target":"/seed/first.sql"},{"kind":"tmpfs","target":"/scratch"}],
			"extra":{"capabilities":["SYS_NICE"]},"needs":[{"service":"fill","condition":"service_started"}],"health":{"test":["CMD","true"],"interval":2000000000,"timeout":1000000000,"start_period":60000000000,"retries":5},"aliases":["tides"],"ports":[9998,5432],"published":[9998],"restart":true,"cores_milli":500,"memory_bytes":268435456}`},
		{"one that shares the workspace's network", def.Compose.Services[2].SharesNetwork, `true`},
	} {
		sameJSON(t, c.what, c.got, c.want)
	}
}

func names(d Definition) (out []string) {
	for _, s := range d.Compose.Services {
		out = append(out, s.Name)
	}
	return out
}

// Several files, later over earlier; profiles by the env file; the workspace
// that joins a service's network.
func TestComposeTogether(t *testing.T) {
	def, fs := Resolve(source(`{"dockerComposeFile": ["compose.yaml", "more.yaml"], "service": "app"}`, composeFile, "services: {app: {image: 'a:1', network_mode: 'service:db', volumes: ['..:/src/all']}, db: {image: 'b:1', environment: {A: '1', B: '1'}}}",
		".devcontainer/more.yaml", "services: {db: {image: 'b:2', environment: {B: '2'}}, log: {image: 'c:1', profiles: [logs]}}", ".devcontainer/.env", "COMPOSE_PROFILES=logs"))
	if f, bad := Fatal(fs); bad {
		t.Fatal(f)
	}
	sameJSON(t, "the services", names(def), `["db","log"]`)
	sameJSON(t, "the database", def.Compose.Services[0], `{"name":"db","image":"b:2","env":{"A":"1","B":"2"},"shares_network":true}`)
	sameJSON(t, "the folder", def.Folder, `"/src/all"`)
}

// What is wrong with compose files.
func TestComposeFindings(t *testing.T) {
	one := func(service string) string {
		return "services: {app: {image: 'a:1'}, db: {image: 'b:1', " + service + "}}"
	}
	for _, c := range []struct{ what, text, says string }{
		{"nothing", "", "empty compose file"},
		{"no YAML", "services: [", "failed to parse"},
		{"a misspelt key", one("imgae: x"), "imgae"},
		{"include", "include: [x.yaml]\nservices: {app: {image: a}}", "x.yaml\" is not in the repository"},
		{"extends from a file", one("extends: {file: /etc/passwd, service: x}"), "is not in the repository and is not extended"},
		{"extends by an alias", "x: &x {file: /etc/passwd, service: y}\nservices: {app: {image: a}, db: {image: b, extends: *x}}", "is not in the repository and is not extended"},
		{"an env file outside", one("env_file: [../../../../etc/passwd]"), "is not in the repository"},
		{"a build outside", one("build: ../.."), "outside the repository"},
		{"a build from elsewhere", one("build: 'https://r.example/x.git'"), "outside the repository"},
		{"a loop", "services: {app: {image: a, depends_on: [db]}, db: {image: b, depends_on: [app]}}", ""},
		{"a service nobody has", one("depends_on: [ghost]"), "ghost"},
		{"the host's process ids", one("pid: host"), "pid: host of service \"db\" is not honoured"},
		{"a mount over the system", one("volumes: ['x:/proc/x']") + "\nvolumes: {x: {}}", "no place for a mount"},
		{"a variable that is none", one("environment: ['=x']"), "no variable name"},
		{"a volume that is a folder of the host", one("volumes: ['x:/x']") + "\nvolumes: {x: {driver_opts: {type: none, o: bind, device: /etc}}}", "options or origin of the volume \"x\" are not honoured"},
		{"a volume of somebody else", one("volumes: ['x:/x']") + "\nvolumes: {x: {external: true}}", "volume \"x\" are not honoured"},
		{"a variable without a value", "services:\n  app: {image: 'a:1'}\n  db: {image: 'b:1', environment: {A: '${LEVEL}', B: '$$NOT', C: '${D:-e}'}} # ${COMMENT}\n", ".devcontainer/compose.yaml:3:40: note: ${LEVEL} has no value and no default"},
		{"many names for much", bomb(), ""},
	} {
		def, fs := composed(t, "", composeFile, c.text)
		said := fmt.Sprint(fs)
		if !strings.Contains(said, c.says) || len(fs) == 0 {
			t.Errorf("%s is told as %s", c.what, said)
		}
		if strings.Contains(said, "yardbench-tree") {
			t.Errorf("%s is told by a path of ours: %s", c.what, said)
		}
		if def.Compose != nil {
			for _, s := range def.Compose.Services {
				for _, m := range s.Mounts {
					if strings.Contains(m.Source, "yardbench") {
						t.Errorf("%s mounts %+v", c.what, m)
					}
				}
			}
		}
	}
	def, _ := composed(t, "", composeFile, one("volumes: ['/etc:/etc2', '~/x:/y']"))
	if m := def.Compose.Services[0].Mounts; len(m) != 1 || m[0].Kind != MountHost || m[0].Source != "/etc" {
		t.Errorf("paths of the host are %+v", m)
	}
}

// bomb is a file whose aliases would unfold to more than any machine holds.
func bomb() string {
	var b strings.Builder
	b.WriteString("a0: &a0 [x, x, x, x, x, x, x, x, x]\n")
	for i := range 12 {
		fmt.Fprintf(&b, "a%d: &a%d [*a%d, *a%d, *a%d, *a%d, *a%d, *a%d, *a%d, *a%d]\n", i+1, i+1, i, i, i, i, i, i, i, i)
	}
	return b.String() + "services: {app: {image: a, labels: *a12}}"
}

func TestComposeIsBounded(t *testing.T) {
	began := time.Now()
	var many strings.Builder
	many.WriteString("services:\n  app: {image: a}\n")
	for i := range 2000 {
		fmt.Fprintf(&many, "  s%d: {image: 'b:1'}\n", i)
	}
	for _, text := range []string{bomb(), many.String(), strings.Repeat("[", 100_000), strings.Repeat("a: {", 20_000)} {
		if _, fs := composed(t, "", composeFile, text); len(fs) == 0 || len(fs) > MaxFindings {
			t.Errorf("%.30q is told in %d findings", text, len(fs))
		}
	}
	if took := time.Since(began); took > 20*time.Second {
		t.Errorf("it took %s", took)
	}
}

func FuzzCompose(f *testing.F) {
	f.Add("services: {app: {image: 'a:1', volumes: ['..:/w', 'x:/y', '/etc:/z']}, db: {build: ., env_file: [.env], healthcheck: {test: 'x'}}}", "A=1")
	f.Add("services: {app: {image: a, extends: {service: db}}, db: {image: b, profiles: [x], ports: ['1-3:4-6/udp'], networks: {n: {aliases: [a]}}}}\nnetworks: {n: }", "")
	f.Add("services: &s {app: {<<: *s}}", "")
	f.Add("services:\n  app: !reset null\n---\nservices: {app: {image: '${X:?no}'}}", "X='")
	for _, b := range small() {
		f.Add(b.compose, b.env)
	}
	seeded(f, func(src Source, def Definition) {
		if def.Compose != nil {
			text, _ := src.Read(def.Compose.Files[0])
			env, _ := src.Read(".env")
			f.Add(string(text), string(env))
		}
	})
	f.Fuzz(func(t *testing.T, text, env string) {
		var def Definition
		var fs []Finding
		bound.Hold(t, 256, func() {
			def, fs = Resolve(source(`{"dockerComposeFile": "compose.yaml", "service": "app", "workspaceFolder": "/w"}`, composeFile, text, ".devcontainer/.env", env))
		})
		if _, bad := Fatal(fs); bad || def.Compose == nil {
			return
		}
		for _, s := range def.Compose.Services {
			for _, m := range s.Mounts {
				if m.Kind == MountTree && (strings.HasPrefix(m.Source, "/") || strings.HasPrefix(m.Source, "..")) || !strings.HasPrefix(m.Target, "/") {
					t.Errorf("%+v leads out of the tree", m)
				}
			}
			if s.Build != nil && (strings.HasPrefix(s.Build.Context, "..") || strings.HasPrefix(s.Build.Dockerfile, "..") || strings.HasPrefix(s.Build.Dockerfile, "/")) {
				t.Errorf("%+v leads out of the tree", s.Build)
			}
		}
	})
}
