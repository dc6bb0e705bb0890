package inside

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"yardbench/internal/gitssh"
	"yardbench/internal/steward"
)

// GitSSH is what git runs in the place of an SSH client (git-config(1),
// core.sshCommand): PROXY HOSTS [OPTIONS] [USER@]HOST COMMAND. At the hosts that are
// named, with commas, the service signs in; to others the image's own client goes.
func GitSSH(args []string, in io.Reader, out, errs io.Writer) int {
	fail := func(code int, format string, a ...any) int {
		fmt.Fprintf(errs, format+"\n", a...)
		return code
	}
	if len(args) < 3 {
		return fail(2, "git runs this by itself")
	}
	proxy, hosts, theirs := args[0], strings.Split(args[1], ","), args[2:]
	remote, command, err := asked(theirs)
	if err != nil || !slices.Contains(hosts, remote.Host) {
		path, missing := exec.LookPath("ssh")
		if missing != nil {
			return fail(128, "the house rules know no key of this git host, under git.host_keys, and the image has no client for SSH")
		}
		return fail(126, "ssh: %s", syscall.Exec(path, append([]string{"ssh"}, theirs...), os.Environ()))
	}
	program, path, err := inQuotes(command)
	if err != nil {
		return fail(128, "%s", err)
	}
	u, err := url.Parse(proxy)
	if err != nil {
		return fail(128, "%s", err)
	}
	conn, err := net.DialTimeout("tcp", u.Host, 10*time.Second)
	if err != nil {
		return fail(128, "the way to the git host: %s", err)
	}
	defer conn.Close()
	req := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: remote.Host}, Host: remote.Host, Header: http.Header{}}
	req.Header.Set(steward.GitProgram, program)
	req.Header.Set(steward.GitUser, remote.User)
	req.Header.Set(steward.GitPath, path)
	req.Header.Set(steward.GitProtocol, os.Getenv("GIT_PROTOCOL"))
	buf := bufio.NewReader(conn)
	var res *http.Response
	if err = req.Write(conn); err == nil {
		res, err = http.ReadResponse(buf, req)
	}
	if err != nil {
		return fail(128, "the way to the git host: %s", err)
	}
	if res.StatusCode != http.StatusOK {
		why, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10)) // what came is shown
		return fail(128, "%s", bytes.TrimSpace(why))
	}
	c := &steward.Conn{Stream: struct {
		io.Reader
		io.WriteCloser
	}{buf, conn}}
	go func() {
		if _, err := io.Copy(c.Writer(steward.Input), in); err == nil {
			_ = c.SendFrame(steward.NoMore, nil) // the other side ends either way
		}
	}()
	var room []byte
	for {
		kind, p, err := c.ReceiveFrameIn(room)
		if err != nil {
			return fail(128, "the way to the git host ended")
		}
		room = p[:cap(p)]
		switch kind {
		case steward.Output:
			_, err = out.Write(p)
		case steward.Errors:
			_, err = errs.Write(p)
		case steward.Ended:
			var x steward.Exit
			if err := json.Unmarshal(p, &x); err != nil {
				return fail(128, "%s", err)
			}
			if x.Problem != "" {
				return fail(128, "%s", x.Problem)
			}
			return x.Code
		}
		if err != nil {
			return 141 // who reads has gone (SIGPIPE)
		}
	}
}

// asked reads what git gives an SSH client (ssh(1)).
func asked(args []string) (r gitssh.Remote, command string, err error) {
	port := ""
	for len(args) > 0 && strings.HasPrefix(args[0], "-") {
		switch o := args[0]; {
		case o == "-4", o == "-6":
			args = args[1:]
		case len(args) > 1 && o == "-p":
			port, args = args[1], args[2:]
		case len(args) > 1 && o == "-o":
			args = args[2:]
		default:
			return r, "", errors.New("options that are not git's")
		}
	}
	if len(args) != 2 {
		return r, "", errors.New("no host and command")
	}
	r.User, r.Host = "", args[0]
	if at := strings.LastIndexByte(args[0], '@'); at >= 0 {
		r.User, r.Host = args[0][:at], args[0][at+1:]
	}
	if port != "" {
		r.Host = net.JoinHostPort(r.Host, port)
	}
	r.Host = gitssh.Host(r.Host)
	return r, args[1], nil
}

// inQuotes reads git's command: a program and, as git quotes it, a path.
func inQuotes(command string) (program, path string, err error) {
	program, quoted, _ := strings.Cut(command, " ")
	if program == "git" { // git upload-pack
		var rest string
		rest, quoted, _ = strings.Cut(quoted, " ")
		program += "-" + rest
	}
	quoted = strings.NewReplacer(`'\''`, "\x00", `'\!'`, "\x01").Replace(quoted)
	path, ok := strings.CutPrefix(quoted, "'")
	path, is := strings.CutSuffix(path, "'")
	if !ok || !is || strings.ContainsAny(path, "'\n") || !slices.Contains(gitssh.Programs, program) {
		return "", "", fmt.Errorf("%.80q is none of git's commands", command)
	}
	return program, strings.NewReplacer("\x00", "'", "\x01", "!").Replace(path), nil
}

// SignAs signs as ssh-keygen(1) does with -Y sign, by the agent: git asks for it where
// the image has no such program (git-config(1), gpg.ssh.program).
func SignAs(args []string, in io.Reader, out, errs io.Writer) int {
	fail := func(format string, a ...any) int {
		fmt.Fprintf(errs, format+"\n", a...)
		return 255
	}
	if len(args) < 1 || args[0] != "sign" {
		return fail("to check signatures the image needs ssh-keygen, of openssh")
	}
	namespace, keyFile, file := "", "", ""
	for args = args[1:]; len(args) > 0; args = args[1:] {
		switch {
		case args[0] == "-n" && len(args) > 1:
			namespace, args = args[1], args[1:]
		case args[0] == "-f" && len(args) > 1:
			keyFile, args = args[1], args[1:]
		case args[0] == "-U": // the key is in the agent
		case strings.HasPrefix(args[0], "-"):
			return fail("%s is nothing that git asks for", args[0])
		default:
			file = args[0]
		}
	}
	text, err := os.ReadFile(keyFile)
	if err != nil {
		return fail("%s", err)
	}
	want, _, _, _, err := ssh.ParseAuthorizedKey(text)
	if err != nil {
		return fail("%s has no public key", keyFile)
	}
	conn, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK"))
	if err != nil {
		return fail("there is no agent: %s", err)
	}
	defer conn.Close()
	signers, err := agent.NewClient(conn).Signers()
	if err != nil {
		return fail("the agent: %s", err)
	}
	i := slices.IndexFunc(signers, func(s ssh.Signer) bool { return bytes.Equal(s.PublicKey().Marshal(), want.Marshal()) })
	if i < 0 {
		return fail("the agent does not have the key of %s", keyFile)
	}
	if file != "" {
		f, err := os.Open(file)
		if err != nil {
			return fail("%s", err)
		}
		defer f.Close()
		to, err := os.Create(file + ".sig")
		if err != nil {
			return fail("%s", err)
		}
		defer to.Close()
		in, out = f, to
	}
	sig, err := sshsig.Sign(in, signers[i], sshsig.HashSHA512, namespace)
	if err == nil {
		_, err = out.Write(sshsig.Armor(sig))
	}
	if err != nil {
		return fail("the agent does not sign: %s", err)
	}
	return 0
}
