package api_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"yardbench/wire"
)

// Every kind of problem that the service tells stands in the table, and every one
// of the table is told somewhere; of a kind there is one status.
func TestEveryKindOfProblemIsInTheTable(t *testing.T) {
	table := map[string]int{}
	for _, k := range wire.ProblemKinds {
		if table[k.Kind] != 0 || http.StatusText(k.Status) == "" || k.Means == "" {
			t.Errorf("kind %+v is there twice, or says little", k)
		}
		table[k.Kind] = k.Status
	}
	told := map[string]bool{}
	makers := map[string]int{"conflict": 409, "invalidAs": 422, "stranger": 401, "away": 503}
	text := func(e ast.Expr) string {
		if l, ok := e.(*ast.BasicLit); ok && l.Kind == token.STRING {
			s, _ := strconv.Unquote(l.Value)
			return s
		}
		return ""
	}
	tell := func(where, kind string, status int) {
		told[kind] = true
		if table[kind] == 0 || status != 0 && table[kind] != status {
			t.Errorf("%s: kind %q with status %d is not in the table", where, kind, status)
		}
	}
	for _, room := range []string{"service", "api", "access", "reconcile"} {
		err := filepath.WalkDir("../"+room, func(path string, _ fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			files := token.NewFileSet()
			f, err := parser.ParseFile(files, path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(f, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.CallExpr:
					if name, ok := n.Fun.(*ast.Ident); ok && makers[name.Name] != 0 && len(n.Args) > 1 {
						if kind := text(n.Args[0]); kind != "" {
							tell(files.Position(n.Pos()).String(), kind, makers[name.Name])
						}
					}
				case *ast.KeyValueExpr:
					key, _ := n.Key.(*ast.Ident)
					value := text(n.Value)
					if kind, ok := strings.CutPrefix(value, wire.ProblemPrefix); ok && key != nil && key.Name == "Type" {
						tell(files.Position(n.Pos()).String(), kind, 0)
					}
				case *ast.CompositeLit:
					if sel, ok := n.Type.(*ast.SelectorExpr); ok && sel.Sel.Name == "Fault" {
						for _, e := range n.Elts {
							if kv, ok := e.(*ast.KeyValueExpr); ok {
								if key, ok := kv.Key.(*ast.Ident); ok && key.Name == "Kind" && text(kv.Value) != "" {
									tell(files.Position(n.Pos()).String(), text(kv.Value), 0)
								}
							}
						}
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for status := 400; status < 600; status++ {
		kind := strings.TrimPrefix(wire.ProblemOfStatus(status), wire.ProblemPrefix)
		if told[kind] = true; table[kind] == 0 || kind != "broken" && table[kind] != status {
			t.Errorf("status %d alone is kind %q, of status %d", status, kind, table[kind])
		}
	}
	for kind := range table {
		if !told[kind] {
			t.Errorf("kind %q is told nowhere", kind)
		}
	}
	if len(told) < 40 {
		t.Errorf("only %d kinds are told", len(told))
	}
}
