package client

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"time"

	"github.com/gorilla/websocket"
	"github.com/hashicorp/yamux"

	"yardbench/wire"
)

// Datagrams are exchanged with a port of a workspace by UDP.
type Datagrams struct {
	ws    *websocket.Conn
	again func()
}

// Datagrams begins an exchange of datagrams with a port of one's own workspace. It ends
// after two minutes without any, and with ctx.
func (c Ports) Datagrams(ctx context.Context, ref string, port int) (*Datagrams, error) {
	ws, err := c.dial(ctx, workspace(ref, "/ports/"+strconv.Itoa(port)+"/datagrams"))
	if err != nil {
		return nil, err
	}
	context.AfterFunc(ctx, func() { ws.Close() })
	return &Datagrams{ws, heard(ws, c.silence)}, nil
}

// Send sends one. It is for one caller at a time.
func (d *Datagrams) Send(p []byte) error { return d.ws.WriteMessage(websocket.BinaryMessage, p) }

// Receive waits for one; [*wire.Problem] says why there are none.
func (d *Datagrams) Receive() ([]byte, error) {
	d.again()
	_, p, err := d.ws.ReadMessage()
	return p, refusal(err)
}

// Close ends the exchange.
func (d *Datagrams) Close() error { return d.ws.Close() }

// refusal is the problem with which the service has closed a connection, if it has.
func refusal(err error) error {
	if e, ok := errors.AsType[*websocket.CloseError](err); ok && e.Code == 4000 {
		return &wire.Problem{Status: http.StatusConflict, Title: "Conflict", Detail: e.Text}
	}
	return err
}

// listenTime bounds how long a workspace takes to listen.
const listenTime = 30 * time.Second

// Listener takes the connections that come to a port of a workspace.
type Listener struct {
	m      *yamux.Session
	cancel context.CancelFunc
}

// Listen listens on a port of the loopback of one's own workspace, until it is closed or
// the link breaks.
func (c Ports) Listen(ctx context.Context, ref string, port int) (*Listener, error) {
	ctx, cancel := context.WithCancel(ctx)
	near, far := net.Pipe()
	carried := make(chan error, 1)
	go func() {
		err := c.carry(ctx, workspace(ref, "/ports/"+strconv.Itoa(port)+"/listen"), far)
		far.Close()
		carried <- err
	}()
	config := yamux.DefaultConfig()
	config.EnableKeepAlive, config.LogOutput = false, io.Discard // the link is heard below it
	m, err := yamux.Client(near, config)
	if err != nil {
		cancel()
		return nil, err
	}
	fail := func(err error) (*Listener, error) {
		cancel()
		m.Close()
		if why := <-carried; why != nil && !errors.Is(why, context.Canceled) {
			err = why
		}
		return nil, err
	}
	late := time.AfterFunc(listenTime, func() { near.Close() })
	defer late.Stop()
	first, err := m.AcceptStreamWithContext(ctx)
	if err != nil {
		near.Close()
		return fail(fmt.Errorf("the workspace does not listen: %w", err))
	}
	defer first.Close()
	var said struct {
		Problem string `json:"problem"`
	}
	var size [4]byte
	if _, err = io.ReadFull(first, size[:]); err == nil {
		err = json.NewDecoder(io.LimitReader(first, int64(min(binary.BigEndian.Uint32(size[:]), 64<<10)))).Decode(&said)
	}
	if err != nil {
		return fail(fmt.Errorf("the workspace does not listen: %w", err))
	}
	if said.Problem != "" {
		return fail(&wire.Problem{Status: http.StatusConflict, Title: "Conflict", Detail: "the workspace does not listen on port " + strconv.Itoa(port) + ": " + said.Problem})
	}
	return &Listener{m, cancel}, nil
}

// Accept waits for a connection.
func (l *Listener) Accept() (net.Conn, error) { return l.m.AcceptStream() }

// Close ends it, with the connections that came.
func (l *Listener) Close() error {
	defer l.cancel()
	return l.m.Close()
}
