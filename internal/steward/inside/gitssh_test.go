package inside

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"net"

	"yardbench/internal/gitssh"
)

// What git gives an SSH client is read as it means it, and nothing else is.
func TestAskedOfSSH(t *testing.T) {
	for line, want := range map[string]gitssh.Remote{
		"git@git.example|git-upload-pack '/tide.git'":                         {User: "git", Host: "git.example"},
		"-o|SendEnv=GIT_PROTOCOL|-p|2222|git@git.example|git-upload-pack 'x'": {User: "git", Host: "git.example:2222"},
		"-4|-p|22|Git.example|git-receive-pack 'x'":                           {Host: "git.example"},
		"-oProxyCommand=sh|git@git.example|git-upload-pack 'x'":               {},
		"git@git.example":                     {},
		"git@git.example|git-upload-pack|'x'": {},
	} {
		got, _, err := asked(strings.Split(line, "|"))
		if (err == nil) != (want.Host != "") || err == nil && got != want {
			t.Errorf("%s is read as %+v, %v", line, got, err)
		}
	}
	for command, want := range map[string]string{
		"git-upload-pack '/tide.git'": "git-upload-pack|/tide.git", "git upload-pack 'a b'": "git-upload-pack|a b", `git-receive-pack 'it'\''s'\!''`: "git-receive-pack|it's!",
		"sh -c 'x'": "", "git-upload-pack /tide": "", "git-upload-pack 'a' 'b'": "", "git-upload-pack 'a'; 'b'": "", "git-upload-pack": "", "": "", "git-shell 'x'": "",
	} {
		program, path, err := inQuotes(command)
		if got := program + "|" + path; err == nil && got != want || (err == nil) != (want != "") {
			t.Errorf("%s is read as %s, %v", command, got, err)
		}
	}
}

// SignAs signs by the agent what ssh-keygen would.
func TestSignAs(t *testing.T) {
	private, public, err := gitssh.NewKey("ingrid")
	if err != nil {
		t.Fatal(err)
	}
	raw, err := ssh.ParseRawPrivateKey([]byte(private))
	if err != nil {
		t.Fatal(err)
	}
	ring := agent.NewKeyring()
	if err := ring.Add(agent.AddedKey{PrivateKey: raw}); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	l, err := net.Listen("unix", filepath.Join(dir, "a"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _ = agent.ServeAgent(ring, conn) }() // it ends with the connection
		}
	}()
	t.Setenv("SSH_AUTH_SOCK", filepath.Join(dir, "a"))
	key, text := filepath.Join(dir, "key"), filepath.Join(dir, "text")
	for name, content := range map[string]string{key: public, text: "First light\n"} {
		if err := os.WriteFile(name, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	var out, errs bytes.Buffer
	if code := SignAs([]string{"sign", "-n", "git", "-f", key, "-U", text}, nil, &out, &errs); code != 0 {
		t.Fatalf("%d %s", code, errs.String())
	}
	armored, err := os.ReadFile(text + ".sig")
	if err != nil {
		t.Fatal(err)
	}
	sig, err := sshsig.Unarmor(armored)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.ParsePrivateKey([]byte(private))
	if err != nil {
		t.Fatal(err)
	}
	if err := sshsig.Verify(strings.NewReader("First light\n"), sig, signer.PublicKey(), sshsig.HashSHA512, "git"); err != nil {
		t.Error(err)
	}
	for why, args := range map[string][]string{"needs ssh-keygen": {"verify"}, "nothing that git asks": {"sign", "-x"}, "no public key": {"sign", "-n", "git", "-f", text, text}, "no such file": {"sign", "-n", "git", "-f", key, filepath.Join(dir, "none")}} {
		errs.Reset()
		if code := SignAs(args, nil, &out, &errs); code == 0 || !strings.Contains(errs.String(), why) {
			t.Errorf("%v: %d %s", args, code, errs.String())
		}
	}
	if err := ring.RemoveAll(); err != nil {
		t.Fatal(err)
	}
	if code := SignAs([]string{"sign", "-n", "git", "-f", key, text}, nil, &out, &errs); code == 0 {
		t.Error("an agent without the key signs")
	}
}
