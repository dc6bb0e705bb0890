// Package access is the way to what runs inside workspaces: the host names of
// their ports. It calls the service, and speaks HTTP with the programs inside
// through the steward.
package access

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"yardbench/internal/service"
	"yardbench/internal/steward"
	"yardbench/wire"
)

// cookieName is the pass that a port's host gives. It never reaches the
// program inside. By https it is bound to the host (RFC 6265bis, __Host-): no
// neighbour can put another in its place.
const (
	cookieName       = "yardbench_visit"
	secureCookieName = "__Host-" + cookieName
	mostCookies      = 8 // of the name are tried: by http a neighbour may have set others
)

func (p *Ports) cookieName() string {
	if p.Service.Ports.Doors().Secure() {
		return secureCookieName
	}
	return cookieName
}

// Ports serves the host names of ports, and hands everything else on.
type Ports struct {
	Service *service.Service
	Next    http.Handler
	// Dial connects to the port of a visit; the zero value asks the service.
	Dial  func(context.Context, service.Visit) (net.Conn, error)
	proxy *httputil.ReverseProxy
}

// Bounds of the connections that are kept for the next request of a visit.
const (
	keptEach = 64
	keptAll  = 2000
	keptFor  = 30 * time.Second
)

// ways are the connections to programs: by HTTP/1.1, and by HTTP/2 without TLS for
// gRPC, which has no other.
type ways struct{ plain, second *http.Transport }

func (w ways) RoundTrip(r *http.Request) (*http.Response, error) {
	if kind := r.Header.Get("Content-Type"); kind == "application/grpc" || strings.HasPrefix(kind, "application/grpc+") || strings.HasPrefix(kind, "application/grpc;") {
		return w.second.RoundTrip(r)
	}
	return w.plain.RoundTrip(r)
}

func (p *Ports) ways() ways {
	plain := &http.Transport{DialContext: p.dial, DisableCompression: true, ResponseHeaderTimeout: 2 * time.Minute, MaxIdleConnsPerHost: keptEach, MaxIdleConns: keptAll, IdleConnTimeout: keptFor}
	second := &http.Transport{DialContext: p.dial, DisableCompression: true, MaxIdleConnsPerHost: keptEach, MaxIdleConns: keptAll, IdleConnTimeout: keptFor, Protocols: &http.Protocols{}}
	second.Protocols.SetUnencryptedHTTP2(true)
	return ways{plain, second}
}

// NewPorts makes the handler.
func NewPorts(s *service.Service, next http.Handler) *Ports {
	p := &Ports{Service: s, Next: next}
	p.proxy = &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			// A connection belongs to one visit of one port: it is kept for that, and under
			// its name.
			v, _ := r.In.Context().Value(goalKey{}).(service.Visit)
			r.Out.URL.Scheme, r.Out.URL.Host = "http", v.Way()
			r.Out.Host = r.In.Host
			r.Out.Trailer = r.In.Trailer // it is filled in when the body has come
			p.forwarded(r)
			dropCookie(r.Out)
		},
		Transport: p.ways(),
		// What comes without a length, and events, are passed on as they come by default.
		BufferPool: &buffers{},
		ModifyResponse: func(r *http.Response) error {
			// What one program sets is for its own host: not for its neighbours'.
			ownCookies(r.Header)
			if err := p.framed(r); err != nil {
				return err
			}
			p.fence(r.Request, r.Header)
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			problem := wire.ProblemOf(err)
			if problem == errNoFrames {
				page(w, r, problem)
				return
			}
			if problem == nil {
				problem = &wire.Problem{Status: http.StatusBadGateway, Detail: "the program behind this port does not answer: " + err.Error()}
			}
			p.waits(w, r, problem)
		},
		ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug),
	}
	return p
}

// forwarded says to the program whom a request comes from, to which host, and how:
// in the fields that are usual, and in that of RFC 7239.
func (p *Ports) forwarded(r *httputil.ProxyRequest) {
	r.SetXForwarded()
	proto := "http"
	if p.Service.Ports.Doors().Secure() { // TLS may end before us
		proto = "https"
	}
	r.Out.Header.Set("X-Forwarded-Proto", proto)
	from := "unknown"
	if a, err := netip.ParseAddrPort(r.In.RemoteAddr); err == nil {
		if from = a.Addr().Unmap().String(); a.Addr().Unmap().Is6() {
			from = `"[` + from + `]"`
		}
	}
	r.Out.Header.Set("Forwarded", fmt.Sprintf("for=%s;host=%q;proto=%s", from, r.In.Host, proto))
}

// buffers are those by which answers are passed on.
type buffers struct{ free sync.Pool }

func (b *buffers) Get() []byte {
	if p, ok := b.free.Get().(*[]byte); ok {
		return *p
	}
	return make([]byte, 32<<10)
}

func (b *buffers) Put(p []byte) { b.free.Put(&p) }

type goalKey struct{}

// dial connects to where the request was found to lead, whatever its host says.
func (p *Ports) dial(ctx context.Context, _, _ string) (net.Conn, error) {
	v, ok := ctx.Value(goalKey{}).(service.Visit)
	if !ok {
		return nil, errors.New("no port was found for this request")
	}
	if p.Dial != nil {
		return p.Dial(ctx, v)
	}
	c, err := p.Service.Ports.DialEntered(ctx, v)
	if err != nil {
		return nil, err
	}
	return conn(c)
}

func conn(c *steward.Conn) (net.Conn, error) {
	if nc, ok := c.Stream.(net.Conn); ok {
		return whole{nc}, nil
	}
	c.Stream.Close()
	return nil, errors.New("the steward's stream is no connection")
}

// whole is a stream that ends both ways when it is closed: by itself it would go
// on giving what the program sends until that ends it.
type whole struct{ net.Conn }

func (c whole) Close() error {
	_ = c.SetReadDeadline(time.Unix(1, 0)) // it is closed in any case
	return c.Conn.Close()
}

// dropCookie takes our own cookie out of what the program inside is sent.
// The others reach it to the letter, whatever is in them.
func dropCookie(r *http.Request) {
	ours := []string{cookieName, framedCookieName}
	fields := r.Header.Values("Cookie")
	r.Header.Del("Cookie")
	for _, field := range fields {
		var kept []string
		for _, pair := range strings.Split(field, ";") {
			if name, _, _ := strings.Cut(pair, "="); !slices.Contains(ours, strings.TrimPrefix(strings.TrimSpace(name), "__Host-")) {
				kept = append(kept, pair)
			}
		}
		if field = strings.TrimSpace(strings.Join(kept, ";")); field != "" {
			r.Header.Add("Cookie", field)
		}
	}
}

// ownCookies has cookies be for the host alone that sets them.
func ownCookies(h http.Header) {
	for n, c := range h["Set-Cookie"] {
		h["Set-Cookie"][n] = withoutDomain(c)
	}
}

// early are answers before the answer (1xx), whose cookies are the host's own too.
type early struct{ http.ResponseWriter }

func (w early) WriteHeader(code int) {
	if code < 200 {
		ownCookies(w.Header())
	}
	w.ResponseWriter.WriteHeader(code)
}

// Unwrap is for [http.ResponseController].
func (w early) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// withoutDomain takes the Domain attribute out of a Set-Cookie field (RFC 6265,
// 4.1): the cookie is then for its own host alone.
func withoutDomain(field string) string {
	parts := strings.Split(field, ";")
	kept := parts[:1]
	for _, p := range parts[1:] {
		if name, _, _ := strings.Cut(p, "="); !strings.EqualFold(strings.TrimSpace(name), "domain") {
			kept = append(kept, p)
		}
	}
	return strings.Join(kept, ";")
}

// ServeHTTP serves a port's host, or hands on.
func (p *Ports) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if _, _, ok := p.Service.Ports.PortHost(r.Host); !ok {
		p.Next.ServeHTTP(w, r)
		return
	}
	switch r.URL.Path {
	case service.PassPath:
		p.enter(w, r)
		return
	case service.LookPath:
		p.look(w, r)
		return
	}
	if !p.allowed(r) {
		page(w, r, &wire.Problem{Status: http.StatusForbidden, Detail: "a page elsewhere asked for this, and only this workspace's own pages may", Next: "open the port's address itself"})
		return
	}
	v, err := p.entered(r)
	if errors.Is(err, service.ErrNoPass) {
		v, err = p.Service.Ports.EnterPort(r.Context(), r.Host, "") // it may be public
	}
	problem := wire.ProblemOf(err)
	if errors.Is(err, service.ErrLinkOver) { // what comes next may be another visit
		http.SetCookie(w, &http.Cookie{Name: p.cookieName(), Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: p.Service.Ports.Doors().Secure()})
	}
	switch {
	case errors.Is(err, service.ErrNoPass):
		p.toConsole(w, r)
	case problem != nil:
		page(w, r, problem)
	case err != nil:
		slog.Error("a request to a port", "error", err)
		page(w, r, &wire.Problem{Status: http.StatusInternalServerError, Detail: "the service could not do this"})
	default:
		ctx, release := p.Service.Leases.HoldVisit(r.Context(), v)
		defer release()
		end, err := p.Service.Ports.Begin(v)
		if problem := wire.ProblemOf(err); problem != nil {
			page(w, r, problem)
			return
		}
		defer end()
		p.Service.Ports.Asked(v)
		p.proxy.ServeHTTP(early{w}, r.WithContext(context.WithValue(ctx, goalKey{}, v)))
	}
}

// entered is the visit that a request's cookie of this host stands for.
// [service.ErrNoPass] where it has none.
func (p *Ports) entered(r *http.Request) (v service.Visit, err error) {
	err = service.ErrNoPass
	names := []string{p.cookieName(), p.framedName()}
	if framing(r) {
		slices.Reverse(names)
	}
	for _, name := range names {
		for i, c := range r.CookiesNamed(name) {
			if v, err = p.Service.Ports.EnterPort(r.Context(), r.Host, c.Value); !errors.Is(err, service.ErrNoPass) {
				return v, err
			}
			if i == mostCookies {
				break
			}
		}
	}
	return v, err
}

// toConsole leads a visitor over the console, which knows who they are. What
// is no visit by hand is refused: it could not be led.
func (p *Ports) toConsole(w http.ResponseWriter, r *http.Request) {
	if framing(r) {
		page(w, r, &wire.Problem{Status: http.StatusUnauthorized, Detail: "this frame is not let in any more", Next: "load the board again"})
		return
	}
	if (r.Method != http.MethodGet && r.Method != http.MethodHead) || r.Header.Get("Upgrade") != "" {
		page(w, r, &wire.Problem{Status: http.StatusUnauthorized, Detail: "you are not signed in here", Next: "open the port's address in a browser"})
		return
	}
	w.Header().Set("Cache-Control", "no-store")
	http.Redirect(w, r, p.Service.Ports.Doors().WayIn(r.Host, r.URL.Path, r.URL.RawQuery), http.StatusFound)
}

// enter turns a pass into the cookie of this host.
func (p *Ports) enter(w http.ResponseWriter, r *http.Request) {
	value, expires, framed, err := p.Service.Ports.UsePass(r.URL.Query().Get("pass"), r.Host)
	if problem := wire.ProblemOf(err); problem != nil {
		page(w, r, problem)
		return
	}
	if err != nil {
		page(w, r, &wire.Problem{Status: http.StatusInternalServerError, Detail: "the service could not do this"})
		return
	}
	if framed {
		p.letInFramed(w, r, value, expires)
		return
	}
	p.letIn(w, r, value, expires)
}

// letIn gives a visitor the cookie of this host, and leads on to where they want.
func (p *Ports) letIn(w http.ResponseWriter, r *http.Request, value string, expires time.Time) {
	// Lax: the way from the console is a way from another site.
	http.SetCookie(w, &http.Cookie{Name: p.cookieName(), Value: value, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteLaxMode,
		Secure: p.Service.Ports.Doors().Secure()})
	p.leadOn(w, r)
}

// leadOn leads a visitor on within this host.
func (p *Ports) leadOn(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	if w.Header().Get("Referrer-Policy") == "" {
		w.Header().Set("Referrer-Policy", "no-referrer")
	}
	to, err := url.Parse(r.URL.Query().Get("to"))
	if err != nil || to.Host != "" || !strings.HasPrefix(to.Path, "/") || strings.HasPrefix(to.Path, "//") {
		to = &url.URL{Path: "/"} // only within this host
	}
	http.Redirect(w, r, (&url.URL{Path: to.Path, RawQuery: to.RawQuery}).String(), http.StatusFound)
}

// look opens a look link. One that may be opened so often only asks by hand first, so
// that a program which looks at what addresses lead to takes none of its visits.
func (p *Ports) look(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Referrer-Policy", "no-referrer")
	if r.Method != http.MethodGet && r.Method != http.MethodPost {
		page(w, r, &wire.Problem{Status: http.StatusMethodNotAllowed, Detail: "a look link is opened in a browser"})
		return
	}
	if _, err := p.entered(r); err == nil { // they are in: this is no visit more
		p.leadOn(w, r)
		return
	}
	o, err := p.Service.LookLinks.Find(r.Context(), r.URL.Query().Get("link"), r.Host)
	if err == nil && o.Left >= 0 && r.Method == http.MethodGet {
		askToOpen(w, r, o.Left)
		return
	}
	value, expires := "", time.Time{}
	if err == nil {
		value, expires, err = p.Service.LookLinks.Open(r.Context(), o, r.Host)
	}
	problem := wire.ProblemOf(err)
	switch {
	case problem != nil:
		page(w, r, problem)
	case err != nil:
		slog.Error("a look link", "error", err)
		page(w, r, &wire.Problem{Status: http.StatusInternalServerError, Detail: "the service could not do this"})
	default:
		p.letIn(w, r, value, expires)
	}
}
