package api

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	"github.com/gorilla/websocket"

	"yardbench/internal/core/bench"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/internal/steward"
	"yardbench/wire"
)

// Bounds on what a program says to an editor within a second: what is more waits, and
// the program with it. A browser shows no more, and would hold what it has not shown.
const (
	chatterMessages = 1000
	chatterBytes    = 8 << 20
)

// benchRoutes are the work areas of workspaces.
func benchRoutes(a *API) {
	answer(a, op("GET", "/workspaces/{workspace}/bench", "show-bench", "Show what serves languages and debugs in a workspace, and how its editor writes", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) (wire.Bench, error) {
			return a.svc.Benches.Show(ctx, who, in.Ref)
		})
	a.spoken("languages", "language", "open-language", "Speak with the program that serves a language (Language Server Protocol), over WebSocket", nil, func(ctx context.Context, who service.Actor, ref, of string, _ url.Values) (*steward.Conn, error) {
		return a.svc.Benches.Language(ctx, who, ref, of)
	})
	a.spoken("debuggers", "adapter", "open-debugger", "Speak with a debug adapter (Debug Adapter Protocol), over WebSocket", []*huma.Param{{Name: "port", In: "query", Schema: &huma.Schema{Type: "integer"}, Description: "The port of the workspace's loopback where one listens already; default: one is begun"}},
		func(ctx context.Context, who service.Actor, ref, of string, asked url.Values) (*steward.Conn, error) {
			port, err := strconv.Atoi(cmp.Or(asked.Get("port"), "0"))
			if err != nil {
				port = -1 // it is refused as none
			}
			return a.svc.Benches.Debugger(ctx, who, ref, of, port)
		})
}

// spoken is a WebSocket over which messages of JSON go between an editor and a program
// in a workspace.
func (a *API) spoken(path, param, id, summary string, more []*huma.Param, begin func(ctx context.Context, who service.Actor, ref, of string, asked url.Values) (*steward.Conn, error)) {
	o := op("GET", "/workspaces/{workspace}/"+path+"/{"+param+"}", id, summary, policy.UseWorkspace)
	o.Description = "Upgrades to WebSocket. A text message is one message of the protocol, without the head before it, both ways. The last may be a binary one, the byte p and a Problem as JSON: why it is refused, or how the program ended, with what it said of that."
	text := &huma.Schema{Type: "string"}
	o.Parameters = append([]*huma.Param{{Name: "workspace", In: "path", Required: true, Schema: text}, {Name: param, In: "path", Required: true, Schema: text}}, more...)
	o.Responses = map[string]*huma.Response{"101": {Description: "Upgraded"}, "401": {Description: "Not signed in"}}
	a.huma.OpenAPI().AddOperation(&o)
	a.engine.GET("/api/v1/workspaces/:workspace/"+path+"/:"+param, func(c *gin.Context) {
		who, ws := a.upgrade(c, policy.UseWorkspace)
		if ws == nil {
			return
		}
		defer ws.Close()
		s := &socket{ws: ws}
		ctx, cancel := a.until(c.Request.Context())
		defer cancel()
		ctx, release, err := a.svc.Leases.HoldWorkspace(ctx, who, c.Param("workspace"))
		if err != nil {
			s.refuse(asProblem(err))
			return
		}
		defer release()
		conn, err := begin(ctx, who, c.Param("workspace"), c.Param(param), c.Request.URL.Query())
		if err != nil {
			s.refuse(asProblem(err))
			return
		}
		defer conn.Stream.Close()
		if p := s.converse(ctx, conn); p != nil {
			s.refuse(p)
		}
		if cause := context.Cause(ctx); errors.Is(cause, service.ErrLeaseEnded) {
			s.refuse(&wire.Problem{Type: "urn:yardbench:problem:access-ended", Title: "Access ended", Status: http.StatusForbidden, Detail: cause.Error(), Next: "sign in again"})
		}
	})
}

// converse passes messages on between an editor and a program until either ends, and
// says how the program did.
func (s *socket) converse(ctx context.Context, conn *steward.Conn) *wire.Problem {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { conn.Stream.Close() })
	defer stop()
	later := alive(ctx, s.ws)
	go func() {
		defer cancel() // the editor has gone
		for {
			later()
			kind, p, err := s.ws.ReadMessage()
			if err != nil {
				return
			}
			if kind == websocket.TextMessage && say(conn, p) != nil {
				return
			}
		}
	}()
	out := &heard{conn: conn}
	r := bufio.NewReaderSize(out, 64<<10)
	began, messages, bytes := time.Now(), 0, 0
	for {
		m, err := bench.ReadMessage(r)
		if errors.Is(err, bench.ErrNoMessage) {
			return &wire.Problem{Type: "urn:yardbench:problem:program-ended", Title: http.StatusText(http.StatusBadGateway), Status: http.StatusBadGateway, Detail: err.Error(), Next: "begin it in a terminal, where it is seen what it prints"}
		}
		if err != nil {
			return out.ended(ctx)
		}
		if messages, bytes = messages+1, bytes+len(m); messages > chatterMessages || bytes > chatterBytes {
			wait := time.NewTimer(time.Until(began.Add(time.Second)))
			select {
			case <-ctx.Done():
			case <-wait.C:
			}
			wait.Stop()
		}
		if time.Since(began) > time.Second {
			began, messages, bytes = time.Now(), 0, 0
		}
		if s.text(m) != nil {
			return nil
		}
	}
}

// say gives a program a message, with its head before it.
func say(conn *steward.Conn, p []byte) error {
	for _, part := range [][]byte{[]byte(bench.Head(len(p))), p} {
		if _, err := conn.Writer(steward.Input).Write(part); err != nil {
			return err
		}
	}
	return nil
}

func (s *socket) text(p []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	_ = s.ws.SetWriteDeadline(time.Now().Add(30 * time.Second)) // a failure shows at the write
	return s.ws.WriteMessage(websocket.TextMessage, p)
}

// heard is what a program prints, and the last of what it says beside that.
type heard struct {
	conn *steward.Conn
	rest []byte
	over bool
	end  wire.Ended
	said []byte
}

// saidMost is how much is kept of what a program says beside its messages, the newest.
const saidMost = 4 << 10

func (h *heard) Read(p []byte) (int, error) {
	for len(h.rest) == 0 {
		kind, body, err := h.conn.ReceiveFrame()
		if err != nil {
			return 0, err
		}
		switch kind {
		case steward.Output:
			h.rest = body
		case steward.Errors:
			h.said = append(h.said, body...)
			h.said = h.said[max(0, len(h.said)-saidMost):]
		case steward.Ended:
			h.over = json.Unmarshal(body, &h.end) == nil
			return 0, io.EOF
		}
	}
	n := copy(p, h.rest)
	h.rest = h.rest[n:]
	return n, nil
}

// ended is how a program ended, for whoever spoke with it.
func (h *heard) ended(ctx context.Context) *wire.Problem {
	switch {
	case ctx.Err() != nil:
		return nil
	case !h.over:
		return &wire.Problem{Type: "urn:yardbench:problem:steward-away", Title: http.StatusText(http.StatusServiceUnavailable), Status: http.StatusServiceUnavailable, Detail: "the workspace went away", Next: "look how it is"}
	case h.end.Code == 127 && len(h.said) == 0:
		return &wire.Problem{Type: "urn:yardbench:problem:not-found", Title: http.StatusText(http.StatusNotFound), Status: http.StatusNotFound, Detail: "no program for this is in the workspace", Next: "the workspace's bench says what to add to the definition"}
	}
	lines := strings.Split(strings.TrimSpace(string(h.said)), "\n")
	detail := fmt.Sprintf("the program ended with %d", h.end.Code)
	if last := plain.Line(lines[len(lines)-1], 300); last != "" {
		detail += ": " + last
	}
	return &wire.Problem{Type: "urn:yardbench:problem:program-ended", Title: http.StatusText(http.StatusBadGateway), Status: http.StatusBadGateway, Detail: detail, Next: "it is begun again when it is needed"}
}
