package definition

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"
	"testing"

	"yardbench/internal/bound"
)

func source(text string, files ...string) Source {
	has := map[string][]byte{Places[0]: []byte(text), ".devcontainer/Dockerfile": nil, "Dockerfile": nil}
	for i := 0; i < len(files); i += 2 {
		has[files[i]] = []byte(files[i+1])
	}
	if text == "" {
		has = map[string][]byte{}
		for i := 0; i < len(files); i += 2 {
			has[files[i]] = []byte(files[i+1])
		}
	}
	return Source{Repository: "tide-board", Read: func(p string) ([]byte, bool) { c, ok := has[p]; return c, ok }, List: func(folder string) (out []string) {
		seen := map[string]bool{}
		for p := range has {
			rest, ok := strings.CutPrefix(p, strings.TrimPrefix(folder+"/", "/"))
			if name, _, deeper := strings.Cut(rest, "/"); ok {
				if deeper {
					name += "/"
				}
				if !seen[name] {
					seen[name] = true
					out = append(out, name)
				}
			}
		}
		slices.Sort(out)
		return out
	}}
}

// What a definition resolves to: the value at one path of the result's JSON.
func TestResolve(t *testing.T) {
	for _, c := range []struct{ name, text, at, want string }{
		{"comments and trailing commas", "{ // why\n\"image\": \"skerryline/base:1\", /* so */ }", "image", `"skerryline/base:1"`},
		{"build, paths from the definition's folder", `{"build": {"dockerfile": "Dockerfile", "context": "..", "target": "desk", "args": {"A": "1"}}}`, "build",
			`{"args":{"A":"1"},"context":".","dockerfile":".devcontainer/Dockerfile","target":"desk"}`},
		{"build context is the definition's folder", `{"build": {"dockerfile": "../Dockerfile"}}`, "build", `{"context":".devcontainer","dockerfile":"Dockerfile"}`},
		{"older spelling of build", `{"dockerFile": "Dockerfile", "context": ".."}`, "build", `{"context":".","dockerfile":".devcontainer/Dockerfile"}`},
		{"default folder", `{"image": "a"}`, "folder", `"/workspaces/tide-board"`},
		{"named folder", `{"image": "a", "workspaceFolder": "/src/${localWorkspaceFolderBasename}/"}`, "folder", `"/src/tide-board"`},
		{"remoteUser before containerUser", `{"image": "a", "containerUser": "root", "remoteUser": "crew"}`, "user", `"crew"`},
		{"containerUser alone", `{"image": "a", "containerUser": "1000"}`, "container_user", `"1000"`},
		{"variables", `{"image": "a", "containerEnv": {"A": "${containerWorkspaceFolder}/x", "B": "${localEnv:HOME:none}", "C": "${localEnv:HOME}", "D": "$HOME ${else}"}}`, "env",
			`{"A":"/workspaces/tide-board/x","B":"none","C":"","D":"$HOME ${else}"}`},
		{"remoteEnv keeps the container's variables, null takes one out", `{"image": "a", "remoteEnv": {"PATH": "${containerEnv:PATH}:/x", "GONE": null}}`, "session_env", `{"PATH":"${containerEnv:PATH}:/x"}`},
		{"labels of ports; other attributes and ranges are for editors", `{"image": "a", "portsAttributes": {"8000": {"label": "The board", "onAutoForward": "notify"}, "3000-3010": {"label": "x"}, "9000": {}}}`, "port_labels", `{"8000":"The board"}`},
		{"wanted secrets, by name", `{"image": "a", "secrets": {"TIDE_KEY": {"description": "Opens the levels", "documentationUrl": "https://skerryline.example"}, "A_PIN": {}}}`, "secrets", `[{"name":"A_PIN"},{"name":"TIDE_KEY","description":"Opens the levels"}]`},
		{"ports", `{"image": "a", "forwardPorts": [8000, "localhost:5432"]}`, "ports", `[8000,5432]`},
		{"commands in the specification's order and all three forms", `{"image": "a", "postStartCommand": ["a", "b c"], "onCreateCommand": "x && y", "postCreateCommand": {"two": ["d"], "one": "e"}}`, "set_up",
			`[{"commands":[{"shell":"x \u0026\u0026 y"}],"moment":"onCreateCommand"},{"commands":[{"label":"one","shell":"e"},{"args":["d"],"label":"two"}],"moment":"postCreateCommand"},{"commands":[{"args":["a","b c"]}],"moment":"postStartCommand"}]`},
		{"a command after the last", `{"image": "a", "postAttachCommand": "git status"}`, "set_up", `[{"commands":[{"shell":"git status"}],"moment":"postAttachCommand"}]`},
		{"what is waited for", `{"image": "a", "waitFor": "postCreateCommand"}`, "wait_for", `"postCreateCommand"`},
		{"the shell is asked", `{"image": "a", "userEnvProbe": "loginShell"}`, "probe", `"loginShell"`},
		{"the image's own command", `{"image": "a", "overrideCommand": false}`, "own_command", `true`},
		{"workspaceMount and a folder within", `{"image": "a", "workspaceMount": "source=${localWorkspaceFolder},target=/src/all,type=bind", "workspaceFolder": "/src/all/web"}`, "tree", `"/src/all"`},
		{"workspaceMount alone", `{"image": "a", "workspaceMount": "source=${localWorkspaceFolder},target=/src/all,type=bind"}`, "folder", `"/src/all"`},
		{"mounts in both forms", `{"image": "a", "mounts": ["type=volume,source=tides-${devcontainerId},target=/levels,readonly", {"type": "tmpfs", "target": "/scratch/"}, "source=${localWorkspaceFolder}/charts,target=/charts,type=bind", "type=bind,src=/srv/charts,dst=/srv"]}`, "mounts",
			`[{"kind":"volume","source":"tides-${devcontainerId}","target":"/levels","read_only":true},{"kind":"tmpfs","target":"/scratch"},{"kind":"tree","source":"charts","target":"/charts"},{"kind":"host","source":"/srv/charts","target":"/srv"}]`},
		{"rights", `{"image": "a", "init": true, "privileged": true, "capAdd": ["SYS_PTRACE", "CAP_NET_ADMIN", "SYS_PTRACE"], "securityOpt": ["seccomp=unconfined"]}`, "extra",
			`{"init":true,"privileged":true,"capabilities":["SYS_PTRACE","NET_ADMIN"],"security":["seccomp=unconfined"]}`},
		{"runArgs, in both ways of giving a value", `{"image": "a", "runArgs": ["--cap-add=sys_ptrace", "--device", "/dev/fuse:/dev/fuse", "--network=host", "--shm-size", "256m", "--add-host=quay:10.0.0.9", "--hostname=board", "--ulimit=nofile=1024:2048", "--init", "--privileged", "--security-opt=seccomp=unconfined", "--cap-drop=MKNOD", "--dns=10.0.0.2", "--sysctl=net.core.somaxconn=99", "--label=a=b", "--group-add=video"]}`, "extra",
			`{"init":true,"privileged":true,"capabilities":["SYS_PTRACE"],"dropped":["MKNOD"],"security":["seccomp=unconfined"],"host_network":true,"devices":["/dev/fuse:/dev/fuse"],"hostname":"board","hosts":["quay:10.0.0.9"],"dns":["10.0.0.2"],"labels":{"a":"b"},"sysctls":{"net.core.somaxconn":"99"},"groups":["video"],"shm_bytes":268435456,"nofile":1024,"options":["dns","sysctl","group-add"]}`},
		{"mounts of runArgs", `{"image": "a", "runArgs": ["-v", "levels:/levels:ro", "--mount=type=tmpfs,target=/x", "--tmpfs", "/y:size=1m", "-v", "/srv:/srv"]}`, "mounts",
			`[{"kind":"volume","source":"levels","target":"/levels","read_only":true},{"kind":"tmpfs","target":"/x"},{"kind":"tmpfs","target":"/y"},{"kind":"host","source":"/srv","target":"/srv"}]`},
		{"variables and user of runArgs", `{"image": "a", "runArgs": ["-e", "A=1", "--user", "crew"]}`, "env", `{"A":"1"}`},
		{"the older way to publish ports", `{"image": "a", "appPort": [3000, "8080:80"], "forwardPorts": [9]}`, "ports", `[9,3000,80]`},
		{"what it needs", `{"image": "a", "hostRequirements": {"cpus": 4, "memory": "8gb", "storage": "32gb", "gpu": "optional"}}`, "needs", `{"cores_milli":4000,"memory_bytes":8589934592,"disk_bytes":34359738368}`},
		{"images that serve as a cache", `{"build": {"dockerfile": "Dockerfile", "cacheFrom": ["a:1"]}}`, "build.cache_from", `["a:1"]`},
		{"repositories beside", `{"image": "a", "customizations": {"yardbench": {"repositories": ["fare-desk@spring", "deck-log"]}}}`, "beside", `[{"repository":"fare-desk","branch":"spring"},{"repository":"deck-log"}]`},
		{"folders by their variables", `{"image": "a", "workspaceMount": "source=${localWorkspaceFolder},target=/src/all,type=bind", "workspaceFolder": "/src/all/web", "containerEnv": {"A": "${localWorkspaceFolder} ${containerWorkspaceFolder} ${localWorkspaceFolderBasename} ${containerWorkspaceFolderBasename}"}}`, "env", `{"A":"/src/all /src/all/web all web"}`},
		{"where a value stands", "{\"image\": \"a\",\n \"containerEnv\": {\"A\": \"1\"}}", "origins", `{"image":".devcontainer/devcontainer.json:1:2","env.A":".devcontainer/devcontainer.json:2:19","folder":"usual"}`},
		{"empty command is none", `{"image": "a", "postCreateCommand": "  "}`, "set_up", `null`},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, fs := Resolve(source(c.text))
			if f, bad := Fatal(fs); bad {
				t.Fatal(f)
			}
			var got, want any
			text, _ := json.Marshal(d)
			var whole map[string]any
			if err := json.Unmarshal(text, &whole); err != nil {
				t.Fatal(err)
			}
			got = whole[c.at]
			if of, key, deep := strings.Cut(c.at, "."); deep {
				m, _ := whole[of].(map[string]any)
				got = m[key]
			}
			if err := json.Unmarshal([]byte(c.want), &want); err != nil {
				t.Fatal(err)
			}
			if !reflect.DeepEqual(got, want) {
				gotText, _ := json.Marshal(got)
				t.Errorf("%s is\n%s\nnot\n%s", c.at, gotText, c.want)
			}
		})
	}
}

// What is wrong: the first error's place and words.
func TestFindings(t *testing.T) {
	for _, c := range []struct {
		name, text string
		line, col  int
		says       string
	}{
		{"empty", ` `, 1, 2, "not JSON"},
		{"no object", `[]`, 1, 1, "no JSON object"},
		{"syntax", "{\n  \"image\": oops}", 2, 12, "not JSON"},
		{"wrong kind", "{\"image\": \"a\",\n\n \"forwardPorts\": 8000}", 3, 2, "forwardPorts is a number"},
		{"nothing to run", `{"name": "x"}`, 0, 0, "neither image, build nor"},
		{"both", `{"image": "a", "build": {"dockerfile": "Dockerfile"}}`, 1, 2, "both image and build"},
		{"blank in the image", `{"image": "skerry line"}`, 1, 2, "has a blank"},
		{"build file outside", `{"build": {"dockerfile": "../../x"}}`, 1, 2, "outside the repository"},
		{"build file absolute", `{"build": {"dockerfile": "/etc/passwd"}}`, 1, 2, "outside the repository"},
		{"context outside", `{"build": {"dockerfile": "Dockerfile", "context": "../.."}}`, 1, 2, "outside the repository"},
		{"build file missing", `{"build": {"dockerfile": "Containerfile"}}`, 1, 2, "not in the repository"},
		{"a name that is no image's", `{"image": "Skerry/Base:1"}`, 1, 2, "is no name of an image"},
		{"a version that is none", `{"image": "skerry@3.7.0"}`, 1, 2, "is no name of an image"},
		{"user", `{"image": "a", "remoteUser": "a b"}`, 1, 16, "no user name"},
		{"variable name", `{"image": "a", "containerEnv": {"A=B": "x"}}`, 1, 33, "no variable name"},
		{"port too high", `{"image": "a", "forwardPorts": [65536]}`, 1, 33, "is no port"},
		{"port with a fraction", `{"image": "a", "forwardPorts": [80.5]}`, 1, 33, "is no port"},
		{"folder over the system", `{"image": "a", "workspaceFolder": "/usr/../etc"}`, 1, 16, "cannot be used"},
		{"folder relative", `{"image": "a", "workspaceFolder": "src"}`, 1, 16, "cannot be used"},
		{"command of a wrong kind", `{"image": "a", "postCreateCommand": {"x": 5}}`, 1, 16, "must be a string"},
		{"control characters do not reach the reader", `{"image": "a", "remoteUser": "\u001b[2J"}`, 1, 16, "\uFFFD[2J"},
		{"mount over the system", `{"image": "a", "mounts": ["type=tmpfs,target=/proc/x"]}`, 1, 27, "no place for a mount"},
		{"mount over the steward", `{"image": "a", "mounts": ["type=volume,source=x,target=/.yardbench/bin"]}`, 1, 27, "no place for a mount"},
		{"mount over the tree", `{"image": "a", "mounts": ["type=bind,source=${localWorkspaceFolder}/x,target=/workspaces"]}`, 1, 27, "over the workspace folder"},
		{"mount of an unknown type", `{"image": "a", "mounts": ["type=npipe,source=x,target=/x"]}`, 1, 27, "is not known"},
		{"mount from above", `{"image": "a", "mounts": ["type=bind,source=../../../x,target=/x"]}`, 1, 27, "leads out of the repository"},
		{"workspaceMount of something else", `{"image": "a", "workspaceMount": "source=/etc,target=/x,type=bind"}`, 1, 16, "something else"},
		{"workspaceFolder outside the mount", `{"image": "a", "workspaceMount": "source=${localWorkspaceFolder},target=/x,type=bind", "workspaceFolder": "/y"}`, 1, 88, "lies outside of"},
		{"waiting for nothing", `{"image": "a", "waitFor": "postAttachCommand"}`, 1, 16, "can not be waited for"},
		{"a probe that is none", `{"image": "a", "userEnvProbe": "fish"}`, 1, 16, "is none"},
		{"a shutdown that is none", `{"image": "a", "shutdownAction": "explode"}`, 1, 16, "is none"},
		{"a need that is no amount", `{"image": "a", "hostRequirements": {"memory": "much"}}`, 1, 16, "is no amount"},
		{"port of a service that is none", `{"image": "a", "forwardPorts": ["db:5432"]}`, 1, 33, "names no service"},
		{"a repository that cannot be beside", `{"image": "a", "customizations": {"yardbench": {"repositories": ["../x"]}}}`, 1, 49, "cannot be cloned beside"},
		{"itself beside", `{"image": "a", "customizations": {"yardbench": {"repositories": ["tide-board"]}}}`, 1, 49, "cannot be cloned beside"},
		{"nowhere beside", `{"image": "a", "workspaceFolder": "/src", "customizations": {"yardbench": {"repositories": ["deck-log"]}}}`, 1, 76, "nothing can be cloned beside"},
		{"nesting", strings.Repeat(`{"a":`, 70) + "1" + strings.Repeat("}", 70), 1, 321, "nested deeper"},
		{"size", `{"image": "` + strings.Repeat("x", MaxBytes) + `"}`, 0, 0, "more than"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, fs := Resolve(source(c.text))
			f, bad := Fatal(fs)
			if !bad {
				t.Fatalf("no error is found, only %v", fs)
			}
			if !strings.Contains(f.What, c.says) && !strings.Contains(f.What, strings.ReplaceAll(c.says, "\uFFFD", `\x1b`)) {
				t.Errorf("%q does not say %q", f.What, c.says)
			}
			if f.Line != c.line || f.Column != c.col {
				t.Errorf("%q is placed at %d:%d, not at %d:%d", f.What, f.Line, f.Column, c.line, c.col)
			}
			if strings.ContainsRune(f.String(), 0x1b) {
				t.Errorf("%q would steer a terminal", f.String())
			}
		})
	}
}

// Equal fingerprints may share an image: everything that goes in must count,
// and nothing else.
func TestFingerprint(t *testing.T) {
	base := func() Definition {
		return Definition{Build: &Build{Dockerfile: "Dockerfile", Context: ".", Args: map[string]string{"A": "1", "B": "2"}}}
	}
	prints := map[string]string{}
	for name, change := range map[string]func(*Definition, *string){
		"as it is": func(*Definition, *string) {},
		"target":   func(d *Definition, _ *string) { d.Build.Target = "x" },
		"arg":      func(d *Definition, _ *string) { d.Build.Args["A"] = "2" },
		"args cut differently": func(d *Definition, _ *string) {
			d.Build.Args = map[string]string{"A": "1\",\"V\":\"2"}
		},
		"tree":    func(_ *Definition, tree *string) { *tree = "other" },
		"context": func(d *Definition, _ *string) { d.Build.Context = "sub" },
		"file":    func(d *Definition, _ *string) { d.Build.Dockerfile = "sub/Dockerfile" },
		"image":   func(d *Definition, _ *string) { d.Build, d.Image = nil, "a" },
	} {
		d, tree := base(), "tree"
		change(&d, &tree)
		p := Fingerprint(d, tree)
		if other, taken := prints[p]; taken || len(p) != 64 {
			t.Errorf("%q and %q have the fingerprint %s", name, other, p)
		}
		prints[p] = name
	}
	d := base()
	d.Env, d.Title, d.Ports = map[string]string{"X": "1"}, "other", []int{1}
	if prints[Fingerprint(d, "tree")] != "as it is" {
		t.Error("what is not in the image changes its fingerprint")
	}
	if len(d.Build.Args) != 2 {
		t.Error("the definition was changed by looking at it")
	}
}

// Whatever a repository holds, resolving it ends, within bounds, without a
// crash, and a path it accepts stays in the repository.
func FuzzResolve(f *testing.F) {
	for _, s := range []string{`{"image":"a"}`, `{"build":{"dockerfile":"../../x","context":"${localEnv:A:..}"}}`, "{//\"\n}", `{"postCreateCommand":{"a":["b",1]}}`, `{"image":"a","image":"b"}`,
		`{"forwardPorts":[1e999,"db:5432",-1]}`, strings.Repeat("[", 200), "/*", `"`, `{"remoteEnv":{"A":null}}`} {
		f.Add(s)
	}
	for _, b := range small() {
		f.Add(b.definition)
	}
	for _, c := range costs {
		text, _ := c.input(100)
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var d Definition
		var fs []Finding
		bound.Hold(t, 256, func() { d, fs = Resolve(source(text)) })
		for _, x := range fs {
			_ = x.String()
		}
		if _, bad := Fatal(fs); bad {
			return
		}
		if (d.Image == "") == (d.Build == nil) || !strings.HasPrefix(d.Folder, "/") {
			t.Errorf("accepted without a use: %+v", d)
		}
		if d.Build != nil {
			for _, p := range []string{d.Build.Dockerfile, d.Build.Context} {
				if strings.HasPrefix(p, "/") || p == ".." || strings.HasPrefix(p, "../") {
					t.Errorf("path %q leads outside", p)
				}
			}
		}
	})
}

// What goes into a prepared image changes its fingerprint; what is the
// person's does not.
func TestPrepared(t *testing.T) {
	base := Definition{Image: "a", Folder: "/x", User: "crew", Env: map[string]string{"A": "1"}, SetUp: []SetUp{{Moment: OnCreate, Commands: []Command{{Shell: "make"}}}, {Moment: PostCreate, Commands: []Command{{Shell: "greet"}}}}}
	one := Prepared(base, "image")
	for name, c := range map[string]struct {
		change func(*Definition)
		same   bool
	}{
		"another folder":   {func(d *Definition) { d.Folder = "/y" }, false},
		"another user":     {func(d *Definition) { d.User = "root" }, false},
		"another variable": {func(d *Definition) { d.Env = map[string]string{"A": "2"} }, false},
		"another set-up":   {func(d *Definition) { d.SetUp = []SetUp{{Moment: OnCreate, Commands: []Command{{Shell: "make all"}}}} }, false},
		"the person's set-up": {func(d *Definition) {
			d.SetUp = []SetUp{d.SetUp[0], {Moment: PostCreate, Commands: []Command{{Shell: "welcome"}}}}
		}, true},
		"ports, titles, secrets": {func(d *Definition) { d.Ports, d.Title, d.Secrets = []int{1}, "x", []Wanted{{Name: "K"}} }, true},
	} {
		d := base
		c.change(&d)
		if got := Prepared(d, "image"); (got == one) != c.same || len(got) != 64 {
			t.Errorf("with %s it is the same: %v", name, got == one)
		}
	}
	if Prepared(base, "other") == one {
		t.Error("another image has the same fingerprint")
	}
	for m, before := range map[Moment]bool{OnCreate: true, UpdateContent: true, PostCreate: false, PostStart: false} {
		if m.BeforePerson() != before {
			t.Errorf("%s belongs before the person: %v", m, !before)
		}
	}
}

// Secrets that are no variables, or too many, are told.
func TestWantedSecrets(t *testing.T) {
	many := map[string]any{}
	for n := range MaxSecrets + 1 {
		many["K"+strings.Repeat("x", n)] = map[string]any{}
	}
	text, _ := json.Marshal(map[string]any{"image": "a", "secrets": many})
	for what, c := range map[string][2]string{"a name that is none": {`{"image": "a", "secrets": {"1-KEY": {}}}`, "no variable name"}, "too many": {string(text), "at most 100"}} {
		_, fs := Resolve(source(c[0]))
		if f, bad := Fatal(fs); !bad || !strings.Contains(f.String(), c[1]) {
			t.Errorf("%s is told as %v", what, fs)
		}
	}
	d, _ := Resolve(source(`{"image": "a", "secrets": {"K": {"description": "` + strings.Repeat("long ", 200) + `"}}, "portsAttributes": {"1": {"label": "\u001b[2J` + strings.Repeat("x", 100) + `"}}}`))
	if len(d.Secrets[0].Description) > 310 || strings.ContainsRune(d.PortLabels[1], 0x1b) || len([]rune(d.PortLabels[1])) > 60 {
		t.Errorf("texts come out as %q and %q", d.Secrets[0].Description, d.PortLabels[1])
	}
}
