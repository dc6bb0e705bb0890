// Package inside is the steward: the first process of every workspace. It
// touches the container it runs in and the one connection to its service.
//
// It is two processes. The first does what an init must: reaps every child
// and passes signals on. The second serves; it starts as root and runs
// everything people ask for as the definition's user.
package inside

import (
	"cmp"
	"encoding/json"
	"errors"
	"log/slog"
	"os"
	"os/exec"
	"os/signal"
	"syscall"
	"time"
)

// own is a command that an image or a definition runs in its container.
type own struct {
	User   string   `json:"user"`
	Folder string   `json:"folder"`
	Argv   []string `json:"argv"`
}

// startOwn starts it, with the container's own environment and output. That it
// cannot be started, or ends, ends nothing else.
func startOwn(text string) {
	var o own
	if err := json.Unmarshal([]byte(text), &o); err != nil || len(o.Argv) == 0 {
		slog.Error("the container's own command cannot be read", "error", err)
		return
	}
	a, err := lookup(o.User)
	if err == nil {
		var path string
		if path, err = find(o.Argv[0], os.Getenv("PATH"), "/"); err == nil {
			cmd := &exec.Cmd{Path: path, Args: o.Argv, Dir: cmp.Or(o.Folder, "/"), Stdout: os.Stdout, Stderr: os.Stderr, Env: append(os.Environ(), "HOME="+a.home)}
			cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
			if a.uid != 0 || a.gid != 0 {
				cmd.SysProcAttr.Credential = &syscall.Credential{Uid: a.uid, Gid: a.gid, Groups: a.groups}
			}
			err = cmd.Start()
		}
	}
	if err != nil {
		slog.Error("the container's own command cannot be started", "error", err)
	}
}

// Init is the first process: it starts the serving one, and the container's
// own command if there is one, and reaps all.
func Init(args []string) int {
	signals := make(chan os.Signal, 64)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP, syscall.SIGCHLD)
	// No core dumps: they would hold what a session was given.
	_ = syscall.Setrlimit(syscall.RLIMIT_CORE, &syscall.Rlimit{}) // only lowered: never refused
	self, err := os.Executable()
	if err != nil {
		return 1
	}
	cmd := exec.Command(self, "serve")
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	if err := cmd.Start(); err != nil {
		return 1
	}
	serving := cmd.Process.Pid
	if len(args) > 0 {
		startOwn(args[0])
	}
	// A lost SIGCHLD must not leave a child for ever.
	tick := time.NewTicker(5 * time.Second)
	for {
		select {
		case s := <-signals:
			if s != syscall.SIGCHLD {
				_ = syscall.Kill(serving, s.(syscall.Signal))
			}
		case <-tick.C:
		}
		for {
			var st syscall.WaitStatus
			pid, err := syscall.Wait4(-1, &st, syscall.WNOHANG, nil)
			if errors.Is(err, syscall.EINTR) {
				continue
			}
			if pid == serving {
				return exitCode(st)
			}
			if pid <= 0 || err != nil {
				break
			}
		}
	}
}

func exitCode(st syscall.WaitStatus) int {
	if st.Signaled() {
		return 128 + int(st.Signal())
	}
	return st.ExitStatus()
}
