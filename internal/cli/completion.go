package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"yardbench/client"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/wire"
)

// completeFlags gives every flag of a tree of commands what completes its values:
// live names where there are some, and never files of this machine.
func (a *app) completeFlags(c *cobra.Command) {
	for _, sub := range c.Commands() {
		a.completeFlags(sub)
	}
	if c.ValidArgsFunction == nil && len(c.ValidArgs) == 0 && !strings.Contains(c.Use, "FILE") && !strings.Contains(c.Use, "FOLDER") && !strings.Contains(c.Use, "ONE") {
		c.ValidArgsFunction = cobra.NoFileCompletions
	}
	var states []string
	for _, p := range lifecycle.Phases {
		states = append(states, string(p))
	}
	for _, k := range lifecycle.Conditions {
		states = append(states, string(k.Kind))
	}
	fixed := map[string][]string{
		"role": {"operator", "lead", "developer", "auditor"}, "by": {"person", "team", "repository", "workspace", "day"}, "state": states,
		"sort": {"name", "owner", "team", "repository", "branch", "phase", "size", "phase_at", "hour", "cost", "-phase_at", "-cost", "-hour"},
		"kind": {"workspace.", "secret.", "prebuild.", "rules.", "person.", "repository.", "token.", "operation.", "webhook.", "yard."},
	}
	people := func(ctx context.Context, api *client.Client) (out []string) {
		all, _ := api.People.List(ctx) // completion that fails completes nothing
		for _, p := range all {
			out = append(out, p.Name)
		}
		return out
	}
	repositories := func(ctx context.Context, api *client.Client) (out []string) {
		all, _ := api.Repositories.List(ctx)
		for _, r := range all {
			out = append(out, r.Name)
		}
		return out
	}
	live := map[string]func(context.Context, *client.Client) []string{
		"owner": people, "person": people, "repository": repositories, "of-repository": repositories, "beside": repositories,
		"size": func(ctx context.Context, api *client.Client) (out []string) {
			v, _ := api.Rules.Show(ctx, 0)
			r, _ := rules.Parse([]byte(v.Document))
			return r.Order
		},
		"branch": func(ctx context.Context, api *client.Client) (out []string) {
			all, _ := api.Workspaces.List(ctx, client.ListQuery{})
			for _, w := range all {
				if !slices.Contains(out, w.Branch) {
					out = append(out, w.Branch)
				}
			}
			return out
		},
		"team": func(ctx context.Context, api *client.Client) (out []string) {
			all, _ := api.People.Teams(ctx)
			for _, t := range all {
				out = append(out, t.Name)
			}
			return out
		},
	}
	live["for"] = people
	live["of"] = func(ctx context.Context, api *client.Client) (out []string) {
		all, _ := api.People.List(ctx)
		for _, p := range all {
			if p.Program {
				out = append(out, p.Name)
			}
		}
		return out
	}
	// What there is to choose follows from what was named before.
	after := map[string]func(context.Context, *client.Client, string) []string{
		"definition": func(ctx context.Context, api *client.Client, repository string) []string {
			repository, branch, _ := strings.Cut(repository, "@")
			p, _ := api.Workspaces.Preflight(ctx, wire.Launch{Repository: repository, Branch: branch})
			return p.Names
		},
	}
	if c.Name() == "logs" {
		delete(live, "of")
		after["of"] = func(ctx context.Context, api *client.Client, name string) (out []string) {
			all, _ := api.Workspaces.Services(ctx, name)
			for _, s := range all {
				out = append(out, s.Name)
			}
			return out
		}
	}
	if c.Name() == "put" { // a secret is for repositories
		live["for"] = repositories
	}
	c.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if _, there := c.GetFlagCompletionFunc(f.Name); there || f.Value.Type() == "bool" {
			return
		}
		complete := cobra.CompletionFunc(cobra.NoFileCompletions)
		switch values, names, next := fixed[f.Name], live[f.Name], after[f.Name]; {
		case f.Name == "each":
			complete = cobra.FixedCompletions(nil, cobra.ShellCompDirectiveDefault)
		case f.Name == "into":
			complete = cobra.FixedCompletions(nil, cobra.ShellCompDirectiveFilterDirs)
		case values != nil:
			complete = cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp)
		case names != nil || next != nil:
			complete = func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
				api, err := a.client()
				if err != nil || names == nil && len(args) == 0 {
					return nil, cobra.ShellCompDirectiveNoFileComp
				}
				ctx, cancel := context.WithTimeout(c.Context(), completionTime)
				defer cancel()
				if names == nil {
					return next(ctx, api, args[0]), cobra.ShellCompDirectiveNoFileComp
				}
				return names(ctx, api), cobra.ShellCompDirectiveNoFileComp
			}
		}
		_ = c.RegisterFlagCompletionFunc(f.Name, complete) // the flag is there, and has none
	})
}
