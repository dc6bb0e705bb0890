package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

type gitHostCommands struct{ *app }

func (a gitHostCommands) gitHost() *cobra.Command {
	c := &cobra.Command{Use: "git-host", Short: "Git hosts that people connect with, in place of giving a token (OAuth 2.0)"}
	list := &cobra.Command{
		Use: "list", Short: "List the git hosts that people connect with", Example: "  yardbench git-host list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.GitHosts.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none: people give tokens, with: yardbench credential put HOST")
					return
				}
				t := a.table(a.out, "HOST", "TITLE", "SCOPES", "BY A CODE", "LISTS REPOSITORIES", "GIVEN BACK")
				yes := map[bool]string{true: "yes", false: "no"}
				for _, h := range all {
					t.row(h.Host, h.Title, strings.Join(h.Scopes, " "), yes[h.Device != ""], yes[h.Repositories != ""], yes[h.Revoke != ""])
				}
				t.print()
			})
		}),
	}
	var in wire.PutGitHost
	var keep, open bool
	put := &cobra.Command{
		Use: "put HOST", Short: "Have people connect with a git host, or change how (operators)",
		Long: "Have people connect with a git host: it then lends this service, as them, what git signs in with, which is made fresh, and given back when they leave. HOST is as in addresses of repositories. The client's secret is read without echo, or from standard input. " +
			"The address that the host must know is printed.",
		Example: "  yardbench git-host put git.skerryline.example --title 'Skerry Line git' --authorize https://git.skerryline.example/oauth/authorize --token https://git.skerryline.example/oauth/token --revoke https://git.skerryline.example/oauth/revoke --client yard-bench --scope repositories < secret-file", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if !keep && !open {
				secret, err := a.readHidden("The client's secret: ")
				if err != nil {
					return err
				}
				if in.Secret = strings.TrimRight(secret, "\r\n"); in.Secret == "" {
					return usage{errors.New("the client's secret is missing; give it on standard input, keep the old one with --keep-secret, or say that there is none with --no-secret")}
				}
			}
			h, err := api.GitHosts.Put(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.print(h, func() {
				fmt.Fprintf(a.out, "people connect with %s (%s)\nit must know where people come back: %s\n", clean(h.Title), clean(h.Host), clean(h.Callback))
			})
		}),
	}
	f := put.Flags()
	f.StringVar(&in.Title, "title", "", "what people see (default: HOST)")
	f.StringVar(&in.Authorize, "authorize", "", "where people let this service in")
	f.StringVar(&in.Token, "token", "", "where that is redeemed")
	f.StringVar(&in.Device, "device", "", "where codes for devices come from, if it has such")
	f.StringVar(&in.Revoke, "revoke", "", "where what was lent is given back, if it has such a place")
	f.StringVar(&in.Repositories, "repositories", "", "where it lists the repositories that whoever asks may read, if it does")
	f.StringVar(&in.Member, "member", "", "which member of each has the address for git (default: clone_url)")
	f.StringVar(&in.Client, "client", "", "what it knows this service by")
	f.StringSliceVar(&in.Scopes, "scope", nil, "what is asked for: as little as git needs")
	f.StringVar(&in.Username, "username", "", "as whom git signs in with what is lent (default: oauth2)")
	f.BoolVar(&keep, "keep-secret", false, "keep the client's secret as it is")
	f.BoolVar(&open, "no-secret", false, "the client has none")
	put.MarkFlagsMutuallyExclusive("keep-secret", "no-secret")
	for _, name := range []string{"authorize", "token", "client"} {
		cobra.CheckErr(put.MarkFlagRequired(name))
	}
	remove := &cobra.Command{
		Use: "remove HOST", Short: "Have nobody connect with a git host any more; what it lent is given back (operators)", Example: "  yardbench git-host remove git.skerryline.example", Args: cobra.ExactArgs(1), ValidArgsFunction: a.gitHostNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("remove it", "Have nobody connect with "+clean(args[0])+" any more? Whoever is, launches nothing private from it until they give a token."); err != nil {
				return err
			}
			if err := api.GitHosts.Drop(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintf(a.out, "nobody connects with %s any more\n", clean(args[0])) })
		}),
	}
	repositories := &cobra.Command{
		Use: "repositories HOST", Short: "List the repositories that a git host lets you read", Example: "  yardbench git-host repositories git.skerryline.example", Args: cobra.ExactArgs(1), ValidArgsFunction: a.gitHostNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			all, err := api.GitHosts.Repositories(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(all, func() {
				t := a.table(a.out, "ADDRESS", "REGISTERED AS")
				for _, r := range all {
					t.row(r.URL, cmp.Or(r.Registered, "not yet"))
				}
				t.print()
			})
		}),
	}
	c.AddCommand(list, put, remove, repositories)
	return c
}

// connect lets the service in at a git host as whoever asks, by a code that they type
// there at whichever browser.
func (a gitHostCommands) connect() *cobra.Command {
	return &cobra.Command{
		Use: "connect HOST", Short: "Connect with a git host: it lends what git signs in with, and you give no token",
		Long:    "Connect with a git host that an operator has registered: it lends this service, as you, what git signs in with. You type a code there, at whichever browser; a host that takes none is connected with on your page in the console.",
		Example: "  yardbench credential connect git.skerryline.example", Args: cobra.ExactArgs(1), ValidArgsFunction: a.gitHostNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			code, err := api.GitHosts.BeginCode(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			fmt.Fprintf(a.err, "let it in at\n  %s\nwith the code\n  %s\n", clean(code.At), clean(code.Code))
			ctx, cancel := context.WithDeadline(cmd.Context(), code.Until)
			defer cancel()
			for {
				select {
				case <-ctx.Done():
					return errors.New("the code was not used in time; begin anew: yardbench credential connect " + args[0])
				case <-time.After(time.Duration(max(1, code.IntervalS)) * time.Second):
				}
				done, err := api.GitHosts.AskCode(ctx, args[0], code.Kept)
				if err != nil {
					return err
				}
				if done {
					return a.print(wire.GitHostAnswer{Connected: true}, func() { fmt.Fprintf(a.out, "you are connected with %s\n", clean(args[0])) })
				}
			}
		}),
	}
}

func (a gitHostCommands) gitHostNames(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	if api, err := a.client(); err == nil && len(args) == 0 {
		ctx, cancel := context.WithTimeout(cmd.Context(), completionTime)
		defer cancel()
		all, _ := api.GitHosts.List(ctx) // completion that fails completes nothing
		for _, h := range all {
			out = append(out, h.Host)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// lentBy says how somebody came by a credential.
func lentBy(c wire.KnownCredential) string {
	switch {
	case c.TakenBackAt != nil:
		return "taken back by the host " + when(*c.TakenBackAt) + "; connect anew"
	case c.Until != nil:
		return "lent by the host, until " + when(*c.Until)
	case c.Lent:
		return "lent by the host, made fresh as it ends"
	}
	return "typed"
}
