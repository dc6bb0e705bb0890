package cli

import (
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/rules"
	"yardbench/wire"
)

func (a rulesCommands) rules() *cobra.Command {
	c := &cobra.Command{Use: "rules", Short: "The house rules: sizes, limits, rest, rates"}
	var version int
	show := &cobra.Command{
		Use: "show", Short: "Print the house rules in force, or an older version", Example: "  yardbench rules show > rules.yaml\n  yardbench rules show --version 3", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			v, err := api.Rules.Show(cmd.Context(), version)
			if err != nil {
				return err
			}
			return a.print(v, func() { fmt.Fprint(a.out, v.Document) })
		}),
	}
	show.Flags().IntVar(&version, "version", 0, "an older version")
	versions := &cobra.Command{
		Use: "list", Short: "List the versions with who made them, why, and what they changed", Example: "  yardbench rules list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			vs, err := api.Rules.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(vs, func() {
				for _, v := range vs {
					fmt.Fprintf(a.out, "%d   %s   %s   %s\n", v.Version, when(v.At), v.Author, clean(v.Reason))
					for _, ch := range v.Changes {
						fmt.Fprintf(a.out, "      %s\n", clean(ch))
					}
				}
			})
		}),
	}
	check := &cobra.Command{
		Use: "check FILE", Short: "Say what is wrong with a document, and what it would change", Example: "  yardbench rules check rules.yaml", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			document, err := readDocument(args[0], a.in)
			if err != nil {
				return err
			}
			r, err := api.Rules.Check(cmd.Context(), document)
			if err != nil {
				return err
			}
			if err := a.print(r, func() {
				for _, f := range r.Findings {
					fmt.Fprintf(a.out, "%s:%s\n", args[0], clean(rules.Finding(f).String()))
				}
				for _, f := range r.Warnings {
					fmt.Fprintf(a.out, "%s:%s\n", args[0], clean(rules.Finding(f).String()))
				}
				if len(r.Findings) == 0 && len(r.Changes) == 0 {
					fmt.Fprintln(a.out, "nothing is wrong with it, and it changes nothing")
				}
				for _, ch := range r.Changes {
					fmt.Fprintln(a.out, clean(ch))
				}
				a.effects(r.Effects)
			}); err != nil {
				return err
			}
			if len(r.Findings) > 0 {
				return exit(exitRefused)
			}
			return nil
		}),
	}
	var in wire.RulesText
	var base int
	put := &cobra.Command{
		Use: "put FILE", Short: "Make a document the house rules: in force at once (operators)", Example: "  yardbench rules put rules.yaml --why 'smaller teams rest sooner'", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) (err error) {
			if in.Reason == "" {
				return usage{fmt.Errorf("say why with --why: it stands in the journal")}
			}
			if in.Document, err = readDocument(args[0], a.in); err != nil {
				return err
			}
			if base == 0 {
				now, err := api.Rules.Show(cmd.Context(), 0)
				if err != nil {
					return err
				}
				base = now.Version
			}
			in.Meant = a.yes
			v, err := api.Rules.Put(cmd.Context(), in, base)
			if p := (*wire.Problem)(nil); errors.As(err, &p) && p.Type == wire.ProblemPrefix+"far-reaching" && !a.json && !a.noInput && isTerminal(a.in) {
				for _, e := range p.Errors {
					fmt.Fprintln(a.err, clean(e.Detail))
				}
				if err := a.sure("put them", "Put these house rules all the same?"); err != nil {
					return err
				}
				in.Meant = true
				v, err = api.Rules.Put(cmd.Context(), in, base)
			}
			if err != nil {
				return err
			}
			return a.print(v, func() {
				fmt.Fprintf(a.out, "version %d is in force\n", v.Version)
				for _, ch := range v.Changes {
					fmt.Fprintf(a.out, "  %s\n", clean(ch))
				}
				a.effects(v.Effects)
			})
		}),
	}
	put.Flags().StringVar(&in.Reason, "why", "", "the reason, for others to read")
	put.Flags().IntVar(&base, "base", 0, "the version it was made from: refused when there is a newer one (default: the one in force)")
	c.AddCommand(show, versions, check, put)
	return c
}

// effects says what a change does to what is there.
func (a rulesCommands) effects(all []wire.RulesEffect) {
	for _, e := range all {
		fmt.Fprintln(a.out, clean(e.Text))
	}
}

func readDocument(path string, in io.Reader) (string, error) {
	if path == "-" {
		b, err := io.ReadAll(io.LimitReader(in, rules.MaxBytes+1))
		return string(b), err
	}
	b, err := os.ReadFile(path)
	return string(b), err
}
