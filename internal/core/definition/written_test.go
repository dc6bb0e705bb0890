package definition

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/tools/txtar"
)

// Repositories as their developers write them: what each comes to, and all that
// is said of it. Lines with a rule are findings, the others values; a key alone
// is a value that is not there. WRITE=1 writes the findings down anew.
func TestAsWritten(t *testing.T) {
	names, err := filepath.Glob("testdata/written/*.txtar")
	if err != nil || len(names) < 40 {
		t.Fatal(len(names), err)
	}
	for _, name := range names {
		t.Run(strings.TrimSuffix(filepath.Base(name), ".txtar"), func(t *testing.T) {
			a, err := txtar.ParseFile(name)
			if err != nil {
				t.Fatal(err)
			}
			def, findings := Check(sourceOf(a))
			values := map[string]bool{}
			keys := map[string]bool{}
			for _, v := range Values(def) {
				values[v.Key+" = "+v.Value], keys[v.Key] = true, true
			}
			var said, want []string
			for _, f := range findings {
				said = append(said, fmt.Sprintf("%s: %s", f.Rule, f))
			}
			comment := ""
			for _, line := range strings.Split(strings.TrimSpace(string(a.Comment)), "\n") {
				rule, _, _ := strings.Cut(line, ": ")
				switch {
				case Rules[rule] != "":
					want = append(want, line)
					continue
				case line == "" || strings.HasPrefix(line, "#"):
				case !strings.Contains(line, " = "):
					if keys[line] {
						t.Errorf("there is a %s", line)
					}
				case !values[line]:
					t.Errorf("it does not come to %s, but to\n%v", line, strings.Join(sortedKeys(values), "\n"))
				}
				if line != "" {
					comment += line + "\n"
				}
			}
			if os.Getenv("WRITE") != "" {
				a.Comment = []byte(comment + strings.Join(append(said, ""), "\n") + "\n")
				if err := os.WriteFile(name, txtar.Format(a), 0o644); err != nil {
					t.Fatal(err)
				}
			} else if !slices.Equal(said, want) {
				t.Errorf("said is\n%s\nnot\n%s", strings.Join(said, "\n"), strings.Join(want, "\n"))
			}
		})
	}
}

func sourceOf(a *txtar.Archive) Source {
	var files []string
	for _, f := range a.Files {
		files = append(files, f.Name, string(f.Data))
	}
	src := source("", files...)
	return src
}

// seeded gives the repositories of testdata/written to a fuzz target.
func seeded(f *testing.F, add func(Source, Definition)) {
	names, err := filepath.Glob("testdata/written/*.txtar")
	if err != nil || len(names) == 0 {
		f.Fatal(names, err)
	}
	for _, name := range names {
		a, err := txtar.ParseFile(name)
		if err != nil {
			f.Fatal(err)
		}
		src := sourceOf(a)
		def, _ := Resolve(src)
		add(src, def)
	}
}
