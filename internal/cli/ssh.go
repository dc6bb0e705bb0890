package cli

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"yardbench/client"
	"yardbench/internal/core/plain"
	"yardbench/internal/durable"
	"yardbench/wire"
)

// sshCommands are what brings people in by SSH.
type sshCommands struct{ *app }

// bench is the usual end of workspaces' names for ssh.
const bench = ".bench"

// identity is where what ssh comes in with is kept, for one service.
type identity struct{ dir, key, certificate, hosts, alias string }

func (a sshCommands) identity() (id identity, err error) {
	p, err := signInPath()
	if err != nil {
		return id, err
	}
	name := a.named(readSignIns())
	id.dir = filepath.Join(filepath.Dir(p), "ssh", name)
	id.key, id.certificate, id.hosts, id.alias = filepath.Join(id.dir, "key"), filepath.Join(id.dir, "key-cert.pub"), filepath.Join(id.dir, "known_hosts"), "yardbench-"+name
	return id, os.MkdirAll(id.dir, 0o700)
}

// options are what ssh is told to come in by it, and to know the door.
func (id identity) options() []string {
	return []string{"IdentityFile " + quoted(id.key), "CertificateFile " + quoted(id.certificate), "IdentitiesOnly yes",
		"HostKeyAlias " + id.alias, "UserKnownHostsFile " + quoted(id.hosts), "StrictHostKeyChecking yes", "SendEnv LANG LC_* COLORTERM TZ", "ServerAliveInterval 30"}
}

// quoted is a path as ssh_config(5) has it.
func quoted(path string) string {
	if strings.ContainsAny(path, " \t") {
		return `"` + path + `"`
	}
	return path
}

// fresh has the certificate hold for an hour at least, and the door known.
func (a sshCommands) fresh(ctx context.Context, api *client.Client, id identity) (door wire.SSHDoor, until time.Time, err error) {
	public, err := id.pair()
	if err != nil {
		return door, until, err
	}
	if until, err = id.holds(); err != nil || time.Until(until) < time.Hour {
		c, err := api.Self.Certify(ctx, wire.NewSSHCertificate{Key: public})
		if err != nil {
			return door, until, err
		}
		until = c.ExpiresAt
		if err := durable.Write(id.certificate, []byte(c.Certificate+"\n"), 0o600); err != nil {
			return door, until, err
		}
	}
	if door, err = api.Self.SSHDoor(ctx); err != nil {
		return door, until, err
	}
	return door, until, durable.Write(id.hosts, []byte(id.alias+" "+door.HostKey+"\n"), 0o600)
}

// pair is the public key that goes with the private one, which is made once.
func (id identity) pair() (string, error) {
	text, err := os.ReadFile(id.key)
	if errors.Is(err, fs.ErrNotExist) {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return "", err
		}
		block, err := ssh.MarshalPrivateKey(private, "yardbench")
		if err != nil {
			return "", err
		}
		text = pem.EncodeToMemory(block)
		if err := durable.Write(id.key, text, 0o600); err != nil {
			return "", err
		}
	} else if err != nil {
		return "", err
	}
	signer, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return "", fmt.Errorf("the key in %s cannot be read: %w\nremove it, and another is made", id.key, err)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))), nil
}

// holds tells until when the certificate lets in.
func (id identity) holds() (time.Time, error) {
	text, err := os.ReadFile(id.certificate)
	if err != nil {
		return time.Time{}, err
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey(text)
	c, ok := key.(*ssh.Certificate)
	if err != nil || !ok {
		return time.Time{}, errors.New("it is no certificate")
	}
	return time.Unix(int64(min(c.ValidBefore, 1<<40)), 0), nil
}

func (a sshCommands) ssh() *cobra.Command {
	c := &cobra.Command{
		Use: "ssh NAME [-- COMMAND [ARGUMENT...]]", Short: "Come into a workspace by SSH",
		Long: "Come into a workspace by SSH, with the ssh of this machine and a certificate of 12 hours, which is made when it is needed. " +
			"For editors, rsync and git, which start ssh themselves: yardbench ssh configure. A stopped workspace is started, where the house rules let SSH do that.",
		Example: "  yardbench ssh tide-board\n  yardbench ssh tide-board -- make check\n  yardbench ssh configure && ssh tide-board.bench",
		Args:    cobra.MinimumNArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			program, err := exec.LookPath("ssh")
			if err != nil {
				return fmt.Errorf("there is no ssh on this machine: %w\ninstall OpenSSH's client, or use: yardbench enter %s", err, args[0])
			}
			id, err := a.identity()
			if err != nil {
				return err
			}
			door, _, err := a.fresh(cmd.Context(), api, id)
			if err != nil {
				return err
			}
			argv := []string{"ssh", "-F", "none"}
			for _, o := range id.options() {
				argv = append(argv, "-o", strings.Replace(o, " ", "=", 1))
			}
			host, port, err := reachable(cmd.Context(), door)
			if err != nil {
				way, err := a.itself("way")
				if err != nil {
					return err
				}
				host = "workspace"
				argv = append(argv, "-o", "ProxyCommand="+way+" "+plain.Word(args[0]))
			} else {
				argv = append(argv, "-p", port)
			}
			argv = append(argv, "-l", args[0], host)
			if rest := args[1:]; len(rest) > 0 {
				if rest[0] == "--" {
					rest = rest[1:]
				}
				argv = append(argv, "--")
				argv = append(argv, rest...)
			}
			return syscall.Exec(program, argv, os.Environ())
		}),
	}
	c.Flags().SetInterspersed(false) // what follows NAME belongs to the command
	c.AddCommand(a.configure(), a.certificate(), a.wayCommand())
	return c
}

// reachable tells where the door of SSH is, if it can be reached from here.
func reachable(ctx context.Context, door wire.SSHDoor) (host, port string, err error) {
	if host, port, err = net.SplitHostPort(door.Address); err != nil {
		return "", "", err
	}
	conn, err := (&net.Dialer{Timeout: 2 * time.Second}).DialContext(ctx, "tcp", door.Address)
	if err != nil {
		return "", "", err
	}
	return host, port, conn.Close()
}

// itself is this program as ssh starts it, from wherever it was started: with a
// command of its own, at the service that is meant now.
func (a sshCommands) itself(command string) (string, error) {
	self, err := os.Executable()
	if err != nil {
		return "", err
	}
	line := plain.Word(self) + " ssh " + command + " --service " + plain.Word(a.named(readSignIns()))
	if dir := os.Getenv("YARDBENCH_CONFIG"); dir != "" {
		if dir, err = filepath.Abs(dir); err != nil {
			return "", err
		}
		line = "env YARDBENCH_CONFIG=" + plain.Word(dir) + " " + line
	}
	return strings.ReplaceAll(line, "%", "%%"), nil // ssh reads what follows a % as a word of its own
}

func (a sshCommands) certificate() *cobra.Command {
	return &cobra.Command{
		Use: "certificate", Short: "Have what ssh comes in with hold for another while", Args: cobra.NoArgs,
		Long:    "Have a certificate made for the key that is kept for ssh, if the one there is does not hold for another hour. It lets in for 12 hours at most, and no longer than this sign-in.",
		Example: "  yardbench ssh certificate",
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			id, err := a.identity()
			if err != nil {
				return err
			}
			_, until, err := a.fresh(cmd.Context(), api, id)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"certificate": id.certificate, "key": id.key, "expires_at": until.UTC()}, func() {
				if !a.quiet {
					fmt.Fprintf(a.out, "%s lets in until %s\n", id.certificate, when(until))
				}
			})
		}),
	}
}

func (a sshCommands) wayCommand() *cobra.Command {
	return &cobra.Command{
		Use: "way NAME", Short: "Carry SSH over the HTTP door, for ssh's ProxyCommand", Args: cobra.ExactArgs(1),
		Long:    "Carry what ssh says over the HTTP door, where the door of SSH cannot be reached. `yardbench ssh configure` has ssh call it.",
		Example: "  ssh -o ProxyCommand='yardbench ssh way %n' tide-board.bench",
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			return api.Workspaces.SSH(cmd.Context(), strings.TrimSuffix(args[0], bench), standard{})
		}),
	}
}

// standard is this program's input and output as one.
type standard struct{}

func (standard) Read(p []byte) (int, error)  { return os.Stdin.Read(p) }
func (standard) Write(p []byte) (int, error) { return os.Stdout.Write(p) }
func (standard) Close() error                { return os.Stdin.Close() }

func (a sshCommands) configure() *cobra.Command {
	var file string
	var over, drop bool
	c := &cobra.Command{
		Use: "configure", Short: "Have ssh, and all that starts it, know your workspaces", Args: cobra.NoArgs,
		Long: "Write into ssh's configuration how your workspaces are reached, as NAME" + bench + ": then ssh, scp, sftp, rsync, git and editors that work over SSH find them. " +
			"What is written stands between two marked lines and is written anew each time; the rest of the file is left as it is. Workspaces launched later are found too.",
		Example: "  yardbench ssh configure\n  ssh tide-board" + bench + "\n  rsync -a . tide-board" + bench + ":/tmp/here/\n  yardbench ssh configure --drop",
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			id, err := a.identity()
			if err != nil {
				return err
			}
			if file == "" {
				home, err := os.UserHomeDir()
				if err != nil {
					return err
				}
				file = filepath.Join(home, ".ssh", "config")
			}
			if drop {
				return a.putBlock(file, id.alias, "")
			}
			door, _, err := a.fresh(cmd.Context(), api, id)
			if err != nil {
				return err
			}
			all, err := api.Workspaces.List(cmd.Context(), client.ListQuery{})
			if err != nil {
				return err
			}
			host, port, unreachable := reachable(cmd.Context(), door)
			block, err := a.block(id, all, host, port, over || unreachable != nil)
			if err != nil {
				return err
			}
			if err := a.putBlock(file, id.alias, block); err != nil {
				return err
			}
			return a.print(map[string]any{"file": file, "workspaces": len(all)}, func() {
				fmt.Fprintf(a.out, "%s knows your workspaces as NAME%s\n", file, bench)
				if len(all) > 0 {
					fmt.Fprintf(a.out, "for one: ssh %s%s\n", all[0].Name, bench)
				}
			})
		}),
	}
	c.Flags().StringVar(&file, "file", "", "ssh's configuration (default: ~/.ssh/config)")
	c.Flags().BoolVar(&over, "over-http", false, "go over the HTTP door, also where the door of SSH can be reached")
	c.Flags().BoolVar(&drop, "drop", false, "take what was written out of it again")
	return c
}

// block is what ssh's configuration is told of the workspaces.
func (a sshCommands) block(id identity, all []wire.WorkspaceRow, host, port string, over bool) (string, error) {
	way, err := a.itself("way")
	if err != nil {
		return "", err
	}
	refresh, err := a.itself("certificate --quiet")
	if err != nil {
		return "", err
	}
	var b strings.Builder
	if !over {
		for _, w := range all {
			fmt.Fprintf(&b, "Host %s%s\n  User %s\n  HostName %s\n  Port %s\n  ProxyCommand none\n", w.Name, bench, w.Name, host, port)
		}
	}
	// The certificate is looked at before each connection; one over the HTTP door
	// takes the workspace from the name that was given.
	fmt.Fprintf(&b, "Match originalhost *%s exec \"%s\"\n", bench, refresh)
	fmt.Fprintf(&b, "  ProxyCommand %s %%n\n", way)
	for _, o := range id.options() {
		fmt.Fprintf(&b, "  %s\n", o)
	}
	return b.String(), nil
}

// putBlock puts a block between its marks into a file, at its beginning where it is
// new: of what ssh reads the first word counts. An empty one is taken out.
func (a sshCommands) putBlock(file, alias, block string) error {
	begin, end := "# begin "+alias+": written by yardbench ssh configure", "# end "+alias
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	old, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	mode := fs.FileMode(0o600)
	if st, err := os.Stat(file); err == nil {
		mode = st.Mode().Perm()
	}
	if to, err := filepath.EvalSymlinks(file); err == nil {
		file = to // a link stays one
	}
	return durable.Write(file, []byte(withBlock(string(old), begin, end, block)), mode)
}

// withBlock is a text with a block between two lines that mark it.
func withBlock(text, begin, end, block string) string {
	before, after := "", text
	if i := strings.Index(text, begin+"\n"); i >= 0 {
		if j := strings.Index(text[i:], end+"\n"); j >= 0 {
			before, after = text[:i], text[i+j+len(end)+1:]
		}
	}
	if block == "" {
		return before + after
	}
	return before + begin + "\n" + block + "Match all\n" + end + "\n" + after
}

func (a sshCommands) key() *cobra.Command {
	c := &cobra.Command{Use: "key", Short: "Public keys that let you in by SSH"}
	var in wire.NewSSHKey
	add := &cobra.Command{
		Use: "add [FILE]", Short: "Let yourself in by a public key", Args: cobra.MaximumNArgs(1),
		Long:    "Let yourself in by a public key of yours, from the file that ends in .pub or from standard input. Without a key of your own `yardbench ssh` and `yardbench ssh configure` do as well: they use certificates of a short life.",
		Example: "  yardbench key add ~/.ssh/id_ed25519.pub\n  ssh-add -L | head -1 | yardbench key add --comment 'the laptop'",
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			var text []byte
			var err error
			if len(args) == 1 {
				text, err = os.ReadFile(args[0])
			} else {
				text, err = io.ReadAll(io.LimitReader(a.in, 1<<16))
			}
			if err != nil {
				return err
			}
			if in.Key = strings.TrimSpace(string(text)); strings.Contains(in.Key, "PRIVATE KEY") {
				return usage{errors.New("this is a private key, which nobody but you may have; it was not sent: give the file that ends in .pub")}
			}
			k, err := api.Self.AddKey(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.print(k, func() {
				if a.quiet {
					fmt.Fprintln(a.out, k.ID)
					return
				}
				fmt.Fprintf(a.out, "%s lets you in until %s\n", k.Fingerprint, when(k.ExpiresAt))
			})
		}),
	}
	add.Flags().StringVar(&in.Comment, "comment", "", "what it is called (default: the key's own comment)")
	add.Flags().IntVar(&in.Days, "days", 0, "how long it lets in (default 365)")
	list := &cobra.Command{
		Use: "list", Short: "List your public keys", Example: "  yardbench key list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Self.Keys(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none; add one with: yardbench key add ~/.ssh/id_ed25519.pub")
					return
				}
				t := a.table(a.out, "ID", "COMMENT", "FINGERPRINT", "ADDED", "UNTIL", "LAST USED")
				for _, k := range all {
					used := "never"
					if k.LastUsedAt != nil {
						used = when(*k.LastUsedAt)
					}
					t.row(k.ID, k.Comment, k.Fingerprint, when(k.AddedAt), when(k.ExpiresAt), used)
				}
				t.print()
			})
		}),
	}
	remove := &cobra.Command{
		Use: "remove ID", Short: "Let yourself in by a key no more; what is open by it ends", Example: "  yardbench key remove 4kq2…", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			return api.Self.RemoveKey(cmd.Context(), args[0])
		}),
	}
	c.AddCommand(add, list, remove)
	return c
}
