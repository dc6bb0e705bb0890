package inside

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Bounds on asking a shell for its environment.
const (
	probeTimeout  = 10 * time.Second
	probeMaxBytes = 1 << 20
)

// probes remembers what shells said, by user and kind of shell.
type probes struct {
	mu sync.Mutex
	of map[string]map[string]string
}

// shellFlags are those of the specification's userEnvProbe.
var shellFlags = map[string][]string{"loginInteractiveShell": {"-l", "-i"}, "loginShell": {"-l"}, "interactiveShell": {"-i"}}

const probeMark = "\x00yardbench-environment\x00"

// probe asks the user's shell for the environment that its start-up files
// make, once in the container's life at most. A shell that fails or hangs adds
// nothing.
func (s *server) probe(a account, kind string, env map[string]string) map[string]string {
	flags, ok := shellFlags[kind]
	if !ok {
		return nil
	}
	key := a.name + " " + kind
	s.probes.mu.Lock()
	defer s.probes.mu.Unlock()
	if got, ok := s.probes.of[key]; ok {
		return got
	}
	got, err := askShell(a, append(flags, "-c", s.binary+" environment"), env)
	if err != nil {
		slog.Warn("the user's shell does not say its environment", "user", a.name, "error", err)
	}
	if p, ok := got["PATH"]; ok {
		got["PATH"] = mergePath(p, env["PATH"], a.uid == 0)
	}
	if s.probes.of == nil {
		s.probes.of = map[string]map[string]string{}
	}
	s.probes.of[key] = got
	return got
}

// mergePath puts what the image has in its PATH, and the shell's start-up files
// forgot, in front of the shell's: many systems' set it anew. Folders of
// administration are left to root.
func mergePath(shell, image string, root bool) string {
	has := strings.Split(shell, ":")
	var lost []string
	for _, p := range strings.Split(image, ":") {
		if !slices.Contains(has, p) && (root || !strings.HasSuffix(p, "/sbin")) {
			lost = append(lost, p)
		}
	}
	return strings.Join(append(lost, has...), ":")
}

func askShell(a account, args []string, env map[string]string) (map[string]string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), probeTimeout)
	defer cancel()
	cmd := exec.CommandContext(ctx, a.shell, args...)
	for k, v := range env {
		cmd.Env = append(cmd.Env, k+"="+v)
	}
	cmd.Dir = "/"
	var out bytes.Buffer
	cmd.Stdout = &capped{to: &out, left: probeMaxBytes}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // no terminal: an interactive shell must not stop for one
	if a.uid != 0 || a.gid != 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: a.uid, Gid: a.gid, Groups: a.groups}
	}
	cmd.WaitDelay = time.Second
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	err := cmd.Run()
	_, rest, begun := strings.Cut(out.String(), probeMark)
	text, _, whole := strings.Cut(rest, probeMark)
	if !begun || !whole {
		return nil, fmt.Errorf("it printed no environment: %v", err)
	}
	got := map[string]string{}
	for _, kv := range strings.Split(text, "\x00") {
		if k, v, ok := strings.Cut(kv, "="); ok && k != "_" && k != "PWD" && k != "SHLVL" && k != "OLDPWD" {
			got[k] = v
		}
	}
	return got, nil
}

// capped drops what is too much.
type capped struct {
	to   io.Writer
	left int
}

func (c *capped) Write(p []byte) (int, error) {
	n := min(len(p), c.left)
	c.left -= n
	if _, err := c.to.Write(p[:n]); err != nil {
		return 0, err
	}
	return len(p), nil
}

// PrintEnvironment prints the environment between two marks, so that what a
// shell's start-up files print is told from it.
func PrintEnvironment() int {
	if _, err := io.WriteString(os.Stdout, probeMark+strings.Join(os.Environ(), "\x00")+probeMark); err != nil {
		return 1
	}
	return 0
}
