package bench

import (
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

func TestRead(t *testing.T) {
	for _, c := range []struct{ name, text, want, problems string }{
		{"nothing", ``, `editor {0 <nil> [] false false false}`, ``},
		{"an editor of others", `{"customizations": {"quayside": {"settings": {"editor.tabSize": 3, "editor.rulers": [80, 100], "editor.fontSize": 12, "files.trimTrailingWhitespace": true, "editor.insertSpaces": false}}}}`,
			`editor {3 tabs [80 100] true false false} passed over editor.fontSize`, ``},
		{"what means something is checked there too", `{"customizations": {"quayside": {"settings": {"editor.tabSize": "wide", "editor.rulers": [0]}}, "harbour": ["odd"]}}`,
			`editor {0 <nil> [] false false false} passed over editor.rulers editor.tabSize`, ``},
		{"ours goes over others'", `{ // with comments,
			"customizations": {"quayside": {"settings": {"editor.tabSize": 3, "editor.formatOnSave": true}}, "yardbench": {"editor": {"tab_size": 8, "format_on_save": false, "final_newline": true,},},},}`,
			`editor {8 <nil> [] false true false}`, ``},
		{"what is wrong of ours is told, the rest holds", `{"customizations": {"yardbench": {"editor": {"tab_size": 40, "rulers": [1,2,3,4,5], "trim": true}, "languages": {"Tide": {"files": ["*.td"], "command": ["td"]}, "tide": {"files": ["*/x"], "command": ["td"]}, "ebb": {"files": ["*.ebb"]}, "python": {"command": ["own-lsp", "-v"]}}}}}`,
			`editor {0 <nil> [] true false false} own python *.py *.pyi [own-lsp -v]`,
			`editor.tab_size is a number from 1 to 16; editor.rulers are at most 4 columns, from 1 to 500; languages: "Tide" is no name of a language; languages.ebb.command is a program with its arguments, in words of their own; languages.tide.files are patterns of names, as *.py`},
		{"debugging", `{"customizations": {"yardbench": {"debug": {"adapters": {"tide": {"command": ["tide-dap"]}, "bad": {"command": ["-x"]}}, "configurations": [{"name": "The board", "adapter": "python", "with": {"program": "board.py"}}, {"name": "The board", "adapter": "tide"}, {"name": "x", "adapter": "nobody"}, {"name": "y", "adapter": "tide", "request": "sing"}, {"name": "z", "adapter": "tide", "request": "attach", "with": {"connect": {"port": 5678}, "x": 1}}, {"name": "far", "adapter": "tide", "request": "attach", "with": {"connect": {"host": "10.0.0.1", "port": 5678}}}]}}}}`,
			`editor {0 <nil> [] false false false} adapter tide [tide-dap] configuration The board python launch map[program:board.py] configuration z tide attach map[x:1] :5678`,
			`debug.adapters.bad.command is a program with its arguments, in words of their own; debug.configurations[1].name is one line of its own, of at most 80 characters; debug.configurations[2].adapter: there is no adapter "nobody"; debug.configurations[3].request is launch or attach; debug.configurations[5].with.connect is a port of the workspace's loopback, and its host localhost`},
		{"a wrong kind", `{"customizations": {"yardbench": {"editor": {"trim": "yes"}}}}`, `editor {0 <nil> [] false false false}`, `editor.trim is a string`},
	} {
		b, err := Read([]byte(c.text))
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		tabs := "<nil>"
		if b.Editor.Tabs != nil && *b.Editor.Tabs {
			tabs = "tabs"
		}
		got := fmt.Sprintf("editor {%d %s %v %v %v %v}", b.Editor.TabSize, tabs, b.Editor.Rulers, b.Editor.Trim, b.Editor.FinalNewline, b.Editor.FormatsOnSave)
		if len(b.PassedOver) > 0 {
			got += " passed over " + strings.Join(b.PassedOver, " ")
		}
		for _, l := range b.Languages {
			if l.Own {
				got += fmt.Sprintf(" own %s %s %v", l.ID, strings.Join(l.Files, " "), l.Programs[0])
			}
		}
		for _, a := range b.Adapters {
			if a.Own {
				got += fmt.Sprintf(" adapter %s %v", a.ID, a.Command)
			}
		}
		for _, o := range b.Configurations {
			got += fmt.Sprintf(" configuration %s %s %s %v", o.Name, o.Adapter, o.Request, o.With)
			if o.Port > 0 {
				got += fmt.Sprintf(" :%d", o.Port)
			}
		}
		if got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
		if told := strings.ReplaceAll(strings.Join(b.Problems, "; "), "customizations.yardbench: ", ""); told != c.problems {
			t.Errorf("%s: told\n got %s\nwant %s", c.name, told, c.problems)
		}
	}
	for _, bad := range []string{`{`, `[]`, `{"customizations": 7}`} {
		if _, err := Read([]byte(bad)); err == nil {
			t.Errorf("%s is read", bad)
		}
	}
	if len(usualLanguages) != len(slices.CompactFunc(slices.Clone(usualLanguages), func(a, b Language) bool { return a.ID == b.ID })) {
		t.Error("a language stands twice in the table")
	}
}

// The scripts are run by a real shell: what is there is found, the first of several, and
// nothing of a definition's words is the shell's to read.
func TestScripts(t *testing.T) {
	b, err := Read([]byte(`{"customizations": {"yardbench": {"languages": {"tide": {"files": ["*.tide"], "command": ["echo", "$(id)", "a'b"]}, "ebb": {"files": ["*.ebb"], "command": ["no-such-program; echo bad"]}}, "debug": {"adapters": {"flood": {"command": ["sh", "-c", "echo adapter"]}}}}}}`))
	if err != nil || len(b.Problems) > 0 {
		t.Fatal(err, b.Problems)
	}
	run := func(script string) (string, int) {
		cmd := exec.Command("/bin/sh", "-c", script)
		out, _ := cmd.Output() // its code tells
		return strings.TrimSpace(string(out)), cmd.ProcessState.ExitCode()
	}
	tide, _ := b.Language("tide")
	if out, code := run(tide.Script()); out != "$(id) a'b" || code != 0 {
		t.Errorf("served by %q, %d", out, code)
	}
	ebb, _ := b.Language("ebb")
	if out, code := run(ebb.Script()); out != "" || code != 127 {
		t.Errorf("what is not there ends with %q, %d", out, code)
	}
	second := Language{ID: "x", Programs: [][]string{{"no-such-program"}, {"echo", "second"}}}
	if out, _ := run(second.Script()); out != "second" {
		t.Errorf("the second that is there: %q", out)
	}
	flood, _ := b.Adapter("flood")
	if out, code := run(flood.Script()); out != "adapter" || code != 0 {
		t.Errorf("an adapter: %q, %d", out, code)
	}
	b.Languages, b.Adapters = append([]Language{second}, b.Languages...), append(b.Adapters, Adapter{ID: "gone", Command: []string{"no-such-adapter"}}, Adapter{ID: "untrue", Command: []string{"sh"}, Test: []string{"false"}})
	out, code := run(b.Probe())
	languages, adapters := There(out + "\nnonsense\nlanguage\nadapter a b\n")
	if code != 0 || languages["tide"] != "echo" || languages["x"] != "echo" || languages["ebb"] != "" || !adapters["flood"] || adapters["gone"] || adapters["untrue"] {
		t.Errorf("there are %v and %v of %q, %d", languages, adapters, out, code)
	}
}

func TestOffers(t *testing.T) {
	got := Offers([]string{"board.py", "tools/x.py"}, true)
	if len(got) != 3 || got[1].With["program"] != "tools/x.py" || !got[2].Found || got[2].With["module"] != "unittest" {
		t.Errorf("offered are %v", got)
	}
	if n := len(Offers(make([]string, 500), false)); n != 20 {
		t.Errorf("%d are offered of 500", n)
	}
	if l := (Language{ID: "zig"}).Line(); !strings.Contains(l, `"zig"`) {
		t.Errorf("without a package: %s", l)
	}
	if l := (Language{ID: "go", Package: "gopls"}).Line(); !strings.Contains(l, "install --yes gopls") {
		t.Errorf("with a package: %s", l)
	}
	if l := (Adapter{Package: "gdb"}).Line() + (Adapter{}).Line(); !strings.HasSuffix(l, "install --yes gdb") {
		t.Errorf("of adapters: %s", l)
	}
}
