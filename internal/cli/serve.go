package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"yardbench/console"
	"yardbench/internal/api"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/demo"
	"yardbench/internal/serve"
	"yardbench/internal/service"
	"yardbench/wire"
)

// runService runs the service as its settings say.
func (a serviceCommands) runService(cmd *cobra.Command, s *settings) error {
	if _, err := s.load(cmd); err != nil {
		return err
	}
	least, err := s.level()
	if err != nil {
		return err
	}
	s.Log = serve.Log(a.err, s.log.form == "json", least)
	slog.SetDefault(s.Log)
	s.Console = console.Files()
	s.Ready = func(address string) { fmt.Fprintln(a.out, "the service is at "+address) }
	return serve.Run(cmd.Context(), s.Config)
}

func (a serviceCommands) serve() *cobra.Command {
	c := &cobra.Command{
		Use: "serve", Short: "Run the service",
		Long: "Run the service. How it is started is said by flags, by a file or by the environment (see: yardbench config --help). Its first start prints an enrolment link, by which the first operator sets up their account; they make links for others.",
		Example: "  yardbench serve --data /var/lib/yardbench --engine unix:///var/run/docker.sock\n" +
			"  yardbench serve --public-address https://bench.skerryline.example --port-address 'https://*.skerryline-ports.example'",
		Args: cobra.NoArgs,
	}
	config := settingsOf(c)
	c.RunE = func(cmd *cobra.Command, _ []string) error {
		config.Prepare = func(ctx context.Context, s *service.Service, _ service.Rooms) error { return a.firstOperator(ctx, s) }
		return a.runService(cmd, config)
	}
	return c
}

// firstOperator prints the way in to a service that knows nobody.
func (a serviceCommands) firstOperator(ctx context.Context, s *service.Service) error {
	link, needed, err := s.People.FirstEnrolment(ctx)
	if err == nil && needed {
		fmt.Fprintf(a.out, "nobody can sign in yet: the first operator sets up their account at\n  %s\nwithin 72 hours, once; after that, starting the service again makes another\n", link)
	}
	return err
}

func (a serviceCommands) openapi() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Print the OpenAPI description of the HTTP door", Hidden: true, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			doc, err := api.New(cmd.Context(), service.New(service.Rooms{}), api.Config{Console: console.Files()}).OpenAPI()
			if err != nil {
				return err
			}
			var indented bytes.Buffer
			if err := json.Indent(&indented, doc, "", "  "); err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.out, indented.String())
			return err
		},
	}
}

func (a serviceCommands) problems() *cobra.Command {
	return &cobra.Command{
		Use: "problems", Short: "Print the document of the kinds of problems", Hidden: true, Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprint(a.out, wire.ProblemDocument())
			return err
		},
	}
}

func (a serviceCommands) lifecycle() *cobra.Command {
	return &cobra.Command{
		Use: "lifecycle", Short: "Print the document of phases and moves", Hidden: true, Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprint(a.out, lifecycle.Document())
			return err
		},
	}
}

func (a serviceCommands) settings() *cobra.Command {
	return &cobra.Command{
		Use: "settings", Short: "Print the document of the service's settings", Hidden: true, Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprint(a.out, settingsDocument())
			return err
		},
	}
}

// demo runs the parts of the demo; `make demo` calls them.
func (a serviceCommands) demo() *cobra.Command {
	c := &cobra.Command{Use: "demo", Short: "The parts of the demo: Skerry Line", Hidden: true}
	var dir, listen, sshListen, notify string
	host := &cobra.Command{
		Use: "git-host", Short: "Run the git-host stand-in", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return demo.RunGitHost(cmd.Context(), dir, listen, sshListen, notify, func(address string) { fmt.Fprintln(a.out, "the git host is at "+address) })
		},
	}
	host.Flags().StringVar(&dir, "data", "git-host", "where its repositories stand")
	host.Flags().StringVar(&notify, "notify", "", "the service that it tells of pushes")
	host.Flags().StringVar(&listen, "listen", "127.0.0.1:7081", "where it listens")
	host.Flags().StringVar(&sshListen, "ssh-listen", "127.0.0.1:7084", "where its door by SSH listens")
	var keyFile string
	guard := &cobra.Command{
		Use: "key-service seal|open", Short: "Be a stand-in for a key service: seal or open what comes on standard input", Args: cobra.ExactArgs(1), ValidArgs: []string{"seal", "open"},
		RunE: func(_ *cobra.Command, args []string) error { return demo.KeyService(keyFile, args[0], a.in, a.out) },
	}
	guard.Flags().StringVar(&keyFile, "file", "key-service.json", "where its own key is")
	var idListen, idService string
	id := &cobra.Command{
		Use: "identity-provider", Short: "Run the stand-in for a house's identity provider", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return demo.RunIdentityProvider(cmd.Context(), idListen, demo.ClientOf(idService), func(issuer string) { fmt.Fprintln(a.out, "the identity provider is at "+issuer) })
		},
	}
	id.Flags().StringVar(&idListen, "listen", "127.0.0.1:7083", "where it listens")
	id.Flags().StringVar(&idService, "service", "http://127.0.0.1:7080", "the service that people sign in to by it")
	var git string
	var past, fast bool
	svc := &cobra.Command{Use: "service", Short: "Run the service with Skerry Line's people and repositories", Args: cobra.NoArgs}
	config := settingsOf(svc)
	svc.RunE = func(cmd *cobra.Command, _ []string) error {
		var clock demo.Clock
		if fast {
			config.SimTimes = map[string]time.Duration{}
		}
		config.SimOthers = demo.SimulatedOthers()
		config.Now, config.Rules = clock.Now, demo.RulesBeside(git)
		if _, err := os.Stat(filepath.Join(config.DataDir, "yardbench.db")); past && err != nil {
			clock.Begin() // its journal begins in the past, and never runs backwards
		}
		config.Prepare = func(ctx context.Context, s *service.Service, rooms service.Rooms) error {
			if past {
				return demo.FillPast(ctx, s, rooms, &clock, git)
			}
			return demo.Fill(ctx, s, rooms, git)
		}
		return a.runService(cmd, config)
	}
	svc.Flags().BoolVar(&past, "past", false, "with thirty days of invented past")
	svc.Flags().IntVar(&config.SimFaults, "sim-faults", 0, "of a simulated yard: how many calls in a thousand are not answered")
	svc.Flags().Uint64Var(&config.SimSeed, "sim-seed", 0, "of a simulated yard: what its faults come from")
	svc.Flags().DurationVar(&config.ErrandLease, "errand-lease", 0, "how long a workspace for one command stays without a word of whoever asked for it (default: a minute)")
	svc.Flags().BoolVar(&fast, "sim-fast", false, "of a simulated yard: let no time pass in its steps")
	svc.Flags().StringVar(&git, "git-host", "http://git.skerryline.localhost:7081", "the git-host stand-in")
	var engine, tar string
	base := &cobra.Command{
		Use: "base-image", Short: "Put the base image into an engine", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return demo.LoadBase(cmd.Context(), engine, tar) },
	}
	base.Flags().StringVar(&engine, "engine", "", "the container engine")
	base.Flags().StringVar(&tar, "tar", "", "its root file system")
	var end bool
	others := &cobra.Command{
		Use: "others", Short: "Start the containers that somebody started by hand, or remove them", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if end {
				return demo.EndOthers(cmd.Context(), engine)
			}
			return demo.StartOthers(cmd.Context(), engine)
		},
	}
	others.Flags().StringVar(&engine, "engine", "", "the container engine")
	others.Flags().BoolVar(&end, "remove", false, "remove them")
	clear := &cobra.Command{
		Use: "clear", Short: "Remove every workspace of the demo, with whatever is in it", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, cancel := context.WithTimeout(cmd.Context(), 2*time.Minute)
			defer cancel()
			return demo.Clear(ctx, a.address)
		},
	}
	var hooked, issuer string
	furnish := &cobra.Command{
		Use: "furnish", Short: "Prepare images, and bring up four workspaces", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, cancel := context.WithTimeout(cmd.Context(), 10*time.Minute)
			defer cancel()
			return demo.Furnish(ctx, a.address, hooked, issuer, func(s string) { fmt.Fprintln(a.err, "demo: "+s) })
		},
	}
	furnish.Flags().StringVar(&hooked, "git-host", "", "the git host, whose stand-in is told of journal entries")
	furnish.Flags().StringVar(&issuer, "identity", "", "the identity provider, by which people can sign in")
	c.AddCommand(host, id, svc, base, others, furnish, clear, guard)
	return c
}
