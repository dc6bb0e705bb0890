package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a peopleCommands) signIn() *cobra.Command {
	var name string
	var byBrowser, byDevice bool
	c := &cobra.Command{
		Use:   "sign-in [ADDRESS]",
		Short: "Sign in to a service",
		Long:  "Sign in to a service. With --service NAME it has a name here, and --service NAME means it with every other command; without that the one signed in to last is meant. Where the service has people come by an identity provider, or with --browser, a browser on this machine asks; with --device one anywhere does, by a code that you type. Else, or with --as, a password is read from the terminal without echo, or from standard input.",
		Example: "  yardbench sign-in http://127.0.0.1:7080 --as ingrid\n" +
			"  yardbench sign-in --as ingrid < password-file\n" +
			"  yardbench sign-in https://yard.skerryline.example --service north\n" +
			"  yardbench sign-in https://yard.skerryline.example --device",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			address := a.address
			if len(args) == 1 {
				address = args[0]
			}
			if address == "" {
				address = os.Getenv("YARDBENCH_ADDRESS")
			}
			if address == "" {
				address = signedIn(a.app).Address
			}
			if address == "" {
				return usage{fmt.Errorf("name the service's address: yardbench sign-in http://127.0.0.1:7080")}
			}
			api, err := client.New(address, "")
			if err != nil {
				return usage{err}
			}
			if name == "" && !byBrowser && !byDevice && isTerminal(a.in) {
				doors, err := api.Self.Doors(cmd.Context())
				if err != nil {
					return err
				}
				if len(doors.Providers) > 0 {
					byBrowser, byDevice = canOpen(), !canOpen()
				}
			}
			if byBrowser || byDevice {
				token := ""
				if byDevice {
					token, err = a.byDevice(cmd.Context(), address)
				} else {
					token, err = a.byBrowser(cmd.Context(), address, canOpen())
				}
				if err != nil {
					return err
				}
				in, err := arrived(cmd.Context(), address, token)
				if err != nil {
					return err
				}
				return a.keepArrival(address, in)
			}
			if name == "" && !isTerminal(a.in) {
				return usage{fmt.Errorf("say who you are with --as NAME, or sign in by a browser: --browser, or --device")}
			}
			if name == "" {
				fmt.Fprint(a.err, "Name: ")
				line, err := bufio.NewReader(a.in).ReadString('\n')
				if err != nil {
					return err
				}
				name = strings.TrimSpace(line)
			}
			password, err := a.readHidden("Password for " + name + ": ")
			if err != nil {
				return err
			}
			in, err := api.Self.SignIn(cmd.Context(), name, password)
			if err != nil {
				return err
			}
			return a.keepArrival(address, in)
		},
	}
	c.Flags().StringVar(&name, "as", "", "the name to sign in with, by a password")
	c.Flags().BoolVar(&byBrowser, "browser", false, "sign in by a browser on this machine")
	c.Flags().BoolVar(&byDevice, "device", false, "sign in by a browser anywhere, with a code")
	c.MarkFlagsMutuallyExclusive("as", "browser", "device")
	return c
}

// keepArrival keeps a sign-in, and says so.
func (a peopleCommands) keepArrival(address string, in wire.SignedIn) error {
	if a.service == "" { // whoever gives it no name means the one without
		a.service = cmp.Or(os.Getenv("YARDBENCH_SERVICE"), usualService)
	}
	if err := keepSignIn(a.app, signedInAt{Address: address, Name: in.Person.Name, Token: in.Token, Renewed: time.Now()}); err != nil {
		return fmt.Errorf("keep the sign-in: %w", err)
	}
	in.Token = ""
	return a.print(in, func() {
		fmt.Fprintf(a.out, "signed in to %s as %s (%s), until %s\n", address, clean(in.Person.FullName), in.Person.Role, when(in.ExpiresAt))
	})
}

func (a peopleCommands) signOut() *cobra.Command {
	return &cobra.Command{
		Use: "sign-out", Short: "End this sign-in, here and at the service", Example: "  yardbench sign-out", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			err := api.Self.SignOut(cmd.Context())
			if kerr := keepSignIn(a.app, signedInAt{}); kerr != nil {
				return kerr
			}
			return err
		}),
	}
}

func (a peopleCommands) password() *cobra.Command {
	return &cobra.Command{
		Use: "password", Short: "Set another password, and end all your other sign-ins",
		Long:    "Set another password. All your other sign-ins end, and tokens that you gave to programs. The old and the new one are read without echo, or from two lines of standard input.",
		Example: "  yardbench password", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			old, err := a.readHidden("Your password now: ")
			if err != nil {
				return err
			}
			next := ""
			if isTerminal(a.in) {
				if next, err = a.readHidden("Another: "); err != nil {
					return err
				}
				again, err := a.readHidden("The same again: ")
				if err != nil {
					return err
				}
				if again != next {
					return usage{errors.New("the two are not the same; nothing is changed")}
				}
			} else if old, next, _ = strings.Cut(old, "\n"); next == "" {
				return usage{errors.New("give the old one and the new one, each in a line of its own")}
			}
			if err := api.Self.ChangePassword(cmd.Context(), wire.PasswordChange{Old: strings.TrimSuffix(old, "\r"), New: next}); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintln(a.out, "your password is another; all your other sign-ins have ended") })
		}),
	}
}

func (a peopleCommands) credential() *cobra.Command {
	c := &cobra.Command{Use: "credential", Short: "What you sign in to git hosts with"}
	var username string
	put := &cobra.Command{
		Use: "put HOST", Short: "Set your credential for a git host; the password or token is read without echo or from standard input",
		Example: "  yardbench credential put git.skerryline.example --username ingrid", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			password, err := a.readHidden("Password or token for " + args[0] + ": ")
			if err != nil {
				return err
			}
			if username == "" {
				username = signedIn(a.app).Name
			}
			return api.Self.PutGitCredential(cmd.Context(), args[0], wire.GitCredential{Username: username, Password: password})
		}),
	}
	put.Flags().StringVar(&username, "username", "", "your name at the git host (default: your name here)")
	list := &cobra.Command{
		Use: "list", Short: "List the git hosts that you have a credential for", Example: "  yardbench credential list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Self.GitCredentials(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "you have none; give one with: yardbench credential put HOST")
					return
				}
				t := a.table(a.out, "HOST", "USER NAME", "SET", "HOW")
				for _, c := range all {
					t.row(c.Host, c.Username, when(c.UpdatedAt), lentBy(c))
				}
				t.print()
			})
		}),
	}
	remove := &cobra.Command{
		Use: "remove HOST", Short: "Remove your credential for a git host", Example: "  yardbench credential remove git.skerryline.example", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("remove it", "Remove your credential for "+clean(args[0])+"?"); err != nil {
				return err
			}
			if err := api.Self.DropGitCredential(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintf(a.out, "your credential for %s is gone\n", args[0]) })
		}),
	}
	c.AddCommand(put, gitHostCommands{a.app}.connect(), list, remove)
	return c
}

func (a peopleCommands) repository() *cobra.Command {
	c := &cobra.Command{Use: "repository", Short: "The registered repositories"}
	list := &cobra.Command{
		Use: "list", Short: "List the registered repositories", Example: "  yardbench repository list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			rs, err := api.Repositories.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(rs, func() {
				if len(rs) == 0 {
					fmt.Fprintln(a.out, "no repository is registered; an operator does so with: yardbench repository add ADDRESS")
					return
				}
				t := a.table(a.out, "REPOSITORY", "DEFAULT BRANCH", "TEAM", "PUSHES", "PREBUILDS READ", "ADDRESS")
				for _, r := range rs {
					pushes := "not told"
					if r.SignsPushes {
						pushes = "signed"
					}
					reads := "as nobody"
					if r.OwnCredential {
						reads = "as itself"
					}
					t.row(r.Name, r.DefaultBranch, r.Team, pushes, reads, r.URL)
				}
				t.print()
			})
		}),
	}
	var in wire.NewRepository
	add := &cobra.Command{
		Use: "add ADDRESS", Short: "Register a repository (operators)", Example: "  yardbench repository add https://git.skerryline.example/tide-board.git\n  yardbench repository add https://git.skerryline.example/tide-board.git --team Timetable",
		Args: func(cmd *cobra.Command, args []string) error {
			for i, other := range args {
				if len(args) == 2 && strings.Contains(other, "://") {
					return usage{fmt.Errorf("give the address alone; a name of your own comes with --name: yardbench repository add %s --name %s", other, args[1-i])}
				}
			}
			return cobra.ExactArgs(1)(cmd, args)
		},
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			in.URL = args[0]
			r, err := api.Repositories.Add(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.print(r, func() { fmt.Fprintf(a.out, "%s is registered; try: yardbench launch %s\n", r.Name, r.Name) })
		}),
	}
	add.Flags().StringVar(&in.Name, "name", "", "what to call it (default: the last part of the address)")
	add.Flags().StringVar(&in.Team, "team", "", "the team whose money its prebuilds are")
	var team, address, branch string
	change := &cobra.Command{
		Use: "change REPOSITORY", Short: "Change whose a repository is, where it is, and its default branch (operators)",
		Example: "  yardbench repository change tide-board --team Timetable\n  yardbench repository change tide-board --team ''\n  yardbench repository change tide-board --address https://git.skerryline.example/boards/tide-board.git --branch main",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			given := func(name string, v *string) *string {
				if !cmd.Flags().Changed(name) {
					return nil
				}
				return v
			}
			r, err := api.Repositories.Change(cmd.Context(), args[0], wire.RepositoryChange{Team: given("team", &team), URL: given("address", &address), DefaultBranch: given("branch", &branch)})
			if err != nil {
				return err
			}
			return a.print(r, func() {
				fmt.Fprintf(a.out, "%s is at %s, its default branch is %s\n", r.Name, clean(r.URL), clean(r.DefaultBranch))
				if r.Team == "" {
					fmt.Fprintln(a.out, "its prebuilds are nobody's money")
					return
				}
				fmt.Fprintf(a.out, "its prebuilds are the money of team %s\n", r.Team)
			})
		}),
	}
	change.Flags().StringVar(&team, "team", "", "the team whose money its prebuilds are; empty for nobody's")
	change.Flags().StringVar(&address, "address", "", "where its git host has it now")
	change.Flags().StringVar(&branch, "branch", "", "the branch that is meant where none is named; empty for what its git host says")
	change.MarkFlagsOneRequired("team", "address", "branch")
	remove := &cobra.Command{
		Use: "remove REPOSITORY", Short: "Have a repository registered no more (operators)", Example: "  yardbench repository remove deck-log", Args: cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		Long: "Have a repository registered no more. Its prebuild plans go with their prepared images, and so do its secrets; what was used and written of it stays in cost and journal. Workspaces of it hold it: have them removed first.",
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("remove it", "Have "+clean(args[0])+" registered no more, and remove its plans, prepared images and secrets?"); err != nil {
				return err
			}
			if err := api.Repositories.Remove(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintf(a.out, "%s is registered no more\n", clean(args[0])) })
		}),
	}
	key := &cobra.Command{
		Use: "push-key REPOSITORY", Short: "Make a fresh key for the git host to sign the news of pushes with (operators)",
		Long:    "Make a fresh key for the git host to sign the news of pushes with, so that prebuilds follow pushes. It is shown this once. docs/pushes.md describes what the git host sends.",
		Example: "  yardbench repository push-key tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			k, err := api.Repositories.NewPushKey(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(k, func() { fmt.Fprintln(a.out, k.Key) })
		}),
	}
	var own wire.GitCredential
	var gone bool
	credential := &cobra.Command{
		Use: "credential REPOSITORY", Short: "Give a repository the credential that its prebuilds read it with (operators)",
		Long:    "Give a repository the credential that its prebuilds read it with: one that the git host lets read this repository and nothing else. The password or token is read without echo or from standard input. Nobody's own credential is ever used for a prebuild.",
		Example: "  yardbench repository credential tide-board --username tide-reader\n  yardbench repository credential tide-board --remove", Args: cobra.ExactArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) (err error) {
			if gone {
				if err := a.sure("take it away", "Take the credential of "+clean(args[0])+" away? Its prebuilds stop."); err != nil {
					return err
				}
				if err := api.Repositories.DropCredential(cmd.Context(), args[0]); err != nil {
					return err
				}
				return a.print(struct{}{}, func() { fmt.Fprintf(a.out, "%s has no credential of its own any more\n", args[0]) })
			}
			if own.Password, err = a.readHidden("Password or token of " + own.Username + " at the git host: "); err != nil {
				return err
			}
			if err := api.Repositories.PutCredential(cmd.Context(), args[0], own); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintf(a.out, "prebuilds of %s read it as %s\n", args[0], own.Username) })
		}),
	}
	credential.Flags().StringVar(&own.Username, "username", "", "the name at the git host")
	credential.Flags().BoolVar(&gone, "remove", false, "take it away")
	credential.MarkFlagsOneRequired("username", "remove")
	credential.MarkFlagsMutuallyExclusive("username", "remove")
	c.AddCommand(list, add, change, remove, credential, a.deployKey(), key)
	return c
}

func (a peopleCommands) person() *cobra.Command {
	c := &cobra.Command{Use: "person", Short: "The people you may see, and accounts of programs"}
	list := &cobra.Command{
		Use: "list", Short: "List the people you may see", Example: "  yardbench person list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			ps, err := api.People.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(ps, func() {
				t := a.table(a.out, "NAME", "FULL NAME", "ROLE", "TEAM", "")
				for _, p := range ps {
					t.row(p.Name, p.FullName, p.Role, teamsOf(p), strings.TrimPrefix(map[bool]string{true: ", a program"}[p.Program]+map[bool]string{true: ", closed"}[p.Closed], ", "))
				}
				t.print()
			})
		}),
	}
	var role, team string
	var also, leads []string
	set := &cobra.Command{
		Use: "change NAME", Short: "Change somebody's role or teams (operators)", Example: "  yardbench person change ingrid --role lead --team Timetable\n  yardbench person change ingrid --also Fares --leads Harbour\n  yardbench person change ingrid --also ''", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			ch := wire.PersonChange{Role: role}
			if cmd.Flags().Changed("team") {
				ch.Team = &team
			}
			if cmd.Flags().Changed("also") || cmd.Flags().Changed("leads") {
				ch.Also = &[]wire.NewMembership{}
				for i, t := range slices.Concat(leads, also) {
					if t != "" && (i < len(leads) || !slices.Contains(leads, t)) { // who leads one is in it
						*ch.Also = append(*ch.Also, wire.NewMembership{Team: t, Leads: slices.Contains(leads, t)})
					}
				}
			}
			return a.changed(cmd, api, args[0], ch)
		}),
	}
	set.Flags().StringVar(&role, "role", "", "operator, lead, developer or auditor")
	set.Flags().StringVar(&team, "team", "", "their own team, with which their workspaces are counted; empty for none")
	set.Flags().StringSliceVar(&also, "also", nil, "all teams that they are in beside it, with --leads; '' for none")
	set.Flags().StringSliceVar(&leads, "leads", nil, "teams beside their own that they lead")
	account := func(use, short string, closed bool) *cobra.Command {
		stop := false
		c := &cobra.Command{Use: use + " NAME", Short: short, Example: "  yardbench person " + use + " ingrid", Args: cobra.ExactArgs(1),
			RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
				if closed {
					if err := a.sure("close the account of "+args[0], "Close the account of "+clean(args[0])+"? All that they are signed in with ends."); err != nil {
						return err
					}
				}
				if err := a.changed(cmd, api, args[0], wire.PersonChange{Closed: &closed}); err != nil || !closed {
					return err
				}
				return a.runsStill(cmd.Context(), api, args[0], stop)
			})}
		if closed {
			c.Flags().BoolVar(&stop, "stop", false, "stop their workspaces too; the files stay")
		}
		return c
	}
	erase := &cobra.Command{
		Use: "erase NAME", Short: "Take away everything that is known of somebody whose account is closed (operators)", Args: cobra.ExactArgs(1),
		Long:    "Take away everything that is known of somebody whose account is closed: name, e-mail address, password, tokens, secrets and credentials. What they did stays in the journal, under an id that stands for nobody any more.",
		Example: "  yardbench person close oddvar\n  yardbench person erase oddvar",
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("erase "+args[0], "Take away everything that is known of "+args[0]+"?"); err != nil {
				return err
			}
			if err := api.People.Erase(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() {
				fmt.Fprintf(a.out, "%s is erased; what they did stays in the journal, as somebody's who has left\n", args[0])
			})
		}),
	}
	c.AddCommand(list, set, account("close", "Close somebody's account: they are signed out and may not sign in (operators)", true),
		account("open", "Open a closed account again (operators)", false), erase)
	return c
}

func (a peopleCommands) changed(cmd *cobra.Command, api *client.Client, name string, ch wire.PersonChange) error {
	p, err := api.People.Change(cmd.Context(), name, ch)
	if err != nil {
		return err
	}
	return a.print(p, func() {
		state := "may sign in"
		if p.Closed {
			state = "may not sign in"
		}
		fmt.Fprintf(a.out, "%s is %s", p.Name, p.Role)
		if teams := teamsOf(p); teams != "" {
			fmt.Fprintf(a.out, ", team %s", teams)
		}
		fmt.Fprintln(a.out, ", and "+state)
	})
}

// teamsOf are the teams of somebody, their own first.
func teamsOf(p wire.Person) string {
	var all []string
	if p.Team != "" {
		all = append(all, p.Team)
	}
	for _, m := range p.Also {
		all = append(all, map[bool]string{true: "leads "}[m.Leads]+m.Team)
	}
	return strings.Join(all, "; ")
}

// enrol sets up one's own account by a link.
func (a peopleCommands) enrol() *cobra.Command {
	var in wire.EnrolmentUse
	c := &cobra.Command{
		Use: "enrol LINK", Short: "Set up your account, or a new password, by the link an operator gave you",
		Long:    "Set up your account, or a new password, by the link an operator gave you. The password is read from the terminal without echo, or from standard input.",
		Example: "  yardbench enrol 'http://127.0.0.1:7080/enrol#yb_link_…' --as ingrid --full-name 'Ingrid Solheim' --email ingrid@skerryline.example", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := url.Parse(args[0])
			if err != nil || u.Fragment == "" || u.Host == "" {
				return usage{fmt.Errorf("%q is no enrolment link; put it in quotes, with what stands behind the #", args[0])}
			}
			address := (&url.URL{Scheme: u.Scheme, Host: u.Host, Path: strings.TrimSuffix(u.Path, "/enrol")}).String()
			api, err := client.New(address, "")
			if err != nil {
				return usage{err}
			}
			in.Key = u.Fragment
			if _, err := api.People.Offer(cmd.Context(), in.Key); err != nil {
				return err
			}
			if in.Password, err = a.readHidden("Choose a password: "); err != nil {
				return err
			}
			p, err := api.People.UseEnrolment(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.print(p, func() {
				fmt.Fprintf(a.out, "%s is set up (%s); sign in with: yardbench sign-in %s --as %s\n", p.Name, p.Role, address, p.Name)
			})
		},
	}
	c.Flags().StringVar(&in.Name, "as", "", "the name to sign in with: lower-case letters and digits, dots and dashes between them; what the link was made for need not be said")
	c.Flags().StringVar(&in.FullName, "full-name", "", "the name that stands on your commits")
	c.Flags().StringVar(&in.Email, "email", "", "the address that stands on your commits")
	return c
}
