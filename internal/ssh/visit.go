package ssh

import (
	"context"
	"fmt"
	"io"
	"sync"

	"github.com/hashicorp/yamux"
	"golang.org/x/crypto/ssh"

	"yardbench/internal/service"
	"yardbench/internal/steward"
)

// visit is one connection: somebody, in one workspace.
type visit struct {
	ctx     context.Context
	service *service.Service
	who     service.Actor
	conn    *ssh.ServerConn
	ref     string
	label   string // of the terminal, from the login name
	slots   chan struct{}
	wg      sync.WaitGroup

	once     sync.Once // the workspace is looked for once
	err      error
	forwards forwards
}

// arrive waits until the workspace can be used, having it started where it is
// stopped; tell is called with what is waited for. Each time counts among what
// its visitor does, until leave is called: it is written down for good.
func (v *visit) arrive(tell func(string)) (leave func(), err error) {
	v.once.Do(func() {
		ctx, release, err := v.service.Leases.HoldWorkspace(v.ctx, v.who, v.ref)
		if err != nil {
			v.err = err
			return
		}
		context.AfterFunc(v.ctx, release)
		context.AfterFunc(ctx, func() { v.conn.Close() })
	})
	if v.err != nil {
		return nil, v.err
	}
	if leave, err = v.service.Pace.Begin(v.who.ID, true); err != nil {
		return nil, err
	}
	if err = v.service.Workspaces.Wake(v.ctx, v.who, v.ref, "ssh", tell); err != nil {
		leave()
		return nil, err
	}
	return leave, nil
}

// channel takes what somebody opens over the connection.
func (v *visit) channel(n ssh.NewChannel) {
	select {
	case v.slots <- struct{}{}:
	default:
		_ = n.Reject(ssh.ResourceShortage, fmt.Sprintf("%d things go on over this connection already", maxChannels)) // it may be gone
		return
	}
	v.wg.Go(func() {
		defer func() { <-v.slots }()
		switch n.ChannelType() {
		case "session":
			ch, requests, err := n.Accept()
			if err == nil {
				(&session{visit: v, ch: ch, env: map[string]string{}}).serve(requests)
			}
		case "direct-tcpip":
			v.direct(n)
		case "direct-streamlocal@openssh.com":
			v.socket(n)
		default:
			_ = n.Reject(ssh.UnknownChannelType, "this door does not know "+n.ChannelType()) // it may be gone
		}
	})
}

// direct connects to a port, as the workspace reaches it (RFC 4254, 7.2).
func (v *visit) direct(n ssh.NewChannel) {
	var to struct {
		Host     string
		Port     uint32
		From     string
		FromPort uint32
	}
	v.join(n, ssh.Unmarshal(n.ExtraData(), &to), func() (io.ReadWriteCloser, error) {
		c, err := v.service.Ports.DialHost(v.ctx, v.who, v.ref, to.Host, int(min(to.Port, 1<<16)))
		if err != nil {
			return nil, err
		}
		return c.Stream, nil
	})
}

// socket connects to a socket of the workspace's files (PROTOCOL, 2.4).
func (v *visit) socket(n ssh.NewChannel) {
	var to struct {
		Path     string
		Reserved string
		Zero     uint32
	}
	v.join(n, ssh.Unmarshal(n.ExtraData(), &to), func() (io.ReadWriteCloser, error) {
		c, err := v.service.Sessions.Errand(v.ctx, v.who, v.ref, steward.Connect, "unix", to.Path)
		if err != nil {
			return nil, err
		}
		return steward.NewPipe(c), nil
	})
}

// join connects to somewhere and passes on what comes over a channel and that,
// until both have ended.
func (v *visit) join(n ssh.NewChannel, err error, connect func() (io.ReadWriteCloser, error)) {
	if err != nil {
		_ = n.Reject(ssh.ConnectionFailed, "where to cannot be read") // it may be gone
		return
	}
	var to io.ReadWriteCloser
	leave, err := v.arrive(func(string) {})
	if err == nil {
		defer leave()
		to, err = connect()
	}
	if err != nil {
		_ = n.Reject(ssh.ConnectionFailed, said(err)) // it may be gone
		return
	}
	defer to.Close()
	ch, requests, err := n.Accept()
	if err != nil {
		return
	}
	defer ch.Close()
	go ssh.DiscardRequests(requests)
	v.relay(ch, to)
}

// relay passes on what comes over either to the other, while the visit lasts.
func (v *visit) relay(a, b io.ReadWriteCloser) {
	stop := context.AfterFunc(v.ctx, func() { a.Close(); b.Close() })
	defer stop()
	steward.Relay(a, b)
}

// listening has a helper in the workspace listen, and calls take with each
// connection that comes there, until ctx ends or stop is called.
func (v *visit) listening(ctx context.Context, network, address string, take func(io.ReadWriteCloser)) (port int, stop func(), err error) {
	c, err := v.service.Sessions.Errand(ctx, v.who, v.ref, steward.Listen, network, address)
	if err != nil {
		return 0, nil, err
	}
	m, err := yamux.Client(steward.NewPipe(c), steward.Errands())
	if err != nil {
		c.Stream.Close()
		return 0, nil, err
	}
	fail := func(err error) (int, func(), error) { m.Close(); return 0, nil, err }
	first, err := m.AcceptStreamWithContext(ctx)
	if err != nil {
		return fail(fmt.Errorf("listen in the workspace: %w", err))
	}
	var where steward.Listening
	err = (&steward.Conn{Stream: first}).ReceiveAtMost(&where, steward.MaxAsked)
	first.Close()
	if err == nil && where.Problem != "" {
		err = fmt.Errorf("%s", where.Problem)
	}
	if err != nil {
		return fail(err)
	}
	end := context.AfterFunc(ctx, func() { m.Close() })
	v.wg.Go(func() {
		defer m.Close()
		defer end()
		for {
			stream, err := m.AcceptStream()
			if err != nil {
				return
			}
			select {
			case v.slots <- struct{}{}:
				v.wg.Go(func() {
					defer func() { <-v.slots }()
					defer stream.Close()
					take(stream)
				})
			default:
				stream.Close()
			}
		}
	})
	return where.Port, func() { m.Close() }, nil
}
