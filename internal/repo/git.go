package repo

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"
)

func git(ctx context.Context, dir string, c *Credential, args ...string) ([]byte, error) {
	return output(command(ctx, dir, c, args...))
}

// command prepares git with no configuration but ours. A credential goes by
// the environment, where only the same user can see it, and never follows a
// redirect to another host.
func command(ctx context.Context, dir string, c *Credential, args ...string) *exec.Cmd {
	if dir != "" {
		args = append([]string{"--git-dir=" + dir}, args...)
	}
	cmd := exec.CommandContext(ctx, "git", args...)
	config := []string{"http.followRedirects", "false", "core.hooksPath", "/dev/null", "core.symlinks", "true", "core.attributesFile", "/dev/null",
		"core.fsync", "all"} // what was fetched outlives a loss of power
	if c != nil && c.Username != "" {
		basic := base64.StdEncoding.EncodeToString([]byte(c.Username + ":" + c.Password))
		config = append(config, "http.extraHeader", "Authorization: Basic "+basic)
	}
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "LC_ALL=C", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null",
		"GIT_TERMINAL_PROMPT=0", "GIT_ALLOW_PROTOCOL=http:https:fd", "GIT_ATTR_NOSYSTEM=1"}, configEnv(config...)...)
	cmd.WaitDelay = time.Second
	return cmd
}

// configEnv is the environment that gives git the configuration in pairs of
// key and value (git-config(1), GIT_CONFIG_COUNT), without a file.
func configEnv(pairs ...string) []string {
	env := []string{"GIT_CONFIG_COUNT=" + strconv.Itoa(len(pairs)/2)}
	for i := 0; i+1 < len(pairs); i += 2 {
		n := strconv.Itoa(i / 2)
		env = append(env, "GIT_CONFIG_KEY_"+n+"="+pairs[i], "GIT_CONFIG_VALUE_"+n+"="+pairs[i+1])
	}
	return env
}

// gitError is git's own complaint.
type gitError struct {
	message string
	err     error
}

// limited keeps the beginning of what is written, and fails beyond it. It is no
// bytes.Buffer itself: what copies into one asks it to read, and passes by Write.
type limited struct {
	kept    bytes.Buffer
	most    int
	records int // at most so many, each ended by a zero byte; 0 is any number
	seen    int
	over    bool
	stop    func() // ends who says it: they would wait for a reader otherwise
}

func output(cmd *exec.Cmd) ([]byte, error) {
	kill := func() { _ = cmd.Process.Kill() } // it may have ended
	out, errs := limited{most: maxOutput, stop: kill}, limited{most: 1 << 20, stop: kill}
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if out.over {
		return nil, Problem{fmt.Sprintf("the repository has more to say than %d MiB", maxOutput>>20), "it is too large, or made to be"}
	}
	if err != nil {
		lines := strings.TrimSpace(errs.kept.String())
		if lines == "" {
			lines = err.Error()
		}
		if len(lines) > 2000 {
			lines = lines[len(lines)-2000:]
		}
		return nil, gitError{lines, err}
	}
	return out.kept.Bytes(), nil
}

// hostProblem puts git's complaint about a git host into our words.
func hostProblem(address string, c Credential, err error) error {
	var g gitError
	if !errors.As(err, &g) {
		return err
	}
	last := g.message[strings.LastIndexByte(g.message, '\n')+1:]
	switch s := g.message; {
	case strings.Contains(s, "signal 25"), strings.Contains(s, "File too large"), strings.Contains(s, "file size limit"): // SIGXFSZ, signal(7)
		return Problem{fmt.Sprintf("the repository at %s brings more than %d MiB at once", address, maxPack>>20), "make it smaller: large files belong elsewhere"}
	case strings.Contains(s, "not found"), strings.Contains(s, "returned error: 404"):
		return Problem{"the git host knows no repository at " + address, "check the address, and that you may see it there"}
	case strings.Contains(s, "Authentication failed"), strings.Contains(s, "returned error: 403"), strings.Contains(s, "could not read Username"), strings.Contains(s, "terminal prompts disabled"):
		host := Host(address)
		s := SignIn{Problem{"the git host at " + host + " refuses your credential", "give a fresh one with: yardbench credential put " + host}, "give a fresh one", LacksCredential, host}
		if c.Username == "" {
			s.Problem = Problem{"the git host at " + host + " shows this to those alone whom it knows, and you have no credential for it", "give one with: yardbench credential put " + host}
			s.Next = "give one"
		}
		if c.Refused != "" { // people connect with it
			s.Problem.Next, s.Next, s.Lacks = c.Refused, "connect", LacksConnection
		}
		return s
	}
	return Problem{"the git host at " + Host(address) + " cannot be used: " + last, "try again when it answers"}
}

func (e gitError) Error() string { return e.message }

func (e gitError) Unwrap() error { return e.err }

func (l *limited) Write(p []byte) (int, error) {
	l.seen += bytes.Count(p, []byte{0})
	if l.kept.Len()+len(p) > l.most || l.records > 0 && l.seen > l.records {
		if l.over = true; l.stop != nil {
			l.stop()
		}
		return 0, errors.New("more was said than is read")
	}
	return l.kept.Write(p)
}
