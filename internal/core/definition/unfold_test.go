package definition

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"
)

// What small text unfolds to is bounded: each of these once took all memory
// there is, or minutes, and now is an error that costs little.
func TestWhatTextUnfoldsToIsBounded(t *testing.T) {
	doubling := func(form string) string {
		var b strings.Builder
		b.WriteString("A0=xxxxxxxxxx\n")
		for i := 1; i < 30; i++ {
			ref := fmt.Sprintf("${A%d}", i-1)
			fmt.Fprintf(&b, form, i, ref+ref+ref+ref)
		}
		return b.String()
	}
	plain := "services: {a: {image: 'x:1'}}\n"
	merges := "x-0: &x0 {k: v}\n"
	for i := 1; i < 8; i++ {
		merges += fmt.Sprintf("x-%d: &x%d {", i, i)
		for k := range 10 {
			merges += fmt.Sprintf("k%d: {<<: *x%d}, ", k, i-1)
		}
		merges += "}\n"
	}
	for name, c := range map[string]struct{ compose, env, definition string }{
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
	} {
		t.Run(name, func(t *testing.T) {
			text := c.definition
			if text == "" {
				text = `{"dockerComposeFile": "c.yml", "service": "a", "workspaceFolder": "/app"}`
			}
			src := source(text, ".devcontainer/c.yml", c.compose, ".devcontainer/.env", c.env, ".devcontainer/big.env", doubling("A%d=%s\n"))
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			began := time.Now()
			_, findings := Resolve(src)
			took := time.Since(began)
			runtime.ReadMemStats(&after)
			if _, bad := Fatal(findings); !bad {
				t.Errorf("it is taken, with findings %v", findings)
			}
			if used := (after.TotalAlloc - before.TotalAlloc) >> 20; used > 256 || took > time.Minute {
				t.Errorf("it took %d MiB and %s", used, took)
			}
		})
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
