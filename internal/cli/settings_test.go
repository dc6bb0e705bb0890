package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// The command line counts most, then the environment, then the file; what there is not, or
// is no value, is refused with where it stands.
func TestSettings(t *testing.T) {
	t.Setenv("DOCKER_HOST", "")
	for _, c := range []struct {
		name, file string
		env        map[string]string
		args       []string
		want       map[string]string // value and where it is from
		refusal    string
	}{
		{name: "nothing said", want: map[string]string{"listen": "127.0.0.1:7080 the default", "engine": "unix:///var/run/docker.sock the default", "bound_disks": "no the default"}},
		{name: "a file", file: "listen: 127.0.0.1:1\nbound_disks: yes\nchanges_per_hour: 7\nproxies: [10.0.0.0/8, '::1']\ntls_key:\n",
			want: map[string]string{"listen": "127.0.0.1:1 FILE", "bound_disks": "yes FILE", "changes_per_hour": "7 FILE", "proxies": "10.0.0.0/8,::1 FILE", "tls_key": " FILE", "data": "yardbench-data the default"}},
		{name: "the environment before it", file: "listen: 127.0.0.1:1\nproxies: [10.0.0.0/8]\n", env: map[string]string{"LISTEN": "127.0.0.1:2", "PROXIES": "192.0.2.0/24, ::1"},
			want: map[string]string{"listen": "127.0.0.1:2 the environment", "proxies": "192.0.2.0/24,::1 the environment"}},
		{name: "the command line before both", file: "listen: 127.0.0.1:1\nproxies: [10.0.0.0/8]\n", env: map[string]string{"LISTEN": "127.0.0.1:2"}, args: []string{"--listen", "127.0.0.1:3", "--proxies", "::1"},
			want: map[string]string{"listen": "127.0.0.1:3 the command line", "proxies": "::1 the command line"}},
		{name: "an empty one is one", env: map[string]string{"SSH_LISTEN": ""}, want: map[string]string{"ssh_listen": " the environment"}},
		{name: "a slip in the file", file: "data: d\n# more\npublic_adress: x\n", refusal: `FILE, line 3: there is no setting "public_adress"; write public_address, if that is meant`},
		{name: "a slip in the environment", env: map[string]string{"LISTN": "x"}, refusal: `the environment: there is no setting "listn"; write listen`},
		{name: "no number", file: "changes_per_hour: many\n", refusal: `FILE, line 1: changes_per_hour: "many" is not possible: wanted is a whole number`},
		{name: "neither yes nor no", file: "bound_disks: perhaps\n", refusal: "wanted is yes or no"},
		{name: "one within another", file: "tls:\n  certificate: a\n", refusal: `line 1: there is no setting "tls.certificate"; write tls_certificate`},
		{name: "no YAML", file: "listen: [\n", refusal: "line"},
		{name: "for one start alone", file: "take_over: yes\n", refusal: "take_over is for one start: give it on the command line"},
		{name: "no range", args: []string{"--addresses", "10.0.0.0/30"}, refusal: "no IPv4 range"},
		{name: "no level", file: "log_level: loud\n", refusal: "none of debug, info, warn and error"},
		{name: "an address that nobody reaches", file: "public_address: bench\n", refusal: "no address that people reach"},
	} {
		t.Run(c.name, func(t *testing.T) {
			cmd := &cobra.Command{RunE: func(*cobra.Command, []string) error { return nil }}
			s := settingsOf(cmd)
			path := filepath.Join(t.TempDir(), "settings.yaml")
			args := c.args
			if c.file != "" {
				if err := os.WriteFile(path, []byte(c.file), 0o600); err != nil {
					t.Fatal(err)
				}
				args = append(args, "--config", path)
			}
			for k, v := range c.env {
				t.Setenv("YARDBENCH_SERVE_"+k, v)
			}
			cmd.SetArgs(args)
			if err := cmd.Execute(); err != nil {
				t.Fatal(err)
			}
			_, err := s.load(cmd)
			if c.refusal != "" {
				if err == nil || !strings.Contains(strings.ReplaceAll(err.Error(), path, "FILE"), c.refusal) {
					t.Errorf("it is refused with %v", err)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range s.all() {
				if want, ok := c.want[x.Key]; ok && x.Value+" "+strings.ReplaceAll(x.From, path, "FILE") != want {
					t.Errorf("%s is %q from %s, want %q", x.Key, x.Value, x.From, want)
				}
			}
		})
	}
}
