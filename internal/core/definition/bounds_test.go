package definition

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"yardbench/internal/core/rules"
)

// many writes n of something, with commas between.
func many(n int, each string) string {
	list := make([]string, n)
	for i := range list {
		list[i] = fmt.Sprintf(each, i)
	}
	return strings.Join(list, ", ")
}

// Each bound lets in what is just within, and not one more.
func TestBounds(t *testing.T) {
	image := func(more string) string { return `{"image": "a:1", "remoteUser": "crew", ` + more + `}` }
	compose := func(lines string) []string {
		return []string{".devcontainer/c.yaml", "services:\n  app:\n    image: a:1\n" + lines}
	}
	const composed = `{"dockerComposeFile": "c.yaml", "service": "app", "workspaceFolder": "/w", "remoteUser": "crew"}`
	deep := func(n int) string {
		return `{"image": "a:1", "remoteUser": "crew", "customizations": ` + strings.Repeat(`{"a": `, n) + "1" + strings.Repeat("}", n) + "}"
	}
	for _, c := range []struct {
		what         string
		within, over string
		files, above []string
		says         string
	}{
		{what: "commands", within: image(`"onCreateCommand": {` + many(64, `"c%d": "make"`) + `}`), over: image(`"onCreateCommand": {` + many(65, `"c%d": "make"`) + `}`), says: "65 commands"},
		{what: "secrets", within: image(`"secrets": {` + many(100, `"S%d": {}`) + `}`), over: image(`"secrets": {` + many(101, `"S%d": {}`) + `}`), says: "101 secrets"},
		{what: "a secret's name", within: image(`"secrets": {"` + strings.Repeat("S", 128) + `": {}}`), over: image(`"secrets": {"` + strings.Repeat("S", 129) + `": {}}`), says: "no variable name"},
		{what: "a variable's name", within: image(`"containerEnv": {"` + strings.Repeat("S", 256) + `": "x"}`), over: image(`"containerEnv": {"` + strings.Repeat("S", 257) + `": "x"}`), says: "no variable name"},
		{what: "variables", within: image(`"containerEnv": {` + many(2000, `"A%d": "x"`) + `}`), over: image(`"containerEnv": {` + many(2001, `"A%d": "x"`) + `}`), says: "2001 variables"},
		{what: "the lowest port", within: image(`"forwardPorts": [1, "1"], "appPort": [1, "80:1"]`), over: image(`"forwardPorts": [0]`), says: "0 in forwardPorts"},
		{what: "the lowest port, as text", within: image(`"forwardPorts": ["1"]`), over: image(`"forwardPorts": ["0"]`), says: "no port"},
		{what: "the highest port", within: image(`"forwardPorts": [65535]`), over: image(`"forwardPorts": [65536]`), says: "no port"},
		{what: "the highest port, as text", within: image(`"forwardPorts": ["65535"]`), over: image(`"forwardPorts": ["65536"]`), says: "no port"},
		{what: "the lowest older port", within: image(`"appPort": 1`), over: image(`"appPort": 0`), says: "no port"},
		{what: "the highest older port", within: image(`"appPort": "9:65535"`), over: image(`"appPort": "9:65536"`), says: "no port"},
		{what: "ports", within: image(`"forwardPorts": [` + many(200, `1%03d`) + `]`), over: image(`"forwardPorts": [` + many(201, `1%03d`) + `]`), says: "more than 200 ports"},
		{what: "mounts", within: image(`"mounts": [` + many(50, `"type=tmpfs,target=/m%d"`) + `]`), over: image(`"mounts": [` + many(51, `"type=tmpfs,target=/m%d"`) + `]`), says: "51 mounts"},
		{what: "repositories beside", within: image(`"customizations": {"yardbench": {"repositories": [` + many(8, `"r%d"`) + `]}}`), over: image(`"customizations": {"yardbench": {"repositories": [` + many(9, `"r%d"`) + `]}}`), says: "9 further repositories"},
		{what: "cores", within: image(`"hostRequirements": {"cpus": 10000}`), over: image(`"hostRequirements": {"cpus": 10001}`), says: "10001 cpus"},
		{what: "no cores", within: image(`"hostRequirements": {"cpus": 0}`), over: image(`"hostRequirements": {"cpus": -1}`), says: "-1 cpus"},
		{what: "memory", within: image(`"hostRequirements": {"memory": "1024tb"}`), over: image(`"hostRequirements": {"memory": "1025tb"}`), says: "is no amount"},
		{what: "nesting", within: deep(62), over: deep(65), says: "nested deeper than 64"},
		{what: "a workspace folder", within: image(`"workspaceFolder": "/` + strings.Repeat("x", maxPath-1) + `"`), over: image(`"workspaceFolder": "/` + strings.Repeat("x", maxPath) + `"`), says: "cannot be used"},
		{what: "bytes", within: image(`"name": "` + strings.Repeat("x", MaxBytes-len(image(`"name": ""`))) + `"`), over: image(`"name": "` + strings.Repeat("x", MaxBytes-len(image(`"name": ""`))+1) + `"`), says: "more than the 1048576 bytes"},
		{what: "a compose file's bytes", within: composed, over: composed, files: compose("#" + strings.Repeat("x", MaxBytes-len(compose("")[1])-1)), above: compose("#" + strings.Repeat("x", MaxBytes-len(compose("")[1]))), says: "more than the 1048576 bytes"},
		{what: "a compose file's entries", within: composed, over: composed, files: compose("    labels: {" + many(500, "a%d: b") + "}\n"), above: compose("    labels: {" + many(501, "a%d: b") + "}\n"), says: "more than the 500 entries"},
		{what: "a compose file's list", within: composed, over: composed, files: compose("    command: [" + many(500, "a%d") + "]\n"), above: compose("    command: [" + many(501, "a%d") + "]\n"), says: "more than the 500 entries"},
		{what: "declared services", within: composed, over: composed, files: compose("  " + strings.ReplaceAll(many(199, "s%d: {image: 'a:1', profiles: [x]}"), ", s", "\n  s") + "\n"), above: compose("  " + strings.ReplaceAll(many(200, "s%d: {image: 'a:1', profiles: [x]}"), ", s", "\n  s") + "\n"), says: "it has 201 services"},
		{what: "services that run", within: composed, over: composed, files: compose("  " + strings.ReplaceAll(many(39, "s%d: {image: 'a:1'}"), ", s", "\n  s") + "\n"), above: compose("  " + strings.ReplaceAll(many(40, "s%d: {image: 'a:1'}"), ", s", "\n  s") + "\n"), says: "more than 40 services"},
		{what: "a service's mounts", within: composed, over: composed, files: compose("    tmpfs: [" + many(50, "/m%d") + "]\n"), above: compose("    tmpfs: [" + many(51, "/m%d") + "]\n"), says: "51 mounts"},
		{what: "published ports", within: composed, over: composed, files: compose("    ports: ['1001-2000:1-1000']\n"), above: compose("    ports: ['1001-2000:1-1000', '1']\n"), says: "more than 1000 ports"},
		{what: "compose files", within: `{"service": "app", "workspaceFolder": "/w", "remoteUser": "crew", "dockerComposeFile": [` + many(20, `"f%d.yaml"`) + `]}`, over: `{"service": "app", "workspaceFolder": "/w", "remoteUser": "crew", "dockerComposeFile": [` + many(21, `"f%d.yaml"`) + `]}`, files: composeFilesOf(21), above: composeFilesOf(21), says: "more than 20 compose files"},
		{what: "dollar signs", within: composed, over: composed, files: compose("    labels: {a: '" + strings.Repeat("$", 5000) + "'}\n"), above: compose("    labels: {a: '" + strings.Repeat("$", 5002) + "'}\n"), says: "more than the 5000 dollar signs"},
		{what: "defaults in defaults", within: composed, over: composed, files: compose("    command: '" + strings.Repeat("${A:-", 16) + strings.Repeat("}", 16) + "'\n"), above: compose("    command: '" + strings.Repeat("${A:-", 17) + strings.Repeat("}", 17) + "'\n"), says: "nested too deeply"},
	} {
		_, fs := Check(source(c.within, c.files...))
		if f, bad := Fatal(fs); bad {
			t.Errorf("%s: what is within is told as %.300s", c.what, f)
		}
		_, fs = Check(source(c.over, c.above...))
		i := slices.IndexFunc(fs, func(f Finding) bool { return f.Severity == Error && strings.Contains(f.What, c.says) })
		if i < 0 {
			t.Errorf("%s: what is over is told as %.300v", c.what, fs)
		} else if whole := slices.Contains([]string{"a compose file's bytes", "declared services", "defaults in defaults", "dollar signs", "bytes"}, c.what); whole != (fs[i].Line == 0) {
			t.Errorf("%s: what is over is told in line %d", c.what, fs[i].Line)
		}
	}
	// What aliases unfold to, at its edge: a text named again and again.
	for n, bad := range map[int]bool{3: false, 4: true} {
		_, fs := Check(source(composed, compose("x-a: &a '"+strings.Repeat("y", maxComposeBytes/4-300)+"'\nx-b: ["+strings.TrimSuffix(strings.Repeat("*a, ", n), ", ")+"]\n")...))
		if _, told := Fatal(fs); told != bad {
			t.Errorf("a text unfolded %d times is told as %.200v", n, fs)
		}
	}
	// What is only cut.
	d, _ := Resolve(source(image(`"secrets": {"A": {"description": "` + strings.Repeat("é", 300) + `"}, "B": {"description": "` + strings.Repeat("é", 301) + `"}}, "portsAttributes": {"1": {"label": "` + strings.Repeat("é", 60) + `"}, "65535": {"label": "` + strings.Repeat("é", 61) + `"}, "0": {"label": "x"}, "65536": {"label": "x"}}`)))
	for i, s := range d.Secrets {
		if n := len([]rune(s.Description)); n != 300 {
			t.Errorf("description %d has %d letters", i, n)
		}
	}
	if len(d.PortLabels) != 2 || len([]rune(d.PortLabels[1])) != 60 || len([]rune(d.PortLabels[65535])) != 60 {
		t.Errorf("the labels are %v", d.PortLabels)
	}
	for n, want := range map[int]int{49: 50, 50: 50, 51: 50} {
		files := []string{}
		for i := range n {
			files = append(files, fmt.Sprintf(".devcontainer/d%02d/devcontainer.json", i), "{}")
		}
		if got := len(Names(source(`{}`, files...))); got != want {
			t.Errorf("of %d definitions and the first %d are named", n, got)
		}
	}
	for n, bad := range map[int]bool{200: false, 201: true} {
		label := "[" + many(n, `{"containerEnv": {"A%d": "x"}}`) + "]"
		def, fs := UnderImage(Definition{}, "a:1", label)
		if _, told := Fatal(fs); told != bad || len(def.Env) != map[bool]int{false: n}[bad] || bad && fs[0].Line != 0 {
			t.Errorf("a label of %d entries gives %d, %v", n, len(def.Env), fs)
		}
	}
	for n, bad := range map[int]bool{MaxBytes: false, MaxBytes + 1: true} {
		label := `{"name": "` + strings.Repeat("x", n-12) + `"}`
		if _, fs := UnderImage(Definition{}, "a:1", label); (len(fs) > 0) != bad || bad && (fs[0].Line != 0 || !strings.Contains(fs[0].What, "bytes allowed")) {
			t.Errorf("a label of %d bytes is told as %v", len(label), fs)
		}
	}
}

func composeFilesOf(n int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprintf(".devcontainer/f%d.yaml", i), "services: {app: {image: 'a:1'}}")
	}
	return out
}

// Brackets in strings and comments are no nesting, and what is wrong is found
// where it is.
func TestTooDeep(t *testing.T) {
	open := strings.Repeat("[", MaxDepth)
	for text, at := range map[string]int{
		open:                            -1,
		open + "]":                      -1,
		open + "[":                      MaxDepth,
		"[]" + open:                     -1,
		"{}" + open:                     -1,
		open + "{":                      MaxDepth,
		"// [[\n" + open:                -1,
		"// [[\n" + open + "[":          6 + MaxDepth,
		"/* [[ */" + open:               -1,
		"/**/" + open + "[":             4 + MaxDepth,
		"/* [[ */" + open + "[":         8 + MaxDepth,
		"/* never closed " + open + "[": -1,
		"// no line after [" + open:     -1,
		`"[["` + open:                   -1,
		`"[[\"["` + open:                -1,
		`"[["` + open + "[":             4 + MaxDepth,
		`"\\"` + open + "[":             4 + MaxDepth,
		"/" + open:                      -1,
		"/" + open + "[":                1 + MaxDepth,
		open + "/":                      -1,
		open + "/x[":                    MaxDepth + 2,
		"/* * [ */" + open:              -1,
		"/*/[*/" + open:                 -1,
		"/*x*//*y*/" + open + "[":       len("/*x*//*y*/") + MaxDepth,
	} {
		got, deep := tooDeep([]byte(text))
		if deep != (at >= 0) || deep && got != at {
			t.Errorf("%.20q…: %v at %d, not at %d", text, deep, got, at)
		}
	}
}

// Lines and columns are those that an editor shows.
func TestPositions(t *testing.T) {
	d := &doc{text: []byte("ab\n\ncd")}
	for at, want := range [][2]int{{1, 1}, {1, 2}, {1, 3}, {2, 1}, {3, 1}, {3, 2}, {3, 3}, {3, 3}} {
		if line, column := d.position(at); line != want[0] || column != want[1] {
			t.Errorf("offset %d is at %d:%d, not at %v", at, line, column, want)
		}
	}
	for n, want := range map[int]int{-1: -1, 0: -1, 1: 0, 2: 3, 3: 4, 4: -1} {
		if got := (&doc{text: d.text}).line(n); got != want {
			t.Errorf("line %d begins at %d, not at %d", n, got, want)
		}
	}
	for text, want := range map[string]string{"{\"image\": \"a\",,}": "1:15", "{\n \"a\": tru}": "2:7", "{": "1:2", "": "1:1"} {
		_, fs := Resolve(source("", Places[0], text))
		if len(fs) != 1 || fmt.Sprintf("%d:%d", fs[0].Line, fs[0].Column) != want || strings.Contains(fs[0].What, "line ") || strings.Contains(fs[0].What, "hujson") {
			t.Errorf("%q is told as %v, wanted at %s", text, fs, want)
		}
	}
}

// When commands run, and what runs them.
func TestMoments(t *testing.T) {
	for m, want := range map[Moment][2]bool{Services: {true, true}, OnCreate: {false, true}, UpdateContent: {false, true}, PostCreate: {false, false}, PostStart: {true, false}, PostAttach: {false, false}} {
		if m.EveryStart() != want[0] || m.BeforePerson() != want[1] {
			t.Errorf("%s: %v, %v", m, m.EveryStart(), m.BeforePerson())
		}
	}
	d := Definition{SetUp: []SetUp{{Moment: PostStart, Commands: []Command{{Shell: "x"}}}, {Moment: PostAttach, Commands: []Command{{Shell: "y"}}}, {Moment: OnCreate}}}
	if got := fmt.Sprint(d.MomentsDue()); got != "[onCreateCommand postStartCommand]" {
		t.Errorf("due are %s", got)
	}
	if d.Compose = (&Compose{}); fmt.Sprint(d.MomentsDue()) != "[onCreateCommand postStartCommand]" {
		t.Errorf("without services due are %v", d.MomentsDue())
	}
	if d.Compose.Services = []Service{{Name: "a", Image: "b:1"}, {Name: "c", Image: "b:1"}, {Name: "d", Image: "e:1", Build: &Build{}}, {Name: "f"}}; fmt.Sprint(d.MomentsDue()) != "[services onCreateCommand postStartCommand]" {
		t.Errorf("with services due are %v", d.MomentsDue())
	}
	if got := fmt.Sprint(d.Images()); got != "[b:1]" {
		t.Errorf("the images are %s", got)
	}
	if d.Image = "b:1"; fmt.Sprint(d.Images()) != "[b:1]" {
		t.Errorf("with its own the images are %v", d.Images())
	}
	if got := fmt.Sprint(Command{Args: []string{"a", "b"}}.Argv(), Command{Shell: "a b"}.Argv()); got != "[a b] [/bin/sh -c a b]" {
		t.Errorf("they are run by %s", got)
	}
	plain := Definition{Image: "a:1"}
	crewed := plain
	crewed.User = "crew"
	if Fingerprint(plain, "t") != Fingerprint(crewed, "u") {
		t.Error("the user of an image without features, or a tree without a build, is in its fingerprint")
	}
	plain.Features, crewed.Features = []Feature{{ID: "x"}}, []Feature{{ID: "x"}}
	if Fingerprint(plain, "") == Fingerprint(crewed, "") {
		t.Error("the user whom features are installed for is not in the fingerprint")
	}
	if p := (Definition{Folder: "/a/b"}); p.Mountpoint() != "/a/b" {
		t.Errorf("it is mounted at %s", p.Mountpoint())
	}
	if p := (Definition{Folder: "/a/b", Beside: []Beside{{}}}); p.Mountpoint() != "/a" {
		t.Errorf("with others beside it is mounted at %s", p.Mountpoint())
	}
}

// What is shown only where it says something.
func TestWhatIsShown(t *testing.T) {
	d := Definition{Image: "a:1", Extra: Extra{ShmBytes: 1, Nofile: 1}, Mounts: []Mount{{Kind: MountTmpfs, Target: "/t"}, {Kind: MountHost, Source: "/s", Target: "/h"}, {Kind: MountTree, Source: "x", Target: "/x"}, {Kind: MountVolume, Source: "v", Target: "/v"}},
		Compose: &Compose{Work: "w", Services: []Service{{Name: "a", Health: &Health{Test: []string{"CMD", "it's"}}}, {Name: "b"}}}}
	var got []string
	for _, v := range Values(d) {
		got = append(got, v.Key+"="+v.Value)
	}
	want := "image=a:1|probe=loginInteractiveShell|own_command=runs|mounts./t=tmpfs|mounts./h=of the host: /s|mounts./x=in the repository: x|mounts./v=volume v|extra.shm=1 MiB|extra.nofile=1|compose.work=w|service a.health=CMD 'it'\\''s'"
	if s := strings.Join(got, "|"); s != want {
		t.Errorf("shown is\n%s\nnot\n%s", s, want)
	}
	for n, want := range map[Needs]string{{}: "", {CoresMilli: 1}: "0.001 cores", {MemoryBytes: 1 << 30}: "1 GiB of memory", {DiskBytes: 1 << 30}: "1 GiB of disk", {GPU: true}: "a GPU", {CoresMilli: 2000, GPU: true}: "2 cores, a GPU"} {
		if got := n.String(); got != want {
			t.Errorf("%+v is shown as %q", n, got)
		}
	}
	old, next := Definition{Env: map[string]string{}}, Definition{Env: map[string]string{}, Entrypoints: []string{"a", "b"}}
	for i := range maxChanges - 1 {
		next.Env[fmt.Sprintf("A%02d", i)] = strings.Repeat("é", 80+i%2)
	}
	changes := Changes(old, next)
	if len(changes) != maxChanges || !slices.Contains(changes, "env.A00: none → "+strings.Repeat("é", 80)) || !slices.Contains(changes, "env.A01: none → "+strings.Repeat("é", 79)+"…") || slices.Contains(changes, "1 more") {
		t.Errorf("the changes are %q", changes)
	}
	next.Entrypoints = nil
	next.Env["B"], next.Env["C"] = "x", "y"
	if changes = Changes(old, next); len(changes) != maxChanges+1 || changes[maxChanges] != "1 more" {
		t.Errorf("one more than are shown is told as %q", changes)
	}
	if got := Changes(Definition{Entrypoints: []string{"a", "b"}}, Definition{Entrypoints: []string{"a"}}); fmt.Sprint(got) != "[entrypoints: a; b → a]" {
		t.Errorf("a list that changes is told as %q", got)
	}
}

// Without a definition the house rules say what is usual, in their order.
func TestUsualImage(t *testing.T) {
	none := source("", "a", "")
	if d, fs := Check(none); d.Image != rules.BuiltIn[len(rules.BuiltIn)-1].Image || len(fs) != 1 || fs[0].Line != 0 || fs[0].Path != Places[0] {
		t.Errorf("it is %s, %v", d.Image, fs)
	}
	for _, c := range []struct {
		usual []rules.Usual
		want  string
	}{{nil, rules.BuiltIn[len(rules.BuiltIn)-1].Image}, {[]rules.Usual{{Holds: "a", Image: "x:1"}, {Image: "y:1"}}, "x:1"}, {[]rules.Usual{{Holds: "b", Image: "x:1"}, {Image: "y:1"}}, "y:1"}, {[]rules.Usual{{Holds: "b", Image: "x:1"}}, rules.BuiltIn[len(rules.BuiltIn)-1].Image}} {
		none.House = &rules.Rules{Images: rules.Images{Usual: c.usual}}
		if d, _ := Check(none); d.Image != c.want {
			t.Errorf("with %v it is %s", c.usual, d.Image)
		}
	}
}
