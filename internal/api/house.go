package api

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
	"github.com/gorilla/websocket"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/internal/wire"
)

// costQuery says what is to be reported.
type costQuery struct {
	By   string `query:"by" enum:"person,team,repository,workspace,day" default:"team"`
	From string `query:"from" maxLength:"40" doc:"A time, or a day in the house's time zone; default: the first of this month"`
	To   string `query:"to" maxLength:"40" doc:"The time or day after the last; default: the end of this month"`
}

// time reads a time or a day; the zero time for nothing.
func (a *API) time(ctx context.Context, field, s string) (time.Time, error) {
	if s == "" {
		return time.Time{}, nil
	}
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return t, nil
	}
	zone, err := a.svc.HouseRules.Zone(ctx)
	if err != nil {
		return time.Time{}, err
	}
	t, err := time.ParseInLocation(time.DateOnly, s, zone)
	if err != nil {
		return t, &wire.Problem{Type: "urn:yardbench:problem:invalid", Title: "Unprocessable Entity", Status: http.StatusUnprocessableEntity,
			Detail: fmt.Sprintf("%s %q is no day and no time", field, s), Next: "write a day like 2026-11-01, or a time like 2026-11-01T08:00:00Z"}
	}
	return t, nil
}

func (a *API) cost(ctx context.Context, who service.Actor, in costQuery) (wire.Cost, error) {
	from, err := a.time(ctx, "from", in.From)
	if err != nil {
		return wire.Cost{}, err
	}
	to, err := a.time(ctx, "to", in.To)
	if err != nil {
		return wire.Cost{}, err
	}
	return a.svc.Costs.Cost(ctx, who, in.By, from, to)
}

func (a *API) houseRoutes() {
	s := a.svc
	answer(a, op("GET", "/rules", "list-rules", "Every version of the house rules, the newest first", policy.SeeRules),
		func(ctx context.Context, who service.Actor, _ *none) ([]wire.Rules, error) {
			return s.HouseRules.Rules(ctx, who)
		})
	answer(a, op("POST", "/rules/check", "check-rules", "What is wrong with a document, and what it would change", policy.SeeRules),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.RulesText }) (wire.RulesCheck, error) {
			return s.HouseRules.CheckRules(ctx, who, in.Body.Document)
		})
	answer(a, op("PUT", "/rules", "put-rules", "Make a document the house rules: in force at once", policy.ChangeRules),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.RulesText }) (wire.Rules, error) {
			return s.HouseRules.PutRules(ctx, who, in.Body)
		})
	answer(a, op("POST", "/preflight", "preflight", "What a launch would come to, without launching", policy.Launch),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.Launch }) (wire.Preflight, error) {
			return s.Launches.Preflight(ctx, who, in.Body)
		})
	answer(a, op("PUT", "/workspaces/{workspace}/hold", "hold-workspace", "Keep a workspace from being put to rest for a time", policy.DriveWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			Workspace
			Body wire.Hold
		}) (wire.Workspace, error) {
			return s.Workspaces.Hold(ctx, who, in.Ref, in.Body)
		})
	answer(a, op("DELETE", "/workspaces/{workspace}/hold", "end-hold", "Let a workspace be put to rest again", policy.DriveWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) (wire.Workspace, error) {
			return s.Workspaces.EndHold(ctx, who, in.Ref)
		})
	answer(a, op("GET", "/cost", "report-cost", "What was used, and what it cost, of those whom you may see", policy.SeeCost),
		func(ctx context.Context, who service.Actor, in *costQuery) (wire.Cost, error) {
			return a.cost(ctx, who, *in)
		})
	asCSV := op("GET", "/cost.csv", "report-cost-csv", "The same as comma-separated values (RFC 4180)", policy.SeeCost)
	asCSV.Responses = map[string]*huma.Response{"200": {Description: "The report", Content: map[string]*huma.MediaType{"text/csv": {}}}}
	huma.Register(a.huma, asCSV, func(ctx context.Context, in *costQuery) (*huma.StreamResponse, error) {
		c, err := a.cost(ctx, actor(ctx), *in)
		if err != nil {
			return nil, err
		}
		zone, err := a.svc.HouseRules.Zone(ctx)
		if err != nil {
			return nil, err
		}
		return &huma.StreamResponse{Body: func(h huma.Context) {
			h.SetHeader("Content-Type", "text/csv; charset=utf-8")
			h.SetHeader("Content-Disposition", fmt.Sprintf(`attachment; filename="cost-by-%s-%s.csv"`, c.By, c.From.In(zone).Format(time.DateOnly)))
			_ = service.WriteCostCSV(h.BodyWriter(), c) // whoever asked may be gone
		}}, nil
	})
}

// pushPath is where git hosts tell of pushes.
const pushPath = "/api/v1/pushes"

func (a *API) prebuildRoutes() {
	s := a.svc
	answer(a, op("GET", "/prebuild-plans", "list-plans", "List the prebuild plans with their newest runs", policy.SeePrebuilds),
		func(ctx context.Context, who service.Actor, in *struct {
			Repository string `query:"repository" maxLength:"64"`
		}) ([]wire.PrebuildPlan, error) {
			return s.Prebuilds.Plans(ctx, who, in.Repository)
		})
	answer(a, op("PUT", "/repositories/{repository}/prebuild-plan", "put-plan", "Make or change the prebuild plan of a branch", policy.ChangePrebuilds),
		func(ctx context.Context, who service.Actor, in *struct {
			RepositoryPath
			Body wire.PutPlan
		}) (wire.PrebuildPlan, error) {
			return s.Prebuilds.PutPlan(ctx, who, in.Repository, in.Body)
		})
	done(a, op("DELETE", "/repositories/{repository}/prebuild-plan", "remove-plan", "Remove a prebuild plan with its prepared images", policy.ChangePrebuilds),
		func(ctx context.Context, who service.Actor, in *RepositoryBranch) error {
			return s.Prebuilds.DropPlan(ctx, who, in.Repository, in.Branch)
		})
	run := op("POST", "/repositories/{repository}/prebuild-runs", "run-plan", "Make a prepared image now", policy.ChangePrebuilds)
	run.DefaultStatus = http.StatusAccepted
	answer(a, run, func(ctx context.Context, who service.Actor, in *struct {
		RepositoryPath
		Body wire.Branch
	}) (wire.PrebuildRun, error) {
		return s.Prebuilds.RunPlan(ctx, who, in.Repository, in.Body.Branch)
	})
	type RunPath struct {
		ID string `path:"run" maxLength:"40"`
	}
	answer(a, op("GET", "/prebuild-runs/{run}/sheet", "show-run-sheet", "The launch sheet of a prebuild run", policy.SeePrebuilds),
		func(ctx context.Context, who service.Actor, in *RunPath) (wire.Sheet, error) {
			return s.Prebuilds.RunSheet(ctx, who, in.ID)
		})
	log := op("GET", "/prebuild-runs/{run}/log", "read-run-log", "The log of a prebuild run as text", policy.SeePrebuilds)
	log.Responses = map[string]*huma.Response{"200": {Description: "The log", Content: map[string]*huma.MediaType{"text/plain": {}}}}
	huma.Register(a.huma, log, func(ctx context.Context, in *struct {
		RunPath
		Follow bool `query:"follow" doc:"Go on until the run has ended"`
	}) (*huma.StreamResponse, error) {
		who := actor(ctx)
		if _, err := s.Prebuilds.RunSheet(ctx, who, in.ID); err != nil {
			return nil, err
		}
		return a.text(func(ctx context.Context, w io.Writer, flush func()) error {
			return s.Prebuilds.CopyRunLog(ctx, who, in.ID, in.Follow, w, flush)
		}), nil
	})
	answer(a, op("PUT", "/repositories/{repository}/push-key", "make-push-key", "Give a repository a fresh key for its git host to sign the news of pushes with", policy.ChangeRepository),
		func(ctx context.Context, who service.Actor, in *RepositoryPath) (wire.PushKey, error) {
			return s.Pushes.NewPushKey(ctx, who, in.Repository, "")
		})
	push := op("POST", "/pushes", "tell-push", "The news of a push, signed by the repository's git host", "")
	push.Metadata = public
	push.Security = []map[string][]string{}
	push.DefaultStatus = http.StatusAccepted
	answer(a, push, func(ctx context.Context, _ service.Actor, in *struct {
		At      string `header:"Push-Time" maxLength:"40" doc:"When it was sent, RFC 3339"`
		Mark    string `header:"Push-Mark" maxLength:"64" doc:"HMAC-SHA256 of Push-Time, a line feed and the body, in hexadecimal"`
		RawBody []byte
		Body    wire.Push
	}) (wire.Pushed, error) {
		return s.Pushes.Pushed(ctx, in.Body, in.RawBody, in.At, in.Mark)
	})
}

func (a *API) portRoutes() {
	s := a.svc
	type PortPath struct {
		Workspace
		Port int `path:"port" minimum:"1" maximum:"65535"`
	}
	answer(a, op("GET", "/workspaces/{workspace}/ports", "list-ports", "List the declared and the listening ports", policy.SeeWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) ([]wire.Port, error) {
			return s.Ports.Ports(ctx, who, in.Ref)
		})
	answer(a, op("PUT", "/workspaces/{workspace}/ports/{port}", "change-port", "Say who may visit a port", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			PortPath
			Body wire.PortChange
		}) ([]wire.Port, error) {
			return s.Ports.SharePort(ctx, who, in.Ref, in.Port, in.Body.Shared)
		})
	answer(a, op("POST", "/port-passes", "visit-port", "Get the way to a port's address", policy.VisitPort),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.PortVisit }) (wire.PortPass, error) {
			return s.Ports.VisitPort(ctx, who, in.Body.Address)
		})
	o := op("GET", "/workspaces/{workspace}/ports/{port}/tunnel", "open-tunnel", "Connect to a port, over WebSocket", policy.UseWorkspace)
	o.Description = "Upgrades to WebSocket. Binary messages carry the bytes of one connection, both ways. A refusal closes it with code 4000 and the reason."
	o.Parameters = []*huma.Param{{Name: "workspace", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}, {Name: "port", In: "path", Required: true, Schema: &huma.Schema{Type: "integer"}}}
	o.Responses = map[string]*huma.Response{"101": {Description: "Upgraded"}, "401": {Description: "Not signed in"}}
	a.huma.OpenAPI().AddOperation(&o)
	a.engine.GET("/api/v1/workspaces/:workspace/ports/:port/tunnel", func(c *gin.Context) {
		who, ws := a.upgrade(c, policy.UseWorkspace)
		if ws == nil {
			return
		}
		defer ws.Close()
		port, _ := strconv.Atoi(c.Param("port")) // 0 is refused below
		ctx, cancel := a.until(c.Request.Context())
		defer cancel()
		conn, err := s.Ports.DialPort(ctx, who, c.Param("workspace"), port)
		if err != nil {
			p := asProblem(err)
			reason := p.Detail
			if len(reason) > 120 { // RFC 6455, 5.5: a control frame holds 125 bytes
				reason = reason[:120]
			}
			_ = ws.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(4000, reason), time.Now().Add(5*time.Second)) // it may be gone
			return
		}
		defer conn.Stream.Close()
		tunnel(ctx, ws, conn.Stream)
	})
}

// alive has a WebSocket's reading fail where the other end has gone without a
// word. It pings until ctx ends.
func alive(ctx context.Context, ws *websocket.Conn) {
	later := func() { _ = ws.SetReadDeadline(time.Now().Add(3 * pingEvery)) } // a failure shows at the read
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
}

// tunnel copies between a WebSocket and a connection until either ends.
func tunnel(ctx context.Context, ws *websocket.Conn, conn io.ReadWriteCloser) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { conn.Close(); ws.Close() })
	defer stop()
	alive(ctx, ws)
	go func() {
		defer cancel()
		for {
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
