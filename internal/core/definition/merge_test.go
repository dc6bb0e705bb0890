package definition

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"yardbench/internal/bound"
	"yardbench/internal/core/rules"
)

func sameJSON(t *testing.T, what string, got any, want string) {
	t.Helper()
	text, err := json.Marshal(got)
	if err != nil {
		t.Fatal(err)
	}
	var a, b any
	if json.Unmarshal(text, &a) != nil || json.Unmarshal([]byte(want), &b) != nil || !reflect.DeepEqual(a, b) {
		t.Errorf("%s is\n%s\nnot\n%s", what, text, want)
	}
}

// The rules of merging: what an image's label says lies beneath what a feature
// says, and that beneath the definition.
func TestMerge(t *testing.T) {
	label := `[{"id": "base", "remoteUser": "keeper", "containerEnv": {"A": "label", "B": "label"}, "remoteEnv": {"R": "label", "S": "label"}, "capAdd": ["SYS_PTRACE"], "mounts": ["type=volume,source=low,target=/x", "type=tmpfs,target=/low"], "onCreateCommand": "low", "forwardPorts": [1, 2], "portsAttributes": {"1": {"label": "low"}}, "hostRequirements": {"cpus": 8, "memory": "1gb"}, "waitFor": "postStartCommand", "overrideCommand": false, "userEnvProbe": "none", "entrypoint": "/low.sh", "securityOpt": ["a"], "customizations": {"x": 1}},
		{"remoteUser": "second", "containerEnv": {"B": "second"}, "onCreateCommand": {"one": "second"}, "entrypoint": "/second.sh", "init": true}]`
	feature := `{"id": "lamp", "version": "1.2.0", "containerEnv": {"IN_IMAGE": "1"}, "capAdd": ["NET_ADMIN"], "mounts": [{"type": "volume", "source": "lamp", "target": "/y"}], "onCreateCommand": "lamp", "postStartCommand": "shine", "entrypoint": "/lamp.sh", "privileged": true}`
	def, fs := Resolve(source(`{"image": "a:1", "containerEnv": {"A": "mine"}, "remoteEnv": {"R": "mine"}, "capAdd": ["SYS_PTRACE"], "securityOpt": ["b"], "mounts": ["type=volume,source=mine,target=/x"], "forwardPorts": [2, 3], "portsAttributes": {"1": {"label": "mine"}},
		"hostRequirements": {"cpus": 2, "memory": "4gb"}, "onCreateCommand": "mine", "features": {"./lamp": {}}, "containerUser": "root"}`, ".devcontainer/lamp/devcontainer-feature.json", feature, ".devcontainer/lamp/install.sh", ""))
	if f, bad := Fatal(fs); bad {
		t.Fatal(f)
	}
	def, fs = UnderImage(def, "a:1", label)
	if len(fs) > 0 {
		t.Fatal(fs)
	}
	for _, c := range []struct {
		what string
		got  any
		want string
	}{
		{"containerEnv, the nearest of each variable", def.Env, `{"A":"mine","B":"second"}`},
		{"remoteEnv, the nearest of each variable", def.SessionEnv, `{"R":"mine","S":"label"}`},
		{"remoteUser, the last that names one", def.Person(), `"second"`},
		{"containerUser", def.ContainerUser, `"root"`},
		{"rights, united", def.Extra, `{"init":true,"privileged":true,"capabilities":["SYS_PTRACE","NET_ADMIN"],"security":["b","a"]}`},
		{"mounts, the nearest of each place, the lowest first", def.Mounts, `[{"kind":"tmpfs","target":"/low"},{"kind":"volume","source":"lamp","target":"/y"},{"kind":"volume","source":"mine","target":"/x"}]`},
		{"ports, united", def.Ports, `[2,3,1]`},
		{"labels of ports, the nearest of each", def.PortLabels, `{"1":"mine"}`},
		{"needs, the greater", def.Needs, `{"cores_milli":8000,"memory_bytes":4294967296}`},
		{"waitFor, probe, override, of who says it", []any{def.WaitFor, def.Probe, def.RunsOwnCommand()}, `["postStartCommand","none",true]`},
		{"entrypoints, collected, the lowest first", def.Entrypoints, `["/low.sh","/second.sh","/lamp.sh"]`},
		{"commands, collected by moment, the lowest first", def.SetUp, `[{"moment":"onCreateCommand","commands":[{"shell":"low"}],"from":"the image"},{"moment":"onCreateCommand","commands":[{"label":"one","shell":"second"}],"from":"the image"},
			{"moment":"onCreateCommand","commands":[{"shell":"lamp"}],"from":"feature lamp"},{"moment":"onCreateCommand","commands":[{"shell":"mine"}]},{"moment":"postStartCommand","commands":[{"shell":"shine"}],"from":"feature lamp"}]`},
		{"a feature's containerEnv goes into the image", def.Features, `[{"ref":"./lamp","folder":".devcontainer/lamp","id":"lamp","version":"1.2.0","env":{"IN_IMAGE":"1"}}]`},
		{"origins", []string{def.Origins["env.A"], def.Origins["env.B"], def.Origins["extra.capabilities.NET_ADMIN"]}, `[".devcontainer/devcontainer.json:1:35","label of image a:1","feature ./lamp"]`},
	} {
		sameJSON(t, c.what, c.got, c.want)
	}
	if d, fs := UnderImage(Definition{Folder: "/x"}, "a", `{"remoteUser": "crew"}`); len(fs) > 0 || d.User != "crew" {
		t.Errorf("one entry that stands alone gives %+v, %v", d, fs)
	}
	for _, bad := range []string{`{`, `[1]`, `[{"remoteUser": 5}]`, `[{"mounts": ["x"]}]`, "[" + strings.Repeat(`{},`, MaxFeatures) + `{}]`} {
		if _, fs := UnderImage(Definition{Folder: "/x"}, "a", bad); len(fs) == 0 {
			t.Errorf("the label %.40s is taken", bad)
		}
	}
}

func TestWithID(t *testing.T) {
	d, _ := Resolve(source(`{"image": "a", "containerEnv": {"A": "${devcontainerId}"}, "mounts": ["type=volume,source=x-${devcontainerId},target=/x"]}`))
	if got := WithID(d, "abc"); got.Env["A"] != "abc" || got.Mounts[0].Source != "x-abc" || d.Env["A"] != "${devcontainerId}" {
		t.Errorf("with an id it is %+v", got)
	}
}

func TestNeeds(t *testing.T) {
	n := Needs{CoresMilli: 2000, MemoryBytes: 4 << 30, DiskBytes: 10 << 30}
	if got := n.Fits(rules.Size{CoresMilli: 2000, MemoryBytes: 4 << 30, DiskBytes: 10 << 30}); got != "" {
		t.Errorf("a size that is just enough lacks %s", got)
	}
	if got := n.Fits(rules.Size{CoresMilli: 1000, MemoryBytes: 2 << 30, DiskBytes: 5 << 30}); got != "2 cores, and it has 1; 4 GiB of memory, and it has 2 GiB; 10 GiB of disk, and it has 5 GiB" {
		t.Errorf("a size that is too small lacks %s", got)
	}
}

// Where definitions are found, and what serves where there is none.
func TestFind(t *testing.T) {
	const named = ".devcontainer/night/devcontainer.json"
	for _, c := range []struct {
		what, name string
		files      []string
		path, says string
	}{
		{"the first one", "", []string{Places[0], `{"image": "a"}`, named, `{"image": "b"}`}, Places[0], ""},
		{"the other place", "", []string{Places[1], `{"image": "a"}`}, Places[1], ""},
		{"by its name", "night", []string{Places[0], `{"image": "a"}`, named, `{"image": "b"}`}, named, ""},
		{"the only one with a name", "", []string{named, `{"image": "b"}`}, named, ""},
		{"several with names", "", []string{named, `{"image": "b"}`, ".devcontainer/day/devcontainer.json", `{"image": "c"}`}, "", "2 definitions, and none is the first; name one of: day, night"},
		{"a name nobody has", "dusk", []string{named, `{"image": "b"}`}, "", "no definition \"dusk\"; name one of: night"},
		{"a name that leads away", "../../x", []string{named, `{"image": "b"}`}, "", "no definition"},
		{"a compose file", "", []string{"compose.yaml", "services: {app: {image: 'a:1', volumes: ['.:/app']}, db: {image: 'b:1'}}", "Dockerfile", "FROM a"}, "compose.yaml", "people work in its service \"app\""},
		{"a compose file that does not say where", "", []string{"compose.yaml", "services: {app: {image: 'a:1'}, db: {image: 'b:1'}}"}, "", "in which service of compose.yaml people work"},
		{"a Dockerfile", "", []string{"Containerfile", "FROM b:1", "Dockerfile", "FROM a:1"}, "Dockerfile", "built from Dockerfile"},
		{"a Containerfile", "", []string{"Containerfile", "FROM b:1"}, "Containerfile", "built from Containerfile"},
		{"what the tree holds", "", []string{"package.json", "{}"}, "", "the image is node:24-bookworm, as it holds package.json"},
		{"nothing", "", nil, "", "as it holds nothing that says more"},
	} {
		src := source("", c.files...)
		src.Name = c.name
		def, fs := Check(src)
		if def.Path != c.path {
			t.Errorf("%s is found at %q: %v", c.what, def.Path, fs)
		}
		if said := fmt.Sprint(fs); !strings.Contains(said, c.says) {
			t.Errorf("%s is told as %s", c.what, said)
		}
	}
	src := source("", named, `{}`, Places[0], `{}`, ".devcontainer/empty/x", "")
	if got := fmt.Sprint(Names(src)); got != "[ night]" {
		t.Errorf("the names are %s", got)
	}
}

func TestMirrored(t *testing.T) {
	images := rules.Images{Mirrors: map[string]string{"docker.io": "mirror.skerryline.example/hub", "docker.io/skerryline": "skerryline.example/own"}}
	for name, want := range map[string]string{"base:1": "mirror.skerryline.example/hub/library/base:1", "skerryline/base:1": "skerryline.example/own/base:1", "other.example/x:1": "other.example/x:1", "skerrylines/x": "mirror.skerryline.example/hub/skerrylines/x"} {
		if got := images.Mirrored(name); got != want {
			t.Errorf("%s is fetched as %s, not %s", name, got, want)
		}
	}
	for name, want := range map[string]string{"docker.io/library/base:1": "mirror.skerryline.example/hub/library/base:1 <nil>", "docker.io/yardbench/x:prepared": "made", "sha256:0123456789ab": "or an id", "other.example/x:1": "do not allow"} {
		own := images
		own.From = []string{"mirror.skerryline.example"}
		if name, err := BuildTakes(name, own); !strings.Contains(fmt.Sprint(name, " ", err), want) {
			t.Errorf("a build takes %s, %v, not %s", name, err, want)
		}
	}
	d, _ := Resolve(Source{Repository: "x", Read: source(`{"image": "base:1"}`).Read, House: &rules.Rules{Images: images}})
	if d.Image != "mirror.skerryline.example/hub/library/base:1" {
		t.Errorf("the image is %s", d.Image)
	}
}

// Whatever an image's label holds, merging it ends without a crash, and
// changes nothing that the definition says itself.
func FuzzUnderImage(f *testing.F) {
	f.Add(`[{"remoteUser": "crew", "mounts": ["type=volume,source=a,target=/a"], "entrypoint": "x"}]`)
	f.Add(`{"onCreateCommand": {"a": ["b"]}, "hostRequirements": {"memory": "1tb", "cpus": -1}}`)
	f.Add(`[{"containerEnv": {"MINE": "theirs"}, "forwardPorts": [1, "x:2"], "capAdd": ["", "CAP_X"]}, null, [], 5]`)
	base, _ := Resolve(source(`{"image": "a:1", "remoteUser": "keeper", "containerEnv": {"MINE": "1"}, "postCreateCommand": "last"}`))
	f.Fuzz(func(t *testing.T, label string) {
		var d Definition
		var fs []Finding
		bound.Hold(t, 256, func() { d, fs = UnderImage(base, "a:1", label) })
		for _, x := range fs {
			if strings.ContainsFunc(x.What, func(r rune) bool { return r < ' ' }) {
				t.Errorf("%q cannot be shown", x.What)
			}
		}
		post := d.At(PostCreate)
		if d.User != "keeper" || d.Env["MINE"] != "1" || d.Image != "a:1" || d.Folder != base.Folder || post[len(post)-1].Commands[0].Shell != "last" {
			t.Errorf("the label replaces what the definition says: %+v", d)
		}
		for _, m := range d.Mounts {
			if !strings.HasPrefix(m.Target, "/") || ownFolder.MatchString(m.Target) {
				t.Errorf("a mount at %q is taken", m.Target)
			}
		}
		_ = Values(d)
	})
}
