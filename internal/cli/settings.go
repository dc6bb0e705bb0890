package cli

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"slices"
	"strings"

	"github.com/knadh/koanf/parsers/yaml"
	"github.com/knadh/koanf/providers/env/v2"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/v2"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"yardbench/internal/core/plain"
	"yardbench/internal/serve"
)

// settings are how a service is started: each is a flag, a key of a file and a variable of
// the environment, in this order of what counts.
type settings struct {
	serve.Config
	addresses string
	log       struct{ form, level string }
	file      string
	known     []*pflag.Flag
	from      map[string]string // by flag: where its value is from; the default's are not there
}

const (
	// settingsEnv begins the variables of the environment.
	settingsEnv = "YARDBENCH_SERVE_"
	fileFlag    = "config"
	// onceFlag is for one start alone, so that it stands in no file.
	onceFlag = "take-over"
)

// settingsOf gives a command the flags of the service.
func settingsOf(c *cobra.Command) *settings {
	s := &settings{from: map[string]string{}}
	engine := cmp.Or(os.Getenv("DOCKER_HOST"), "unix:///var/run/docker.sock")
	f := c.Flags()
	before := map[string]bool{}
	f.VisitAll(func(x *pflag.Flag) { before[x.Name] = true })
	f.StringVar(&s.DataDir, "data", "yardbench-data", "the data directory: records, keys, mirrors, logs")
	f.StringVar(&s.Listen, "listen", "127.0.0.1:7080", "where the HTTP door listens")
	f.StringSliceVar(&s.TLSCertificates, "tls-certificate", nil, "a file with the certificate by which the HTTP door speaks TLS itself, and those that vouch for it, as PEM; read anew when it changes; several for several names")
	f.StringSliceVar(&s.TLSKeys, "tls-key", nil, "a file with the key of that certificate, as PEM; as many, in the same order")
	f.StringVar(&s.Engine, "engine", engine, "the container engine's socket; sim:IMAGE,… is a simulated yard that has these images")
	f.StringVar(&s.Address, "public-address", "", "the console's address as people reach it (default: where it listens)")
	f.StringVar(&s.SSHListen, "ssh-listen", "127.0.0.1:7022", "where the door of SSH listens; '' for nowhere: people then come by SSH over the HTTP door")
	f.StringVar(&s.SSHAddress, "ssh-address", "", "where people reach the door of SSH, host and port (default: where it listens)")
	f.StringVar(&s.MetricsListen, "metrics-listen", "", "where /metrics, /live and /ready are answered without a sign-in, like 127.0.0.1:7090; '' for nowhere (docs/watching.md)")
	f.StringVar(&s.PortForm, "port-address", "", "the address of workspaces' ports, with a * for the name of one, on another host than the console's (default: http://*.ports.localhost and the door's port)")
	f.IntVar(&s.ChangesPerHour, "changes-per-hour", 20000, "how much one person may change in an hour, a tenth of it at once; each change is written down for good; 0 is no bound")
	f.BoolVar(&s.BoundTogether, "bound-together", false, "bound the containers of a workspace with services all together by its size (wants root, and a local engine that drives control groups itself); without it each has the size")
	f.BoolVar(&s.BoundBuilds, "bound-builds", false, "bound all builds together by the house rules' size for builds (wants --bound-together, and an engine started with --cgroup-parent=/yardbench/builds)")
	f.BoolVar(&s.BoundDisks, "bound-disks", false, "give each workspace a disk of its size that cannot grow (wants root, a local engine and loop devices); without it disks are measured")
	f.StringSliceVar(&s.Proxies, "proxies", []string{"127.0.0.0/8", "::1"}, "addresses and ranges of the proxies in front of the service, which are believed when they say whom a request comes from")
	f.StringVar(&s.KeyService, "key-service", "", "a command that guards the key file: run with seal or open as its last word, it reads a line of base64 and writes one (docs/operating.md)")
	f.StringVar(&s.Trail, "trail", "", "a folder at a second place, like a mounted disk of another machine, that follows the records while the service runs, a few seconds behind; '' for none (docs/operating.md)")
	f.StringVar(&s.TrailPassphrase, "trail-passphrase-file", "", "a file with the passphrase that seals the keys in the trail; without it they are not in it")
	f.BoolVar(&s.TakeOver, onceFlag, false, "keep the yard although another service with the same records, or newer records of this one, kept it last; give it once, when the other is gone for good")
	f.StringVar(&s.log.form, "log", "text", "the form of the log, on standard error: text or json")
	f.StringVar(&s.log.level, "log-level", "info", "what is logged at least: debug (each request), info, warn or error")
	f.StringVar(&s.addresses, "addresses", "10.213.0.0/16", "the IPv4 range that workspaces' networks are cut from, 32 addresses each")
	f.VisitAll(func(x *pflag.Flag) {
		if !before[x.Name] {
			s.known = append(s.known, x)
		}
	})
	f.StringVar(&s.file, fileFlag, "", "a file with settings, in YAML: each flag is a key, with _ for - (default: YARDBENCH_SERVE_CONFIG; docs/settings.md)")
	return s
}

// key is how a flag is called in a file.
func keyOf(flag string) string { return strings.ReplaceAll(flag, "-", "_") }

// load takes in what the environment and a file say of what the command line does not,
// and checks all of it.
func (s *settings) load(c *cobra.Command) (warnings []string, err error) {
	said := koanf.New(".")
	path := cmp.Or(s.file, os.Getenv(settingsEnv+"CONFIG"))
	if path != "" {
		if err := said.Load(file.Provider(path), yaml.Parser()); err != nil {
			return nil, usage{fmt.Errorf("the settings in %s: %w", path, err)}
		}
		if err := s.take(c, said, path, "the file"); err != nil {
			return nil, err
		}
	}
	said = koanf.New(".")
	if err := said.Load(env.Provider(".", env.Opt{Prefix: settingsEnv, TransformFunc: func(k, v string) (string, any) {
		return strings.ToLower(strings.TrimPrefix(k, settingsEnv)), v
	}}), nil); err != nil {
		return nil, err
	}
	said.Delete(fileFlag)
	if err := s.take(c, said, "", "the environment"); err != nil {
		return nil, err
	}
	for _, f := range s.known {
		if s.from[f.Name] == "" && f.Changed {
			s.from[f.Name] = "the command line"
		}
	}
	if s.Addresses, err = netip.ParsePrefix(s.addresses); err != nil || !s.Addresses.Addr().Is4() || s.Addresses.Bits() > 27 {
		return nil, usage{fmt.Errorf("--addresses %q is no IPv4 range of /27 or larger", s.addresses)}
	}
	if _, err := s.level(); err != nil {
		return nil, err
	}
	if warnings, err = serve.Check(s.Config); err != nil {
		return nil, usage{err}
	}
	return warnings, nil
}

// take takes in what one place says, where nothing that counts more has spoken.
func (s *settings) take(c *cobra.Command, said *koanf.Koanf, path, place string) error {
	var text []byte
	if path != "" {
		text, _ = os.ReadFile(path) // it was read a moment ago; only its lines are told
	}
	for _, key := range said.Keys() {
		at := place
		if path != "" {
			at = path
			if line := lineOf(text, key); line > 0 {
				at = fmt.Sprintf("%s, line %d", path, line)
			}
		}
		i := slices.IndexFunc(s.known, func(f *pflag.Flag) bool { return keyOf(f.Name) == key })
		if i < 0 {
			var keys []string
			for _, f := range s.known {
				keys = append(keys, keyOf(f.Name))
			}
			text := fmt.Sprintf("%s: there is no setting %q", at, key)
			if near := plain.Near(key, keys); near != "" {
				text += "; write " + near + ", if that is meant"
			}
			return usage{errors.New(text)}
		}
		f := s.known[i]
		if f.Name == onceFlag {
			return usage{fmt.Errorf("%s: %s is for one start: give it on the command line, once", at, key)}
		}
		if f.Changed && s.from[f.Name] == "" { // the command line counts most
			continue
		}
		values := said.Strings(key)
		if len(values) == 0 {
			values = []string{said.String(key)}
		}
		if list, is := f.Value.(pflag.SliceValue); is {
			if err := list.Replace(splitEach(values)); err != nil {
				return usage{fmt.Errorf("%s: %s: %w", at, key, err)}
			}
			f.Changed = true
		} else if err := c.Flags().Set(f.Name, oneWord(f, values)); err != nil {
			return usage{fmt.Errorf("%s: %s: %q is not possible: wanted is %s", at, key, strings.Join(values, ","), wanted[f.Value.Type()])}
		}
		s.from[f.Name] = place
		if path != "" {
			s.from[f.Name] = path
		}
	}
	return nil
}

// wanted is what is wanted of a kind of flag.
var wanted = map[string]string{"bool": "yes or no", "int": "a whole number", "string": "one text"}

// oneWord is a value as a flag takes it.
func oneWord(f *pflag.Flag, values []string) string {
	v := strings.Join(values, ",")
	if f.Value.Type() == "bool" {
		switch v {
		case "yes":
			return "true"
		case "no":
			return "false"
		}
	}
	return v
}

// splitEach has a list also be written in one word, with commas.
func splitEach(values []string) (out []string) {
	for _, v := range values {
		for _, one := range strings.Split(v, ",") {
			if one = strings.TrimSpace(one); one != "" {
				out = append(out, one)
			}
		}
	}
	return out
}

// lineOf is where a key stands in a file, from 1; 0 where that is not seen.
func lineOf(text []byte, key string) int {
	first, _, _ := strings.Cut(key, ".")
	for i, l := range bytes.Split(text, []byte("\n")) {
		if bytes.HasPrefix(l, []byte(first+":")) {
			return i + 1
		}
	}
	return 0
}

func (s *settings) level() (least slog.Level, err error) {
	if err := least.UnmarshalText([]byte(s.log.level)); err != nil {
		return 0, usage{fmt.Errorf("--log-level %q is none of debug, info, warn and error", s.log.level)}
	}
	if s.log.form != "text" && s.log.form != "json" {
		return 0, usage{fmt.Errorf("--log %q is neither text nor json", s.log.form)}
	}
	return least, nil
}

// setting is one, as it stands.
type setting struct {
	Key     string `json:"key"`
	Value   string `json:"value"`
	Default string `json:"default"`
	From    string `json:"from"`
	Effect  string `json:"effect"`
}

func (s *settings) all() (out []setting) {
	plainly := func(v string) string { // as it is written in a file
		switch v = strings.TrimSuffix(strings.TrimPrefix(v, "["), "]"); v {
		case "true":
			return "yes"
		case "false":
			return "no"
		}
		return v
	}
	for _, f := range s.known {
		if f.Name == onceFlag {
			continue
		}
		out = append(out, setting{keyOf(f.Name), plainly(f.Value.String()), plainly(f.DefValue), cmp.Or(s.from[f.Name], "the default"), f.Usage})
	}
	return out
}

// settingsDocument is docs/settings.md.
func settingsDocument() string {
	var b strings.Builder
	b.WriteString(`<!-- Generated by "yardbench settings"; do not edit. -->
# Settings of the service

What an installation is like is said in two places. The [house rules](house-rules.md) say how people may work: they are changed while the service runs, in versions, by operators. The settings here say how the process is started; they are read at its start, and only certificates are read anew while it runs.

Each setting is a flag of ` + "`yardbench serve`" + `, a key of a file in YAML, and a variable of the environment:

` + "```" + `
yardbench serve --metrics-listen 127.0.0.1:7090

metrics_listen: 127.0.0.1:7090        # in the file that --config or YARDBENCH_SERVE_CONFIG names

YARDBENCH_SERVE_METRICS_LISTEN=127.0.0.1:7090
` + "```" + `

The command line counts most, then the environment, then the file. A key or a variable that there is not is refused, with its line. ` + "`yardbench config show`" + ` lists each setting with its value and where that is from, ` + "`yardbench config check`" + ` says what is wrong; both start nothing. Lists are written as lists in YAML, with commas elsewhere. ` + "`--take-over`" + ` is for one start alone and stands in no file.

| key | default | what it does |
|---|---|---|
`)
	for _, x := range settingsOf(&cobra.Command{}).all() {
		v := cmp.Or(x.Default, "—")
		if x.Key == "engine" {
			v = "`DOCKER_HOST`, or unix:///var/run/docker.sock"
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", x.Key, v, strings.ReplaceAll(strings.ReplaceAll(x.Effect, "*", "\\*"), "|", "\\|"))
	}
	return b.String()
}

func (a serviceCommands) config() *cobra.Command {
	c := &cobra.Command{Use: "config", Short: "How the service is started: every setting with its value and where that is from, and whether it will do",
		Long: "How the service is started. Each flag of serve is also a key of a file (--config, in YAML, with _ for -) and a variable of the environment (YARDBENCH_SERVE_…, in capital letters); the command line counts most, then the environment, then the file. Nothing is started, and no service is asked: it is about the machine that this runs on."}
	show := &cobra.Command{Use: "show", Short: "List every setting: its value, where that is from, and what it does", Args: cobra.NoArgs,
		Example: "  yardbench config show --config /etc/yardbench/yardbench.yaml"}
	of := settingsOf(show)
	show.RunE = func(cmd *cobra.Command, _ []string) error {
		if _, err := of.load(cmd); err != nil {
			return err
		}
		all := of.all()
		return a.print(all, func() {
			t := a.table(a.out, "KEY", "VALUE", "FROM")
			for _, x := range all {
				t.row(x.Key, cmp.Or(x.Value, "—"), x.From)
			}
			t.print()
			fmt.Fprintln(a.out, "what each does: yardbench serve --help, or docs/settings.md")
		})
	}
	check := &cobra.Command{Use: "check", Short: "Say what is wrong with the settings, without starting anything", Args: cobra.NoArgs,
		Long:    "Say what is wrong with the settings: keys that there are not, addresses that nobody can reach, certificates that cannot be read. Ends with 2 where the service would not start with them.",
		Example: "  yardbench config check --config /etc/yardbench/yardbench.yaml"}
	checked := settingsOf(check)
	check.RunE = func(cmd *cobra.Command, _ []string) error {
		warnings, err := checked.load(cmd)
		if err != nil {
			return err
		}
		if warnings == nil {
			warnings = []string{}
		}
		return a.print(struct {
			Warnings []string `json:"warnings"`
		}{warnings}, func() {
			for _, w := range warnings {
				fmt.Fprintln(a.out, "  "+w)
			}
			fmt.Fprintln(a.out, "the service can be started with these settings")
		})
	}
	c.AddCommand(show, check)
	return c
}
