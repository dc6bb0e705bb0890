package definition

import (
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// BenchmarkOthers resolves what people wrote without knowing of this reader: the
// definitions, compose files and build files in the modules that Go has on this
// machine. It prints how many come to what: none may bring the reader down, and
// none is refused without a rule.
func BenchmarkOthers(b *testing.B) {
	out, err := exec.Command("go", "env", "GOMODCACHE").Output()
	if err != nil {
		b.Skipf("Go does not say where its modules are: %v", err)
	}
	cache := strings.TrimSpace(string(out))
	var all []written
	err = filepath.WalkDir(cache, func(p string, d os.DirEntry, err error) error {
		if err != nil {
			return nil //nolint:nilerr // what cannot be read is nobody's
		}
		rel, _ := filepath.Rel(cache, p)
		if d.IsDir() && (rel == "cache" || d.Name() == "node_modules") {
			return filepath.SkipDir
		}
		name := d.Name()
		if d.IsDir() || !(name == "devcontainer.json" || name == ".devcontainer.json" || name == "Dockerfile" || slices.Contains(composeNames, name)) {
			return nil
		}
		root := p // of the module: the folder with @ in its name
		for r := rel; r != "."; r = filepath.Dir(r) {
			if strings.Contains(filepath.Base(r), "@") {
				root = filepath.Join(cache, r)
			}
		}
		all = append(all, written{root, filepath.ToSlash(strings.TrimPrefix(p, root+"/"))})
		return nil
	})
	if err != nil {
		b.Fatal(err)
	}
	counts := map[string]int{}
	var slowest time.Duration
	for b.Loop() {
		clear(counts)
		for _, f := range all {
			began := time.Now()
			kind, findings := f.check()
			slowest = max(slowest, time.Since(began))
			counts[kind+", "+outcome(b, f, findings)]++
			for _, x := range findings {
				counts["finding: "+x.Rule]++
			}
		}
	}
	for _, k := range sortedKeys(counts) {
		b.Logf("%5d  %s", counts[k], k)
	}
	b.ReportMetric(float64(len(all)), "files")
	b.ReportMetric(float64(slowest.Milliseconds()), "ms/slowest")
}

// written is a file in a module: the module's folder, and the path from there.
type written struct{ root, file string }

// check looks at one as if it were the repository's first definition, or all
// that it has.
func (f written) check() (kind string, findings []Finding) {
	dir, base := path.Split(f.file)
	kind = "definition"
	first := Places[0]
	text := []byte(nil)
	switch {
	case base == "Dockerfile":
		kind, first, text = "build file", Places[1], fmt.Appendf(nil, `{"build": {"dockerfile": %q, "context": "."}}`, base)
	case slices.Contains(composeNames, base):
		kind, first = "compose file", base
	}
	_, findings = Check(Source{Repository: path.Base(f.root), Read: func(p string) ([]byte, bool) {
		switch {
		case p == first && text != nil:
			return text, true
		case kind != "definition": // from the file's own folder
			p = path.Join(dir, p)
		case p == first:
			p = f.file
		}
		content, err := os.ReadFile(filepath.Join(f.root, filepath.FromSlash(p)))
		return content, err == nil
	}})
	return kind, findings
}

func outcome(b *testing.B, f written, findings []Finding) string {
	x, bad := Fatal(findings)
	if !bad {
		return "taken"
	}
	if Rules[x.Rule] == "" {
		b.Errorf("%s is refused without a rule: %s", f.file, x)
	}
	b.Logf("%s: %s", f.file, x)
	return "refused: " + x.Rule
}
