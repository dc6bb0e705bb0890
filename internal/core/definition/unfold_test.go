package definition

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yardbench/internal/bound"
)

// bombs are small files that unfold to much: a definition, or a compose file,
// with files of variables beside it.
type bombs struct{ compose, env, definition string }

// source is what a service resolves of it.
func (b bombs) source() Source {
	text := b.definition
	if text == "" {
		text = `{"dockerComposeFile": "c.yml", "service": "a", "workspaceFolder": "/app"}`
	}
	return source(text, ".devcontainer/c.yml", b.compose, ".devcontainer/.env", b.env, ".devcontainer/big.env", doubling("A%d=%s\n"))
}

// doubling is a file of variables in which each is four times the one before.
func doubling(form string) string {
	var b strings.Builder
	b.WriteString("A0=xxxxxxxxxx\n")
	for i := 1; i < 30; i++ {
		ref := fmt.Sprintf("${A%d}", i-1)
		fmt.Fprintf(&b, form, i, ref+ref+ref+ref)
	}
	return b.String()
}

// small are such files, each of which once took all memory there is, or
// minutes.
func small() map[string]bombs {
	plain := "services: {a: {image: 'x:1'}}\n"
	merges := "x-0: &x0 {k: v}\n"
	for i := 1; i < 8; i++ {
		merges += fmt.Sprintf("x-%d: &x%d {", i, i)
		for k := range 10 {
			merges += fmt.Sprintf("k%d: {<<: *x%d}, ", k, i-1)
		}
		merges += "}\n"
	}
	return map[string]bombs{
		"an .env of variables":          {plain, doubling("A%d=%s\n"), ""},
		"an .env of quoted variables":   {plain, doubling("export A%d = \"%s\n\"\n"), ""},
		"an .env in YAML's style":       {plain, doubling("A%d: '' \nA%[1]d: %[2]s\n"), ""},
		"one variable again and again":  {plain, "A=xxxxxxxxxx\n" + strings.Repeat("A=${A}${A}\n", 40), ""},
		"the default of a variable":     {plain, "A=xxxxxxxxxx\n" + strings.Repeat("A=${N:-${A}${A}}\n", 40), ""},
		"an env_file":                   {"services: {a: {image: 'x:1', env_file: [big.env]}}\n", "", ""},
		"merge keys":                    {plain + merges, "", ""},
		"aliases of a long text":        {plain + "x-a: &a " + strings.Repeat("y", 100_000) + "\nx-b: [" + strings.Repeat("*a,", 10_000) + "]\n", "", ""},
		"an alias of itself":            {plain + "x-a: &a [*a]\n", "", ""},
		"a long variable, often":        {"services: {a: {image: 'x:1', command: '" + strings.Repeat("$A ", 30_000) + "'}}\n", "A=" + strings.Repeat("y", 100_000) + "\n", ""},
		"no variable, very often":       {"services: {a: {image: 'x:1', command: '" + strings.Repeat("$A ", 300_000) + "'}}\n", "", ""},
		"nothing but dollar signs":      {"services: {a: {image: 'x:1', command: '" + strings.Repeat("$", 900_000) + "'}}\n", "", ""},
		"dollar signs in .env":          {plain, "A=" + strings.Repeat("$", 900_000) + "\n", ""},
		"defaults in defaults":          {"services: {a: {image: 'x:1', command: '" + strings.Repeat("${A:-", 8000) + strings.Repeat("}", 8000) + "'}}\n", "", ""},
		"defaults in defaults, in .env": {plain, "A=" + strings.Repeat("${A:-", 8000) + strings.Repeat("}", 8000) + "\n", ""},
		"a long workspace folder": {"", "", `{"image": "a:1", "workspaceFolder": "/` + strings.Repeat("x", 300_000) + `", "containerEnv": {"A": "` +
			strings.Repeat("${containerWorkspaceFolder}", 20_000) + `"}}`},
		"a folder as long as may be, often": {"", "", `{"image": "a:1", "workspaceFolder": "/` + strings.Repeat("x", maxPath-2) + `", "containerEnv": {"A": "` +
			strings.Repeat("${containerWorkspaceFolder}", 20_000) + `"}}`},
	}
}

// What small text unfolds to is bounded: it is an error that costs little.
func TestWhatTextUnfoldsToIsBounded(t *testing.T) {
	for name, c := range small() {
		t.Run(name, func(t *testing.T) {
			bound.Hold(t, 256, func() {
				if _, findings := Resolve(c.source()); !second(Fatal(findings)) {
					t.Errorf("it is taken, with findings %v", findings)
				}
			})
		})
	}
}

// What files and services make of each other is bounded as what they unfold to
// is: each of these took minutes, or had no end.
func TestWhatRefersToOthersIsBounded(t *testing.T) {
	again := []string{"compose.yaml", "include: [" + strings.TrimSuffix(strings.Repeat("c1.yaml, ", 400), ", ") + "]\nservices: {app: {image: 'a:1'}}\n"}
	for i := 1; i < maxIncluded; i++ {
		again = append(again, fmt.Sprintf("c%d.yaml", i), "include: ["+strings.TrimSuffix(strings.Repeat(fmt.Sprintf("c%d.yaml, ", i+1), 400), ", ")+"]\nservices: {}\n")
	}
	again = append(again, fmt.Sprintf("c%d.yaml", maxIncluded), "services: {}\n")
	large := "    x-a:\n" + strings.Repeat("      - ["+strings.TrimSuffix(strings.Repeat("1,", 480), ",")+"]\n", 30)
	heirs, chain := "services:\n  app: {image: 'a:1'}\n  base:\n    image: b:1\n"+large, "services:\n  app: {image: 'a:1'}\n  s0: {image: 'b:1'}\n"
	for i := range 190 {
		heirs += fmt.Sprintf("  s%d: {extends: base}\n", i)
		chain += fmt.Sprintf("  s%d: {extends: s%d, labels: {%s}}\n", i+1, i, many(20, fmt.Sprintf("a%d-%%d: x", i)))
	}
	far := []string{"compose.yaml", "services:\n  app: {image: 'a:1'}\n", "base.yaml", "services:\n  base:\n    image: b:1\n" + large}
	for i := range 190 {
		far[1] += fmt.Sprintf("  s%d: {extends: {file: base.yaml, service: base}}\n", i)
	}
	for what, c := range map[string]struct {
		files []string
		says  string
	}{
		"files included again and again":  {again, "more than 20 files are read"},
		"many services that extend one":   {[]string{"compose.yaml", heirs}, "with what services extend it comes to more than"},
		"services that extend each other": {[]string{"compose.yaml", chain}, "with what services extend it comes to more than"},
		"many that extend another file's": {far, "with what services extend it comes to more than"},
	} {
		began := time.Now()
		_, fs := composedOver(c.files...)
		if took := time.Since(began); !strings.Contains(fmt.Sprint(fs), c.says) || took > 20*time.Second {
			t.Errorf("%s: %.300v in %s", what, fs, took)
		}
	}
	began := time.Now()
	_, fs := Check(source(`{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`, ".devcontainer/Dockerfile", "FROM a:1\n"+strings.Repeat("EXPOSE 1-65535\n", maxInstructions-1)))
	if took := time.Since(began); len(fs) != MaxFindings || took > 20*time.Second {
		t.Errorf("exposed ranges: %d findings in %s", len(fs), took)
	}
	built := "services:\n"
	for i := range 4 {
		built += fmt.Sprintf("  s%d: {build: {context: ., target: t%d}}\n", i, i)
	}
	_, fs = Check(source(`{"dockerComposeFile": "c.yaml", "service": "s0", "workspaceFolder": "/w"}`, ".devcontainer/c.yaml", built, ".devcontainer/Dockerfile", "FROM a:1 AS t0\nFROM a:1 AS t1\nFROM a:1 AS t2\nFROM a:1 AS t3\n#"+strings.Repeat("x", 900_000)))
	if !strings.Contains(fmt.Sprint(fs), "the build files come to more than the 2097152 bytes allowed") {
		t.Errorf("build files that are large together are told as %v", fs)
	}
}

// Files of variables that people write are read as they were.
func TestEnvironment(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"A=1\nB=2\n", "A=1 B=2"},
		{"# note\n\nexport A=1 # one\n  B = two\nC: three\n", "A=1 B=two C=three"},
		{"HOST=db\nURL=\"http://${HOST}:$PORT/\"\nPORT=5432\n", "HOST=db PORT=5432 URL=http://db:/"},
		{"A='${B}'\nB=\"line\\nother\nthird \\\"quoted\\\"\"\nC=${A}\n", "A=${B} B=line\nother\nthird \"quoted\" C=${B}"},
		{"A=${N:-${M:-last}}\nB=$$A\n", "A=last B=$A"},
		{"A='it''s'", ""},
		{"KEY=\"a # b\" # c\nD=e\n", "D=e KEY=a # b"},
		{"A='x\n", ""},
		{"URL=http://x:8000/?a=b\nQ=it's fine\nR=\"y\"\n", "Q=it's fine R=y URL=http://x:8000/?a=b"},
	} {
		got, err := environment([]byte(c.text), &allowance{})
		var said []string
		for _, k := range sortedKeys(got) {
			said = append(said, k+"="+got[k])
		}
		if s := strings.Join(said, " "); s != c.want || (err != nil) != (c.want == "") {
			t.Errorf("%q is read as %q, %v", c.text, s, err)
		}
	}
}
