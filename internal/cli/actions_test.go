package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"yardbench/wire"
)

// A use case says what may be done, never how: each action that one names is an
// operation of the door, and a command that there is; and none speaks of flags.
func TestActionsHaveTheirCommands(t *testing.T) {
	doc, err := os.ReadFile("../../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	root := (&app{}).root()
	named := map[string]bool{}
	flag := regexp.MustCompile(`(^|[ (:])--[a-z]|\byardbench [a-z]`)
	for _, room := range []string{"service", "reconcile", "api"} {
		err := filepath.WalkDir("../"+room, func(path string, _ fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			files := token.NewFileSet()
			f, err := parser.ParseFile(files, path, nil, 0)
			if err != nil {
				return err
			}
			text := func(n ast.Node) string {
				l, _ := n.(*ast.BasicLit)
				if l == nil || l.Kind != token.STRING {
					return ""
				}
				s, _ := strconv.Unquote(l.Value)
				return s
			}
			ast.Inspect(f, func(n ast.Node) bool {
				if call, ok := n.(*ast.CallExpr); ok {
					if sel, ok := call.Fun.(*ast.SelectorExpr); ok && sel.Sel.Name == "Do" && len(call.Args) > 1 && text(call.Args[0]) != "" {
						if x, ok := sel.X.(*ast.Ident); !ok || x.Name != "fault" {
							return true
						}
						do := wire.Action{Rel: text(call.Args[0]), Subject: "it"}
						for _, w := range call.Args[2:] {
							do.With = append(do.With, text(w))
						}
						named[do.Rel] = true
						words := strings.Fields(strings.TrimPrefix(commandFor(do), "yardbench "))
						c, _, err := root.Find(words)
						if len(words) == 0 || err != nil || c == root || c.HasSubCommands() {
							t.Errorf("%s: %+v is no command: %q", files.Position(n.Pos()), do, words)
						} else if err := c.ParseFlags(words); err != nil {
							t.Errorf("%s: %q: %v", files.Position(n.Pos()), words, err)
						}
						if !strings.Contains(string(doc), `"operationId": "`+do.Rel+`"`) {
							t.Errorf("%s: %s is no operation", files.Position(n.Pos()), do.Rel)
						}
					}
				}
				// What git is asked with is its own; what is printed inside a workspace, or by the service itself to who
				// starts it, is another door's.
				if s := text(n); flag.MatchString(s) && !strings.HasSuffix(path, "service/changes.go") && !strings.Contains(s, "Yard Bench: this workspace") && !strings.Contains(s, "--changes-per-hour") && !strings.Contains(s, "--take-over") && !strings.Contains(s, "Rebuild with: ") {
					t.Errorf("%s speaks of the command line: %q", files.Position(n.Pos()), s)
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if len(named) < 20 {
		t.Errorf("only %d actions are named", len(named))
	}
	for rel := range commandOf {
		if rel, _, _ := strings.Cut(rel, " "); !named[rel] {
			t.Errorf("nobody names %s", rel)
		}
	}
}

// A refusal reads as one text, with its limits, the flags that are meant and the
// command that helps.
func TestHowAProblemReads(t *testing.T) {
	var b strings.Builder
	a := &app{err: &b}
	a.running, _, _ = a.root().Find([]string{"launch"})
	a.say(&wire.Problem{Detail: "it is too much", Next: "stop one", Actions: []wire.Action{{Rel: "stop-workspace", Subject: "quay"}}, RulesVersion: 3,
		Limits: []wire.LimitLine{{Kind: "running", Whose: "ingrid", Text: "3 used", Line: 14}}, Errors: []wire.FieldProblem{{Field: "/rest_after_s", Detail: "too long"}, {Field: "/beside", Detail: "x"}, {Field: "a.json:1:2", Detail: "y"}}}, 4)
	want := "yardbench: it is too much\n  running, ingrid: 3 used (line 14 of the house rules, version 3)\n  --rest-after: too long\n  --beside: x\n  a.json:1:2: y\nstop one with: yardbench stop quay\n"
	if b.String() != want {
		t.Errorf("it reads\n%s", b.String())
	}
}
