package definition

import (
	"fmt"
	"strings"
	"testing"
)

// The rarer properties of a service: what each comes to, and just where a value
// is no longer taken.
func TestComposeDetails(t *testing.T) {
	def, fs := composed(t, "", composeFile, `
services:
  app:
    image: 'a:1'
    network_mode: 'service:db'
    volumes: ['~/x:/y', '../../z:/z']
  db:
    image: 'b:1'
    container_name: levels
    links: ['log:lines', 'log']
    networks: {}
    init: true
    restart: "no"
    dns: [10.0.0.1]
    sysctls: {net.core.somaxconn: 1024}
    group_add: [staff]
    extra_hosts: ['quay:10.0.0.2']
    cap_drop: [CHOWN]
    devices: ['/dev/fuse', '/dev/net/tun:/dev/net/tun:r']
    ulimits: {nofile: 1048576, nproc: 5}
    ports: ['80', '80', '53:53/udp', '65535']
    expose: ['7000-7002', '0', '65535', '65536', '9/udp', '8/tcp']
    healthcheck: {test: ['CMD', 'x'], start_interval: 3s, retries: 2000}
    volumes: ['/var/lib/anonymous', {type: volume, source: box, target: /box, volume: {subpath: a}}, {type: bind, source: ../here, target: /here, bind: {propagation: shared}}, {type: npipe, source: x, target: /pipe}]
    tmpfs: ['/run/tmp:size=1m', '/dev/shm']
    deploy: {replicas: 1, resources: {limits: {memory: 64m, cpus: '0.25'}}}
  log:
    image: 'c:1'
    platform: linux
    ulimits: {nofile: {soft: 1048577, hard: 1048577}}
    healthcheck: {disable: true}
    deploy: {replicas: 2, resources: {reservations: {generic_resources: [{discrete_resource_spec: {kind: lamp, value: 1}}]}}}
    mem_limit: 32m
    cpus: 0.125
  far: {image: 'd:1', platform: linux/arm64, network_mode: 'service:log', init: false}
  near: {image: 'd:1', platform: linux/amd64, network_mode: none}
volumes: {box: {driver: local}, other: {driver: ferry}, out: {external: true}}
networks: {sound: {external: true}}
`)
	if f, bad := Fatal(fs); bad {
		t.Fatal(f)
	}
	by := map[string]Service{}
	for _, s := range def.Compose.Services {
		by[s.Name] = s
	}
	for _, c := range []struct {
		what string
		got  any
		want string
	}{
		{"whom the workspace joins", def.Compose.Aliases, `["app","db","levels"]`},
		{"db", by["db"], `{"name":"db","image":"b:1","mounts":[{"kind":"volume","source":"db-var-lib-anonymous","target":"/var/lib/anonymous"},{"kind":"volume","source":"box","target":"/box"},{"kind":"tree","source":"here","target":"/here"},{"kind":"tmpfs","target":"/run/tmp"},{"kind":"tmpfs","target":"/dev/shm"}],
			"extra":{"init":true,"dropped":["CHOWN"],"devices":["/dev/fuse:/dev/fuse:rwm","/dev/net/tun:/dev/net/tun:r"],"hosts":["quay:10.0.0.2"],"dns":["10.0.0.1"],"sysctls":{"net.core.somaxconn":"1024"},"groups":["staff"],"nofile":1048576,"options":["dns","group-add","sysctl"]},"needs":[{"service":"log","condition":"service_started"}],
			"health":{"test":["CMD","x"],"start_interval":3000000000,"retries":1000},"aliases":["levels"],"ports":[80,65535,7000,7001,7002,8],"published":[80,65535],"shares_network":true,"cores_milli":250,"memory_bytes":67108864}`},
		{"log", by["log"], `{"name":"log","image":"c:1","health":{"test":["NONE"]},"aliases":["lines"],"cores_milli":125,"memory_bytes":33554432}`},
		{"far", by["far"], `{"name":"far","image":"d:1","needs":[{"service":"log","condition":"service_started"}]}`},
	} {
		sameJSON(t, c.what, c.got, c.want)
	}
	said := fmt.Sprint(fs)
	for _, want := range []string{"the limit nproc of service \"db\"", "the limit nofile of service \"log\"", "platform: linux/arm64 of service \"far\"", "network_mode: service:log of service \"far\"", "network_mode: none of service \"near\"",
		"origin of the volume \"other\"", "origin of the volume \"out\"", "the network \"sound\" exists outside", "replicas in deploy of service \"log\"", "the device in deploy of service \"log\"",
		"the subpath of a volume in service \"db\"", "the propagation of a mount in service \"db\"", "a volume of the type npipe of service \"db\"", "~/x in service \"app\" lies in somebody's home", "leads out of the repository"} {
		if n := strings.Count(said, want); n != 1 {
			t.Errorf("%q is told %d times in %s", want, n, said)
		}
	}
	for _, not := range []string{"platform: linux of", "linux/amd64 of", "volume \"box\" are", "replicas in deploy of service \"db\"", "limit nofile of service \"db\""} {
		if strings.Contains(said, not) {
			t.Errorf("%q is told", not)
		}
	}
	if n := len(exposed("1-1000")); n != maxPublished {
		t.Errorf("of 1,000 ports %d count", n)
	}
	if got := exposed("1-70000"); got != nil {
		t.Errorf("ports beyond the last are %d", len(got))
	}
}

// Where nobody says in which service people work it is the one that is about
// the repository, if that is one.
func TestWhereToWork(t *testing.T) {
	for _, c := range []struct{ what, services, want string }{
		{"the only one", "{a: {image: 'x:1'}}", "a"},
		{"the one that has the repository", "{a: {image: 'x:1'}, b: {image: 'x:1', volumes: ['.:/w']}}", "b"},
		{"the one that has the folder of it", "{a: {build: .}, b: {image: 'x:1', volumes: ['..:/w']}}", "b"},
		{"the one that is built", "{a: {image: 'x:1'}, b: {build: .}}", "b"},
		{"mounted counts more than built", "{a: {build: .}, b: {image: 'x:1', volumes: ['.:/w']}, c: {build: .}}", "b"},
		{"both counts most", "{a: {image: 'x:1', volumes: ['.:/w']}, b: {build: ., volumes: ['.:/w']}}", "b"},
		{"two alike", "{a: {build: .}, b: {build: .}}", ""},
		{"none of them", "{a: {image: 'x:1'}, b: {image: 'x:1'}}", ""},
	} {
		def, fs := Resolve(source("", "compose.yaml", "services: "+c.services, "Dockerfile", "FROM a:1\n"))
		got := ""
		if def.Compose != nil {
			got = def.Compose.Work
		}
		if got != c.want {
			t.Errorf("%s: people work in %q, not %q: %v", c.what, got, c.want, fs)
		}
	}
}

func TestProgramsOfCommands(t *testing.T) {
	for shell, want := range map[string]string{
		"sudo":                                 "sudo",
		"sudo make":                            "sudo make",
		"A=1 B=2 sudo C=3 go build":            "sudo",
		"cd x && make; echo y | tee z || exit": "make tee",
		"'make it' ./run":                      "Q",
		"./run.sh\n$X go":                      "",
	} {
		if got := strings.Join(programsOf(Command{Shell: shell}), " "); got != want {
			t.Errorf("%q needs %q, not %q", shell, got, want)
		}
	}
	for _, c := range []struct {
		args []string
		want string
	}{{[]string{"make", "x"}, "make"}, {[]string{"./make"}, ""}, {[]string{"cd"}, ""}} {
		if got := strings.Join(programsOf(Command{Args: c.args}), " "); got != c.want {
			t.Errorf("%q needs %q", c.args, got)
		}
	}
	many := Definition{}
	for i := range maxPrograms + 1 {
		many.SetUp = append(many.SetUp, SetUp{Commands: []Command{{Shell: fmt.Sprintf("p%03d", i)}}})
	}
	if got := Programs(many); len(got) != maxPrograms {
		t.Errorf("looked for are %d programs", len(got))
	}
}

// Each bound on what a text unfolds to, at its last allowed value and beyond.
func TestBoundsOfUnfolding(t *testing.T) {
	for _, c := range []struct {
		what, text string
		fine       bool
	}{
		{"as many dollar signs as are allowed", strings.Repeat("$", maxDollars), true},
		{"one more", strings.Repeat("$", maxDollars+1), false},
		{"as deep as is allowed", strings.Repeat("${A:-", maxNested) + "x", true},
		{"one deeper", strings.Repeat("${A:-", maxNested+1) + "x", false},
		{"deep, and closed between", strings.Repeat("${A:-${B:-x}}", maxNested), true},
		{"a closing bracket of nothing", strings.Repeat("}", 3) + strings.Repeat("${A:-", maxNested), true},
		{"over two lines", strings.Repeat("${A:-", maxNested) + strings.Repeat("\n", maxNested) + "${A:-", true},
		{"a dollar sign at the end", "a$", true},
	} {
		if why := tooVariable([]byte(c.text)); (why == "") != c.fine {
			t.Errorf("%s: %q", c.what, why)
		}
	}
	var a allowance
	for range MaxUnfolded / (referenceCost + 1) {
		if !a.take("x") {
			t.Fatalf("%d bytes are too much", a.used)
		}
	}
	if a.used = MaxUnfolded - referenceCost; !a.take("") || a.take("") {
		t.Errorf("the bound is not at %d", MaxUnfolded)
	}
	for text, want := range map[string]string{
		"A=1\nB=2":              "A=1\n",
		"A=\"1\n2\"\nB=2":       "A=\"1\n2\"\n",
		"A=\"1\\\"\n2\"":        "A=\"1\\\"\n2\"",
		"A='1\n":                "A='1\n",
		"# A='1\nB=2":           "# A='1\n",
		"A: '1\n2' # more\nB=2": "A: '1\n2' # more\n",
		"A=x: '\nB=2":           "A=x: '\n",
		"\nB=2":                 "\n",
		"A=  '1' \nB='\n'":      "A=  '1' \n",
	} {
		if got, rest := firstStatement(text); got != want || got+rest != text {
			t.Errorf("the first statement of %q is %q", text, got)
		}
	}
}
