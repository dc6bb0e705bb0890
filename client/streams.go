package client

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gorilla/websocket"

	"yardbench/wire"
)

// CopyLog writes a launch sheet's log to w, from a byte on; see the API for
// sheet and step. Where the service goes away while it follows, it goes on when
// that is back, with what is missing.
func (c Workspaces) CopyLog(ctx context.Context, ref string, sheet, step int, from int64, follow bool, w io.Writer) error {
	if follow && sheet == 0 {
		ws, err := c.Show(ctx, ref)
		if err != nil {
			return err
		}
		sheet = ws.Sheet
	}
	out := &counted{w: w, n: from}
	for failures := 0; ; failures++ {
		before := out.n
		err := c.copyText(ctx, workspace(ref, fmt.Sprintf("/log?sheet=%d&step=%d&from=%d&follow=%t", sheet, step, out.n, follow)), out)
		var said *wire.Problem
		if err == nil || !follow || ctx.Err() != nil || out.err != nil || errors.As(err, &said) || failures >= 10 {
			return err
		}
		if out.n > before {
			failures = 0
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(failures+1) * 200 * time.Millisecond):
		}
	}
}

// counted counts what was written.
type counted struct {
	w   io.Writer
	n   int64
	err error
}

func (c *counted) Write(p []byte) (n int, err error) {
	n, err = c.w.Write(p)
	c.n += int64(n)
	c.err = err
	return n, err
}

// CopyServiceLog writes the newest lines of a service's log to w.
func (c Workspaces) CopyServiceLog(ctx context.Context, ref, service string, w io.Writer) error {
	return c.copyText(ctx, workspace(ref, "/services/"+url.PathEscape(service)+"/log"), w)
}

// Watch calls changed at the start and whenever something changed, until it
// says stop, ctx ends, or the service stays away. It connects again by itself.
func (c *Client) Watch(ctx context.Context, changed func() (stop bool, err error)) error {
	for failures := 0; ; failures++ {
		stop, err := c.watchOnce(ctx, func() (bool, error) { failures = 0; return changed() })
		var away *Unreachable
		if stop || ctx.Err() != nil || (err != nil && !errors.As(err, &away)) || failures >= 10 {
			return errors.Join(ctx.Err(), err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(failures+1) * 200 * time.Millisecond):
		}
	}
}

func (c *link) watchOnce(ctx context.Context, changed func() (bool, error)) (bool, error) {
	res, err := c.do(ctx, "GET", "/events", nil, http.Header{"Accept": {"text/event-stream"}})
	if err != nil {
		return false, err
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if !strings.HasPrefix(lines.Text(), "data:") {
			continue
		}
		if stop, err := changed(); stop || err != nil {
			return stop, err
		}
	}
	if err := lines.Err(); err != nil && ctx.Err() == nil {
		return false, &Unreachable{c.address, err}
	}
	return false, nil
}

// dial opens a connection that carries bytes both ways.
func (c *link) dial(ctx context.Context, path string) (*websocket.Conn, error) {
	header := http.Header{}
	c.signIn(header)
	ws, res, err := websocket.DefaultDialer.DialContext(ctx, "ws"+strings.TrimPrefix(c.address, "http")+"/api/v1"+path, header)
	if err != nil {
		if res != nil && res.StatusCode >= 400 {
			return nil, readProblem(res)
		}
		return nil, &Unreachable{c.address, err}
	}
	return ws, nil
}

// silence is how long nothing may come from the service, which pings every 20
// seconds: longer, and the link is dead, whatever the network says of it.
const silence = time.Minute

// heard has a connection's reading fail after a silence. again begins the time
// anew: what was read may have waited long for its taker.
func heard(ws *websocket.Conn, silence time.Duration) (again func()) {
	again = func() { _ = ws.SetReadDeadline(time.Now().Add(silence)) } // a failure shows at the read
	ws.SetPingHandler(func(data string) error {
		again()
		err := ws.WriteControl(websocket.PongMessage, []byte(data), time.Now().Add(5*time.Second))
		if errors.Is(err, websocket.ErrCloseSent) {
			return nil
		}
		return err
	})
	return again
}

// Tunnel carries one connection to a port of one's own workspace, until either
// end closes it.
func (c Ports) Tunnel(ctx context.Context, ref string, port int, conn net.Conn) error {
	return c.carry(ctx, workspace(ref, "/ports/"+strconv.Itoa(port)+"/tunnel"), conn)
}

// SSH carries a connection that speaks SSH to a workspace, over the HTTP door, until
// either ends it.
func (c Workspaces) SSH(ctx context.Context, ref string, conn io.ReadWriteCloser) error {
	return c.carry(ctx, workspace(ref, "/ssh"), conn)
}

// carry passes on what goes over a connection, both ways, until either ends.
func (c *link) carry(ctx context.Context, path string, conn io.ReadWriteCloser) error {
	ws, err := c.dial(ctx, path)
	if err != nil {
		return err
	}
	defer ws.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close(); ws.Close() })
	defer stop()
	go func() {
		buf := make([]byte, 32<<10)
		for {
			n, err := conn.Read(buf)
			if n > 0 && ws.WriteMessage(websocket.BinaryMessage, buf[:n]) != nil {
				return
			}
			if err != nil {
				_ = ws.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, ""), time.Now().Add(5*time.Second)) // it may be gone
				return
			}
		}
	}()
	again := heard(ws, c.silence)
	for {
		again()
		_, p, err := ws.ReadMessage()
		if p, ok := errors.AsType[*wire.Problem](refusal(err)); ok {
			return p
		}
		if err != nil {
			return nil // the connection's end
		}
		if _, err := conn.Write(p); err != nil {
			return nil
		}
	}
}
