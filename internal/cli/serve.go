package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/user"
	"time"

	"github.com/spf13/cobra"

	"yardbench/console"
	"yardbench/internal/api"
	"yardbench/internal/demo"
	"yardbench/internal/serve"
	"yardbench/internal/service"
	"yardbench/internal/store"
)

// serviceFlags are those of the service, here and in the demo.
func serviceFlags(c *cobra.Command, config *serve.Config, addresses *string) {
	engine := os.Getenv("DOCKER_HOST")
	if engine == "" {
		engine = "unix:///var/run/docker.sock"
	}
	c.Flags().StringVar(&config.DataDir, "data", "yardbench-data", "the data directory: records, keys, mirrors, logs")
	c.Flags().StringVar(&config.Listen, "listen", "127.0.0.1:7080", "where the HTTP door listens")
	c.Flags().StringVar(&config.Engine, "engine", engine, "the container engine")
	c.Flags().StringVar(addresses, "addresses", "10.213.0.0/16", "the IPv4 range that workspaces' networks are cut from, 32 addresses each")
}

func (a *app) runService(ctx context.Context, config serve.Config, addresses string) error {
	var err error
	if config.Addresses, err = netip.ParsePrefix(addresses); err != nil || !config.Addresses.Addr().Is4() || config.Addresses.Bits() > 27 {
		return usage{fmt.Errorf("--addresses %q is no IPv4 range of /27 or larger", addresses)}
	}
	config.Console = console.Files()
	config.Ready = func(address string) { fmt.Fprintln(a.out, "the service is at "+address) }
	return serve.Run(ctx, config)
}

func (a *app) serve() *cobra.Command {
	var config serve.Config
	var addresses, first string
	c := &cobra.Command{
		Use: "serve", Short: "Run the service",
		Example: "  yardbench serve --data /var/lib/yardbench --first-operator astrid < password-file\n" +
			"  yardbench serve --data /var/lib/yardbench --engine unix:///var/run/docker.sock",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			config.Prepare = func(ctx context.Context, s *service.Service) error { return a.firstOperator(ctx, s, first) }
			return a.runService(cmd.Context(), config, addresses)
		},
	}
	serviceFlags(c, &config, &addresses)
	c.Flags().StringVar(&first, "first-operator", "", "on the first start: the name of the first operator; their password is read like sign-in's")
	return c
}

// firstOperator adds the first person to a service that knows nobody.
func (a *app) firstOperator(ctx context.Context, s *service.Service, name string) error {
	people, err := s.Store.Read().People(ctx)
	if err != nil {
		return err
	}
	switch {
	case len(people) > 0:
		return nil
	case name == "":
		return errors.New("nobody can sign in to this service yet; start it once with --first-operator NAME")
	}
	password, err := a.readHidden("Password for " + name + ": ")
	if err != nil {
		return err
	}
	full := name
	if u, err := user.Current(); err == nil && u.Name != "" && u.Username == name {
		full = u.Name
	}
	host, _ := os.Hostname() // an empty one still makes an address for commits
	return s.AddPerson(ctx, store.Person{Name: name, FullName: full, Email: name + "@" + host, Role: "operator"}, password)
}

func (a *app) openapi() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Print the OpenAPI description of the HTTP door", Hidden: true, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			doc, err := api.New(cmd.Context(), &service.Service{}, console.Files()).OpenAPI()
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

// demo runs the parts of the demo; `make demo` calls them.
func (a *app) demo() *cobra.Command {
	c := &cobra.Command{Use: "demo", Short: "The parts of the demo: Skerry Line", Hidden: true}
	var dir, listen string
	host := &cobra.Command{
		Use: "git-host", Short: "Run the git-host stand-in", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return demo.RunGitHost(cmd.Context(), dir, listen, func(address string) { fmt.Fprintln(a.out, "the git host is at "+address) })
		},
	}
	host.Flags().StringVar(&dir, "data", "git-host", "where its repositories stand")
	host.Flags().StringVar(&listen, "listen", "127.0.0.1:7081", "where it listens")
	var config serve.Config
	var addresses, git string
	svc := &cobra.Command{
		Use: "service", Short: "Run the service with Skerry Line's people and repositories", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			config.Prepare = func(ctx context.Context, s *service.Service) error { return demo.Fill(ctx, s, git) }
			return a.runService(cmd.Context(), config, addresses)
		},
	}
	serviceFlags(svc, &config, &addresses)
	svc.Flags().StringVar(&git, "git-host", "http://git.skerryline.localhost:7081", "the git-host stand-in")
	var engine, tar string
	base := &cobra.Command{
		Use: "base-image", Short: "Put the base image into an engine", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return demo.LoadBase(cmd.Context(), engine, tar) },
	}
	base.Flags().StringVar(&engine, "engine", "", "the container engine")
	base.Flags().StringVar(&tar, "tar", "", "its root file system")
	clear := &cobra.Command{
		Use: "clear", Short: "Remove every workspace of the demo, with whatever is in it", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, cancel := context.WithTimeout(cmd.Context(), 2*time.Minute)
			defer cancel()
			return demo.Clear(ctx, a.address)
		},
	}
	c.AddCommand(host, svc, base, clear)
	return c
}
