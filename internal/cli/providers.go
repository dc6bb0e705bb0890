package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a peopleCommands) provider() *cobra.Command {
	c := &cobra.Command{Use: "provider", Short: "Identity providers by which people sign in (OpenID Connect)"}
	list := &cobra.Command{
		Use: "list", Short: "List the identity providers", Example: "  yardbench provider list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Providers.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none: people sign in with passwords; add one with: yardbench provider put NAME --issuer ADDRESS --client ID")
					return
				}
				t := a.table(a.out, "NAME", "TITLE", "ISSUER", "CLIENT", "LETS IN")
				for _, p := range all {
					lets := "whom the house rules say"
					if !p.Rules {
						lets = "nobody: the house rules say nothing of it"
					}
					t.row(p.Name, p.Title, p.Issuer, p.Client, lets)
				}
				t.print()
			})
		}),
	}
	var in wire.PutProvider
	var groups string
	var keep bool
	put := &cobra.Command{
		Use: "put NAME", Short: "Have people sign in by an identity provider, or change how",
		Long:    "Have people sign in by an identity provider (OpenID Connect), or change how. The client's secret is read without echo, or from standard input. The provider is asked what it says of itself first; the addresses that it must know are printed.",
		Example: "  yardbench provider put skerry-id --title 'Skerry Line' --issuer https://id.skerryline.example --client yard-bench < secret-file\n  yardbench provider put skerry-id --title 'Our people' --issuer https://id.skerryline.example --client yard-bench --keep-secret", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if !keep {
				secret, err := a.readHidden("The client's secret: ")
				if err != nil {
					return err
				}
				if in.Secret = strings.TrimRight(secret, "\r\n"); in.Secret == "" {
					return usage{errors.New("the client's secret is missing; give it on standard input, or keep the old one with --keep-secret")}
				}
			}
			if cmd.Flags().Changed("groups-claim") {
				in.GroupsClaim = &groups
			}
			p, err := api.Providers.Put(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.print(p, func() {
				fmt.Fprintf(a.out, "people sign in by %s (%s)\nit must know\n  where people come back      %s\n  where it tells of sign-outs %s\n  where people go who signed out %s\n", clean(p.Title), clean(p.Issuer), clean(p.Callback), clean(p.SignedOut), clean(p.AfterOver))
				if !p.Rules {
					fmt.Fprintf(a.err, "nobody comes in by it yet: say in the house rules, under sign_in.providers.%s, what its groups come to; see docs/sign-in.md\n", p.Name)
				}
			})
		}),
	}
	put.Flags().StringVar(&in.Issuer, "issuer", "", "its address")
	put.Flags().StringVar(&in.Client, "client", "", "what it knows this service by")
	put.Flags().StringVar(&in.Title, "title", "", "what the page to sign in says (default: its name)")
	put.Flags().StringVar(&groups, "groups-claim", "groups", "the claim that has people's groups; '' for none")
	put.Flags().StringSliceVar(&in.Scopes, "scope", nil, "what is asked for beside openid, profile and email")
	put.Flags().BoolVar(&keep, "keep-secret", false, "keep the client's secret as it is")
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove an identity provider; whoever is signed in by it is not any more", Example: "  yardbench provider remove skerry-id", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("remove it", "Remove this identity provider? Whoever is signed in by it is not any more."); err != nil {
				return err
			}
			if err := api.Providers.Drop(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintln(a.err, "nobody signs in by it any more") })
		}),
	}
	c.AddCommand(list, put, remove)
	return c
}
