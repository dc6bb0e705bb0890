package inside

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"github.com/hashicorp/yamux"
	"github.com/pkg/sftp"

	"yardbench/internal/steward"
)

// What the steward's program does as a workspace's user, on its standard input and
// output: it may touch what they may, and nothing more.

// SFTP serves files by the protocol of that name, version 3 (draft-ietf-secsh-filexfer-02),
// from the folder in which it is run.
func SFTP() int {
	here, err := os.Getwd()
	if err != nil {
		here = "/"
	}
	s, err := sftp.NewServer(stdio{}, sftp.WithServerWorkingDirectory(here))
	if err == nil {
		err = s.Serve()
	}
	if err != nil && !errors.Is(err, io.EOF) {
		fmt.Fprintln(os.Stderr, "files:", err)
		return 1
	}
	return 0
}

// Connect connects to a socket (tcp or unix) and passes on what goes over it.
func Connect(args []string) int {
	if len(args) != 2 {
		return 2
	}
	conn, err := net.DialTimeout(args[0], args[1], 10*time.Second)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer conn.Close()
	go func() {
		_, _ = io.Copy(conn, os.Stdin) // its end is told to who listens there
		if half, ok := conn.(interface{ CloseWrite() error }); ok {
			_ = half.CloseWrite()
		}
	}()
	if _, err := io.Copy(os.Stdout, conn); err != nil {
		return 1
	}
	return 0
}

// maxCalls bounds the connections that are open at once at what somebody outside
// listens on in a workspace.
const maxCalls = 128

// Listen listens on an address (tcp or unix), and passes each connection on as a
// stream of yamux over its standard input and output, the other end being the
// client. The first stream says where it listens, or what went wrong: a
// [steward.Listening].
func Listen(args []string) int {
	session, err := yamux.Server(stdio{}, steward.Errands())
	if err != nil {
		return 1
	}
	defer session.Close()
	first, err := session.OpenStream()
	if err != nil {
		return 1
	}
	c := &steward.Conn{Stream: first}
	l, tidy, err := listenOn(args)
	if err != nil {
		_ = c.Send(steward.Listening{Problem: err.Error()}) // it is gone with the session
		first.Close()
		time.Sleep(100 * time.Millisecond) // what was said is on its way
		return 1
	}
	defer tidy()
	said := steward.Listening{}
	if a, ok := l.Addr().(*net.TCPAddr); ok {
		said.Port = a.Port
	}
	if c.Send(said) != nil {
		return 1
	}
	first.Close()
	asked := make(chan os.Signal, 1)
	signal.Notify(asked, syscall.SIGHUP, syscall.SIGTERM)
	go func() {
		select {
		case <-session.CloseChan():
		case <-asked:
		}
		l.Close()
	}()
	open := make(chan struct{}, maxCalls)
	for {
		conn, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return 0
		}
		if err != nil {
			time.Sleep(50 * time.Millisecond) // too many open files, say: it passes
			continue
		}
		select {
		case open <- struct{}{}:
			go func() {
				defer func() { conn.Close(); <-open }()
				stream, err := session.OpenStream()
				if err != nil {
					return
				}
				defer stream.Close()
				steward.Relay(conn, stream)
			}()
		default:
			conn.Close()
		}
	}
}

// listenOn opens what Listen listens on; tidy takes away what was made for it. A
// socket of the file system is for its user alone; one that nobody serves any more
// gives way.
func listenOn(args []string) (l net.Listener, tidy func(), err error) {
	if len(args) != 2 {
		return nil, nil, errors.New("where to listen is missing")
	}
	if args[0] != "unix" {
		l, err = (&net.ListenConfig{}).Listen(context.Background(), args[0], args[1])
		return l, func() { l.Close() }, err
	}
	path, dir := args[1], filepath.Dir(args[1])
	made := os.Mkdir(dir, 0o700) == nil // one that is there stays as it is
	if st, err := os.Lstat(path); err == nil && st.Mode().Type() == fs.ModeSocket {
		if conn, err := net.Dial("unix", path); err == nil {
			conn.Close()
			return nil, nil, fmt.Errorf("%s is in use", path)
		}
		_ = os.Remove(path) // what cannot be removed is in the way below
	}
	if l, err = net.Listen("unix", path); err == nil {
		err = os.Chmod(path, 0o600)
	}
	return l, func() {
		l.Close()
		if made {
			_ = os.Remove(dir) // what others have put there stays
		}
	}, err
}

// stdio is the standard input and output as one.
type stdio struct{}

func (stdio) Read(p []byte) (int, error)  { return os.Stdin.Read(p) }
func (stdio) Write(p []byte) (int, error) { return os.Stdout.Write(p) }
func (stdio) Close() error                { return errors.Join(os.Stdin.Close(), os.Stdout.Close()) }
