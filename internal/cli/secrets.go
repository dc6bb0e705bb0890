package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/compose-spec/compose-go/v2/dotenv"
	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

// secretsOf adds the options that say whose secrets are meant.
func secretsOf(c *cobra.Command, of *client.SecretsOf, verb string) {
	c.Flags().StringVar(&of.Repository, "of-repository", "", verb+" a repository's, which everybody who works in it has (set by leads, operators)")
	c.Flags().StringVar(&of.Team, "of-team", "", verb+" a team's, which its people have (set by its lead, operators)")
	c.Flags().BoolVar(&of.House, "of-house", false, verb+" the house's, which everybody has (set by operators)")
	c.MarkFlagsMutuallyExclusive("of-repository", "of-team", "of-house")
}

func (a secretCommands) secret() *cobra.Command {
	c := &cobra.Command{Use: "secret", Short: "Secrets: given to terminals, runs and set-up commands, never shown again",
		Long: "Secrets are given to terminals, runs and set-up commands, as variables or as files on tmpfs, and never shown again. " +
			"Your own, your team's and the house's go to the repositories that are named, or everywhere; a repository's go to everybody who works in it. " +
			"Of one name your own counts first, then the repository's, your team's, the house's."}
	c.AddCommand(a.putSecret(), a.listSecrets(), a.removeSecret(), a.explainSecrets(), a.importSecrets(), a.renewSecrets())
	return c
}

// reachOf adds the options that say whom a secret is given to and how.
func reachOf(c *cobra.Command, in *wire.SecretValue) (settle func(cmd *cobra.Command)) {
	var asFile, asVariable, forBuilds, inPrebuilds bool
	var branches []string
	var path, owner string
	c.Flags().StringSliceVar(&in.Repositories, "for", nil, "the repositories whose workspaces get it")
	c.Flags().BoolVar(&in.Everywhere, "everywhere", false, "all workspaces it reaches get it")
	c.Flags().StringSliceVar(&branches, "branch", nil, "only on branches like this, as in release/*; ** in the end takes slashes too; '' is every branch")
	c.Flags().BoolVar(&asFile, "as-file", false, "hand it over as a file, with its path in NAME_FILE")
	c.Flags().BoolVar(&asVariable, "as-variable", false, "hand it over as a variable (the default for a new one)")
	c.Flags().BoolVar(&forBuilds, "for-builds", false, "hand it to the builds of images alone, where they mount it as a secret (a repository's, the house's)")
	c.Flags().StringVar(&in.Registry, "signs-in-to", "", "fetch images of this registry with it, as --username (a repository's, the house's)")
	c.Flags().StringVar(&in.Username, "username", "", "who signs in to the registry, with the value as the password")
	c.Flags().BoolVar(&inPrebuilds, "in-prebuilds", false, "the set-up of prepared images is given it too; =false takes that back (a repository's, the house's)")
	c.Flags().StringVar(&path, "at", "", "of a file of yours: a place like ~/.config/tide/key, from where a link leads to it")
	c.Flags().StringVar(&in.Mode, "mode", "", "of a file: its permission bits in octal (0400 by itself)")
	c.Flags().StringVar(&owner, "owner", "", "of a file: whose it is, by a name or number that the image has (by itself the workspace's user)")
	c.MarkFlagsMutuallyExclusive("as-file", "as-variable", "for-builds", "signs-in-to")
	c.MarkFlagsMutuallyExclusive("for", "everywhere")
	c.MarkFlagsMutuallyExclusive("for", "of-repository")
	c.MarkFlagsMutuallyExclusive("everywhere", "of-repository")
	return func(cmd *cobra.Command) {
		switch {
		case asFile, cmd.Flags().Changed("at"):
			in.Form = "file"
		case asVariable:
			in.Form = "variable"
		case forBuilds:
			in.Form = "build"
		case in.Registry != "":
			in.Form = "registry"
		}
		if cmd.Flags().Changed("in-prebuilds") {
			in.Prebuilds = &inPrebuilds
		}
		if cmd.Flags().Changed("at") {
			in.Path = &path
		}
		if cmd.Flags().Changed("owner") {
			in.Owner = &owner
		}
		if cmd.Flags().Changed("branch") {
			all := slices.DeleteFunc(slices.Clone(branches), func(b string) bool { return b == "" })
			in.Branches = &all
		}
	}
}

func (a secretCommands) putSecret() *cobra.Command {
	var of client.SecretsOf
	var in wire.SecretValue
	var settle func(*cobra.Command)
	put := &cobra.Command{
		Use: "put NAME", Short: "Set a secret, read from the terminal without echo or from standard input",
		Example: "  yardbench secret put TIDE_API_KEY --for tide-board\n  yardbench secret put SIGNING_KEY --everywhere --as-file --at ~/.config/tide/key < key.pem\n" +
			"  yardbench secret put BERTH_TOKEN --of-repository berth-planner --branch 'release/*'\n  yardbench secret put CHART_KEY --of-team Harbour --for berth-planner,deck-log\n  yardbench secret put MIRROR_TOKEN --of-house --everywhere --for-builds\n  yardbench secret put IMAGES --of-repository fare-desk --signs-in-to images.skerryline.example:5000 --username fare-desk", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) (err error) {
			settle(cmd)
			if in.Value, err = a.readHidden("Value of " + args[0] + ": "); err != nil {
				return err
			}
			s, err := api.Secrets.Put(cmd.Context(), of, args[0], in)
			if err != nil {
				return err
			}
			return a.print(s, func() {
				fmt.Fprintf(a.err, "%s, version %d, is set for %s; %s\n", s.Name, s.Version, givenTo(s), from(s))
				if s.Doubt != "" {
					fmt.Fprintln(a.err, s.Doubt)
				}
			})
		}),
	}
	secretsOf(put, &of, "set")
	settle = reachOf(put, &in)
	return put
}

func (a secretCommands) listSecrets() *cobra.Command {
	var of client.SecretsOf
	list := &cobra.Command{
		Use: "list", Short: "List your secrets, or those of a repository, a team or the house", Example: "  yardbench secret list\n  yardbench secret list --of-repository berth-planner\n  yardbench secret list --of-house", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			secrets, err := api.Secrets.List(cmd.Context(), of)
			if err != nil {
				return err
			}
			return a.print(secrets, func() {
				if len(secrets) == 0 {
					fmt.Fprintln(a.out, "there are none"+map[bool]string{true: "; set one with: yardbench secret put NAME --for REPOSITORY"}[of == client.SecretsOf{}])
					return
				}
				t := a.table(a.out, "NAME", "FORM", "GIVEN TO", "VERSION", "SET", "BY", "LAST USED")
				for _, s := range secrets {
					used := "never"
					if s.UsedAt != nil {
						used = when(*s.UsedAt)
					}
					t.row(s.Name, formOf(s), givenTo(s), fmt.Sprint(s.Version), when(s.UpdatedAt), s.By, used)
				}
				t.print()
			})
		}),
	}
	secretsOf(list, &of, "list")
	return list
}

func (a secretCommands) removeSecret() *cobra.Command {
	var of client.SecretsOf
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove a secret", Example: "  yardbench secret remove TIDE_API_KEY\n  yardbench secret remove CHART_KEY --of-team Harbour", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("remove "+args[0], "Remove secret "+clean(args[0])+"?"); err != nil {
				return err
			}
			return api.Secrets.Drop(cmd.Context(), of, args[0])
		}),
	}
	secretsOf(remove, &of, "remove")
	return remove
}

func (a secretCommands) explainSecrets() *cobra.Command {
	var branch, in string
	explain := &cobra.Command{
		Use: "explain [REPOSITORY] [NAME]", Short: "Say which secrets your workspaces of a repository get, or one of them has, and why",
		Example: "  yardbench secret explain tide-board\n  yardbench secret explain tide-board CHART_KEY --branch release/7\n  yardbench secret explain --in quay", Args: cobra.RangeArgs(0, 2), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) (err error) {
			var cs []wire.SecretChoice
			name, of := "", in
			switch {
			case in != "" && len(args) > 1, in == "" && len(args) == 0:
				return errors.New("name a repository, or a workspace with --in")
			case in != "" && branch != "":
				return errors.New("a workspace is on a branch of its own: leave out --branch")
			case in != "":
				if len(args) > 0 {
					name = args[0]
				}
				cs, err = api.Secrets.ExplainIn(cmd.Context(), in, name)
			default:
				if of = args[0]; len(args) > 1 {
					name = args[1]
				}
				cs, err = api.Secrets.Explain(cmd.Context(), of, branch, name)
			}
			if err != nil {
				return err
			}
			return a.print(cs, func() { a.secretChoices(of, cs) })
		}),
	}
	explain.Flags().StringVar(&branch, "branch", "", "on which branch; the default one where it is left out")
	explain.Flags().StringVar(&in, "in", "", "in this workspace of yours: what it has, and what in it holds an older value")
	return explain
}

func (a secretCommands) renewSecrets() *cobra.Command {
	return &cobra.Command{
		Use: "renew NAME", Short: "Begin anew what a workspace's definition has left running at its start, so that it has the secrets as they are now",
		Long:    "End what the definition's postStartCommand has left running in a workspace, and begin it anew: it has the secrets as they are now. Terminals and runs are left alone; see who holds an older value with: yardbench secret explain --in NAME",
		Example: "  yardbench secret renew tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			v, err := api.Secrets.Renew(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			failed := 0
			err = a.print(v, func() {
				if len(v.Commands) == 0 {
					fmt.Fprintf(a.out, "the definition of %s has left nothing running at its start\n", v.Workspace)
				}
				for _, c := range v.Commands {
					switch {
					case c.Problem != "":
						fmt.Fprintf(a.out, "%s cannot be run: %s\n", c.Command, clean(c.Problem))
					case c.Code == nil:
						fmt.Fprintf(a.out, "%s was begun anew, and goes on\n", c.Command)
					case *c.Code != 0:
						fmt.Fprintf(a.out, "%s was begun anew, and ended with exit code %d\n", c.Command, *c.Code)
					default:
						fmt.Fprintf(a.out, "%s was begun anew\n", c.Command)
					}
					for line := range strings.Lines(c.Output) {
						fmt.Fprintf(a.err, "  %s\n", clean(strings.TrimRight(line, "\r\n")))
					}
				}
			})
			for _, c := range v.Commands {
				if c.Problem != "" || c.Code != nil && *c.Code != 0 {
					failed++
				}
			}
			if err == nil && failed > 0 {
				err = fmt.Errorf("%d of %d did not begin as they should", failed, len(v.Commands))
			}
			return err
		}),
	}
}

// secretChoices prints what becomes of each secret.
func (a secretCommands) secretChoices(of string, cs []wire.SecretChoice) {
	if len(cs) == 0 {
		fmt.Fprintf(a.out, "workspaces of %s get no secrets, and its definition asks for none\n", of)
		return
	}
	t := a.table(a.out, "NAME", "GIVEN", "LEVEL", "VERSION", "SET", "ASKED FOR", "WHY")
	for _, s := range cs {
		given, version, set, why := "no", "", "", s.Why
		if s.Given {
			given = "yes, as " + formOf(wire.Secret{Name: s.Name, Form: s.Form})
		}
		if s.UpdatedAt != nil {
			version, set = fmt.Sprint(s.Version), when(*s.UpdatedAt)
			if s.By != "" {
				set += " by " + s.By
			}
		}
		if len(s.Hides) > 0 {
			why += "; it hides the " + strings.Join(s.Hides, "'s and the ") + "'s"
		}
		asked := map[bool]string{true: "yes", false: "no"}[s.Wanted]
		if s.Required {
			asked = "required"
		}
		t.row(s.Name, given, s.Level, version, set, asked, why)
	}
	t.print()
	for _, s := range cs {
		for _, h := range s.Held {
			fmt.Fprintf(a.out, "%s (since %s) holds an older %s, version %d\n", clean(h.Label), when(h.Since), s.Name, h.Version)
		}
		if s.Wanted && s.Level == "none" {
			fmt.Fprintf(a.out, "give yours with: yardbench secret put %s --for %s\n", s.Name, of)
		}
	}
}

func (a secretCommands) importSecrets() *cobra.Command {
	var of client.SecretsOf
	var in wire.SecretValue
	var settle func(*cobra.Command)
	c := &cobra.Command{
		Use: "import", Short: "Set many secrets from a dotenv file on standard input",
		Long:    "Set many secrets from lines NAME=VALUE on standard input, as dotenv files have them: comments, quotes, several lines within quotes. Nothing in them is put in for $NAME. They are set one after the other, by name: where one is refused it is said which, and what follows it is not set. The file itself is best deleted afterwards.",
		Example: "  yardbench secret import --for tide-board < .env\n  yardbench secret import --of-team Harbour --everywhere < shared.env", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			settle(cmd)
			text, err := io.ReadAll(io.LimitReader(a.in, mostImported+1))
			switch {
			case err != nil:
				return err
			case len(text) > mostImported:
				return errors.New("the file is larger than 1 MiB")
			}
			names, values, err := readDotenv(string(text))
			if err != nil {
				return err
			}
			out := []wire.Secret{}
			for _, name := range names {
				in.Value = values[name]
				s, err := api.Secrets.Put(cmd.Context(), of, name, in)
				if err != nil {
					return fmt.Errorf("%s was not set, nor what follows it; %d before it were: %w", name, len(out), err)
				}
				out = append(out, s)
			}
			return a.print(out, func() {
				for _, s := range out {
					fmt.Fprintf(a.err, "%s, version %d, is set for %s\n", s.Name, s.Version, givenTo(s))
					if s.Doubt != "" {
						fmt.Fprintln(a.err, "  "+s.Doubt)
					}
				}
			})
		}),
	}
	secretsOf(c, &of, "set")
	settle = reachOf(c, &in)
	return c
}

// mostImported bounds a dotenv file, in bytes.
const mostImported = 1 << 20

// readDotenv reads names and values of a dotenv file, with what is in the place of
// $NAME left as it is: a secret may hold a dollar sign.
func readDotenv(text string) (names []string, values map[string]string, err error) {
	const dollar = "\ue000" // for private use, in no file
	values, err = dotenv.Parse(strings.NewReader(strings.ReplaceAll(text, "$", dollar)))
	if err != nil { // the library's words may hold a value
		return nil, nil, errors.New("this is no dotenv file: lines NAME=VALUE are expected, with quotes around what holds spaces or line ends")
	}
	for name, value := range values {
		values[name] = strings.ReplaceAll(strings.ReplaceAll(value, `\`+dollar, "$"), dollar, "$")
	}
	names = slices.Sorted(maps.Keys(values))
	if len(names) == 0 {
		return nil, nil, errors.New("there is no line NAME=VALUE in it")
	}
	return names, values, nil
}

func givenTo(s wire.Secret) string {
	to := strings.Join(s.Repositories, ", ")
	switch s.Level {
	case "repository":
		to = "everybody in " + s.Repository
	case "person":
		to = cmp.Or(map[bool]string{true: "all your workspaces"}[s.Everywhere], to)
	case "team":
		to = "everybody of " + s.Team + map[bool]string{true: "", false: " in " + to}[s.Everywhere]
	case "house":
		to = "everybody" + map[bool]string{true: "", false: " in " + to}[s.Everywhere]
	}
	if len(s.Branches) > 0 {
		to += ", on " + strings.Join(s.Branches, ", ")
	}
	return to
}

// from says since when and how a secret is there.
func from(s wire.Secret) string {
	if s.Form == "build" {
		return "images that are built from now on mount it: RUN --mount=type=secret,id=" + s.Name
	}
	if s.Form == "registry" {
		return "images are fetched from " + s.Registry + " with it from now on, as " + s.Username
	}
	return "terminals and runs opened from now on have it, as " + formOf(s)
}

func formOf(s wire.Secret) string {
	form := "$" + s.Name
	switch s.Form {
	case "file":
		form = "a file ($" + s.Name + "_FILE)"
	case "build":
		return "a build secret"
	case "registry":
		return "signs in to " + s.Registry + " as " + s.Username
	}
	return form + map[bool]string{true: ", in prebuilds too"}[s.Prebuilds]
}
