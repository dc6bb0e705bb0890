package inside

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// In a container that was taken on the steward is not the first process, and
// no folder of the service's is mounted. It is copied in, stays beside what
// runs there, and listens instead of dialling: the service comes to it over a
// bridge, the input and output of a program that it starts in the container.

// adopted are the places in such a container: all in the steward's own folder.
func adopted() (places, string, error) {
	self, err := os.Executable()
	if err != nil {
		return places{}, "", err
	}
	dir := filepath.Dir(self)
	return places{binary: self, linkDir: filepath.Join(dir, "link"), runDir: filepath.Join(dir, "run"), recordDir: filepath.Join(dir, "records")}, dir, nil
}

func (p places) socket() string { return filepath.Join(p.linkDir, "steward.sock") }

// Stay serves whoever comes over the bridge, until it is asked to end. There
// is one in a container: a second one ends at once.
func Stay() int {
	p, dir, err := adopted()
	if err == nil {
		err = stay(p, dir)
	}
	if err != nil {
		slog.Error("the steward cannot begin", "error", err)
		return 1
	}
	return 0
}

func stay(p places, dir string) error {
	_ = syscall.Setrlimit(syscall.RLIMIT_CORE, &syscall.Rlimit{}) // only lowered: never refused
	// Only root, which the service comes as, may speak to it.
	if err := os.MkdirAll(p.linkDir, 0o700); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil // another is there
	}
	if err := lock.Truncate(0); err != nil {
		return err
	}
	if _, err := lock.WriteAt([]byte(strconv.Itoa(os.Getpid())), 0); err != nil {
		return err
	}
	s, err := prepareServer(p)
	if err != nil {
		return err
	}
	if err := os.Remove(p.socket()); err != nil && !os.IsNotExist(err) {
		return err
	}
	l, err := net.Listen("unix", p.socket())
	if err != nil {
		return err
	}
	defer l.Close()
	if err := os.Chmod(p.socket(), 0o600); err != nil {
		return err
	}
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, syscall.SIGTERM, syscall.SIGINT)
	go accept(l, func(conn net.Conn) {
		if err := s.over(conn, ""); err != nil {
			slog.Info("the service is away", "error", err)
		}
	})
	<-stop
	s.endAll()
	return nil
}

// Bridge joins its input and output to the steward that stays, which it starts
// where there is none, and says "ok" before.
func Bridge(in io.Reader, out io.Writer) int {
	conn, err := reach()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer conn.Close()
	if _, err := io.WriteString(out, "ok\n"); err != nil {
		return 1
	}
	both(conn, pipes{in, out})
	return 0
}

// pipes are an input and an output as one.
type pipes struct {
	io.Reader
	io.Writer
}

func (pipes) Close() error { return nil }

func reach() (net.Conn, error) {
	p, _, err := adopted()
	if err != nil {
		return nil, err
	}
	conn, err := net.Dial("unix", p.socket())
	if err == nil {
		return conn, nil
	}
	cmd := exec.Command(p.binary, "stay")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start the steward: %w", err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for end := time.Now().Add(5 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if conn, err = net.Dial("unix", p.socket()); err == nil {
			return conn, nil
		}
		select {
		case how := <-ended:
			if how != nil {
				return nil, fmt.Errorf("the steward ended at once: %w", how)
			}
		default:
		}
		if time.Now().After(end) {
			return nil, fmt.Errorf("the steward does not listen: %w", err)
		}
	}
}

// Leave ends the steward that stays and takes its folder away.
func Leave() int {
	_, dir, err := adopted()
	if err == nil {
		err = leave(dir)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return 0
}

func leave(dir string) error {
	if !strings.HasPrefix(filepath.Base(dir), ".yardbench-") {
		return fmt.Errorf("%s is no steward's folder in a container that was taken on", dir)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR, 0)
	if err == nil {
		defer lock.Close()
		free := func() bool { return syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil }
		for _, sig := range []syscall.Signal{syscall.SIGTERM, syscall.SIGKILL} {
			if free() {
				break
			}
			text, err := os.ReadFile(lock.Name())
			if err != nil {
				return err
			}
			pid, err := strconv.Atoi(string(text))
			if err != nil || pid < 2 {
				return errors.New("the steward's process is not known")
			}
			_ = syscall.Kill(pid, sig) // it may have ended meanwhile
			for end := time.Now().Add(stopGrace + 2*time.Second); time.Now().Before(end) && !free(); {
				time.Sleep(20 * time.Millisecond)
			}
		}
	} else if !os.IsNotExist(err) {
		return err
	}
	return os.RemoveAll(dir)
}
