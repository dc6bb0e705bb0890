package api

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"reflect"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	"github.com/gorilla/websocket"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/internal/steward"
	"yardbench/wire"
)

// Bounds on a session's WebSocket.
const (
	pingEvery = 20 * time.Second
)

// upgrader checks that a browser's page is our own: by default the Origin
// must name the host that was asked.
var upgrader = websocket.Upgrader{HandshakeTimeout: 10 * time.Second, ReadBufferSize: 32 << 10, WriteBufferSize: 32 << 10}

// sessionRoute is the WebSocket behind terminals and runs. See wire.Run for
// what goes over it.
func sessionRoute(a *API) {
	terminalRoutes(a)
	o := op("GET", "/workspaces/{workspace}/session", "open-session", "Open a terminal or run a command, over WebSocket", policy.UseWorkspace)
	o.Description = "Upgrades to WebSocket. The first message is a Run as text; after it binary messages go both ways, each a byte of kind and its content: x-yardbench-messages has the kinds, docs/terminals.md tells of them."
	o.Parameters = []*huma.Param{{Name: "workspace", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}}
	o.Responses = map[string]*huma.Response{"101": {Description: "Upgraded"}, "401": {Description: "Not signed in"}}
	o.Extensions["x-yardbench-messages"] = a.messages()
	a.huma.OpenAPI().AddOperation(&o)
	a.engine.GET("/api/v1/workspaces/:workspace/session", func(c *gin.Context) {
		who, ws := a.upgrade(c, policy.UseWorkspace)
		if ws == nil {
			return
		}
		defer ws.Close()
		s := &socket{ws: ws}
		var in wire.Run
		_ = ws.SetReadDeadline(time.Now().Add(10 * time.Second)) // a failure shows at the read
		if err := ws.ReadJSON(&in); err != nil {
			return
		}
		ctx, cancel := a.until(c.Request.Context())
		defer cancel()
		ctx, release, guest, err := a.svc.Leases.HoldTerminal(ctx, who, c.Param("workspace"), cmp.Or(in.Terminal, "main"), in.Reason)
		if err != nil {
			s.refuse(asProblem(err))
			return
		}
		defer release()
		if in.Wake && !guest {
			end := "\r\n" // of a terminal's line
			if len(in.Argv) > 0 && !in.TTY {
				end = "\n"
			}
			tell := func(line string) { _ = s.send(byte(steward.Errors), []byte("yardbench: "+line+end)) } // it may be gone
			if err := a.svc.Workspaces.Wake(ctx, who, c.Param("workspace"), "terminals", tell); err != nil {
				s.refuse(asProblem(err))
				return
			}
		}
		conn, seat, err := a.svc.Sessions.Open(ctx, who, c.Param("workspace"), in)
		if err != nil {
			s.refuse(asProblem(err))
			return
		}
		defer conn.Stream.Close()
		if seat != nil {
			go s.tellWho(ctx, seat)
		}
		how := s.relay(ctx.Done(), conn, in.Acknowledges, seat != nil && seat.Looks)
		plain, ends := len(in.Argv) > 0 && !in.TTY, a.base.Err() != nil
		if plain && how.placed.Load() && !ends && (how.left.Load() || ctx.Err() != nil) {
			_ = conn.SendFrame(steward.Leave, nil) // else it waits for whoever asked to come back
		}
		if ends && plain && !how.placed.Load() { // all others come back by themselves
			s.refuse(&wire.Problem{Type: "urn:yardbench:problem:service-ends", Title: "The service ends", Status: http.StatusServiceUnavailable, Detail: "the service was told to end, or to start anew", Next: "the command ends with its connection; in a terminal it would go on"})
			return
		}
		if cause := context.Cause(ctx); errors.Is(cause, service.ErrLeaseEnded) {
			s.refuse(&wire.Problem{Type: "urn:yardbench:problem:access-ended", Title: "Access ended", Status: http.StatusForbidden, Detail: cause.Error(), Next: "sign in again"})
		}
	})
}

// schema describes a value that an operation of its own answers with.
func (a *API) schema(v any) *huma.Schema {
	of := reflect.TypeOf(v)
	return a.huma.OpenAPI().Components.Schemas.Schema(of, true, of.Name())
}

// tellWho tells whoever is at a terminal who else is.
func (s *socket) tellWho(ctx context.Context, seat *service.Seat) {
	for {
		select {
		case <-ctx.Done():
			return
		case all := <-seat.News:
			body, err := jsonBytes(all)
			if err != nil || s.send('w', body) != nil {
				return
			}
		}
	}
}

// messages describes what goes over a terminal's WebSocket.
func (a *API) messages() map[string]any {
	kinds := map[string]any{}
	for _, f := range wire.Frames {
		kind := map[string]any{"sent": f.Sent, "description": f.Means}
		if f.Holds != nil {
			kind["schema"] = a.schema(f.Holds)
		}
		kinds[f.Kind] = kind
	}
	return map[string]any{"first": map[string]any{"schema": a.schema(wire.Run{})}, "kinds": kinds}
}

// upgrade lets a signed-in person through to WebSocket; nil where it has
// answered with a refusal.
func (a *API) upgrade(c *gin.Context, action policy.Action) (service.Actor, *websocket.Conn) {
	who, err := a.svc.SignIns.Authenticate(c.Request.Context(), a.token(c.Request))
	if err == nil {
		c.Set(personKey, who.Name)
		err = who.Refusal(action)
	}
	if err != nil {
		write(c.Writer, asProblem(err))
		return who, nil
	}
	if !websocket.IsWebSocketUpgrade(c.Request) {
		write(c.Writer, newProblem(http.StatusUpgradeRequired, "this address speaks WebSocket").(*wire.Problem))
		return who, nil
	}
	ws, err := upgrader.Upgrade(c.Writer, c.Request, nil)
	if err != nil {
		return who, nil // the upgrader has answered
	}
	ws.SetReadLimit(maxBody)
	return who, ws
}

func asProblem(err error) *wire.Problem {
	return newProblem(http.StatusInternalServerError, "", err).(*wire.Problem)
}

// socket is a WebSocket with one writer at a time.
type socket struct {
	ws *websocket.Conn
	mu sync.Mutex
}

func (s *socket) send(k byte, p []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	_ = s.ws.SetWriteDeadline(time.Now().Add(30 * time.Second)) // a failure shows at the write
	return s.ws.WriteMessage(websocket.BinaryMessage, append([]byte{k}, p...))
}

func (s *socket) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	_ = s.ws.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, ""), time.Now().Add(5*time.Second)) // it may be gone
}

func (s *socket) refuse(p *wire.Problem) {
	if body, err := jsonBytes(p); err == nil && s.send('p', body) == nil {
		s.end()
	}
}

// acknowledge is the kind of frame by which whoever looks says what they have
// taken in; see wire.Run.
const acknowledge = 'a'

// window is how much output may be on its way to somebody who acknowledges.
const window = 512 << 10

// flow counts the output that is on its way.
type flow struct {
	mu   sync.Mutex
	cond *sync.Cond
	out  int64 // bytes that were sent and not acknowledged
	over bool
}

func newFlow() *flow {
	f := &flow{}
	f.cond = sync.NewCond(&f.mu)
	return f
}

// wait waits until there is room for more; false when all is over.
func (f *flow) wait(n int) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for f.out >= window && !f.over {
		f.cond.Wait()
	}
	f.out += int64(n)
	return !f.over
}

func (f *flow) taken(n int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.out = max(0, f.out-max(0, n))
	f.cond.Broadcast()
}

func (f *flow) end() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.over = true
	f.cond.Broadcast()
}

// heardWithin is how long what somebody said last is waited for, once nothing can be sent to
// them any more.
const heardWithin = 2 * time.Second

// relayed is how a relay was. left tells that whoever looked said that they leave, placed
// that they can come back to what they left.
type relayed struct{ left, placed atomic.Bool }

// relay passes frames between the browser or client and the steward until
// either ends. Where the one who looks acknowledges, output waits for them: the
// steward's own stream fills up then, and the program in it waits.
func (s *socket) relay(stop <-chan struct{}, conn *steward.Conn, acknowledges, looks bool) *relayed {
	how := &relayed{}
	f := newFlow()
	defer f.end()
	over, heard := make(chan struct{}, 2), make(chan struct{})
	alive := func(string) error { return s.ws.SetReadDeadline(time.Now().Add(3 * pingEvery)) }
	s.ws.SetPongHandler(alive)
	go func() {
		defer func() { close(heard); over <- struct{}{} }()
		deaf := false
		for {
			_ = alive("") // what was read before may have waited long for its taker; a failure shows at the read
			kind, p, err := s.ws.ReadMessage()
			if err != nil {
				how.left.Store(websocket.IsCloseError(err, websocket.CloseNormalClosure))
				return
			}
			if kind != websocket.BinaryMessage || len(p) == 0 {
				continue
			}
			switch k := steward.FrameKind(p[0]); k {
			case steward.Input, steward.NoMore, steward.Resize:
				if looks {
					continue // it is not theirs to type
				}
				// What ended while somebody still typed has output and an exit code on
				// its way: that it takes no more is no end.
				deaf = deaf || conn.SendFrame(k, p[1:]) != nil
			case acknowledge:
				if n, err := strconv.ParseInt(string(p[1:]), 10, 64); err == nil {
					f.taken(n)
				}
			}
		}
	}()
	go func() {
		defer func() { over <- struct{}{} }()
		for {
			k, p, err := conn.ReceiveFrame()
			if err != nil {
				select {
				case <-stop: // by which the connection ends too: why is told after
					return
				default:
				}
				s.refuse(&wire.Problem{Type: "urn:yardbench:problem:steward-away", Title: http.StatusText(http.StatusServiceUnavailable), Status: http.StatusServiceUnavailable, Detail: "the workspace went away", Next: "look how it is"})
				return
			}
			if k == steward.Placed {
				how.placed.Store(true)
			}
			if acknowledges && (k == steward.Output || k == steward.Errors) && !f.wait(len(p)) {
				return
			}
			if s.send(byte(k), p) != nil {
				select { // whoever left while much was printed has said so before
				case <-heard:
				case <-time.After(heardWithin):
				}
				return
			}
			if k == steward.Ended {
				s.end()
				return
			}
		}
	}()
	ping := time.NewTicker(pingEvery)
	defer ping.Stop()
	for {
		select {
		case <-over:
			return how
		case <-stop:
			return how
		case <-ping.C:
			s.mu.Lock()
			err := s.ws.WriteControl(websocket.PingMessage, nil, time.Now().Add(5*time.Second))
			s.mu.Unlock()
			if err != nil {
				return how
			}
		}
	}
}
