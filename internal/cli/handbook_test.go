package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/google/shlex"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

var (
	inCode    = regexp.MustCompile("`(yardbench [^`]+)`")
	inFence   = regexp.MustCompile(`(?:^|[\s(=])(?:bin/)?yardbench (?:yardbench )?(.+)$`) // sudo -u yardbench
	inside    = regexp.MustCompile(`\$\([^)]*\)`)
	ends      = regexp.MustCompile(`\s+(?:#|\||<|>|>>|&&|;|2>|\)).*$|\)['"]?( |$).*$`)
	howCalled = regexp.MustCompile(`\[[A-Z-]|\\\||[a-z]\.\.\.`) // how a command is called, which is no call
)

// Every command line in the documents is one: its command, its options and, where it
// stands in a block, what it is called with.
func TestWhatTheDocumentsSayToRun(t *testing.T) {
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, file := range append(files, "../../README.md") {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		fenced, lines := false, strings.Split(strings.ReplaceAll(string(text), "\\\n", " "), "\n")
		for _, line := range lines {
			if strings.HasPrefix(strings.TrimSpace(line), "```") {
				fenced = !fenced
				continue
			}
			if fenced {
				if m := inFence.FindStringSubmatch(line); m != nil {
					seen++
					called(t, file, m[1], true)
				}
				continue
			}
			for _, m := range inCode.FindAllStringSubmatch(line, -1) {
				seen++
				called(t, file, strings.TrimPrefix(m[1], "yardbench "), false)
			}
		}
	}
	a, _, _ := quiet(t)
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) { // and what each command says of itself
		for line := range strings.Lines(c.Example) {
			if m := inFence.FindStringSubmatch(strings.TrimRight(line, "\n")); m != nil {
				seen++
				called(t, c.CommandPath(), m[1], true)
			}
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(a.root())
	if seen < 600 {
		t.Errorf("only %d command lines are found", seen)
	}
}

// called checks one command line, as far as it is one; whole tells that nothing is
// left out of it.
func called(t *testing.T, file, line string, whole bool) {
	t.Helper()
	if howCalled.MatchString(line) {
		return
	}
	line = ends.ReplaceAllString(strings.ReplaceAll(inside.ReplaceAllString(line, "X"), "NUMBER", "1"), "")
	if i := strings.Index(line, "…"); i >= 0 {
		line, whole = line[:i], false
		if strings.Count(line, "'")%2 == 1 {
			line += "'"
		}
	}
	args, err := shlex.Split(line)
	if err != nil {
		t.Errorf("%s: %q: %v", file, line, err)
		return
	}
	a, _, _ := quiet(t)
	root := a.root()
	cmd, rest, err := root.Find(args)
	if err != nil {
		t.Errorf("%s: %q: %v", file, line, err)
		return
	}
	cmd.InitDefaultHelpFlag()
	cmd.InitDefaultVersionFlag()
	err = cmd.ParseFlags(rest)
	if _, missing := err.(*pflag.ValueRequiredError); missing && !whole {
		return // --wait, say, is told of
	}
	if err != nil {
		t.Errorf("%s: %q: %v", file, line, err)
		return
	}
	if left := cmd.Flags().Args(); whole {
		if err := cmd.ValidateArgs(left); err != nil {
			t.Errorf("%s: %q: %v", file, line, err)
		}
	} else if cmd.HasSubCommands() && len(left) > 0 && !cmd.Runnable() {
		t.Errorf("%s: %q: %s has no %s", file, line, cmd.CommandPath(), left[0])
	}
}
