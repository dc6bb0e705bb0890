package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	reference "github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/pmezard/go-difflib/difflib"
	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/definition"
	"yardbench/internal/service"
	"yardbench/wire"
)

func (a definitionCommands) definition() *cobra.Command {
	c := &cobra.Command{Use: "definition", Short: "Look at environment definitions", Example: "  yardbench definition check"}
	var sarif, strict, fix, pin, write bool
	var name string
	const where = `

A folder (the one you are in, when none is named) is looked at as it lies there,
without the service. Any other name is that of a registered repository, which
the service looks at, at its branch's head.`
	check := &cobra.Command{
		Use: "check [FOLDER | REPOSITORY[@BRANCH]]", Short: "Say what is wrong with a definition, why it matters, and what to do",
		Long: "Say what is wrong with a definition, why it matters, and what to do." + where + ` The exit code is 4 where a launch
would be refused, with --strict also where there are warnings. Of a folder with
several definitions all are looked at, unless --name names one. --fix shows as a
patch what can be mended without asking: ports that are not forwarded, values
that look like secrets, files of such values that git keeps. With --pin images
without a version are pinned to what their registry has today, which asks the
registry. --write writes it.`,
		Example: "  yardbench definition check\n  yardbench definition check tide-board@spring-tides\n  yardbench definition check --sarif . > findings.sarif",
		Args:    cobra.MaximumNArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if sarif && a.json {
				return usage{fmt.Errorf("--sarif and --json are two forms of the same: ask for one")}
			}
			if (write || pin) && !fix {
				return usage{fmt.Errorf("--write and --pin are of what --fix mends: give that too")}
			}
			if fix {
				return a.fix(cmd.Context(), strings.Join(args, ""), name, pin, write)
			}
			found, err := a.lookAt(cmd, args, name, true)
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
	check.Flags().BoolVar(&fix, "fix", false, "show as a patch what can be mended without asking, in a folder")
	check.Flags().BoolVar(&pin, "pin", false, "with --fix: pin images to the digest that their registry has now")
	check.Flags().BoolVar(&write, "write", false, "with --fix: write it")
	check.Flags().BoolVar(&strict, "strict", false, "let warnings count as errors in the exit code")
	show := &cobra.Command{
		Use: "show [FOLDER | REPOSITORY[@BRANCH]]", Short: "Show what a definition comes to, each value with where it is from",
		Long:    "Show what a definition comes to after merging, each value with where it is from: a line of a file, a feature, an image's label, the house rules, or what is usual." + where + "\nOf a repository the fingerprint of its image is shown too, and the images it begins with.",
		Example: "  yardbench definition show tide-board\n  yardbench definition show . --name night", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: func(cmd *cobra.Command, args []string) error {
			found, err := a.resolved(cmd, args, name)
			if err != nil {
				return err
			}
			return a.print(found, func() { a.values(found) })
		},
	}
	explain := &cobra.Command{
		Use: "explain [FOLDER | REPOSITORY[@BRANCH]]", Short: "Say what a launch does because of a definition, in order, as whom and where",
		Long:    "Say what a launch does because of a definition: what runs in which order, as whom, where, and which line says so." + where,
		Example: "  yardbench definition explain\n  yardbench definition explain tide-board@spring-tides", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: func(cmd *cobra.Command, args []string) error {
			found, err := a.resolved(cmd, args, name)
			if err != nil {
				return err
			}
			return a.print(found, func() {
				a.heading(found)
				t := a.table(a.out, "WHEN", "WHAT", "AS", "WHERE", "FROM")
				for _, x := range found.Steps {
					t.row(x.When, shortened(x.What, 60), x.As, x.Where, x.From)
				}
				t.print()
			})
		},
	}
	diff := &cobra.Command{
		Use: "diff ONE OTHER", Short: "Show what differs between two definitions, and what that makes due",
		Long: `Show what differs between what two definitions come to, and what a change from
the first to the other makes due for workspaces that are there. Each is a
folder, or a registered repository's branch, as in check: a folder against the
branch tells what a change does before it is pushed.`,
		Example: "  yardbench definition diff tide-board .\n  yardbench definition diff tide-board tide-board@spring-tides", Args: cobra.ExactArgs(2), ValidArgsFunction: a.repositoryNames,
		RunE: func(cmd *cobra.Command, args []string) error {
			var sides [2]wire.DefinitionCheck
			for i := range sides {
				found, err := a.resolved(cmd, args[i:i+1], name)
				if err != nil {
					return err
				}
				sides[i] = found
			}
			found := service.Compared(sides[0], sides[1])
			return a.print(found, func() {
				if len(found.Changes) == 0 {
					fmt.Fprintln(a.out, "they come to the same")
					return
				}
				t := a.table(a.out, "VALUE", "IN "+args[0], "IN "+args[1])
				for _, c := range found.Changes {
					t.row(c.Key, shortened(cmp.Or(c.Old, "none"), 60), shortened(cmp.Or(c.New, "none"), 60))
				}
				t.print()
				fmt.Fprintf(a.out, "\n%s; due: %s\n", some(len(found.Changes), "difference"), found.Due)
			})
		},
	}
	for _, x := range []*cobra.Command{check, show, explain, diff} {
		x.Flags().StringVar(&name, "name", "", "the definition under .devcontainer of that name (default: the first one)")
	}
	c.AddCommand(check, show, explain, diff)
	return c
}

// shortened cuts a text for a column.
func shortened(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// fix shows what can be mended in a folder as a patch, and writes it if it is
// to be written.
func (a definitionCommands) fix(ctx context.Context, folder, name string, pin, write bool) error {
	if !isFolder(folder) {
		return usage{fmt.Errorf("--fix mends a folder, and %s is none; clone it, and mend it there", folder)}
	}
	t, err := openTree(folder)
	if err != nil {
		return err
	}
	defer t.root.Close()
	digests := map[string]string{}
	fixes := func() []definition.Fix {
		src := t.source(name)
		def, findings := definition.Check(src)
		return definition.Fixes(src, def, findings, digests)
	}
	if pin {
		images, err := look(ctx, func() []string {
			_, findings := definition.Check(t.source(name))
			return definition.Unpinned(findings)
		})
		if err != nil {
			return err
		}
		a.digests(ctx, images, digests)
	}
	found, err := look(ctx, fixes)
	if err != nil {
		return err
	}
	if len(found) == 0 {
		fmt.Fprintln(a.out, "nothing can be mended without asking")
		return nil
	}
	for _, f := range found {
		from := "a/" + f.Path
		if f.Old == nil {
			from = "/dev/null"
		}
		patch, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: linesOf(f.Old), B: linesOf(f.New), FromFile: from, ToFile: "b/" + f.Path, Context: 3})
		if err != nil {
			return err
		}
		for _, why := range f.Why {
			fmt.Fprintf(a.out, "# %s\n", clean(why))
		}
		fmt.Fprint(a.out, clean(patch))
		if write {
			if err := t.root.WriteFile(f.Path, f.New, 0o644); err != nil {
				return err
			}
		}
	}
	if write {
		fmt.Fprintf(a.out, "# %s written\n", some(len(found), "file"))
	}
	return nil
}

// digests asks the registries of images which digest each has now; of one that
// does not say, why is printed.
func (a definitionCommands) digests(ctx context.Context, images []string, digests map[string]string) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for _, image := range images {
		ref, err := reference.ParseReference(image)
		if err == nil {
			var d *v1.Descriptor
			if d, err = remote.Head(ref, remote.WithContext(ctx)); err == nil {
				digests[image] = d.Digest.String()
				continue
			}
		}
		fmt.Fprintf(a.err, "%s is not pinned: %s\n", clean(image), clean(err.Error()))
	}
}

// linesOf are the lines of a text, each with its end.
func linesOf(text []byte) []string {
	out := strings.SplitAfter(string(text), "\n")
	if out[len(out)-1] == "" {
		out = out[:len(out)-1]
	}
	return out
}

// lookAt checks a folder, or has the service check a repository.
func (a definitionCommands) lookAt(cmd *cobra.Command, args []string, name string, all bool) (found wire.DefinitionCheck, err error) {
	where := strings.Join(args, "")
	if isFolder(where) {
		return checkFolder(cmd.Context(), where, name, all)
	}
	err = a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
		repository, branch, _ := strings.Cut(where, "@")
		found, err = api.Repositories.CheckDefinition(cmd.Context(), repository, branch, name)
		return err
	})(cmd, args)
	return found, err
}

// resolved looks at a definition from which something can be launched; of
// another it prints what is wrong.
func (a definitionCommands) resolved(cmd *cobra.Command, args []string, name string) (wire.DefinitionCheck, error) {
	found, err := a.lookAt(cmd, args, name, false)
	if err == nil && count(found.Findings)["error"] > 0 {
		a.findings(found)
		err = exit(exitRefused)
	}
	return found, err
}

// values prints what a definition comes to.
func (a definitionCommands) values(found wire.DefinitionCheck) {
	a.heading(found)
	if len(found.Names) > 1 {
		var names []string
		for _, n := range found.Names {
			names = append(names, cmp.Or(n, "the first"))
		}
		fmt.Fprintf(a.out, "its definitions: %s\n", clean(strings.Join(names, ", ")))
	}
	t := a.table(a.out, "VALUE", "IS", "FROM")
	for _, v := range found.Values {
		t.row(v.Key, shortened(v.Value, 70), v.Origin)
	}
	t.print()
	if found.Fingerprint == "" {
		return
	}
	fmt.Fprintf(a.out, "\nfingerprint   %s\n", found.Fingerprint)
	for _, i := range found.Images {
		fmt.Fprintf(a.out, "begins with   %s, %s\n", clean(i.Name), cmp.Or(i.Digest, "which the yard does not have yet"))
	}
	fmt.Fprintf(a.out, "comes to      %s\n", cmp.Or(found.Built, "not built yet: what its image's label says is not in the table"))
}

func (a definitionCommands) heading(found wire.DefinitionCheck) {
	if found.Repository != "" {
		fmt.Fprintf(a.out, "%s at %s (%.10s)\n", found.Repository, clean(found.Branch), found.Commit)
	}
}

func isFolder(name string) bool {
	if name == "" || strings.HasPrefix(name, ".") || filepath.IsAbs(name) {
		return true
	}
	i, err := os.Stat(name)
	return err == nil && i.IsDir()
}

// checkFolder checks a tree on this machine: the definition of a name, or with
// all and no name each that it has.
func checkFolder(ctx context.Context, folder, name string, all bool) (wire.DefinitionCheck, error) {
	t, err := openTree(folder)
	if err != nil {
		return wire.DefinitionCheck{}, err
	}
	defer t.root.Close()
	return look(ctx, func() wire.DefinitionCheck {
		found := wire.DefinitionCheck{Findings: []wire.DefinitionFinding{}, Files: map[string]string{}}
		src := definition.Noting(t.source(name), found.Files)
		found.Names = definition.Names(src)
		def, findings := definition.Check(src)
		if all && name == "" && len(found.Names) > 1 {
			findings = nil
			for _, n := range found.Names {
				_, more := definition.Check(t.source(n))
				findings = append(findings, more...)
			}
			findings = definition.Bounded(findings)
		}
		for _, f := range findings {
			found.Findings = append(found.Findings, wire.DefinitionFinding(f))
		}
		for _, v := range definition.Values(def) {
			found.Values = append(found.Values, wire.DefinitionValue(v))
		}
		for _, x := range definition.Explain(def) {
			found.Steps = append(found.Steps, wire.DefinitionStep(x))
		}
		return found
	})
}

func count(fs []wire.DefinitionFinding) map[string]int {
	n := map[string]int{}
	for _, f := range fs {
		n[f.Severity]++
	}
	return n
}

// findings prints what was found, one after the other, and the sum.
func (a definitionCommands) findings(found wire.DefinitionCheck) {
	a.heading(found)
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
