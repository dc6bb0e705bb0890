package api

import (
	"context"
	"io"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	"github.com/gorilla/websocket"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/internal/steward"
	"yardbench/wire"
)

// PortsPage asks for the ports of a workspace.
type PortsPage struct {
	WorkspacePage
	Wake bool `query:"wake" doc:"Have the workspace started where it is stopped, if the house rules let that be, and wait until it can be used"`
}

func portRoutes(a *API) {
	s := a.svc
	type PortPath struct {
		Workspace
		Port int `path:"port" minimum:"1" maximum:"65535"`
	}
	list(a, op("GET", "/workspaces/{workspace}/ports", "list-ports", "List the declared and the listening ports", policy.SeeWorkspace), portKind,
		func(ctx context.Context, who service.Actor, in *PortsPage) ([]wire.Port, error) {
			if in.Wake {
				if err := s.Workspaces.Wake(ctx, who, in.Ref, "ports", func(string) {}); err != nil {
					return nil, err
				}
			}
			return s.Ports.Ports(ctx, who, in.Ref)
		})
	answer(a, op("GET", "/workspaces/{workspace}/ports/{port}", "show-port", "Show a declared or a listening port", policy.SeeWorkspace),
		func(ctx context.Context, who service.Actor, in *PortPath) (wire.Port, error) {
			all, err := s.Ports.Ports(ctx, who, in.Ref)
			return service.One(all, err, func(v wire.Port) bool { return v.Number == in.Port }, "port", strconv.Itoa(in.Port))
		})
	answer(a, op("PUT", "/workspaces/{workspace}/ports/{port}", "change-port", "Say who may visit a port", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			PortPath
			Body wire.PortChange
		}) (wire.Port, error) {
			return s.Ports.SharePort(ctx, who, in.Ref, in.Port, in.Body)
		})
	list(a, op("GET", "/workspaces/{workspace}/look-links", "list-look-links", "List the look links to ports", policy.UseWorkspace), lookLinkKind,
		func(ctx context.Context, who service.Actor, in *WorkspacePage) ([]wire.LookLink, error) {
			return s.LookLinks.LookLinks(ctx, who, in.Ref)
		})
	made(a, op("POST", "/workspaces/{workspace}/look-links", "add-look-link", "Make a link by which anybody who holds it visits a port", policy.UseWorkspace),
		func(v wire.MadeLookLink) string {
			return "/workspaces/" + v.Workspace + "." + v.Owner + "/look-links/" + v.ID
		}, nil,
		func(ctx context.Context, who service.Actor, in *struct {
			Workspace
			Body wire.NewLookLink
		}) (wire.MadeLookLink, error) {
			return s.LookLinks.Make(ctx, who, in.Ref, in.Body)
		})
	type LinkPath struct {
		Workspace
		Link string `path:"link" maxLength:"40"`
	}
	answer(a, op("GET", "/workspaces/{workspace}/look-links/{link}", "show-look-link", "Show a look link", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *LinkPath) (wire.LookLink, error) {
			all, err := s.LookLinks.LookLinks(ctx, who, in.Ref)
			return service.One(all, err, func(v wire.LookLink) bool { return v.ID == in.Link }, "look link", in.Link)
		})
	done(a, op("DELETE", "/workspaces/{workspace}/look-links/{link}", "end-look-link", "End a look link, and every visit by it", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *LinkPath) error {
			return s.LookLinks.End(ctx, who, in.Ref, in.Link)
		})
	answer(a, op("POST", "/port-passes", "visit-port", "Get the way to a port's address", policy.VisitPort),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.PortVisit }) (wire.PortPass, error) {
			return s.Ports.VisitPort(ctx, who, in.Body)
		})
	a.overPort("tunnel", "open-tunnel", "Connect to a port, over WebSocket", "Binary messages carry the bytes of one connection, both ways.",
		func(ctx context.Context, who service.Actor, ref string, port int, ws *websocket.Conn) error {
			conn, err := s.Ports.DialPort(ctx, who, ref, port)
			if err != nil {
				return err
			}
			defer conn.Stream.Close()
			tunnel(ctx, ws, conn.Stream)
			return nil
		})
	a.overPort("datagrams", "open-datagrams", "Exchange datagrams with a port (UDP), over WebSocket", "Each binary message is a datagram, both ways. It ends after two minutes without any.",
		func(ctx context.Context, who service.Actor, ref string, port int, ws *websocket.Conn) error {
			conn, err := s.Ports.DialDatagrams(ctx, who, ref, port)
			if err != nil {
				return err
			}
			defer conn.Stream.Close()
			datagrams(ctx, ws, conn.Stream)
			return nil
		})
	a.overPort("listen", "listen-port", "Listen on a port of the workspace's own loopback, over WebSocket", "Binary messages carry yamux, of which whoever asks is the client. The first stream holds, with its length before it in four bytes, a Listening as JSON: the port, or the problem; each stream after it is a connection that came there.",
		func(ctx context.Context, who service.Actor, ref string, port int, ws *websocket.Conn) error {
			pipe, err := s.Sessions.Bring(ctx, who, ref, port)
			if err != nil {
				return err
			}
			defer pipe.Close()
			tunnel(ctx, ws, pipe)
			return nil
		})
}

// overPort registers an operation on a port that goes on over a WebSocket, while
// whoever asks may use the workspace.
func (a *API) overPort(path, id, summary, about string, do func(ctx context.Context, who service.Actor, ref string, port int, ws *websocket.Conn) error) {
	o := op("GET", "/workspaces/{workspace}/ports/{port}/"+path, id, summary, policy.UseWorkspace)
	o.Description = "Upgrades to WebSocket. " + about + " A refusal closes it with code 4000 and the reason."
	o.Parameters = []*huma.Param{{Name: "workspace", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}, {Name: "port", In: "path", Required: true, Schema: &huma.Schema{Type: "integer"}}}
	o.Responses = map[string]*huma.Response{"101": {Description: "Upgraded"}, "401": {Description: "Not signed in"}}
	a.huma.OpenAPI().AddOperation(&o)
	a.engine.GET("/api/v1/workspaces/:workspace/ports/:port/"+path, func(c *gin.Context) {
		who, ws := a.upgrade(c, policy.UseWorkspace)
		if ws == nil {
			return
		}
		defer ws.Close()
		port, _ := strconv.Atoi(c.Param("port")) // 0 is refused below
		ctx, cancel := a.until(c.Request.Context())
		defer cancel()
		ctx, release, err := a.svc.Leases.HoldWorkspace(ctx, who, c.Param("workspace"))
		if err == nil {
			defer release()
			err = do(ctx, who, c.Param("workspace"), port, ws)
		}
		if err != nil {
			reason := asProblem(err).Detail
			if len(reason) > 120 { // RFC 6455, 5.5: a control frame holds 125 bytes
				reason = reason[:120]
			}
			_ = ws.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(4000, reason), time.Now().Add(5*time.Second)) // it may be gone
		}
	})
}

// datagrams passes datagrams on between a WebSocket and a stream until either ends.
func datagrams(ctx context.Context, ws *websocket.Conn, stream io.ReadWriteCloser) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { stream.Close(); ws.Close() })
	defer stop()
	later := alive(ctx, ws)
	go func() {
		defer cancel()
		for {
			later()
			kind, p, err := ws.ReadMessage()
			if err != nil || kind == websocket.BinaryMessage && steward.WriteDatagram(stream, p) != nil {
				return
			}
		}
	}()
	buf := make([]byte, steward.MaxDatagram)
	for {
		p, err := steward.ReadDatagram(stream, buf)
		if err != nil || ws.WriteMessage(websocket.BinaryMessage, p) != nil {
			return
		}
	}
}

// alive has a WebSocket's reading fail where the other end has gone without a
// word. It pings until ctx ends. later gives it time again: what was read may have
// waited long for its taker.
func alive(ctx context.Context, ws *websocket.Conn) (later func()) {
	later = func() { _ = ws.SetReadDeadline(time.Now().Add(3 * pingEvery)) } // a failure shows at the read
	later()
	ws.SetPongHandler(func(string) error { later(); return nil })
	go func() {
		beat := time.NewTicker(pingEvery)
		defer beat.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-beat.C:
				if ws.WriteControl(websocket.PingMessage, nil, time.Now().Add(5*time.Second)) != nil {
					return
				}
			}
		}
	}()
	return later
}

// tunnel copies between a WebSocket and a connection until either ends.
func tunnel(ctx context.Context, ws *websocket.Conn, conn io.ReadWriteCloser) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { conn.Close(); ws.Close() })
	defer stop()
	later := alive(ctx, ws)
	go func() {
		defer cancel()
		for {
			later()
			kind, p, err := ws.ReadMessage()
			if err != nil {
				return
			}
			if kind == websocket.BinaryMessage {
				if _, err := conn.Write(p); err != nil {
					return
				}
			}
		}
	}()
	buf := make([]byte, 32<<10)
	for {
		n, err := conn.Read(buf)
		if n > 0 {
			if ws.WriteMessage(websocket.BinaryMessage, buf[:n]) != nil {
				return
			}
		}
		if err != nil {
			_ = ws.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, ""), time.Now().Add(5*time.Second)) // it may be gone
			return
		}
	}
}
