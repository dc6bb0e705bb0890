package definition

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"yardbench/internal/bound"
	"yardbench/internal/core/rules"
)

// Each rule finds what it is for, at its place, and lets the right form pass.
func TestCheck(t *testing.T) {
	const df = ".devcontainer/Dockerfile"
	ok := `"image": "skerryline/base:1", "remoteUser": "crew"`
	built := `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew", "forwardPorts": [8000]}`
	cases := []struct {
		rule, bad, good string
		place, says     string
		badFile, good2  string // the build file, where it is what is looked at
	}{
		{rule: "unknown-property", bad: `{` + ok + `, "imgae": "x"}`, good: `{` + ok + `, "name": "x"}`, place: "json:1:54", says: "imgae is no property"},
		{rule: "wrong-case", bad: `{` + ok + `, "remoteenv": {}}`, good: `{` + ok + `, "remoteEnv": {}}`, place: "json:1:54", says: "remoteEnv is"},
		{rule: "not-honoured", bad: `{` + ok + `, "runArgs": ["--name=x"]}`, good: `{` + ok + `, "runArgs": ["--init"]}`, place: "json:1:66", says: "--name in runArgs is passed over"},
		{rule: "not-honoured", bad: `{` + ok + `, "hostRequirements": {"gpu": true}}`, good: `{` + ok + `, "hostRequirements": {"gpu": "optional"}}`, place: "json:1:54", says: "GPU"},
		{rule: "not-honoured", bad: `{"build": {"dockerfile": "Dockerfile", "options": ["--ssh"]}, "remoteUser": "crew"}`, good: built, place: "json:1:40", says: "--ssh"},
		{rule: "closed", bad: `{` + ok + `, "privileged": true}`, good: `{` + ok + `, "init": true}`, place: "json:1:54", says: "privileged is closed"},
		{rule: "closed", bad: `{` + ok + `, "capAdd": ["SYS_ADMIN"]}`, good: `{` + ok + `, "capAdd": ["SYS_PTRACE"]}`, place: "json:1:54", says: "SYS_ADMIN is closed"},
		{rule: "closed", bad: `{` + ok + `, "securityOpt": ["apparmor=unconfined"]}`, good: `{` + ok + `, "securityOpt": ["seccomp=unconfined", "no-new-privileges"]}`, place: "json:1:54", says: "apparmor=unconfined is closed"},
		{rule: "closed", bad: `{` + ok + `, "runArgs": ["--network=host"]}`, good: `{` + ok + `, "runArgs": ["--cap-drop=MKNOD"]}`, place: "json:1:66", says: "network is closed"},
		{rule: "closed", bad: `{` + ok + `, "runArgs": ["--device=/dev/kvm"]}`, good: `{` + ok + `, "runArgs": ["--device=/dev/fuse"]}`, place: "json:1:66", says: "/dev/kvm is closed"},
		{rule: "closed", bad: `{` + ok + `, "runArgs": ["--dns=10.0.0.1"]}`, good: `{` + ok + `, "runArgs": ["--hostname=quay"]}`, place: "json:1:66", says: "option dns is closed"},
		{rule: "closed", bad: `{` + ok + `, "mounts": ["type=bind,source=/srv/chartsandmore,target=/x"]}`, good: `{` + ok + `, "mounts": ["type=bind,source=/srv/charts,target=/x"]}`, place: "json:1:65", says: "/srv/chartsandmore is closed"},
		{rule: "closed", bad: `{` + ok + `, "mounts": ["type=bind,source=/srv/charts/deep,target=/x"]}`, good: `{` + ok + `, "mounts": ["type=bind,source=/srv/charts,target=/x"]}`, place: "json:1:65", says: "/srv/charts/deep is closed"},
		{rule: "closed", bad: `{"image": "elsewhere.example/base:1", "remoteUser": "crew"}`, good: `{` + ok + `}`, place: "json:1:2", says: "do not allow"},
		{rule: "closed", bad: built, good: built, badFile: "ARG B=elsewhere.example/x:1\nFROM ${B} AS a\nFROM a", good2: "ARG B=skerryline/x:1\nFROM ${B} AS a\nFROM a\nFROM scratch", place: "file:2:1", says: "elsewhere.example/x:1"},
		{rule: "no-definition", bad: "", good: `{` + ok + `}`, place: "json", says: "there is no definition: the image is skerryline/go:1, as it holds go.mod"},
		{rule: "feature", bad: `{` + ok + `, "features": {"./none": {}}}`, good: `{` + ok + `, "features": {"./lamp": {"colour": "red"}}}`, place: "json:1:67", says: "has no .devcontainer/none/devcontainer-feature.json"},
		{rule: "feature", bad: `{` + ok + `, "features": {"./lamp": {"colour": "blue"}}}`, good: `{` + ok + `, "features": {"./lamp": {}}}`, place: "json:1:67", says: "is one of green, red"},
		{rule: "feature", bad: `{` + ok + `, "features": {"elsewhere.example/a/b:1": {}}}`, good: `{` + ok + `}`, place: "json:1:67", says: "house rules do not let"},
		{rule: "feature-loop", bad: `{` + ok + `, "features": {"./hen": {}}}`, good: `{` + ok + `, "features": {"./lamp": {}}}`, place: "json:1:54", says: "wait for each other"},
		{rule: "compose-file", bad: `{"dockerComposeFile": "bad.yaml", "service": "app", "workspaceFolder": "/w", "remoteUser": "crew"}`, good: `{"dockerComposeFile": "compose.yaml", "service": "app", "workspaceFolder": "/w", "remoteUser": "crew"}`, place: "bad:1:11", says: "other.yaml\" is not in the repository"},
		{rule: "compose-folder", bad: `{"dockerComposeFile": "compose.yaml", "service": "app", "remoteUser": "crew"}`, good: `{"dockerComposeFile": "compose.yaml", "service": "app", "workspaceFolder": "/w", "remoteUser": "crew"}`, place: "json:1:2", says: "workspaceFolder is missing"},
		{rule: "port-not-declared", bad: `{"dockerComposeFile": "compose.yaml", "service": "app", "workspaceFolder": "/w", "remoteUser": "crew"}`, good: `{"dockerComposeFile": "compose.yaml", "service": "app", "workspaceFolder": "/w", "remoteUser": "crew", "forwardPorts": ["db:5432"]}`, place: "compose:3:22", says: "port 5432 of service \"db\" is published"},
		{rule: "duplicate-key", bad: `{` + ok + `, "containerEnv": {"A": "1", "A": "2"}}`, good: `{` + ok + `, "containerEnv": {"A": "1", "B": "2"}}`, place: "json:1:81", says: "containerEnv.A stands here a second time"},
		{rule: "image-unpinned", bad: `{"image": "skerryline:5000/base", "remoteUser": "crew"}`, good: `{"image": "skerryline:5000/base:1", "remoteUser": "crew"}`, place: "json:1:2", says: "names no version"},
		{rule: "image-unpinned", bad: `{"image": "base:latest", "remoteUser": "crew"}`, good: `{"image": "base@sha256:` + strings.Repeat("a", 64) + `", "remoteUser": "crew"}`, place: "json:1:2", says: "whatever is the latest"},
		{rule: "image-unpinned", bad: built, good: built, badFile: "FROM skerryline/base AS a\nFROM a", good2: "FROM skerryline/base:1 AS a\nFROM a\nFROM scratch\nARG V=1\nFROM x:$V", place: "file:1:1", says: "names no version"},
		{rule: "secret-in-file", bad: `{` + ok + `, "containerEnv": {"TIDE_TOKEN": "ebb-1234"}}`, good: `{` + ok + `, "containerEnv": {"TIDE_TOKEN": "${localEnv:T:}"}}`, place: "json:1:71", says: "named like a secret"},
		{rule: "secret-in-file", bad: `{` + ok + `, "remoteEnv": {"LEVELS": "q8Zr2Lx0Vn5Tj7Wb3Kc9Md1P"}}`, good: `{` + ok + `, "remoteEnv": {"LEVELS": "a quay with 24 bollards and a crane"}}`, place: "json:1:68", says: "looks like a key"},
		{rule: "secret-in-file", bad: `{"build": {"dockerfile": "Dockerfile", "args": {"DESK_PASSWORD": "ebb-1234"}}, "remoteUser": "crew"}`, good: built, place: "json:1:49", says: "in the build's arguments"},
		{rule: "secret-in-file", bad: built, good: built, badFile: "FROM a:1\nENV A=1 API_KEY='ebb-1234'", good2: "FROM a:1\nENV A=1 API_KEY=$GIVEN\nENV OLD form", place: "file:2:1", says: "API_KEY is named"},
		{rule: "secret-in-file", bad: built, good: built, badFile: "FROM a:1\nARG DB_PASSWORD=ebb-1234", good2: "FROM a:1\nARG DB_PASSWORD", place: "file:2:1", says: "DB_PASSWORD is named"},
		{rule: "root-user", bad: `{"image": "a:1", "remoteUser": "0"}`, good: `{` + ok + `}`, place: "json:1:18", says: "is root"},
		{rule: "root-user", bad: `{"build": {"dockerfile": "Dockerfile"}}`, good: `{"build": {"dockerfile": "Dockerfile"}}`, badFile: "FROM a:1\nUSER crew\nUSER root", good2: "FROM a:1\nUSER root\nRUN true\nUSER crew", place: "json", says: "is root"},
		{rule: "root-user", bad: `{"image": "a:1"}`, good: `{"image": "a:1", "containerUser": "crew"}`, place: "json", says: "unless the image says otherwise"},
		{rule: "port-not-declared", bad: built, good: built, badFile: "FROM a:1\nEXPOSE 8000 \\\n 9090", good2: "FROM a:1\nEXPOSE 8000/tcp 53/udp $PORT", place: "file:2:1", says: "port 9090"},
		{rule: "builder-frontend", bad: built, good: built, badFile: "# syntax=skerryline/frontend:2\nFROM a:1", good2: "# a comment about syntax\nFROM a:1", place: "file:1:1", says: "skerryline/frontend:2"},
		{rule: "build-file", bad: built, good: built, badFile: "# nothing", good2: "FROM a:1", place: "file", says: "cannot be read"},
		{rule: "slow-set-up", bad: `{` + ok + `, "onCreateCommand": "sudo apt-get update && sudo apt-get -y install make"}`, good: `{` + ok + `, "onCreateCommand": "make tables"}`, place: "json:1:54", says: "system packages"},
		{rule: "slow-set-up", bad: `{` + ok + `, "postStartCommand": ["npm", "ci"]}`, good: `{` + ok + `, "updateContentCommand": ["npm", "ci"]}`, place: "json:1:54", says: "project's packages"},
		{rule: "no-default", bad: `{` + ok + `, "containerEnv": {"A": "${localEnv:HOME}"}}`, good: `{` + ok + `, "containerEnv": {"A": "${localEnv:HOME:x}"}}`, place: "json:1:77", says: "has no default"},
		{rule: "refused", bad: `{}`, good: `{` + ok + `}`, place: "json", says: "neither image, build nor"},
	}
	house := rules.Rules{Allow: rules.Allow{Capabilities: []string{"SYS_PTRACE"}}, AllowIn: map[string]rules.Allow{"tide-board": {Security: []string{"seccomp=unconfined"}, Devices: []string{"/dev/fuse"}, RunOptions: []string{"shm-size"}, HostPaths: []string{"/srv/charts"}}},
		Images: rules.Images{From: []string{"docker.io", "skerryline:5000"}, Usual: []rules.Usual{{Holds: "go.mod", Image: "skerryline/go:1"}, {Image: "skerryline/base:1"}}}}
	more := []string{".devcontainer/lamp/devcontainer-feature.json", `{"id": "lamp", "options": {"colour": {"type": "string", "enum": ["green", "red"], "default": "red"}}}`, ".devcontainer/lamp/install.sh", "",
		".devcontainer/hen/devcontainer-feature.json", `{"id": "hen", "dependsOn": {"../egg": {}}}`, ".devcontainer/hen/install.sh", "",
		".devcontainer/egg/devcontainer-feature.json", `{"id": "egg", "dependsOn": {"../hen": {}}}`, ".devcontainer/egg/install.sh", "", "go.mod", "",
		".devcontainer/bad.yaml", "include: [other.yaml]\nservices: {app: {image: 'a:1'}}", ".devcontainer/compose.yaml", "services:\n  app: {image: 'a:1'}\n  db: {image: 'b:1', ports: ['5432']}\n"}
	try := func(text, file string) []Finding {
		src := source(text, append(slices.Clone(more), df, file)...)
		src.House = &house
		_, fs := Check(src)
		return fs
	}
	places := map[string]string{"json": Places[0], "file": df, "compose": composeFile, "bad": ".devcontainer/bad.yaml"}
	tried := map[string]bool{"env-file": true, "missing-program": true, "size-too-small": true} // these by tests of their own
	for n, c := range cases {
		t.Run(fmt.Sprintf("%d %s", n, c.rule), func(t *testing.T) {
			tried[c.rule] = true
			fs := try(c.bad, c.badFile)
			of, at, _ := strings.Cut(c.place, ":")
			where := strings.TrimSuffix(places[of]+":"+at, ":")
			found := false
			for _, f := range fs {
				found = found || f.Rule == c.rule && strings.HasPrefix(f.String(), where+": ") && strings.Contains(f.What, c.says) && f.Why != ""
			}
			if !found {
				t.Errorf("no finding at %s says %q; there are %v", where, c.says, fs)
			}
			if fs = try(c.good, c.good2); c.good2 == "" {
				fs = try(c.good, "FROM a:1")
			}
			for _, f := range fs {
				if f.Rule == c.rule {
					t.Errorf("the right form is found fault with: %s", f)
				}
			}
		})
	}
	doc, err := os.ReadFile("../../../docs/definitions.md")
	if err != nil {
		t.Fatal(err)
	}
	for rule := range Rules {
		if !strings.Contains(string(doc), "| `"+rule+"` |") {
			t.Errorf("docs/definitions.md does not tell of %s", rule)
		}
		if !tried[rule] {
			t.Errorf("no case tries %s", rule)
		}
	}
	src := source(`{`+ok+`}`, ".env", "A=1\nDESK_TOKEN=ebb-1234\n")
	if _, fs := Check(src); len(fs) != 1 || fs[0].Rule != "env-file" || fs[0].Line != 2 {
		t.Errorf("a committed .env is told as %v", fs)
	}
}

// What is told to be passed over is passed over, and of two the last counts.
func TestOnlyExactNamesCount(t *testing.T) {
	d, _ := Resolve(source(`{"image": "a:1", "remoteuser": "root", "containerEnv": {"A": "1", "B": "1"}, "containerEnv": {"A": "2"}}`))
	if d.User != "" || len(d.Env) != 1 || d.Env["A"] != "2" {
		t.Errorf("it resolves to user %q and %v", d.User, d.Env)
	}
}

// However much is wrong, little is said, soon, and an error is among it.
func TestCheckIsBounded(t *testing.T) {
	var b strings.Builder
	b.WriteString(`{"image": "a:1", "remoteUser": "a b"`)
	for i := 0; b.Len() < MaxBytes-100; i++ {
		fmt.Fprintf(&b, `, "imgae%d": 1`, i%1000)
	}
	began := time.Now()
	_, fs := Check(source(b.String() + "}"))
	if _, bad := Fatal(fs); !bad || len(fs) > MaxFindings {
		t.Errorf("%d findings, an error among them: %v", len(fs), bad)
	}
	if took := time.Since(began); took > 20*time.Second {
		t.Errorf("it took %v", took)
	}
}

// Nothing that a repository holds brings the check down, and every finding can
// be shown.
func FuzzCheck(f *testing.F) {
	f.Add(`{"image": "a", "containerEnv": {"A": "${localEnv:X}"}}`, "")
	f.Add(`{"build": {"dockerfile": "Dockerfile"}}`, "# syntax=x\nFROM a AS b\nFROM b\nENV A=1 B 2\nENV X y\nEXPOSE 1-5 $X\nUSER\nRUN <<E\nx\nE\n")
	f.Add(`{"build": {"dockerfile": "Dockerfile"}}`, "// syntax=x\n{\"syntax\": \"y\"}")
	f.Add(`{"build": {"dockerfile": "Dockerfile"}}`, "# escape=`\nFROM a `\n AS b\nONBUILD ENV A")
	f.Add(`{"a": {"a": 1, "a": {"b": [{}]}}, "A": null}`, "FROM")
	seeded(f, func(src Source, def Definition) {
		text, _ := src.Read(def.Path)
		file := []byte("FROM a")
		if def.Build != nil {
			file, _ = src.Read(def.Build.Dockerfile)
		}
		f.Add(string(text), string(file))
	})
	f.Fuzz(func(t *testing.T, text, file string) {
		var fs []Finding
		bound.Hold(t, 256, func() { _, fs = Check(source(text, ".devcontainer/Dockerfile", file)) })
		for _, f := range fs {
			if strings.ContainsFunc(f.What, func(r rune) bool { return r < ' ' || r == 0x7f }) || f.Rule == "" || Rules[f.Rule] == "" || f.Line < 0 {
				t.Errorf("%#v cannot be shown", f)
			}
		}
	})
}

// A definition and a build file as large as they come in a big project.
func BenchmarkCheck(b *testing.B) {
	var text, file strings.Builder
	text.WriteString(`{"build": {"dockerfile": "Dockerfile"}, "containerEnv": {`)
	file.WriteString("FROM skerryline/base:1 AS s0\n")
	for i := range 200 {
		fmt.Fprintf(&text, `"BERTH_%d": "${localEnv:BERTH:%d}", `, i, i)
		fmt.Fprintf(&file, "FROM s%d AS s%d\nENV BERTH_%d=%d\nRUN make berth-%d\nEXPOSE %d\n", i, i+1, i, i, i, 8000+i)
	}
	defer func() {
		if each := b.Elapsed() / time.Duration(b.N); each > 50*time.Millisecond {
			b.Errorf("a check took %v, more than the 50 ms promised", each)
		}
	}()
	src := source(text.String()+"}}", ".devcontainer/Dockerfile", file.String())
	for b.Loop() {
		if _, fs := Check(src); len(fs) < 200 {
			b.Fatalf("only %d findings", len(fs))
		}
	}
}

// docs/definitions.md tells of every property, and each test it names is there.
func TestEveryPropertyIsTold(t *testing.T) {
	text, err := os.ReadFile("../../../docs/definitions.md")
	if err != nil {
		t.Fatal(err)
	}
	rows := map[string]string{}
	for _, line := range strings.Split(string(text), "\n") {
		cells := strings.Split(line, "|")
		if len(cells) == 5 {
			for _, name := range regexp.MustCompile("`([A-Za-z$]+)`").FindAllStringSubmatch(cells[1], -1) {
				rows[name[1]] = cells[3]
			}
		}
	}
	var tests strings.Builder
	err = filepath.WalkDir("../../..", func(p string, d os.DirEntry, err error) error {
		if err == nil && d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && len(d.Name()) > 2) {
			return filepath.SkipDir
		}
		if strings.HasSuffix(p, "_test.go") {
			content, err := os.ReadFile(p)
			tests.Write(content)
			return err
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, all := range []map[string]bool{honoured, kept, {"initializeCommand": true}} {
		for name := range all {
			if rows[name] == "" {
				t.Errorf("docs/definitions.md does not say what is done with %s", name)
			}
			for _, test := range regexp.MustCompile(`Test\w+`).FindAllString(rows[name], -1) {
				if !strings.Contains(tests.String(), "func "+test+"(") {
					t.Errorf("docs/definitions.md says that %s is shown by %s, which is not there", name, test)
				}
			}
		}
	}
	// What is kept changes nothing, and is not complained of.
	plain, _ := Resolve(source(`{"image": "a:1", "remoteUser": "crew"}`))
	d, fs := Check(source(`{"image": "a:1", "remoteUser": "crew", "$schema": "x", "otherPortsAttributes": {"onAutoForward": "ignore"}, "updateRemoteUserUID": false, "customizations": {"other": {"x": 1}}, "shutdownAction": "none"}`))
	if len(fs) > 0 || len(Changes(plain, d)) > 0 {
		t.Errorf("what is kept is told as %v and changes %v", fs, Changes(plain, d))
	}
}

// Programs that commands begin with are found, and missing ones told once for
// each moment.
func TestPrograms(t *testing.T) {
	d, _ := Resolve(source("{\"image\": \"a\",\n\"onCreateCommand\": \"cd x && A=1 make all; sudo -E npm ci | tee log || echo 'no; luck'\",\n\"postCreateCommand\": {\"a\": [\"go\", \"build\"], \"b\": \"./run.sh && $TOOL x && sounding-lead\"}}"))
	if got := strings.Join(Programs(d), " "); got != "go make sounding-lead sudo tee" {
		t.Errorf("the programs are %s", got)
	}
	fs := MissingPrograms(d, []string{"sounding-lead", "make"})
	if len(fs) != 2 || !strings.HasPrefix(fs[0].String(), ".devcontainer/devcontainer.json:2:1: warning: onCreateCommand needs make") || !strings.Contains(fs[1].String(), "postCreateCommand needs sounding-lead") {
		t.Errorf("missing ones are told as %v", fs)
	}
	out, err := exec.Command("/bin/sh", "-c", ProgramsScript([]string{"sh", "no-such-program", "cat"})).Output()
	if err != nil || string(out) != "no-such-program\n" {
		t.Errorf("the script prints %q, %v", out, err)
	}
}
