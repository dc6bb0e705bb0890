package definition

import (
	"fmt"
	"strings"
	"testing"

	"yardbench/internal/core/rules"
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

// What build files name at their edges: stages by number, the first and the
// last, and those that there are not.
func TestStagesByNumber(t *testing.T) {
	check := func(target, file string) string {
		_, fs := Check(source(`{"build": {"dockerfile": "Dockerfile"`+target+`}, "remoteUser": "crew"}`, ".devcontainer/Dockerfile", file))
		return fmt.Sprint(fs)
	}
	const two = "FROM a AS first\nFROM b:1 AS second\nCOPY --from=0 /x /x\n"
	for _, c := range []struct{ what, target, file, says, not string }{
		{"the first, copied from by its number", "", two, "image \"a\"", "no stage"},
		{"the first by its number", `, "target": "0"`, two, "image \"a\"", "no stage"},
		{"the last by its number", `, "target": "1"`, two, "", "no stage"},
		{"one behind the last", `, "target": "2"`, two, "has no stage \"2\"; name one of: first, second", ""},
		{"one that is not, where some have no name", `, "target": "x"`, "FROM a:1\nFROM a:1 AS named\n", "name one of: named", ", named"},
		{"one that copies from itself", "", "FROM a:1\nFROM b:1\nCOPY --from=1 /x /x\n", "", "\"a:1\""},
	} {
		if said := check(c.target, c.file); !strings.Contains(said, c.says) || c.not != "" && strings.Contains(said, c.not) {
			t.Errorf("%s is told as %s", c.what, said)
		}
	}
}

// Shapes of secrets, at the last length that counts and one less.
func TestShapesOfSecrets(t *testing.T) {
	for value, want := range map[string]bool{"abc12": false, "abc123": true, "abcdefghijklmnop": true, "abcdefghijklmno": false, "aaaaaaaaaaaaaaaaaaaa": false, "123456": false} {
		if couldOpen(value) != want {
			t.Errorf("%q could open something: %v", value, !want)
		}
	}
	const key = "Zx81Qw72Er63Ty54Ui45Op3k" // 24 letters
	if looksSecret("LEVEL", key) == "" || looksSecret("LEVEL", key[1:]) != "" {
		t.Errorf("a key of 24 letters is %q, one of 23 %q", looksSecret("LEVEL", key), looksSecret("LEVEL", key[1:]))
	}
	for text, want := range map[string]float64{"": 0, "aaaa": 0, "ab": 1, "abcd": 2, "aabbccdd": 2} {
		if got := entropy(text); got != want {
			t.Errorf("%q has %v bits a letter, not %v", text, got, want)
		}
	}
}

// Where a folder above the repository is mounted the clone lies beneath it.
func TestMountedFromAbove(t *testing.T) {
	for _, c := range []struct{ mount, folder, want, tree string }{
		{"../..:/code", "", "/code/tide-board", "/code/tide-board"},
		{"../..:/code", "/code/tide-board/web", "/code/tide-board/web", "/code/tide-board"},
		{"../..:/code", "/code/other/sub", "/code/other/sub", "/code/other"},
		{"../..:/code", "/elsewhere", "/elsewhere", "/elsewhere"},
		{"..:/code", "/code/sub", "/code/sub", "/code"},
		{"../../..:/code", "/code", "/code", "/code"},
	} {
		folder := ""
		if c.folder != "" {
			folder = `, "workspaceFolder": "` + c.folder + `"`
		}
		def, fs := Resolve(source(`{"dockerComposeFile": "compose.yaml", "service": "app"`+folder+`}`, composeFile, "services: {app: {image: 'a:1', volumes: ['"+c.mount+"']}}"))
		if def.Folder != c.want || def.TreeFolder() != c.tree {
			t.Errorf("%s with %q: people begin in %s, and the clone is at %s: %v", c.mount, c.folder, def.Folder, def.TreeFolder(), fs)
		}
	}
}

func TestPortsIn(t *testing.T) {
	for text, want := range map[string]int{"80": 1, "8000-8009": 10, "8000-8009:9000-9009": 10, "127.0.0.1:30-39:30-39/udp": 10, "x": 1, "": 1, "9-1": 1, "1-2-3": 1, "10-20:1-3": 11} {
		if got := portsIn(text); got != want {
			t.Errorf("%q are %d ports, not %d", text, got, want)
		}
	}
}

// Variables without a value are told each, and not those in comments.
func TestUnsetVariables(t *testing.T) {
	_, fs := composed(t, "", composeFile, "# ${COMMENT}\nservices:\n  app: {image: 'a:1', scale: 1, environment: {A: '${ONE}', B: '${TWO}'}}\n  db: {image: 'b:1', scale: 2} # ${MORE}\n")
	said := fmt.Sprint(fs)
	for _, want := range []string{"${ONE} has no value", "${TWO} has no value", "scale of service \"db\" is not honoured"} {
		if strings.Count(said, want) != 1 {
			t.Errorf("%q is not told once in %s", want, said)
		}
	}
	for _, not := range []string{"COMMENT", "MORE", "scale of service \"app\""} {
		if strings.Contains(said, not) {
			t.Errorf("%s is told", not)
		}
	}
}

// A launch without ports, without a command of its own, and ready at once is
// explained without them.
func TestExplainedWithout(t *testing.T) {
	def, _ := Resolve(source(`{"image": "a:1", "remoteUser": "crew"}`))
	if got := fmt.Sprint(Explain(def)); strings.Contains(got, "of its ports") || strings.Count(got, "the workspace is ready") != 1 {
		t.Errorf("it is explained as %s", got)
	}
	def, _ = composed(t, `, "overrideCommand": false, "waitFor": "postCreateCommand"`, composeFile, "services: {app: {image: 'a:1'}}")
	if got := fmt.Sprint(Explain(def)); !strings.Contains(got, "run the image's own command") || strings.Count(got, "the workspace is ready") != 1 {
		t.Errorf("it is explained as %s", got)
	}
}

// Lists are full at their bounds: values of securityOpt, features, the letters of
// an option.
func TestListsAreFull(t *testing.T) {
	var caps []string
	for i := range 101 {
		caps = append(caps, fmt.Sprintf(`"label=a%d"`, i))
	}
	def, _ := Resolve(source(`{"image": "a:1", "securityOpt": [` + strings.Join(caps, ",") + `]}`))
	if n := len(def.Extra.Security); n != 100 {
		t.Errorf("%d options are kept", n)
	}
	manifest := `{"id": "lamp", "version": "1", "options": {"text": {"type": "string"}}}`
	for _, n := range []int{4096, 4097} {
		_, fs := Resolve(source(`{"image": "a:1", "features": {"./lamp": {"text": "`+strings.Repeat("x", n)+`"}}}`, ".devcontainer/lamp/devcontainer-feature.json", manifest, ".devcontainer/lamp/install.sh", ""))
		if _, bad := Fatal(fs); bad != (n > 4096) {
			t.Errorf("an option of %d letters: %v", n, fs)
		}
	}
	for _, n := range []int{MaxFeatures, MaxFeatures + 1} {
		files, names := []string{}, []string{}
		for i := range n {
			files = append(files, fmt.Sprintf(".devcontainer/f%d/devcontainer-feature.json", i), fmt.Sprintf(`{"id": "f%d", "version": "1"}`, i), fmt.Sprintf(".devcontainer/f%d/install.sh", i), "")
			names = append(names, fmt.Sprintf(`"./f%d": {}`, i))
		}
		def, fs := Resolve(source(`{"image": "a:1", "features": {`+strings.Join(names, ",")+`}}`, files...))
		if _, bad := Fatal(fs); bad != (n > MaxFeatures) {
			t.Errorf("of %d features %d are taken: %v", n, len(def.Features), fs)
		}
	}
}

// What is told, and by what it is done, where one of several conditions holds.
func TestOneOfSeveral(t *testing.T) {
	_, fs := Check(source("", "compose.yaml", "services: {app: {image: a, volumes: ['.:/app']}}"))
	if !strings.Contains(fmt.Sprint(fs), "image \"a\"") {
		t.Errorf("an image without a version of a compose file alone is told as %v", fs)
	}
	def, _ := composed(t, "", composeFile, "services: {app: {image: 'a:1'}}")
	if def.Origins["image"] == "" || def.Origins["build"] != "" {
		t.Errorf("an image is from %q, a build from %q", def.Origins["image"], def.Origins["build"])
	}
	for _, c := range []struct{ more, compose, want string }{
		{"", "user: keeper, ", composeFile}, {`, "containerUser": "mate"`, "user: keeper, ", Places[0]}, {"", "", ""},
	} {
		def, _ := composed(t, c.more, composeFile, "services: {app: {"+c.compose+"image: 'a:1'}}")
		if from := def.Origins["container_user"]; !strings.HasPrefix(from, c.want) || from != "" && c.want == "" {
			t.Errorf("with %s%s the container's user is from %q", c.more, c.compose, from)
		}
	}
	if _, fs := Check(source(`{"image": "", "remoteUser": "crew"}`)); !strings.Contains(fmt.Sprint(fs), "image names none") {
		t.Errorf("an image without a name is told as %v", fs)
	}
	src := source("")
	src.Name = "night"
	if _, fs := Check(src); !strings.Contains(fmt.Sprint(fs), "there are no others") {
		t.Errorf("a name where there is none is told as %v", fs)
	}
	src = source("", "go.mod", "module x\n")
	src.House = &rules.Rules{}
	if def, _ := Resolve(src); !strings.HasPrefix(def.Image, "golang:") {
		t.Errorf("where the house says nothing of images it is %q", def.Image)
	}
	if got := strings.Join(programsOf(Command{Shell: "make; "}), " "); got != "make" {
		t.Errorf("a command that ends in a separator needs %q", got)
	}
}

// Two images without a version in one file are pinned in one patch.
func TestPinsOfOneFile(t *testing.T) {
	src := source(`{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`, ".devcontainer/Dockerfile", "FROM a AS one\nFROM b\nCOPY --from=one /x /x\n")
	def, findings := Check(src)
	fixes := Fixes(src, def, findings, map[string]string{"a": "sha256:1", "b": "sha256:2"})
	if len(fixes) != 1 || !strings.Contains(string(fixes[0].New), "FROM a@sha256:1 AS one\nFROM b@sha256:2\n") {
		t.Errorf("they are pinned as %+v", fixes)
	}
}

// A proposal says why of ports only where there are some, and a build file's last
// stage is taken where none is for people.
func TestProposedPorts(t *testing.T) {
	for _, c := range []struct {
		what  string
		files []string
		why   string
	}{
		{"a build file with ports", []string{"Dockerfile", "FROM a:1\nFROM b:1\nEXPOSE 3000\nUSER crew\n"}, "Dockerfile exposes them"},
		{"a build file without", []string{"Dockerfile", "FROM a:1\nEXPOSE 3000\nFROM b:1\nUSER crew\n"}, ""},
		{"a compose file with ports", []string{"compose.yaml", "services: {web: {image: 'a:1', volumes: ['.:/app'], ports: ['80']}}"}, "compose.yaml publishes them"},
		{"a compose file without", []string{"compose.yaml", "services: {web: {image: 'a:1', volumes: ['.:/app']}}"}, ""},
	} {
		text := string(ProposalText(Propose(source("", c.files...))))
		if said := strings.Contains(text, "exposes them") || strings.Contains(text, "publishes them"); said != (c.why != "") || !strings.Contains(text, c.why) || strings.Contains(text, "forwardPorts") != said {
			t.Errorf("%s: it is proposed as\n%s", c.what, text)
		}
	}
}

// Features that nobody puts in an order come after those that somebody does.
func TestOrderThatIsAskedFor(t *testing.T) {
	files, names := []string{}, []string{}
	for _, id := range []string{"a", "b", "c", "d"} {
		files = append(files, ".devcontainer/"+id+"/devcontainer-feature.json", `{"id": "`+id+`", "version": "1"}`, ".devcontainer/"+id+"/install.sh", "")
		names = append(names, `"./`+id+`": {}`)
	}
	def, fs := Resolve(source(`{"image": "x:1", "features": {`+strings.Join(names, ",")+`}, "overrideFeatureInstallOrder": ["./c", "./b"]}`, files...))
	got := ""
	for _, f := range def.Features {
		got += f.ID
	}
	if got != "cbad" {
		t.Errorf("they come as %s: %v", got, fs)
	}
}

// A feature that is fetched by a mirror's name is fetched by it again; what its
// manifest says that cannot be is the definition's mistake.
func TestWhereFeaturesAreFrom(t *testing.T) {
	src := source(`{"image": "a:1", "features": {"r.example/f/a:1": {}, "other.example/f/b:1": {}, "./lamp": {}}}`, ".devcontainer/lamp/devcontainer-feature.json", `{"id": "lamp", "version": "1"}`, ".devcontainer/lamp/install.sh", "")
	src.House = &rules.Rules{Images: rules.Images{FeaturesFrom: []string{"mirror.example", "other.example", "r.example"}, Mirrors: map[string]string{"r.example": "mirror.example/r"}}}
	src.Feature = yardOfFeatures(map[string]string{"mirror.example/r/f/a:1": `{"id": "a", "version": "1"}`, "other.example/f/b:1": `{"id": "b", "version": "1"}`})
	def, fs := Resolve(src)
	if f, bad := Fatal(fs); bad || len(def.Features) != 3 {
		t.Fatalf("of three features %d are taken: %v", len(def.Features), f)
	}
	for _, f := range def.Features {
		want := map[string]string{"a": "mirror.example/r/f/a:1"}[f.ID]
		if f.From != want {
			t.Errorf("%s is from %q, not from %q", f.ID, f.From, want)
		}
	}
	_, fs = Resolve(source(`{"image": "a:1", "features": {"./lamp": {}}}`, ".devcontainer/lamp/devcontainer-feature.json", `{"id": "lamp", "version": "1", "mounts": [{"type": "volume", "source": "x", "target": "/proc"}], "capAdd": "x"}`, ".devcontainer/lamp/install.sh", ""))
	if _, bad := Fatal(fs); !bad {
		t.Errorf("a feature that mounts over the system is told as %v", fs)
	}
}

// What a reader says of a service stands where the service does.
func TestWordsOfReadersHaveAPlace(t *testing.T) {
	_, fs := composed(t, "", composeFile, "services:\n  app: {image: 'a:1'}\n  db:\n    image: b:1\n    cpus: 0.5\n    deploy: {resources: {limits: {cpus: '0.25'}}}\n")
	if f, bad := Fatal(fs); !bad || f.Line != 3 {
		t.Errorf("it is told as %+v", f)
	}
}

func TestSameImage(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{"skerryline/base", "docker.io/skerryline/base:latest", true}, {"base", "docker.io/library/base:latest", true}, {"skerryline/base:1", "docker.io/skerryline/base:1", true},
		{"a@sha256:" + strings.Repeat("ab", 32), "docker.io/library/a@sha256:" + strings.Repeat("ab", 32), true}, {"mirror.example:5000/a", "mirror.example:5000/a:latest", true},
		{"skerryline/base:1", "skerryline/base:2", false}, {"skerryline/base", "other/base", false}, {"Not An Image", "Not An Image", true}, {"Not An Image", "another", false},
	} {
		if SameImage(c.a, c.b) != c.same {
			t.Errorf("%s and %s are one: %v", c.a, c.b, !c.same)
		}
	}
}

// The rarest of a service: which ports count, what a reservation says, what its
// build is cached by, and what a file that is not there is told as.
func TestServicesToTheLast(t *testing.T) {
	if n := len(exposed("1-5000")); n != maxPublished {
		t.Errorf("of 5,000 ports %d count", n)
	}
	def, fs := composed(t, "", composeFile, `
services:
  app:
    image: 'a:1'
    expose: ['1-999', '2000', '2001', '2002']
    ports: [{target: 0, published: '80'}]
    deploy: {resources: {reservations: {cpus: '0.5'}}}
    secrets: [{source: gone, target: gone}, {source: away, target: away}]
    configs: [{source: said, target: said}]
  made: {build: {context: .., dockerfile: .devcontainer/Dockerfile, cache_from: ['b:1']}}
secrets: {gone: {file: ./gone}, away: {environment: AWAY}}
configs: {said: {content: it}}
`, ".devcontainer/Dockerfile", "FROM a:1\n")
	if f, bad := Fatal(fs); bad {
		t.Fatal(f)
	}
	for _, s := range def.Compose.Services {
		switch s.Name {
		case "app":
			if n := len(s.Ports); n != maxPublished || s.Ports[n-1] != 2000 || len(s.Published) != 0 {
				t.Errorf("it listens on %d ports, the last %d, and publishes %v", n, s.Ports[n-1], s.Published)
			}
		case "made":
			sameJSON(t, "what the build is cached by", s.Build.CacheFrom, `["b:1"]`)
		}
	}
	said := fmt.Sprint(fs)
	for what, want := range map[string]int{`"gone" in secrets of service "app" is no file of the repository`: 1, `"said" in configs of service "app" stands in the compose file`: 1, `"away" in secrets of service "app" comes from outside`: 1, "the device in deploy": 0} {
		if n := strings.Count(said, what); n != want {
			t.Errorf("%q is told %d times in %s", what, n, said)
		}
	}
	// A build file that is not there has no cache to be given.
	if _, fs := composed(t, "", composeFile, "services:\n  app: {image: 'a:1'}\n  made: {build: {context: .., dockerfile: none, cache_from: ['b:1']}}\n"); !strings.Contains(fmt.Sprint(fs), "none") {
		t.Errorf("a build file that is not there: %v", fs)
	}
}
