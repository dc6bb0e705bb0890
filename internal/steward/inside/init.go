// Package inside is the steward: the first process of every workspace. It
// touches the container it runs in and the one connection to its service.
//
// It is two processes. The first does what an init must: reaps every child
// and passes signals on. The second serves; it starts as root and runs
// everything people ask for as the definition's user.
package inside

import (
	"errors"
	"os"
	"os/exec"
	"os/signal"
	"syscall"
	"time"
)

// Init is the first process: it starts the serving one and reaps all.
func Init() int {
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
