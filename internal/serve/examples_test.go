package serve_test

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"yardbench/client"
	"yardbench/internal/demo"
)

// The examples of docs/api.md do what they say, as they stand there.
func TestExamplesOfTheDoor(t *testing.T) {
	if _, err := exec.LookPath("curl"); err != nil {
		t.Skip("needs curl: install the package curl")
	}
	doc, err := os.ReadFile("../../docs/api.md")
	if err != nil {
		t.Fatal(err)
	}
	examples := regexp.MustCompile("(?s)\n## ([^\n]+)\n.*?```sh\n(.*?)```").FindAllStringSubmatch(string(doc), -1)
	if len(examples) != 5 {
		t.Fatalf("there are %d examples", len(examples))
	}
	c, _ := simulated(t, map[string]map[string]string{"lights": {file: `{"image": "skerryline/base:1", "remoteUser": "crew"}`}})
	open, err := client.New(c.Address(), "")
	if err != nil {
		t.Fatal(err)
	}
	who, err := open.Self.SignIn(t.Context(), "ingrid", demo.Password)
	if err != nil {
		t.Fatal(err)
	}
	form := regexp.MustCompile("`(yb_[^`]*)`").FindAllStringSubmatch(string(doc), -1)
	if looked := regexp.MustCompile("^" + form[len(form)-1][1] + "$"); !looked.MatchString(who.Token) {
		t.Errorf("a token is not of the form that scanners are told: %s", looked)
	}
	dir := t.TempDir()
	for _, e := range examples {
		cmd := exec.CommandContext(t.Context(), "bash", "-eu", "-o", "pipefail", "-c", e[2])
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "ADDRESS="+c.Address(), "TOKEN="+who.Token)
		out, err := cmd.CombinedOutput()
		if err != nil || len(strings.TrimSpace(string(out))) == 0 {
			t.Errorf("%s: %v\n%s", e[1], err, out)
		}
	}
}
