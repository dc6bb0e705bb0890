// Package ssh is the door of SSH: what speaks that protocol comes into a workspace
// by it. Who comes is known by a public key or a certificate; where to is said by
// the login name. It speaks SSH (RFC 4251 to 4254, and OpenSSH's PROTOCOL file) to
// the outside and calls the use cases; it knows no records.
package ssh

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"yardbench/internal/service"
	"yardbench/wire"
)

// Bounds on who comes.
const (
	// greetTimeout bounds what comes before somebody is known.
	greetTimeout = 20 * time.Second
	// maxStrangers bounds those that are not known yet, and those of one address.
	maxStrangers, maxFromOne = 128, 16
	// maxChannels bounds what goes on at once over a connection.
	maxChannels = 128
	// pulse is how often a connection that says nothing is asked whether it lives.
	pulse = 30 * time.Second
)

// Server is the door.
type Server struct {
	service *service.Service
	config  ssh.ServerConfig
	ctx     context.Context

	mu        sync.Mutex
	strangers map[string]int
	count     int
	open      map[net.Conn]bool
	wg        sync.WaitGroup
}

type whoKey struct{}

// New makes the door, known by a host key. Connections end with ctx.
func New(ctx context.Context, s *service.Service, host ed25519.PrivateKey) (*Server, error) {
	signer, err := ssh.NewSignerFromSigner(host)
	if err != nil {
		return nil, fmt.Errorf("the host key: %w", err)
	}
	d := &Server{service: s, ctx: ctx, strangers: map[string]int{}, open: map[net.Conn]bool{}}
	d.config = ssh.ServerConfig{ServerVersion: "SSH-2.0-YardBench", MaxAuthTries: 12, PublicKeyCallback: d.who}
	// AES-GCM alone: every OpenSSH since 6.2 (2013) speaks it, and takes others first
	// where they are offered, which cost us eight times as much for the same.
	d.config.Ciphers = []string{ssh.CipherAES128GCM, ssh.CipherAES256GCM}
	d.config.AddHostKey(signer)
	return d, nil
}

// who finds whom a key lets in. It is asked of keys that are only offered, too.
func (d *Server) who(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
	ctx, cancel := context.WithTimeout(d.ctx, greetTimeout)
	defer cancel()
	a, err := d.service.Keys.Enter(ctx, key)
	if err != nil {
		return nil, err // the same to everybody: the library says "permission denied"
	}
	return &ssh.Permissions{ExtraData: map[any]any{whoKey{}: a}}, nil
}

// Serve takes what comes at a listener until that is closed.
func (d *Server) Serve(l net.Listener) error {
	for {
		conn, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			d.wg.Wait()
			return nil
		}
		if err != nil {
			time.Sleep(50 * time.Millisecond) // too many open files, say: it passes
			continue
		}
		d.wg.Go(func() {
			from, _, _ := net.SplitHostPort(conn.RemoteAddr().String())
			d.Take(conn, from, "")
		})
	}
}

// Take serves one connection. workspace is where it leads to; "" is where its login
// name says.
func (d *Server) Take(conn net.Conn, from, workspace string) {
	defer conn.Close()
	known, ok := d.greet(from)
	if !ok {
		return // before a word was said: it costs nothing
	}
	stop := context.AfterFunc(d.ctx, func() { conn.Close() })
	defer stop()
	_ = conn.SetDeadline(time.Now().Add(greetTimeout)) // a failure shows at the read
	c, channels, requests, err := ssh.NewServerConn(conn, &d.config)
	known()
	if err != nil {
		return // nobody who is known
	}
	_ = conn.SetDeadline(time.Time{})
	a, _ := c.Permissions.ExtraData[whoKey{}].(service.Actor)
	end, err := d.service.Pace.Begin(a.ID, false)
	if err != nil {
		return
	}
	defer end()
	d.service.Keys.Used(d.ctx, a)
	ref, label, _ := strings.Cut(c.User(), "+")
	if workspace != "" {
		ref = workspace
	}
	ctx, release := d.service.Leases.HoldSelf(d.ctx, a)
	defer release()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	v := &visit{ctx: ctx, service: d.service, who: a, conn: c, ref: ref, label: label, slots: make(chan struct{}, maxChannels)}
	ended := context.AfterFunc(ctx, func() { c.Close() })
	defer ended()
	go v.beat(cancel)
	v.wg.Go(func() { v.global(requests) })
	for n := range channels {
		v.channel(n)
	}
	cancel()
	v.wg.Wait()
}

// greet counts somebody who is not known yet; known is called when they are, or
// have gone.
func (d *Server) greet(from string) (known func(), ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.count >= maxStrangers || d.strangers[from] >= maxFromOne {
		return nil, false
	}
	d.count++
	d.strangers[from]++
	return func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.count--
		if d.strangers[from]--; d.strangers[from] == 0 {
			delete(d.strangers, from)
		}
	}, true
}

// beat asks a connection whether it lives, and ends one that does not answer.
func (v *visit) beat(end context.CancelFunc) {
	t := time.NewTicker(pulse)
	defer t.Stop()
	for {
		select {
		case <-v.ctx.Done():
			return
		case <-t.C:
		}
		answered := make(chan struct{})
		go func() {
			defer close(answered)
			_, _, _ = v.conn.SendRequest("keepalive@openssh.com", true, nil) // that it is refused is an answer
		}()
		select {
		case <-answered:
		case <-time.After(2 * pulse):
			slog.Info("a connection by SSH does not answer any more", "person", v.who.ID)
			end()
			return
		}
	}
}

// said is an error as people read it.
func said(err error) string {
	if errors.Is(err, service.ErrLeaseEnded) {
		return err.Error()
	}
	if p := wire.ProblemOf(err); p != nil {
		if p.Next != "" {
			return p.Detail + "\n" + p.Next
		}
		return p.Detail
	}
	slog.Error("a visit by SSH", "error", err)
	return "the service could not do this"
}
