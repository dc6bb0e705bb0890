package test

import (
	"bufio"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"
)

// What a repository wrote costs steps in proportion to its size: of each form
// that grows, ten times as much costs at most twelve times the steps. Steps are
// statements run, in the reader of definitions and in the packages that read
// for it, as Go's coverage counts them; no clock takes part.
func BenchmarkCostGrowsWithSize(t *testing.B) {
	dir := t.TempDir()
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Minute)
	defer cancel()
	binary := filepath.Join(dir, "definition.test")
	readers := "yardbench/internal/core/definition/...,github.com/tailscale/hujson,github.com/compose-spec/compose-go/v2/...,github.com/moby/buildkit/frontend/dockerfile/...,go.yaml.in/yaml/v4/..."
	build := exec.CommandContext(ctx, "go", "test", "-c", "-covermode=count", "-coverpkg="+readers, "-o", binary, "yardbench/internal/core/definition")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	source, err := os.ReadFile("../internal/core/definition/cost_test.go")
	if err != nil {
		t.Fatal(err)
	}
	cases := regexp.MustCompile(`(?m)^\t"([^"]+)":\s+\{(\d+),`).FindAllStringSubmatch(string(source), -1)
	if len(cases) < 25 {
		t.Fatalf("only %d cases", len(cases))
	}
	steps := func(name, parts string) (sum int64) {
		profile := filepath.Join(dir, "steps")
		cmd := exec.CommandContext(ctx, binary, "-test.run", "^TestCost$", "-test.coverprofile", profile)
		cmd.Dir = "../internal/core/definition"
		cmd.Env = append(os.Environ(), "COST="+name, "SIZE="+parts)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
		f, err := os.Open(profile)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		lines := bufio.NewScanner(f)
		for lines.Scan() { // FILE:PLACES STATEMENTS COUNT; those of the test itself are not covered
			w := strings.Fields(lines.Text())
			if len(w) != 3 {
				continue
			}
			n, _ := strconv.ParseInt(w[1], 10, 64)
			count, _ := strconv.ParseInt(w[2], 10, 64)
			sum += n * count
		}
		if sum == 0 || lines.Err() != nil {
			t.Fatalf("%s: no steps, %v", name, lines.Err())
		}
		return sum
	}
	for _, c := range cases {
		small, large := steps(c[1], "10"), steps(c[1], "1")
		if ratio := float64(large) / float64(small); ratio > 12 {
			t.Errorf("%s: %d steps for a tenth, and %.1f times as many for all", c[1], small, ratio)
		} else {
			t.Logf("%-26s %12d steps, %4.1f times a tenth's", c[1], large, ratio)
		}
	}
}
