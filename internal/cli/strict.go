package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"yardbench/internal/core/plain"
)

// carries tells of a command that its exit code is that of what ran.
func carries(c *cobra.Command) bool {
	p := c.CommandPath()
	return p == "yardbench run" || p == "yardbench enter" // an errand says it by itself, once its own line is right
}

// groupMark marks a command that only holds others.
const groupMark = "group"

// strict makes a tree of commands take no word that it does not know: Cobra lets
// any stand behind a command that only holds others, and helps, as if all were
// well. It tells mistakes in the command line by where they arise: before what a
// command does has begun.
func (a *app) strict(c *cobra.Command) {
	for _, sub := range c.Commands() {
		a.strict(sub)
	}
	c.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		a.carries = carries(c)
		var unknown *pflag.NotExistError
		if errors.As(err, &unknown) {
			var known []string
			c.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
			if near := plain.Near(unknown.GetSpecifiedName(), known); near != "" {
				err = fmt.Errorf("%w; write --%s, if that is meant", err, near)
			}
		}
		return usage{err}
	})
	if c.Run == nil && c.RunE == nil {
		if c.Annotations == nil {
			c.Annotations = map[string]string{}
		}
		c.Annotations[groupMark] = "yes"
		c.Args = cobra.ArbitraryArgs
		c.RunE = func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return wrongWord(c, args[0])
			}
			return c.Help()
		}
		return
	}
	if fits := c.Args; fits != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if fits(c, args) == nil {
				return nil
			}
			a.carries = carries(c)
			if c.HasAvailableSubCommands() && len(args) > 0 {
				return wrongWord(c, args[0])
			}
			return usage{fmt.Errorf("%d words do not fit behind %s; write: %s", len(args), c.CommandPath(), strings.TrimSuffix(c.UseLine(), " [flags]"))}
		}
	}
	if run := c.RunE; run != nil {
		c.RunE = func(c *cobra.Command, args []string) error {
			if a.carries = carries(c); !a.began {
				if err := a.readForm(); err != nil {
					return err
				}
			}
			a.began, a.running = true, c
			return run(c, args)
		}
	}
}

// wrongWord says that a command has no such command beneath it.
func wrongWord(c *cobra.Command, word string) error {
	var known []string
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() {
			known = append(known, sub.Name())
		}
	}
	next := "it has " + strings.Join(known, ", ")
	if near := plain.Near(word, known); near != "" {
		next = "write " + c.CommandPath() + " " + near + ", if that is meant"
	}
	return usage{fmt.Errorf("there is no command %q under %s; %s", plain.Line(word, 60), c.CommandPath(), next)}
}

// helper is Cobra's help, but that it knows what it has no help for.
func helper() *cobra.Command {
	return &cobra.Command{Use: "help [COMMAND]", Short: "Help for a command", Example: "  yardbench help launch",
		RunE: func(c *cobra.Command, args []string) error {
			of, rest, err := c.Root().Find(args)
			if err != nil || len(rest) > 0 {
				if of == nil {
					of = c.Root()
				}
				return wrongWord(of, strings.Join(rest, " "))
			}
			return of.Help()
		}}
}
