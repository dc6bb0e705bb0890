package inside

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/pflag"
	"golang.org/x/term"

	"yardbench/internal/steward"
)

// doors are where users' processes find what the service serves.
type doors struct{ *server }

// socket is where a user's processes find something that the service serves; it is made
// as it is needed first, for that user alone.
func (s doors) socket(a account, what string, serve func(net.Conn)) (string, error) {
	path := filepath.Join(s.runDir, fmt.Sprintf("%s-%d.sock", what, a.uid))
	s.files.Lock()
	defer s.files.Unlock()
	if s.made[path] {
		return path, nil
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	l, err := net.Listen("unix", path)
	if err != nil {
		return "", err
	}
	if err := errors.Join(os.Chmod(path, 0o600), os.Chown(path, int(a.uid), int(a.gid))); err != nil {
		return "", errors.Join(err, l.Close())
	}
	if s.made == nil {
		s.made = map[string]bool{}
	}
	s.made[path] = true
	go accept(l, serve)
	return path, nil
}

// agent is the agent of SSH, which the service is.
func (s doors) agent(conn net.Conn) {
	c, err := s.open(steward.Request{Kind: steward.Agent})
	if err != nil {
		return // whoever asks sees that nobody answers
	}
	defer c.Stream.Close()
	both(conn, c.Stream)
}

// askTimeout is how long a program has to say what it asks for.
const askTimeout = 5 * time.Second

// asks passes on what a program asks the service for.
func (s doors) asks(conn net.Conn) {
	here := &steward.Conn{Stream: conn}
	_ = conn.SetReadDeadline(time.Now().Add(askTimeout)) // a failure shows at the read
	var r steward.Request
	if err := here.ReceiveAtMost(&r, steward.MaxAsked/2); err != nil {
		return
	}
	_ = conn.SetReadDeadline(time.Time{})
	c, err := s.open(steward.Request{Kind: steward.Asks, ID: r.ID, Text: r.Text, Now: r.Now})
	if err != nil {
		s.mu.Lock()
		away := s.session == nil
		s.mu.Unlock()
		_ = here.Send(steward.Answer{Problem: err.Error(), Again: away}) // one that went away has no reader
		return
	}
	defer c.Stream.Close()
	both(conn, c.Stream)
}

// askProgram puts the program that asks for secrets where a user's processes find it,
// and gives the folder.
func (s doors) askProgram(a account) (string, error) {
	if _, err := s.socket(a, "asks", s.asks); err != nil {
		return "", err
	}
	dir := filepath.Join(s.runDir, "bin")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	err := os.Symlink(s.binary, filepath.Join(dir, steward.AskName))
	if errors.Is(err, os.ErrExist) {
		err = nil
	}
	return dir, err
}

const askHelp = `yardbench-secret gives a program in this workspace a secret by its name, as it is now.
One that is not given here is asked for: whoever the workspace is gives it in the
console, or by the command line on their own machine, and the program goes on.

  yardbench-secret NAME                       prints the value
  yardbench-secret NAME [NAME...] -- PROGRAM  runs a program that has them as variables

`

// AskSecret is the program that asks for secrets: its exit code is 0 where they were
// given, 1 where not, 2 where it was asked wrongly; of a program that it runs, its own.
func AskSecret(args []string, out, errs io.Writer) int {
	flags := pflag.NewFlagSet(steward.AskName, pflag.ContinueOnError)
	flags.SetOutput(io.Discard)
	flags.Usage = func() {}
	says := flags.String("for", "", "what it is needed for, which whoever gives it reads")
	most := flags.Duration("wait", 10*time.Minute, "how long to wait for it, an hour at most")
	now := flags.Bool("now", false, "do not wait")
	switch err := flags.Parse(args); {
	case errors.Is(err, pflag.ErrHelp):
		fmt.Fprint(out, askHelp, flags.FlagUsages())
		return 0
	case err != nil:
		fmt.Fprintln(errs, err)
		return 2
	}
	names, program := flags.Args(), []string(nil)
	if at := flags.ArgsLenAtDash(); at >= 0 {
		names, program = names[:at], names[at:]
	}
	if len(names) == 0 || len(program) == 0 && len(names) > 1 || flags.ArgsLenAtDash() >= 0 && len(program) == 0 {
		fmt.Fprint(errs, askHelp, flags.FlagUsages())
		return 2
	}
	end := time.Now().Add(*most)
	values, given := make([]string, len(names)), make([]error, len(names))
	var said sync.Mutex
	var all sync.WaitGroup
	for i, name := range names {
		all.Go(func() {
			values[i], given[i] = askFor(steward.Request{ID: name, Text: *says, Now: *now}, end, func(waits string) {
				said.Lock()
				defer said.Unlock()
				fmt.Fprintln(errs, waits)
			})
		})
	}
	all.Wait()
	if err := errors.Join(given...); err != nil {
		fmt.Fprintln(errs, err)
		return 1
	}
	if len(program) == 0 {
		if f, ok := out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
			values[0] += "\n"
		}
		if _, err := io.WriteString(out, values[0]); err != nil {
			return 1
		}
		return 0
	}
	path, err := exec.LookPath(program[0])
	if err != nil {
		fmt.Fprintln(errs, err)
		return 127
	}
	env := os.Environ()
	for i, name := range names {
		env = append(env, name+"="+values[i])
	}
	fmt.Fprintln(errs, syscall.Exec(path, program, lastOf(env)))
	return 126
}

// lastOf keeps of variables that are set twice the last: some programs read the first.
func lastOf(env []string) (out []string) {
	at := map[string]int{}
	for _, kv := range env {
		k, _, _ := strings.Cut(kv, "=")
		if i, twice := at[k]; twice {
			out[i] = kv
			continue
		}
		at[k] = len(out)
		out = append(out, kv)
	}
	return out
}

// askFor asks until a time, also over a restart of the service. waits is called with
// what is to be done, once.
func askFor(r steward.Request, end time.Time, waits func(string)) (string, error) {
	told := false
	for {
		a, err := askOnce(r, end, func(w string) {
			if !told {
				waits(w)
			}
			told = true
		})
		switch {
		case err == nil && a.Problem == "":
			return a.Value, nil
		case time.Now().After(end):
			return "", fmt.Errorf("nobody has given %s so far; ask again", r.ID)
		case err == nil && !a.Again:
			return "", errors.New(a.Problem)
		case err == nil && r.Now:
			return "", errors.New(a.Problem)
		case errors.Is(err, errNoSocket):
			return "", err
		}
		time.Sleep(min(time.Second, time.Until(end))) // the service is away
	}
}

var errNoSocket = errors.New("secrets are asked for in workspaces alone, by the user of their terminals")

func askOnce(r steward.Request, end time.Time, waits func(string)) (a steward.Answer, err error) {
	conn, err := net.Dial("unix", asksAt())
	if err != nil {
		return a, errors.Join(errNoSocket, err)
	}
	defer conn.Close()
	if err := conn.SetDeadline(end); err != nil {
		return a, err
	}
	c := &steward.Conn{Stream: conn}
	if err := c.Send(r); err != nil {
		return a, err
	}
	for {
		a = steward.Answer{}
		if err := c.Receive(&a); err != nil || a.Waits == "" {
			return a, err
		}
		waits(a.Waits)
	}
}

// asksAt is the socket of this user; root, whose there may be none, may use any.
func asksAt() string {
	at := filepath.Join(container.runDir, fmt.Sprintf("asks-%d.sock", os.Getuid()))
	if _, err := os.Stat(at); err == nil || os.Getuid() != 0 {
		return at
	}
	if all, err := filepath.Glob(filepath.Join(container.runDir, "asks-*.sock")); err == nil && len(all) > 0 {
		return all[0]
	}
	return at
}
