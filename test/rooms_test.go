package test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"io/fs"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// floors are the rooms of the house, from the ground up. A room may use its
// own floor's subrooms and the floors beneath, never one above.
var floors = [][]string{
	{"durable", "fault", "bound", "reach"},
	{"core", "live", "wire", "vault", "browser", "due", "password", "gitssh", "registry"},
	{"steward"},
	{"store", "yard", "repo", "feature", "webhook", "identity", "githost"},
	{"presence", "house", "session", "backup"},
	{"reconcile", "record"},
	{"service"},
	{"scim", "metrics"},
	{"api", "access", "ssh"},
	{"client"},
	{"serve", "demo"},
	{"cli", "hunt"},
}

// Arrows go down only, and the core knows nothing of ours and does nothing
// outside itself.
func TestArrowsGoDownOnly(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "yardbench/internal/...", "yardbench/client", "yardbench/wire").Output()
	if err != nil {
		t.Fatal(err)
	}
	floor := map[string]int{}
	for n, rooms := range floors {
		for _, r := range rooms {
			floor[r] = n
		}
	}
	room := func(path string) string {
		if path == "yardbench/client" || path == "yardbench/wire" { // the rooms that are open to others
			return strings.TrimPrefix(path, "yardbench/")
		}
		rest, ours := strings.CutPrefix(path, "yardbench/internal/")
		if !ours {
			return ""
		}
		r, _, _ := strings.Cut(rest, "/")
		return r
	}
	packages := strings.Split(strings.TrimSpace(string(out)), "\n")
	if len(packages) < 15 {
		t.Fatalf("only %d packages are listed", len(packages))
	}
	for _, line := range packages {
		words := strings.Fields(line)
		from := room(words[0])
		if _, known := floor[from]; !known {
			t.Errorf("%s is on no floor: say where it belongs", words[0])
		}
		for _, used := range words[1:] {
			to := room(used)
			if to != "" && to != from && floor[to] >= floor[from] {
				t.Errorf("%s uses %s, which is not beneath it", words[0], used)
			}
			if from == "core" {
				outside := used == "os" || strings.HasPrefix(used, "os/") || used == "net" || used == "net/http" || used == "database/sql" || strings.HasPrefix(used, "crypto/rand")
				if outside || (to != "" && to != "core") {
					t.Errorf("%s uses %s: the core reaches nothing outside itself", words[0], used)
				}
			}
		}
	}
}

// mostMethods bounds a type to what is still one subject.
const mostMethods = 25

// No type has grown past its subject, the use cases know nothing of HTTP, and
// nothing that a door holds is a way past them to the rooms beneath.
func TestRoomsAreSmallAndShut(t *testing.T) {
	methods := map[string]int{}
	seen := 0
	err := filepath.WalkDir("../internal", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		seen++
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		room := strings.TrimPrefix(filepath.Dir(path), "../internal/")
		for _, i := range file.Imports {
			if room == "service" && i.Path.Value == `"net/http"` {
				t.Errorf("%s uses net/http: how a fault is told over HTTP is its door's matter", path)
			}
		}
		if room == "service" && filepath.Base(path) != "service.go" {
			ast.Inspect(file, func(n ast.Node) bool {
				if sel, ok := n.(*ast.SelectorExpr); ok && sel.Sel.Name == "Yard" {
					t.Errorf("%s sees a whole yard: it may see what it asks of it", path)
				}
				return true
			})
		}
		for _, d := range file.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				if d.Name.Name == "init" && strings.HasPrefix(room, "core/") {
					t.Errorf("%s does something by being there: the core is plain functions", path)
				}
				if d.Recv != nil {
					methods[room+"."+strings.TrimPrefix(types.ExprString(d.Recv.List[0].Type), "*")]++
				}
			case *ast.GenDecl:
				for _, s := range d.Specs {
					if ts, ok := s.(*ast.TypeSpec); ok && room == "service" && ts.Name.Name != "Rooms" {
						shut(t, ts)
					}
				}
			}
		}
		return nil
	})
	if err != nil || seen < 100 {
		t.Fatalf("%d files were read: %v", seen, err)
	}
	for name, n := range methods {
		if n > mostMethods {
			t.Errorf("%s has %d methods; at most %d are one subject: cut it along its nouns", name, n, mostMethods)
		}
	}
}

// shut looks for exported fields of a use case's type that lead on to a room.
func shut(t *testing.T, ts *ast.TypeSpec) {
	st, ok := ts.Type.(*ast.StructType)
	if !ok {
		return
	}
	for _, f := range st.Fields.List {
		of := types.ExprString(f.Type)
		for _, name := range f.Names {
			for _, room := range []string{"*store.Store", "reconcile.", "*house.", "*session.", "*vault.", "yard.Yard", "Mirrors", "*live."} {
				if name.IsExported() && strings.HasPrefix(of, room) {
					t.Errorf("service.%s.%s is a way past the use cases: %s", ts.Name.Name, name.Name, of)
				}
			}
		}
	}
}
