package demo

import (
	"context"
	"crypto/subtle"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"yardbench/internal/gitssh"
	"yardbench/wire"
)

// The git host takes keys as well: PUT /keys of a person's own, who signs in with their
// token, and PUT /REPOSITORY.git/keys of one that reads this repository and no more.
var keysPath = regexp.MustCompile(`^/(?:([a-z0-9-]+)\.git/)?keys$`)

func putKey(dir string, w http.ResponseWriter, r *http.Request, person string) {
	m := keysPath.FindStringSubmatch(r.URL.Path)
	text, err := io.ReadAll(io.LimitReader(r.Body, 16<<10))
	if err == nil {
		_, _, _, _, err = ssh.ParseAuthorizedKey(text)
	}
	if r.Method != http.MethodPut || err != nil {
		http.Error(w, "put a public key here", http.StatusBadRequest)
		return
	}
	name := "person-" + person
	if m[1] != "" {
		name = "repository-" + m[1]
	}
	if err := os.MkdirAll(filepath.Join(dir, "keys"), 0o700); err == nil {
		err = os.WriteFile(filepath.Join(dir, "keys", name), text, 0o600)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// GitHostSSH is the git host's door by SSH, for the same repositories: people by the
// keys they put there, everybody as the user git.
type GitHostSSH struct {
	dir    string
	notify func() string
	config ssh.ServerConfig
	// Key is the line by which the host is known.
	Key string
}

// NewGitHostSSH opens it; its own key is made at the first time.
func NewGitHostSSH(dir string, notify func() string) (*GitHostSSH, error) {
	path := filepath.Join(dir, "host_key")
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		var private string
		if private, _, err = gitssh.NewKey(""); err == nil {
			text = []byte(private)
			err = os.WriteFile(path, text, 0o600)
		}
	}
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return nil, err
	}
	h := &GitHostSSH{dir: dir, notify: notify, Key: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))}
	h.config.PublicKeyCallback = func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		files, err := os.ReadDir(filepath.Join(dir, "keys"))
		if err != nil || c.User() != "git" {
			return nil, errors.Join(err, errors.New("nobody's key"))
		}
		for _, f := range files {
			text, err := os.ReadFile(filepath.Join(dir, "keys", f.Name()))
			if err != nil {
				continue
			}
			if is, _, _, _, err := ssh.ParseAuthorizedKey(text); err == nil && subtle.ConstantTimeCompare(is.Marshal(), key.Marshal()) == 1 {
				return &ssh.Permissions{Extensions: map[string]string{"who": f.Name()}}, nil
			}
		}
		return nil, errors.New("nobody's key")
	}
	h.config.AddHostKey(signer)
	return h, nil
}

// Serve takes what comes at a listener until that is closed.
func (h *GitHostSSH) Serve(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go h.serve(conn, l.Addr().String())
	}
}

func (h *GitHostSSH) serve(conn net.Conn, at string) {
	defer conn.Close()
	c, channels, requests, err := ssh.NewServerConn(conn, &h.config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for offer := range channels {
		if offer.ChannelType() != "session" {
			_ = offer.Reject(ssh.UnknownChannelType, "sessions only") // a connection that broke is told nothing
			continue
		}
		channel, asked, err := offer.Accept()
		if err != nil {
			return
		}
		go h.session(channel, asked, c.Permissions.Extensions["who"], at)
	}
}

var gitCommand = regexp.MustCompile(`^(git-upload-pack|git-receive-pack) '/?([a-z0-9-]+)\.git'$`)

func (h *GitHostSSH) session(channel ssh.Channel, asked <-chan *ssh.Request, who, at string) {
	defer channel.Close()
	protocol := ""
	for r := range asked {
		var text struct{ Name, Value string }
		switch r.Type {
		case "env":
			if ssh.Unmarshal(r.Payload, &text) == nil && text.Name == "GIT_PROTOCOL" {
				protocol = text.Value
			}
			_ = r.Reply(true, nil) // as above
		case "exec":
			var command struct{ Text string }
			_ = r.Reply(true, nil)
			code := uint32(128)
			if err := ssh.Unmarshal(r.Payload, &command); err == nil {
				code = h.run(channel, command.Text, who, at, protocol)
			}
			_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{code}))
			return
		default:
			_ = r.Reply(false, nil)
		}
	}
}

func (h *GitHostSSH) run(channel ssh.Channel, command, who, at, protocol string) uint32 {
	m := gitCommand.FindStringSubmatch(command)
	of, deployed := strings.CutPrefix(who, "repository-")
	if m == nil || deployed && (m[2] != of || m[1] != "git-upload-pack") {
		_, _ = io.WriteString(channel.Stderr(), "ERROR: repository not found\n") // it may have gone
		return 128
	}
	bare := filepath.Join(h.dir, m[2]+".git")
	if _, err := os.Stat(bare); err != nil {
		_, _ = io.WriteString(channel.Stderr(), "ERROR: repository not found\n")
		return 128
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	before := heads(ctx, bare)
	cmd := exec.CommandContext(ctx, "git", strings.TrimPrefix(m[1], "git-"), bare)
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "GIT_CONFIG_NOSYSTEM=1", "GIT_PROTOCOL=" + protocol,
		"GIT_CONFIG_COUNT=1", "GIT_CONFIG_KEY_0=safe.directory", "GIT_CONFIG_VALUE_0=*"}
	cmd.Stdout, cmd.Stderr = channel, channel.Stderr()
	in, err := cmd.StdinPipe()
	if err == nil {
		// Not as Stdin: git may end before whoever calls says no more.
		go func() {
			_, _ = io.Copy(in, channel)
			in.Close()
		}()
		err = cmd.Run()
	}
	if m[1] == "git-receive-pack" {
		for branch, commit := range heads(ctx, bare) {
			if to := h.notify(); to != "" && before[branch] != commit {
				go tell(to, wire.Push{Repository: "ssh://git@" + at + "/" + m[2] + ".git", Branch: branch, Commit: commit}, PushKey(m[2]))
			}
		}
	}
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		return uint32(max(1, exit.ExitCode()))
	}
	if err != nil {
		slog.Error("serve git by SSH", "error", err)
		return 128
	}
	return 0
}
