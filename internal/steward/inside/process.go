package inside

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"yardbench/internal/core/definition/variable"
	"yardbench/internal/steward"
)

// account is a user of the container.
type account struct {
	name, home, shell string
	uid, gid          uint32
	groups            []uint32
}

// lookup finds a user in the container's own files: a name, a number, or
// number:number, as images write it.
func lookup(user string) (account, error) {
	if user == "" {
		user = "root"
	}
	user, group, _ := strings.Cut(user, ":")
	a := account{name: user, home: "/", shell: "/bin/sh"}
	found := false
	err := eachLine("/etc/passwd", func(f []string) {
		if len(f) >= 7 && !found && (f[0] == user || f[2] == user) {
			uid, err1 := strconv.ParseUint(f[2], 10, 32)
			gid, err2 := strconv.ParseUint(f[3], 10, 32)
			if err1 == nil && err2 == nil {
				found = true
				a.name, a.uid, a.gid, a.home, a.shell = f[0], uint32(uid), uint32(gid), f[5], f[6]
			}
		}
	})
	if err != nil && !os.IsNotExist(err) {
		return a, err
	}
	if !found {
		n, err := strconv.ParseUint(user, 10, 32)
		if err != nil && user != "root" {
			return a, fmt.Errorf("the image has no user %q; name one it has in remoteUser", user)
		}
		a.uid, a.gid = uint32(n), uint32(n)
	}
	if g, err := strconv.ParseUint(group, 10, 32); group != "" && err == nil {
		a.gid = uint32(g)
	}
	_ = eachLine("/etc/group", func(f []string) { // no group file: no further groups
		if len(f) < 4 {
			return
		}
		for _, m := range strings.Split(f[3], ",") {
			if g, err := strconv.ParseUint(f[2], 10, 32); m == a.name && err == nil {
				a.groups = append(a.groups, uint32(g))
			}
		}
	})
	if st, err := os.Stat(a.shell); a.shell == "" || err != nil || st.IsDir() {
		a.shell = "/bin/sh"
	}
	return a, nil
}

func eachLine(path string, f func(fields []string)) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	for sc := bufio.NewScanner(io.LimitReader(file, 4<<20)); sc.Scan(); {
		f(strings.Split(sc.Text(), ":"))
	}
	return nil
}

// prepare makes a command that runs as the process asks, in a process group
// of its own and without the right to dump core.
func (s *server) prepare(p steward.Process) (*exec.Cmd, error) {
	a, err := lookup(p.User)
	if err != nil {
		return nil, err
	}
	env := s.environment(a, p)
	argv := p.Argv
	switch {
	case p.Errand != "":
		argv = append([]string{s.binary, p.Errand}, argv...)
	case p.Command != "":
		argv = []string{a.shell, "-c", p.Command}
	case len(argv) == 0:
		argv = []string{a.shell}
	}
	folder := p.Folder
	if st, err := os.Stat(folder); folder == "" || err != nil || !st.IsDir() {
		folder = a.home
	}
	path, err := find(argv[0], env["PATH"], folder)
	if err != nil && (argv[0] == "/bin/sh" || argv[0] == "sh") {
		// Small images have one program that is all others, told by its name.
		if busy, missing := find("busybox", env["PATH"], folder); missing == nil {
			path, argv, err = busy, append([]string{"sh"}, argv[1:]...), nil
		}
	}
	if err != nil {
		return nil, err
	}
	cmd := &exec.Cmd{Path: path, Args: argv, Dir: folder}
	for k, v := range env {
		cmd.Env = append(cmd.Env, k+"="+v)
	}
	if err := s.putFiles(a, p.Files, p.FileWays); err != nil {
		return nil, err
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if a.uid != 0 || a.gid != 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: a.uid, Gid: a.gid, Groups: a.groups}
	}
	return cmd, nil
}

// environment is the container's, then the user's, then what was asked for.
func (s *server) environment(a account, p steward.Process) map[string]string {
	env := map[string]string{"PATH": "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LANG": "C.UTF-8"}
	for _, kv := range os.Environ() {
		if k, v, ok := strings.Cut(kv, "="); ok {
			env[k] = v
		}
	}
	container := maps.Clone(env)
	env["HOME"], env["USER"], env["LOGNAME"], env["SHELL"] = a.home, a.name, a.name, a.shell
	maps.Copy(env, s.probe(a, p.Probe, env))
	for _, k := range p.Unset {
		delete(env, k)
	}
	for k, v := range p.Env {
		env[k] = variable.PutContainerEnv(v, func(name string) (string, bool) { v, ok := container[name]; return v, ok })
	}
	if p.Asks { // without it a program finds that it is not there
		if at, err := (doors{s}).askProgram(a); err == nil {
			env["PATH"] += ":" + at // the last: it is in the way of nothing
		}
	}
	pairs := p.GitConfig
	if p.GitHost != "" {
		// By the environment, so that nothing of it is written into the tree.
		pairs = append(pairs, "http."+p.GitHost+".proxy", s.gitProxy)
		if host, plain := strings.CutPrefix(p.GitHost, "http://"); plain {
			pairs = append(pairs, "http.https://"+host+".proxy", s.gitProxy) // what signs in by itself, as large files do
		}
	}
	if len(p.SSHHosts) > 0 && s.gitProxy != "" {
		pairs = append(pairs, "ssh.variant", "ssh", "core.sshCommand", s.binary+" git-ssh "+s.gitProxy+" "+strings.Join(p.SSHHosts, ","))
	}
	if p.Agent {
		// Without it what signs says so; everything else begins. One that somebody
		// brought along by SSH counts before it.
		if at, err := (doors{s}).socket(a, "agent", (doors{s}).agent); err == nil && p.Env["SSH_AUTH_SOCK"] == "" {
			env["SSH_AUTH_SOCK"] = at
		}
		if _, err := find("ssh-keygen", env["PATH"], "/"); err != nil {
			pairs = append(pairs, "gpg.ssh.program", s.binary)
		}
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		n := strconv.Itoa(i / 2)
		env["GIT_CONFIG_KEY_"+n], env["GIT_CONFIG_VALUE_"+n] = pairs[i], pairs[i+1]
	}
	if len(pairs) > 0 {
		env["GIT_CONFIG_COUNT"] = strconv.Itoa(len(pairs) / 2)
	}
	return env
}

// find looks a program up as a shell would, in the PATH of the session.
func find(name, path, folder string) (string, error) {
	runs := func(p string) bool {
		st, err := os.Stat(p)
		return err == nil && !st.IsDir() && st.Mode()&0o111 != 0
	}
	if strings.Contains(name, "/") {
		p := name
		if !strings.HasPrefix(p, "/") {
			p = folder + "/" + p
		}
		if runs(p) {
			return p, nil
		}
		return "", fmt.Errorf("%s: there is no such program in the workspace", name)
	}
	for _, d := range strings.Split(path, ":") {
		if p := d + "/" + name; d != "" && runs(p) {
			return p, nil
		}
	}
	return "", fmt.Errorf("%s: there is no such program in the workspace's PATH", name)
}

// putFiles writes the secrets that are wanted as files, readable by their user
// alone, on tmpfs; others that stood there go. Where one has a place of its own, a
// link leads from there.
func (s *server) putFiles(a account, files map[string]string, ways []steward.FileWay) error {
	if files == nil {
		return nil
	}
	s.files.Lock()
	defer s.files.Unlock()
	dir := filepath.Join(s.runDir, "secrets")
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return fmt.Errorf("secrets as files: %w", err)
	}
	old, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("secrets as files: %w", err)
	}
	for _, e := range old {
		if _, keep := files[e.Name()]; !keep {
			if err := os.RemoveAll(filepath.Join(dir, e.Name())); err != nil {
				return fmt.Errorf("secrets as files: %w", err)
			}
		}
	}
	modes, owners := map[string]os.FileMode{}, map[string]account{}
	for _, w := range ways {
		modes[w.Name] = os.FileMode(w.Mode) & 0o555
		if of, err := lookup(w.Owner); w.Owner != "" && err == nil {
			owners[w.Name] = of
		}
	}
	for name, content := range files {
		path, mode := filepath.Join(dir, filepath.Base(name)), cmp.Or(modes[name], 0o400)
		of, is := owners[name]
		if !is {
			of = a
		}
		if is, err := os.ReadFile(path); err == nil && string(is) == content {
			if err := errors.Join(os.Lchown(path, int(of.uid), int(of.gid)), os.Chmod(path, mode)); err != nil {
				return fmt.Errorf("secrets as files: %w", err)
			}
			continue
		}
		f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o400)
		if err != nil {
			return fmt.Errorf("secrets as files: %w", err)
		}
		_, err = f.WriteString(content)
		if err := errors.Join(err, f.Chown(int(of.uid), int(of.gid)), f.Chmod(mode), f.Close(), os.Rename(path+".new", path)); err != nil {
			return fmt.Errorf("secrets as files: %w", err)
		}
	}
	s.linkFiles(a, dir, ways)
	return nil
}

// linkFiles leads from places in a home folder to secrets' files, as far as that can be:
// what else stands there stays, nothing outside of the home folder is touched,
// whatever links are in it, and nothing that is begun waits for it or fails by it.
func (s *server) linkFiles(a account, dir string, ways []steward.FileWay) {
	wanted := map[string]string{}
	for _, w := range ways {
		if rest, home := strings.CutPrefix(w.Path, "~/"); home {
			wanted[rest] = filepath.Join(dir, filepath.Base(w.Name))
		}
	}
	if len(wanted)+len(s.links) == 0 {
		return
	}
	home, err := os.OpenRoot(a.home)
	if err != nil {
		return // the user has none
	}
	defer home.Close()
	for place := range s.links {
		if to, err := home.Readlink(place); wanted[place] == "" && err == nil && filepath.Dir(to) == dir {
			_ = home.Remove(place) // it leads nowhere, and harms nobody, where it stays
		}
	}
	s.links = wanted
	for place, to := range wanted {
		for i := range place { // folders above it, as their user's
			if place[i] == '/' && home.Mkdir(place[:i], 0o700) == nil {
				_ = home.Lchown(place[:i], int(a.uid), int(a.gid))
			}
		}
		if is, err := home.Readlink(place); err == nil && is != to && filepath.Dir(is) == dir {
			_ = home.Remove(place)
		}
		if home.Symlink(to, place) == nil {
			_ = home.Lchown(place, int(a.uid), int(a.gid))
		}
	}
}

// signalGroup sends a command's process group a signal, by its name without SIG.
func signalGroup(cmd *exec.Cmd, name string) {
	if sig := unix.SignalNum("SIG" + name); sig != 0 {
		_ = syscall.Kill(-cmd.Process.Pid, sig) // it may have ended
	}
}

// holder is what a running process group was given.
type holder struct {
	label   string
	since   time.Time
	secrets map[string]int
	left    string // the set-up command that has ended and left it running
}

// track keeps the process group's leader in mind until it is let go.
func (s *server) track(pid int, label string, secrets map[string]int) (letGo func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.procs[pid] = holder{label: label, since: time.Now(), secrets: secrets}
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.procs, pid)
	}
}

// ended says how a command ended.
func ended(err error) steward.Exit {
	var ee *exec.ExitError
	switch {
	case err == nil:
		return steward.Exit{}
	case errors.As(err, &ee):
		if ws, ok := ee.Sys().(syscall.WaitStatus); ok {
			return steward.Exit{Code: exitCode(ws)}
		}
		return steward.Exit{Code: ee.ExitCode()}
	}
	return steward.Exit{Code: 127, Problem: err.Error()}
}

// run runs a command for as long as its stream lives. What goes in and out of it are
// the signs of work.
func (s *server) run(c *steward.Conn, cmd *exec.Cmd, secrets map[string]int, typed, read *sign) {
	var out *outputs
	stdin, err := cmd.StdinPipe()
	if err == nil {
		if out, err = outputsOf(cmd, seen{c.Writer(steward.Output), read}, seen{c.Writer(steward.Errors), read}); err == nil {
			if err = cmd.Start(); err != nil {
				out.close()
			}
		}
	}
	if err != nil {
		_ = c.SendJSON(steward.Ended, steward.Exit{Code: 126, Problem: err.Error()})
		return
	}
	letGo := s.track(cmd.Process.Pid, "run "+filepath.Base(cmd.Args[0]), secrets)
	out.pass()
	finished := make(chan struct{})
	go func() {
		var buf []byte
		if pipe, ok := stdin.(syscall.Conn); ok {
			widen(pipe)
		}
		for {
			k, p, err := c.ReceiveFrameIn(buf)
			if cap(p) > cap(buf) {
				buf = p[:0]
			}
			if err != nil {
				break // whoever asked is gone: so is the command
			}
			switch k {
			case steward.Input:
				typed.mark()
				_, _ = stdin.Write(p) // a command may leave its input unread
			case steward.NoMore:
				stdin.Close()
			case steward.Signal:
				signalGroup(cmd, string(p))
			}
		}
		hangUp(cmd, finished)
	}()
	err = cmd.Wait()
	letGo()
	close(finished)
	out.wait()
	_ = c.SendJSON(steward.Ended, ended(err))
}
