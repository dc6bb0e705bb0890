package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"yardbench/internal/client"
	"yardbench/internal/core/definition"
	"yardbench/internal/wire"
)

func (a *app) definition() *cobra.Command {
	c := &cobra.Command{Use: "definition", Short: "Look at environment definitions", Example: "  yardbench definition check"}
	var sarif, strict bool
	check := &cobra.Command{
		Use: "check [FOLDER | REPOSITORY[@BRANCH]]", Short: "Say what is wrong with a definition, why it matters, and what to do",
		Long: `Say what is wrong with a definition, why it matters, and what to do.

A folder (the one you are in, when none is named) is checked as it lies there,
without the service. Any other name is that of a registered repository, which
the service checks at its branch's head. The exit code is 4 where a launch
would be refused, with --strict also where there are warnings.`,
		Example: "  yardbench definition check\n  yardbench definition check tide-board@spring-tides\n  yardbench definition check --sarif . > findings.sarif",
		Args:    cobra.MaximumNArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if sarif && a.json {
				return usage{fmt.Errorf("--sarif and --json are two forms of the same: ask for one")}
			}
			var found wire.DefinitionCheck
			if where := strings.Join(args, ""); isFolder(where) {
				found, err = checkFolder(where)
			} else {
				err = a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
					name, branch, _ := strings.Cut(where, "@")
					found, err = api.CheckDefinition(cmd.Context(), name, branch)
					return err
				})(cmd, args)
			}
			if err != nil {
				return err
			}
			if sarif {
				err = writeSARIF(a.out, found.Findings)
			} else {
				err = a.print(found, func() { a.findings(found) })
			}
			if n := count(found.Findings); err == nil && (n["error"] > 0 || strict && n["warning"] > 0) {
				return exit(exitRefused)
			}
			return err
		},
	}
	check.Flags().BoolVar(&sarif, "sarif", false, "print SARIF 2.1.0, which code hosts show beside the lines")
	check.Flags().BoolVar(&strict, "strict", false, "let warnings count as errors in the exit code")
	c.AddCommand(check)
	return c
}

func isFolder(name string) bool {
	if name == "" || strings.HasPrefix(name, ".") || filepath.IsAbs(name) {
		return true
	}
	i, err := os.Stat(name)
	return err == nil && i.IsDir()
}

// checkFolder checks a tree on this machine. Nothing outside of it is read,
// wherever its links lead.
func checkFolder(folder string) (wire.DefinitionCheck, error) {
	found := wire.DefinitionCheck{Findings: []wire.DefinitionFinding{}}
	folder, err := filepath.Abs(folder)
	if err != nil {
		return found, err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return found, fmt.Errorf("the folder cannot be looked at: %w", err)
	}
	defer root.Close()
	src := definition.Source{Repository: filepath.Base(folder), Read: func(p string) ([]byte, bool) {
		if i, err := root.Lstat(p); err != nil || !i.Mode().IsRegular() {
			return nil, false
		}
		if path.Base(p) == ".env" && !committed(folder, p) {
			return nil, false
		}
		f, err := root.Open(p)
		if err != nil {
			return nil, false
		}
		defer f.Close()
		content, err := io.ReadAll(io.LimitReader(f, definition.MaxBytes+1))
		return content, err == nil
	}}
	_, findings := definition.Check(src)
	for _, f := range findings {
		found.Findings = append(found.Findings, wire.DefinitionFinding(f))
	}
	return found, nil
}

// committed tells whether git keeps the file; where there is no git to ask, a
// file that lies there counts.
func committed(folder, file string) bool {
	err := exec.Command("git", "-C", folder, "ls-files", "--error-unmatch", "--", ":(literal)"+file).Run()
	e, asked := err.(*exec.ExitError)
	return err == nil || !asked || e.ExitCode() != 1
}

func count(fs []wire.DefinitionFinding) map[string]int {
	n := map[string]int{}
	for _, f := range fs {
		n[f.Severity]++
	}
	return n
}

// findings prints what was found, one after the other, and the sum.
func (a *app) findings(found wire.DefinitionCheck) {
	if found.Repository != "" {
		fmt.Fprintf(a.out, "%s at %s (%.10s)\n", found.Repository, clean(found.Branch), found.Commit)
	}
	for _, f := range found.Findings {
		fix := f.Fix
		f.Fix = "" // on a line of its own
		fmt.Fprintln(a.out, clean(definition.Finding(f).String()))
		for _, more := range [][2]string{{"why", f.Why}, {"do", fix}} {
			if more[1] != "" {
				fmt.Fprintf(a.out, "    %-4s %s\n", more[0], clean(more[1]))
			}
		}
	}
	n := count(found.Findings)
	var sum []string
	for _, s := range []string{"error", "warning", "note"} {
		if n[s] > 0 {
			sum = append(sum, some(n[s], s))
		}
	}
	if len(sum) == 0 {
		sum = []string{"nothing is wrong with the definition"}
	}
	fmt.Fprintln(a.out, strings.Join(sum, ", "))
}

func some(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return fmt.Sprintf("%d %s", n, what)
}

// writeSARIF writes findings in the Static Analysis Results Interchange Format
// 2.1.0 of OASIS. A place is its whole line: SARIF counts columns in
// characters, a finding in bytes.
func writeSARIF(out io.Writer, fs []wire.DefinitionFinding) error {
	type m = map[string]any
	rules, results, seen := []m{}, []m{}, map[string]bool{}
	for _, f := range fs {
		if !seen[f.Rule] {
			seen[f.Rule] = true
			rules = append(rules, m{"id": f.Rule, "fullDescription": m{"text": f.Why}})
		}
		text := f.What
		if f.Fix != "" {
			text += "; " + f.Fix
		}
		place := m{"artifactLocation": m{"uri": f.Path}}
		if f.Line > 0 {
			place["region"] = m{"startLine": f.Line}
		}
		results = append(results, m{"ruleId": f.Rule, "level": f.Severity, "message": m{"text": text}, "locations": []m{{"physicalLocation": place}}})
	}
	enc := json.NewEncoder(out)
	enc.SetIndent("", "  ")
	return enc.Encode(m{"version": "2.1.0", "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
		"runs": []m{{"tool": m{"driver": m{"name": "Yard Bench", "rules": rules}}, "results": results}}})
}
