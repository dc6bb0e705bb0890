package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/definition"
	"yardbench/internal/core/starter"
	"yardbench/wire"
)

func (a definitionCommands) starter() *cobra.Command {
	c := &cobra.Command{Use: "starter", Short: "Ready definitions for new projects, kept by the house"}
	list := &cobra.Command{
		Use: "list", Short: "List the starters", Example: "  yardbench starter list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Starters.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				t := a.table(a.out, "STARTER", "WHAT IT IS", "TO CHOOSE")
				for _, s := range all {
					var names []string
					for _, o := range s.Options {
						names = append(names, o.Name)
					}
					what := strings.TrimPrefix(s.Title+": "+s.Description, ": ")
					if s.Problem != "" {
						what = "cannot be used: " + s.Problem
					}
					t.row(s.Name, what, strings.Join(names, ", "))
				}
				t.print()
			})
		}),
	}
	show := &cobra.Command{
		Use: "show STARTER", Short: "Show what a starter offers to choose", Example: "  yardbench starter show board", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			all, err := api.Starters.List(cmd.Context())
			if err != nil {
				return err
			}
			for _, s := range all {
				if s.Name == args[0] {
					return a.print(s, func() { a.showStarter(s) })
				}
			}
			return usage{fmt.Errorf("there is no starter %q; see them with: yardbench starter list", args[0])}
		}),
	}
	var options []string
	var force bool
	write := &cobra.Command{
		Use: "write STARTER [FOLDER]", Short: "Write a starter's files into a folder, the one you are in if none is named",
		Long:    "Write a starter's files into a folder, the one you are in if none is named. No file that is there is replaced, unless --replace is given: then nothing is written at all.",
		Example: "  yardbench starter write board --choose port=8080\n  yardbench starter write desk ./new-desk", Args: cobra.RangeArgs(1, 2),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			in := wire.FillStarter{Options: map[string]string{}}
			for _, o := range options {
				k, v, ok := strings.Cut(o, "=")
				if !ok {
					return usage{fmt.Errorf("--choose %q: write it as NAME=VALUE", o)}
				}
				in.Options[k] = v
			}
			filled, err := api.Starters.Fill(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			folder := "."
			if len(args) > 1 {
				folder = args[1]
			}
			if err := writeStarter(filled, folder, force); err != nil {
				return err
			}
			return a.print(filled, func() {
				for _, f := range filled.Files {
					fmt.Fprintln(a.out, clean(path.Join(folder, f.Path)))
				}
				fmt.Fprintf(a.out, "%s of %s; look at it with: yardbench definition check %s\n", some(len(filled.Files), "file"), filled.Starter.Name, clean(folder))
			})
		}),
	}
	write.Flags().StringArrayVar(&options, "choose", nil, "a choice, as NAME=VALUE")
	write.Flags().BoolVar(&force, "replace", false, "replace files that are there")
	c.AddCommand(list, show, write, a.propose())
	return c
}

// propose looks at a tree without a definition and proposes one.
func (a definitionCommands) propose() *cobra.Command {
	var write bool
	c := &cobra.Command{
		Use: "propose [FOLDER]", Short: "Propose a definition for a tree that has none, with the reason for each line",
		Long: `Propose a definition for a tree that has none, with the reason beside each line:
from its languages and their versions, lock files, compose and build files, and
the secrets that an example of an .env leaves open. The folder is the one you
are in, if none is named; the service is not asked. With --write the file is
written, where none is there yet.`,
		Example: "  yardbench starter propose\n  yardbench starter propose --write ./fare-desk", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder := strings.Join(args, "")
			t, err := openTree(folder)
			if err != nil {
				return err
			}
			defer t.root.Close()
			for _, p := range definition.Places {
				if t.plain(p, false) {
					return usage{fmt.Errorf("%s is there already; look at it with: yardbench definition check %s", p, folder)}
				}
			}
			proposed, err := look(cmd.Context(), func() []definition.Proposed { return definition.Propose(t.source("")) })
			if err != nil {
				return err
			}
			text := definition.ProposalText(proposed)
			if write {
				if err := writeStarter(wire.FilledStarter{Files: []wire.StarterFile{{Path: definition.Places[0], Content: text}}}, cmp.Or(folder, "."), false); err != nil {
					return err
				}
			}
			return a.print(proposed, func() {
				if write {
					fmt.Fprintf(a.out, "%s\nlook at it with: yardbench definition check %s\n", clean(path.Join(folder, definition.Places[0])), clean(folder))
					return
				}
				fmt.Fprint(a.out, clean(string(text)))
			})
		},
	}
	c.Flags().BoolVar(&write, "write", false, "write it to "+definition.Places[0])
	return c
}

func (a definitionCommands) showStarter(s wire.Starter) {
	fmt.Fprintln(a.out, clean(strings.TrimSpace(strings.TrimPrefix(s.Title+": "+s.Description, ": ")+" "+s.Version)))
	if s.Problem != "" {
		fmt.Fprintln(a.out, "cannot be used:", clean(s.Problem))
		return
	}
	if len(s.Options) == 0 {
		fmt.Fprintln(a.out, "there is nothing to choose")
		return
	}
	t := a.table(a.out, "CHOICE", "USUALLY", "OF", "WHAT FOR")
	for _, o := range s.Options {
		of := strings.Join(o.Choices, ", ")
		switch {
		case o.Kind != "text":
			of = "true, false"
		case of != "" && !o.OnlyThese:
			of += ", or any other"
		}
		t.row(o.Name, o.Default, of, o.Description)
	}
	t.print()
}

// writeStarter writes the files into a folder and nowhere else, whatever the
// links in it lead to.
func writeStarter(s wire.FilledStarter, folder string, force bool) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	for _, f := range s.Files {
		if !starter.Inside(f.Path) {
			return fmt.Errorf("the starter has a file %q outside of itself", f.Path)
		}
		if _, err := root.Lstat(f.Path); err == nil && !force {
			return fmt.Errorf("%s is there already; write into another folder, or give --replace", path.Join(folder, f.Path))
		} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	for _, f := range s.Files {
		if err := root.MkdirAll(path.Dir(f.Path), 0o755); err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if f.Executable {
			mode = 0o755
		}
		if err := root.WriteFile(f.Path, f.Content, mode); err != nil {
			return err
		}
	}
	return nil
}

func (a workspaceCommands) service() *cobra.Command {
	c := &cobra.Command{Use: "service", Short: "The services beside a workspace"}
	c.AddCommand(&cobra.Command{
		Use: "list NAME", Short: "List the services beside a workspace, with how each is", Example: "  yardbench service list route-notes\n  yardbench logs route-notes --of levels", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			all, err := api.Workspaces.Services(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none")
					return
				}
				t := a.table(a.out, "SERVICE", "STATE", "IMAGE", "PORTS", "WAITS FOR")
				for _, s := range all {
					state := s.State
					if s.Problem != "" {
						state += ": " + s.Problem
					}
					t.row(s.Name, state, s.Image, strings.Trim(fmt.Sprint(s.Ports), "[]"), strings.Join(s.Needs, ", "))
				}
				t.print()
			})
		}),
	})
	return c
}
