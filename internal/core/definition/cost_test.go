package definition

import (
	"fmt"
	"os"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"
)

// costs are inputs that grow: each once took time by the square of its size,
// or reads a form that could. most is the largest that is let in.
var costs = map[string]struct {
	most  int
	input func(n int) (text string, files []string)
}{
	"arguments of a build":     {5000, entries(`{"build": {"dockerfile": "Dockerfile", "args": {`, `"A%d": "x"`, `}}}`)},
	"attributes of ports":      {5000, entries(`{"image": "a:1", "portsAttributes": {`, `"%d": {"label": "x"}`, `}}`)},
	"variables":                {2000, entries(`{"image": "a:1", "containerEnv": {`, `"A%d": "${localEnv:X:y}"`, `}}`)},
	"variables of sessions":    {2000, entries(`{"image": "a:1", "remoteEnv": {`, `"A%d": "x"`, `}}`)},
	"words of runArgs":         {1000, entries(`{"image": "a:1", "runArgs": [`, `"--dns=%d"`, `]}`)},
	"capabilities":             {5000, entries(`{"image": "a:1", "capAdd": [`, `"C%d"`, `]}`)},
	"forwarded ports":          {200, entries(`{"image": "a:1", "forwardPorts": [`, `1%d`, `]}`)},
	"mounts":                   {50, entries(`{"image": "a:1", "mounts": [`, `"type=volume,source=v%[1]d,target=/m%[1]d"`, `]}`)},
	"commands":                 {60, entries(`{"image": "a:1", "onCreateCommand": {`, `"c%d": "make"`, `}}`)},
	"unknown properties":       {10000, entries(`{"image": "a:1", `, `"imgae%d": 1`, `}`)},
	"duplicate keys":           {10000, entries(`{"image": "a:1", `, `"name": "x%d"`, `}`)},
	"comments":                 {10000, entries("{\"image\": \"a:1\", \"forwardPorts\": [", "/* x */ // %d ${localEnv:A}\n 1", "]}")},
	"local features":           {200, entries(`{"image": "a:1", "features": {`, `"./f%d": {}`, `}}`)},
	"files of a compose file":  {20, entries(`{"service": "app", "workspaceFolder": "/w", "dockerComposeFile": [`, `"f%d.yaml"`, `]}`)},
	"services in a chain":      {200, services2("  s%d: {image: 'a:1', depends_on: [s%d]}\n", -1)},
	"services":                 {200, services2("  s%d: {image: 'a:1', environment: {A: '%d'}}\n", 0)},
	"ports of a range":         {1000, func(n int) (string, []string) { return composedOf(fmt.Sprintf("    ports: ['1-%d:1-%d']\n", n, n)) }},
	"ports, one by one":        {500, lines2("    ports:\n", "    - '%d'\n")},
	"a service's environment":  {500, lines2("    environment:\n", "      A%d: x\n")},
	"references in a command":  {5000, func(n int) (string, []string) { return composedOf("    command: '" + strings.Repeat("$A ", n) + "'\n") }},
	"references without end":   {4000, func(n int) (string, []string) { return composedOf("    command: '" + strings.Repeat("$", n) + "'\n") }},
	"labels":                   {500, lines2("    labels:\n", "      a%d: x\n")},
	"an env file":              {10000, func(n int) (string, []string) { return envOf(n, "A%d=x\n") }},
	"an env file of one name":  {10000, func(n int) (string, []string) { return envOf(n, "A=${A} # %d\n") }},
	"stages":                   {10000, built("FROM a:1 AS s%d\n")},
	"stages that use others":   {10000, built("FROM a:1 AS s%[1]d\nCOPY --from=s%[1]d / /\n")},
	"secrets in a build file":  {10000, built("ENV A_TOKEN=ebb-1234-%d\n")},
	"exposed ports":            {10000, built("EXPOSE %d\n")},
	"arguments before a stage": {10000, built("ARG A%d=x\n")},
	"here-documents":           {5000, built("RUN <<E\n%d\nE\n")},
}

func entries(before, each, after string) func(int) (string, []string) {
	return func(n int) (string, []string) {
		list := make([]string, n)
		for i := range list {
			if list[i] = each; strings.Contains(each, "%") {
				list[i] = fmt.Sprintf(each, i)
			}
		}
		files := []string{}
		for i := range min(n, 200) {
			files = append(files, fmt.Sprintf(".devcontainer/f%d/devcontainer-feature.json", i), fmt.Sprintf(`{"id": "f%d"}`, i), fmt.Sprintf(".devcontainer/f%d/install.sh", i), "", fmt.Sprintf(".devcontainer/f%d.yaml", i), fmt.Sprintf("services: {app: {image: 'a:%d'}}", i))
		}
		return before + strings.Join(list, ", ") + after, files
	}
}

// composedOf is a definition with a compose file that has these lines in its
// service.
func composedOf(lines string) (string, []string) {
	return `{"dockerComposeFile": "c.yaml", "service": "app", "workspaceFolder": "/w", "runServices": ["app"]}`, []string{".devcontainer/c.yaml", "services:\n  app:\n    image: a:1\n" + lines}
}

func services2(each string, next int) func(int) (string, []string) {
	return func(n int) (string, []string) {
		var b strings.Builder
		for i := 1; i < n; i++ {
			fmt.Fprintf(&b, each, i, max(1, i+next))
		}
		text := strings.Replace(b.String(), ", depends_on: [s1]", "", 1)
		return composedOf(text)
	}
}

func lines2(before, each string) func(int) (string, []string) {
	return func(n int) (string, []string) {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, each, i+1)
		}
		return composedOf(before + b.String())
	}
}

func envOf(n int, each string) (string, []string) {
	text, files := composedOf("    env_file: [x.env]\n")
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, each, i)
	}
	return text, append(files, ".devcontainer/x.env", b.String())
}

func built(each string) func(int) (string, []string) {
	return func(n int) (string, []string) {
		var b strings.Builder
		if !strings.Contains(each, "FROM") && !strings.HasPrefix(each, "ARG") {
			b.WriteString("FROM a:1\n")
		}
		for i := range n {
			fmt.Fprintf(&b, each, i)
		}
		if strings.HasPrefix(each, "ARG") {
			b.WriteString("FROM a:1\n")
		}
		return `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`, []string{".devcontainer/Dockerfile", b.String()}
	}
}

// What grows stays cheap at the largest that is let in, and costs in proportion:
// ten times as much takes at most twenty times the memory. With COST=CASE and
// SIZE=PARTS one alone is looked at, whole or a part of it, so that whoever
// counts steps can compare (see BenchmarkCostGrowsWithSize). In short only a tenth is.
func TestCost(t *testing.T) {
	look := func(name string, n int) (used uint64) {
		text, files := costs[name].input(n)
		src := source(text, files...)
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		began := time.Now()
		_, fs := Check(src)
		runtime.ReadMemStats(&after)
		used = after.TotalAlloc - before.TotalAlloc
		if len(fs) > MaxFindings {
			t.Errorf("%s: %d findings", name, len(fs))
		}
		if took := time.Since(began); took > time.Minute {
			t.Errorf("%s took %s", name, took)
		}
		if used > 256<<20 {
			t.Errorf("%s took %d MiB in all", name, used>>20)
		}
		return used
	}
	if name, parts := os.Getenv("COST"), os.Getenv("SIZE"); name != "" {
		n, err := strconv.Atoi(parts)
		if err != nil {
			t.Fatal(err)
		}
		look(name, costs[name].most/n)
		return
	}
	for name, c := range costs {
		n := c.most
		if testing.Short() {
			n /= 10
		}
		if n < 10 {
			continue
		}
		small, large := look(name, n/10), look(name, n)
		for again := 0; large > 20*small && again < 3; again++ {
			// What the runtime takes for itself, or has not counted yet, may have come between.
			small, large = max(small, look(name, n/10)), min(large, look(name, n))
		}
		if large > 20*small { // by the square it would be a hundred times
			t.Errorf("%s: a tenth takes %d KiB, all of it %d", name, small>>10, large>>10)
		}
	}
}
