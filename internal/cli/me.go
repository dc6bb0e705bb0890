package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a peopleCommands) me() *cobra.Command {
	c := &cobra.Command{Use: "me", Short: "What of your own comes into your workspaces"}
	var in wire.PutOwnFiles
	var none bool
	files := &cobra.Command{
		Use: "files [ADDRESS]", Short: "Have a repository with your own files brought into each of your workspaces",
		Long: "Have a repository with your own files, settings of shells and tools, brought into each of your workspaces from its next start on: it is cloned to ~/.own-files, as you, after the definition's set-up, while the workspace is ready already. " +
			"What puts them in place is --run, else the first of install.sh, install, setup.sh, setup, bootstrap.sh and bootstrap in it, else links in your home folder. Where that fails the workspace is there all the same; the launch sheet has it. Without an address it says what is set.",
		Example: "  yardbench me files https://git.skerryline.example/ingrid-files.git\n  yardbench me files https://git.skerryline.example/ingrid-files.git --branch boards --run 'make links' --each-start\n  yardbench me files --none", Args: cobra.MaximumNArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if none && len(args) > 0 {
				return usage{errors.New("give an address, or --none")}
			}
			var p wire.Profile
			var err error
			switch {
			case none:
				p, err = api.Self.PutProfile(cmd.Context(), wire.PutProfile{})
			case len(args) == 1:
				in.Repository = args[0]
				p, err = api.Self.PutProfile(cmd.Context(), wire.PutProfile{Files: &in})
			default:
				p, err = api.Self.Profile(cmd.Context())
			}
			if err != nil {
				return err
			}
			return a.print(p, func() { fmt.Fprintln(a.out, ownFiles(p)) })
		}),
	}
	files.Flags().StringVar(&in.Branch, "branch", "", "the branch (default: its default branch)")
	files.Flags().StringVar(&in.Run, "run", "", "what puts them in place, by /bin/sh in the clone")
	files.Flags().BoolVar(&in.EachStart, "each-start", false, "bring them up to date at each start; else once for each container")
	files.Flags().BoolVar(&none, "none", false, "bring none")
	c.AddCommand(files, a.luggage(), a.usual(), a.gitKey())
	return c
}

// ownFiles says in a line what of somebody's own comes into their workspaces.
func ownFiles(p wire.Profile) string {
	if p.Files == nil {
		return "none; bring some with: yardbench me files ADDRESS"
	}
	s := clean(p.Files.Repository)
	if p.Files.Branch != "" {
		s += " at " + clean(p.Files.Branch)
	}
	if p.Files.Run != "" {
		s += ", by " + clean(p.Files.Run)
	}
	if p.Files.EachStart {
		return s + ", at each start"
	}
	return s + ", once for each container"
}

func (a peopleCommands) usual() *cobra.Command {
	var in wire.PutUsual
	var rest time.Duration
	c := &cobra.Command{
		Use: "usual", Short: "Say what you usually want: in git, of terminals, of launches",
		Long:    "Say who you are in git, which shell, time zone and language your terminals have, and the size and rest of launches that name none. What is given is changed, '' takes it back, and the rest stays; without options it says what is set. A definition that says otherwise counts more.",
		Example: "  yardbench me usual --shell zsh --zone Europe/Oslo\n  yardbench me usual --size medium --rest-after 2h\n  yardbench me usual --git-email '' ", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			u, err := api.Self.Usual(cmd.Context())
			if err == nil {
				now, changed := wire.PutUsual(u), false
				for flag, set := range map[string]func(){"git-name": func() { now.GitName = in.GitName }, "git-email": func() { now.GitEmail = in.GitEmail }, "shell": func() { now.Shell = in.Shell }, "zone": func() { now.Zone = in.Zone },
					"language": func() { now.Language = in.Language }, "size": func() { now.Size = in.Size }, "rest-after": func() { now.RestAfterS = int(rest / time.Second) }} {
					if cmd.Flags().Changed(flag) {
						set()
						changed = true
					}
				}
				if changed {
					u, err = api.Self.PutUsual(cmd.Context(), now)
				}
			}
			if err != nil {
				return err
			}
			return a.print(u, func() {
				rest := ""
				if u.RestAfterS > 0 {
					rest = (time.Duration(u.RestAfterS) * time.Second).String()
				}
				for _, l := range [][2]string{{"git", strings.TrimSpace(u.GitName + " " + u.GitEmail)}, {"shell", u.Shell}, {"zone", u.Zone}, {"language", u.Language}, {"size", u.Size}, {"rest after", rest}} {
					fmt.Fprintf(a.out, "%-11s %s\n", l[0], clean(cmp.Or(l[1], "as for everybody")))
				}
			})
		}),
	}
	c.Flags().StringVar(&in.GitName, "git-name", "", "who you are in commits")
	c.Flags().StringVar(&in.GitEmail, "git-email", "", "your address in commits")
	c.Flags().StringVar(&in.Shell, "shell", "", "what terminals begin, where the image has it")
	c.Flags().StringVar(&in.Zone, "zone", "", "the time zone of what is begun, like Europe/Oslo")
	c.Flags().StringVar(&in.Language, "language", "", "the locale of what is begun, like nb_NO.UTF-8")
	c.Flags().StringVar(&in.Size, "size", "", "the size of launches that name none")
	c.Flags().DurationVar(&rest, "rest-after", 0, "rest of launches that name none, like 2h; 0 is as for everybody")
	return c
}
