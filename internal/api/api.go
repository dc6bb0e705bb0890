// Package api is the HTTP door: REST under /api/v1 with OpenAPI 3.1, problems
// by RFC 9457, events by SSE, terminals over WebSocket, and the console's
// files. It calls the service and nothing else.
package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"mime"
	"net"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzhttp"

	"yardbench/internal/core/plain"
	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// maxBody bounds a request's body.
const maxBody = 1 << 20

// cookieName is the console's sign-in. Where the console is reached by TLS the
// browser itself holds it to the console's host (RFC 6265bis, 4.1.3.2): no page
// of another name, a workspace's port say, can put one in its place.
const (
	cookieName       = "yardbench_sign_in"
	secureCookieName = "__Host-" + cookieName
)

// API is the door.
type API struct {
	Config
	svc    *service.Service
	engine *gin.Engine
	huma   huma.API
	base   context.Context
}

// Config says how the door stands in its surroundings.
type Config struct {
	Console fs.FS  // the console's files
	Address string // the console's, as people reach it
	// Secure tells that people reach the console by TLS, whoever ends it.
	Secure bool
	// Frames is which frames our pages may have, as a policy for content says it:
	// those of ports; nothing is none.
	Frames string
	// Proxies are the addresses and ranges of the proxies that are believed when
	// they say whom a request comes from (X-Forwarded-For); none is nobody.
	Proxies []string
	// Shells takes a connection that speaks SSH; workspace is where it leads to.
	Shells func(conn net.Conn, from, workspace string)
}

// New builds the door. Streams end with ctx. It panics where a proxy in the
// configuration is no address; see [CheckProxies].
func New(ctx context.Context, svc *service.Service, c Config) *API {
	gin.SetMode(gin.ReleaseMode)
	engine := gin.New()
	if err := engine.SetTrustedProxies(c.Proxies); err != nil {
		panic(err)
	}
	a := &API{Config: c, svc: svc, engine: engine, base: ctx}
	engine.Use(told, recovered, guard(c.Frames))
	huma.DefaultArrayNullable = false // lists are never null here
	huma.NewError = newProblem
	huma.NewErrorWithContext = func(ctx huma.Context, status int, msg string, errs ...error) huma.StatusError {
		return problemOf(humagin.Unwrap(ctx).Writer.Header().Get(requestHeader), status, msg, errs...)
	}
	config := huma.DefaultConfig("Yard Bench", "1")
	config.Info.Description = "On-demand development workspaces: launch, watch, use, rest, remove."
	config.Servers = []*huma.Server{{URL: "/", Description: "The service that answers this"}}
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "", "", ""
	config.CreateHooks = nil
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":  {Type: "http", Scheme: "bearer"},
		"cookie": {Type: "apiKey", In: "cookie", Name: cookieName},
	}
	config.Security = []map[string][]string{{"token": {}}, {"cookie": {}}}
	a.huma = humagin.New(engine, config)
	a.huma.UseMiddleware(a.signedIn)
	a.routes()
	opened(a.huma.OpenAPI())
	explained(a.huma.OpenAPI())
	asked := []string{http.MethodGet, http.MethodHead}
	engine.Match(asked, "/live", gin.WrapF(Live))
	engine.Match(asked, "/ready", gin.WrapF(Ready(svc.Health)))
	serveConsole(engine, c.Console)
	return a
}

// CheckProxies says what is wrong with [Config.Proxies].
func CheckProxies(proxies []string) error {
	gin.SetMode(gin.ReleaseMode)
	return gin.New().SetTrustedProxies(proxies)
}

// Handler serves the door. Bodies are bounded out here, where the server's own
// writer is at hand, and a connection with too much on it is closed: what is
// left on it must not be read as the next request.
func (a *API) Handler() http.Handler {
	packed := packing(a.engine)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		most := roomy(r)
		if r.ContentLength > most {
			w.Header().Set("Connection", "close")
			write(w, newProblem(http.StatusRequestEntityTooLarge, fmt.Sprintf("the request has %d bytes; at most %d are taken", r.ContentLength, most)).(*wire.Problem))
			return
		}
		r.Body = http.MaxBytesReader(w, r.Body, most)
		if r.Method == http.MethodGet && r.Header.Get("Upgrade") == "" {
			packed(w, r)
			return
		}
		a.engine.ServeHTTP(w, r)
	})
}

// packing compresses answers for those who take them so, where it is worth it:
// not streams, whose parts must go at once. It stands before looks only; where a
// secret is answered beside what the asker chose, the length would tell of it.
func packing(h http.Handler) http.HandlerFunc {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(1024), gzhttp.ContentTypes([]string{"application/json", "application/problem+json", "application/vnd.oai.openapi+json", jsonLines, "text/csv", "text/html"}))
	if err != nil {
		panic(err) // the options are constants
	}
	return wrap(h)
}

// OpenAPI is the description of the door, as JSON.
func (a *API) OpenAPI() ([]byte, error) { return a.huma.OpenAPI().MarshalJSON() }

// pointerOf is the JSON Pointer (RFC 6901) of a part of a body, which the framework
// writes as body.names[0]; what is no part of a body stays as it is, without where it
// stands.
func pointerOf(location string) string {
	rest, ok := strings.CutPrefix(location, "body")
	if !ok {
		_, name, inside := strings.Cut(location, ".")
		if inside {
			return name
		}
		return location
	}
	var b strings.Builder
	for _, part := range strings.FieldsFunc(rest, func(r rune) bool { return r == '.' || r == '[' || r == ']' }) {
		b.WriteString("/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(part))
	}
	return b.String()
}

// newProblem is every error the framework itself makes.
func newProblem(status int, msg string, errs ...error) huma.StatusError {
	return problemOf("", status, msg, errs...)
}

// problemOf is one of the request of an id.
func problemOf(request string, status int, msg string, errs ...error) huma.StatusError {
	p := &wire.Problem{Type: wire.ProblemOfStatus(status), Title: http.StatusText(status), Status: status, Detail: msg}
	for _, err := range errs {
		if own := wire.ProblemOf(err); own != nil {
			return own
		}
	}
	if status >= 500 {
		if full := service.DiskFull(errors.Join(errs...)); full != nil {
			return wire.ProblemOf(full)
		}
		if len(errs) > 0 {
			slog.Error("the cause of a failure", "status", status, "request", request, "error", errors.Join(errs...))
		}
		p.Request = request
		p.Detail, p.Next = "the service could not do this", "try again; operators find why in the service's own log"
		return p
	}
	for _, err := range errs {
		var d *huma.ErrorDetail
		switch {
		case errors.As(err, &d):
			p.Errors = append(p.Errors, wire.FieldProblem{Field: pointerOf(d.Location), Detail: d.Message})
		case err != nil:
			p.Errors = append(p.Errors, wire.FieldProblem{Detail: err.Error()})
		}
	}
	return p
}

func recovered(c *gin.Context) {
	defer func() {
		r := recover()
		if r == http.ErrAbortHandler {
			panic(r) // the server breaks the connection
		}
		if r != nil {
			slog.Error("panic in a request", "path", c.Request.URL.Path, "request", c.Writer.Header().Get(requestHeader), "panic", r)
			write(c.Writer, newProblem(http.StatusInternalServerError, "").(*wire.Problem))
			c.Abort()
		}
	}()
	c.Next()
}

var crossOrigin = http.NewCrossOriginProtection()

// guard holds for every request: bounds, headers, and no change asked for by
// another site's page. A page of ours may have those of ports in frames, and nothing
// else; pictures are also those that a page has read (blob:).
func guard(frames string) gin.HandlerFunc {
	frames = cmp.Or(frames, "'none'")
	policy := "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; font-src 'self' data:; frame-src " + frames + "; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
	return func(c *gin.Context) { guarded(c, policy) }
}

func guarded(c *gin.Context, policy string) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", policy)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Cache-Control", "no-store")
	}
	if c.Request.URL.Path == pushPath {
		c.Next() // asked by git hosts, which have no pages; it is signed
		return
	}
	// A page elsewhere may lead people here, and not have it start what is stopped.
	from := c.GetHeader("Sec-Fetch-Site")
	led := (from == "cross-site" || from == "same-site") && c.Request.URL.Query().Has("wake")
	if err := crossOrigin.Check(c.Request); err != nil || led {
		write(c.Writer, &wire.Problem{Type: "urn:yardbench:problem:cross-origin", Title: "Forbidden", Status: http.StatusForbidden, Detail: "a page of another site asked for this"})
		c.Abort()
		return
	}
	c.Next()
}

func write(w http.ResponseWriter, p *wire.Problem) {
	if p.Status >= 500 && p.Request == "" {
		told := *p
		told.Request = w.Header().Get(requestHeader)
		p = &told
	}
	body, err := jsonBytes(p)
	if err != nil {
		body = []byte(`{"title":"Internal Server Error","status":500}`)
	}
	maps.Copy(w.Header(), p.GetHeaders())
	w.Header().Set("Content-Type", p.ContentType(""))
	w.WriteHeader(p.Status)
	_, _ = w.Write(body) // whoever asked may be gone
}

// unknownWord says of a query that it has a word which the operation does not
// know: one that is passed over would have everything answered, or done to all.
func unknownWord(o *huma.Operation, query url.Values) *wire.Problem {
	var known []string
	for _, p := range o.Parameters {
		if p.In == "query" {
			known = append(known, p.Name)
		}
	}
	for word := range query {
		if slices.Contains(known, word) {
			continue
		}
		p := &wire.Problem{Type: "urn:yardbench:problem:unknown-word", Title: http.StatusText(http.StatusUnprocessableEntity), Status: http.StatusUnprocessableEntity,
			Detail: fmt.Sprintf("this cannot be asked with %q", plain.Line(word, 60)), Next: "it can be asked with: " + strings.Join(known, ", ")}
		switch near := plain.Near(word, known); {
		case near != "":
			p.Next = "write " + near + ", if that is meant"
		case len(known) == 0:
			p.Next = "leave it out"
		}
		return p
	}
	return nil
}

type actorKey struct{}

// public marks an operation that is open to strangers.
var public = map[string]any{"public": true}

// signedIn lets only the signed in through, except where an operation is
// public, and only those whose role may do the operation's action with
// anything at all. With what, the use case decides.
func (a *API) signedIn(ctx huma.Context, next func(huma.Context)) {
	asked := humagin.Unwrap(ctx)
	ctx = huma.WithValue(huma.WithValue(ctx, fromKey{}, service.Caller{Place: asked.ClientIP(), Agent: ctx.Header("User-Agent")}), askedKey{}, ctx.Header(keyHeader))
	tags, bad := matchTags(ctx.Header("If-Match"))
	r, w := asked.Request, asked.Writer
	if p := unknownWord(ctx.Operation(), r.URL.Query()); p != nil {
		write(w, p)
		return
	}
	if bad != nil {
		write(w, bad)
		return
	}
	ctx = huma.WithContext(ctx, service.IfMatch(ctx.Context(), tags))
	if ctx.Operation().Metadata["public"] == true {
		next(ctx)
		return
	}
	actor, err := a.svc.SignIns.Authenticate(ctx.Context(), a.token(r))
	if err != nil {
		write(w, asProblem(err))
		return
	}
	asked.Set(personKey, actor.Name)
	if zone, err := a.svc.HouseRules.Zone(ctx.Context()); err == nil {
		asked.Header(wire.ZoneHeader, zone.String())
	}
	action, _ := ctx.Operation().Extensions[actionKey].(policy.Action)
	err = actor.Refusal(action)
	if err == nil && r.Method != http.MethodGet && r.Method != http.MethodHead {
		err = a.svc.SignIns.Proved(ctx.Context(), actor, action)
		if err == nil && !slices.Contains(changeless, ctx.Operation().OperationID) {
			err = a.svc.HouseRules.Changes(ctx.Context(), actor, action)
		}
	}
	if err != nil {
		write(w, asProblem(err))
		return
	}
	change := (r.Method != http.MethodGet && r.Method != http.MethodHead) || r.Header.Get("Upgrade") != ""
	if ctx.Operation().OperationID == renewing { // nothing that others see is another after it
		change = false
	}
	end, err := a.svc.Pace.Begin(actor.ID, change)
	if err != nil {
		write(w, asProblem(err))
		return
	}
	defer end()
	next(huma.WithValue(ctx, actorKey{}, actor))
}

// changeless are the operations that look at something by another method than GET, or
// let somebody in or out: an announcement that pauses changes pauses none of them.
var changeless = []string{renewing, "sign-out", "renew-sign-in", "make-code", "answer-device-request", "preflight", "check-rules", "verify-journal", "fill-starter", "pack-some-files"}

// renewing is the operation by which whoever needs a workspace for one command
// says so, four times a minute for each.
const renewing = "renew-lease"

// fromKey is where it is kept from where somebody asks, and with what.
type fromKey struct{}

func from(ctx context.Context) string { return caller(ctx).Place }

func caller(ctx context.Context) service.Caller {
	c, _ := ctx.Value(fromKey{}).(service.Caller)
	return c
}

func (a *API) cookieName() string {
	if a.Secure {
		return secureCookieName
	}
	return cookieName
}

// token is what a request is signed in with. Of two cookies of the name one is
// somebody else's doing: neither counts.
func (a *API) token(r *http.Request) string {
	if t, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return strings.TrimSpace(t)
	}
	if all := r.CookiesNamed(a.cookieName()); len(all) == 1 {
		return all[0].Value
	}
	return ""
}

func actor(ctx context.Context) service.Actor {
	a, _ := ctx.Value(actorKey{}).(service.Actor)
	return a
}

// probes are what programs that look after others ask, and is not here.
var probes = []string{"health", "healthz", "livez", "readyz", "metrics", "ping", "status"}

// serveConsole serves the built console; every path it does not have is a page of
// the console's own routing.
func serveConsole(engine *gin.Engine, files fs.FS) {
	server := http.FileServerFS(files)
	engine.NoRoute(func(c *gin.Context) {
		p := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
		if p == "api" || strings.HasPrefix(p, "api/") || (c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead) {
			write(c.Writer, newProblem(http.StatusNotFound, "there is nothing at "+c.Request.URL.Path).(*wire.Problem))
			return
		}
		if slices.Contains(probes, p) { // a page would tell whatever asks that all is well
			write(c.Writer, newProblem(http.StatusNotFound, "nothing is told there; ask /live, /ready or /api/v1/health").(*wire.Problem))
			return
		}
		if st, err := fs.Stat(files, p); p != "" && err == nil && !st.IsDir() {
			if strings.HasPrefix(p, "assets/") { // their names change with their content
				c.Header("Cache-Control", "public, max-age=31536000, immutable")
				c.Header("Vary", "Accept-Encoding")
				if packed, err := fs.ReadFile(files, p+".gz"); err == nil && strings.Contains(c.GetHeader("Accept-Encoding"), "gzip") && c.Request.Method == http.MethodGet {
					c.Header("Content-Encoding", "gzip")
					c.Data(http.StatusOK, mime.TypeByExtension(path.Ext(p)), packed)
					return
				}
			}
			server.ServeHTTP(c.Writer, c.Request)
			return
		}
		if strings.HasPrefix(p, "assets/") { // of another release: a page for it would be no script
			write(c.Writer, newProblem(http.StatusNotFound, "this release of the console has no "+p).(*wire.Problem))
			return
		}
		index, err := fs.ReadFile(files, "index.html")
		if err != nil {
			c.String(http.StatusNotFound, "this build carries no console; build it with: make console\n")
			return
		}
		c.Header("Cache-Control", "no-cache")
		c.Data(http.StatusOK, "text/html; charset=utf-8", index)
	})
}

// Server is an HTTP server for a handler with the bounds the door wants.
func Server(h http.Handler) *http.Server {
	var speaks http.Protocols
	speaks.SetHTTP1(true)
	speaks.SetHTTP2(true)
	speaks.SetUnencryptedHTTP2(true) // for gRPC to ports, behind a proxy that ends TLS too
	return &http.Server{Handler: h, Protocols: &speaks, HTTP2: &http.HTTP2Config{MaxConcurrentStreams: 100, SendPingTimeout: 30 * time.Second}, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
}
