package ssh

import (
	"context"
	"errors"
	"io"
	"net"
	"strconv"
	"sync"

	"golang.org/x/crypto/ssh"
)

// maxForwards bounds where a connection has somebody listen in the workspace.
const maxForwards = 32

// forwards are where a connection has somebody listen in the workspace, by what
// they were asked for as.
type forwards struct {
	mu sync.Mutex
	on map[string]func()
}

// add keeps how one is stopped; false where there are as many as there may be, or
// it is there already.
func (f *forwards) add(name string, stop func()) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.on == nil {
		f.on = map[string]func(){}
	}
	if _, there := f.on[name]; there || len(f.on) >= maxForwards {
		return false
	}
	f.on[name] = stop
	return true
}

func (f *forwards) drop(name string) bool {
	f.mu.Lock()
	stop, ok := f.on[name]
	delete(f.on, name)
	f.mu.Unlock()
	if ok {
		stop()
	}
	return ok
}

type (
	tcpForward struct {
		Host string
		Port uint32
	}
	socketForward struct{ Path string }
)

// global answers what is asked of the whole connection.
func (v *visit) global(requests <-chan *ssh.Request) {
	for r := range requests {
		ok, answer := false, []byte(nil)
		switch r.Type {
		case "tcpip-forward":
			var at tcpForward
			if ssh.Unmarshal(r.Payload, &at) == nil {
				var port uint32
				port, ok = v.forward(at)
				if at.Port == 0 && ok {
					answer = ssh.Marshal(struct{ Port uint32 }{port})
				}
			}
		case "cancel-tcpip-forward":
			var at tcpForward
			ok = ssh.Unmarshal(r.Payload, &at) == nil && v.forwards.drop(net.JoinHostPort(at.Host, strconv.Itoa(int(at.Port))))
		case "streamlocal-forward@openssh.com":
			var at socketForward
			ok = ssh.Unmarshal(r.Payload, &at) == nil && v.forwardSocket(at.Path)
		case "cancel-streamlocal-forward@openssh.com":
			var at socketForward
			ok = ssh.Unmarshal(r.Payload, &at) == nil && v.forwards.drop(at.Path)
		case "keepalive@openssh.com":
			ok = true
		}
		if r.WantReply {
			_ = r.Reply(ok, answer) // it may be gone
		}
	}
}

// may tells whether somebody may listen in the workspace now.
func (v *visit) may() bool {
	leave, err := v.arrive(func(string) {})
	if err == nil {
		leave()
	}
	return err == nil
}

// forward has somebody listen on a port of the workspace's own loopback, whatever
// address is asked for: what others may visit is said elsewhere (RFC 4254, 7.1).
func (v *visit) forward(at tcpForward) (uint32, bool) {
	if at.Port > 65535 || !v.may() {
		return 0, false
	}
	bound := at
	port, stop, err := v.listening(v.ctx, "tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(int(at.Port))), func(c io.ReadWriteCloser) {
		v.back("forwarded-tcpip", ssh.Marshal(struct {
			Host     string
			Port     uint32
			From     string
			FromPort uint32
		}{bound.Host, bound.Port, "127.0.0.1", 0}), c)
	})
	if err != nil {
		return 0, false
	}
	bound.Port = uint32(port)
	if !v.forwards.add(net.JoinHostPort(at.Host, strconv.Itoa(port)), stop) {
		stop()
		return 0, false
	}
	return bound.Port, true
}

// forwardSocket has somebody listen on a socket of the workspace's files.
func (v *visit) forwardSocket(path string) bool {
	if !v.may() {
		return false
	}
	_, stop, err := v.listening(v.ctx, "unix", path, func(c io.ReadWriteCloser) {
		v.back("forwarded-streamlocal@openssh.com", ssh.Marshal(struct{ Path, Reserved string }{path, ""}), c)
	})
	if err != nil {
		return false
	}
	if !v.forwards.add(path, stop) {
		stop()
		return false
	}
	return true
}

// back opens a channel to whoever came, for what came in the workspace.
func (v *visit) back(kind string, about []byte, c io.ReadWriteCloser) {
	ch, requests, err := v.conn.OpenChannel(kind, about)
	if err != nil {
		return
	}
	defer ch.Close()
	go ssh.DiscardRequests(requests)
	v.relay(ch, c)
}

// agent has the visitor's own agent be asked from within the workspace: a socket
// there, that only its user may open, leads to it while this lasts.
func (v *visit) agent(ctx context.Context, path string) error {
	_, _, err := v.listening(ctx, "unix", path, func(c io.ReadWriteCloser) { v.back("auth-agent@openssh.com", nil, c) })
	if err != nil {
		return errors.New("the agent cannot be reached from the workspace: " + said(err))
	}
	return nil
}
