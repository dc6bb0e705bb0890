package cli

import (
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

// maxKeyFile bounds what is read of a private key, in bytes.
const maxKeyFile = 16 << 10

func (a peopleCommands) gitKey() *cobra.Command {
	var in wire.PutGitKey
	var bring, signs, remove bool
	c := &cobra.Command{
		Use: "git-key", Short: "Your key for git: it signs you in to git hosts by SSH, and your commits",
		Long: "Say the public half of your key for git, to put at git hosts. The private half stays in the service: git in your workspaces reaches hosts that the house rules know the keys of by way of the service, which signs in, and programs find an agent there ($SSH_AUTH_SOCK) that signs, as git commit -S has it. " +
			"Where the house rules have pushes confirmed, what the agent signs is, too.",
		Example: "  yardbench me git-key --new\n  yardbench me git-key --bring < ~/.ssh/id_ed25519\n  yardbench me git-key --sign-commits\n  yardbench me git-key --remove", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			if remove {
				if err := a.sure("remove it", "Remove your key for git? What has its public half lets nobody in by it any more."); err != nil {
					return err
				}
				if err := api.Self.DropGitKey(cmd.Context()); err != nil {
					return err
				}
				return a.print(struct{}{}, func() { fmt.Fprintln(a.out, "your key for git is gone; take its public half away at your git hosts") })
			}
			if bring {
				text, err := io.ReadAll(io.LimitReader(a.in, maxKeyFile+1))
				if err != nil {
					return err
				}
				if len(text) == 0 || len(text) > maxKeyFile {
					return usage{errors.New("give the private key on standard input: yardbench me git-key --bring < FILE")}
				}
				in.Private = string(text)
			}
			if cmd.Flags().Changed("sign-commits") {
				in.SignsCommits = &signs
			}
			if in.New {
				if _, err := api.Self.GitKey(cmd.Context()); err == nil {
					if err := a.sure("make another", "You have a key for git. Make another in its place?"); err != nil {
						return err
					}
				}
			}
			var k wire.GitKey
			var err error
			if in.New || bring || in.SignsCommits != nil {
				k, err = api.Self.PutGitKey(cmd.Context(), in)
			} else {
				k, err = api.Self.GitKey(cmd.Context())
			}
			if err != nil {
				return err
			}
			return a.print(k, func() {
				fmt.Fprintln(a.out, clean(k.Public))
				fmt.Fprintf(a.err, "%s, of %s; commits are signed %s\n", clean(k.Fingerprint), when(k.MadeAt), map[bool]string{true: "always", false: "where git is told to: git commit -S"}[k.SignsCommits])
			})
		}),
	}
	c.Flags().BoolVar(&in.New, "new", false, "make one")
	c.Flags().BoolVar(&bring, "bring", false, "take the private key on standard input, which no passphrase guards")
	c.Flags().BoolVar(&signs, "sign-commits", false, "sign commits and tags without being told to; --sign-commits=false takes it back")
	c.Flags().BoolVar(&remove, "remove", false, "forget it")
	c.MarkFlagsMutuallyExclusive("new", "bring", "remove")
	c.MarkFlagsMutuallyExclusive("sign-commits", "remove")
	return c
}

func (a peopleCommands) deployKey() *cobra.Command {
	return &cobra.Command{
		Use: "deploy-key REPOSITORY", Short: "Make a repository that is reached by SSH a key that its prebuilds read it with (operators)",
		Long:    "Make a repository that is reached by SSH a key that its prebuilds read it with, in the place of the one before, and say its public half: put it at the git host, to read this repository and nothing else.",
		Example: "  yardbench repository deploy-key tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			k, err := api.Repositories.NewDeployKey(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(k, func() { fmt.Fprintln(a.out, clean(k.Public)) })
		}),
	}
}
