package service

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/steward"
	"yardbench/internal/store"
	"yardbench/wire"
)

// A port's address is on a host name of its own. Who comes there is led over
// the console, which knows them, and comes back with a pass for that host: it
// is used once, and becomes a cookie of that host alone.

// Lifetimes of passes and of the cookies they become.
const (
	passLifetime  = time.Minute
	visitLifetime = 12 * time.Hour
	maxOpenPasses = 20 // of one person; another takes the place of their oldest
)

// PassPath is where a port's host takes a pass.
const PassPath = "/.yardbench/enter"

type passes struct {
	mu   sync.Mutex
	open map[string]visit
}

// visit is somebody's right to a port's host. It is sealed into a cookie.
type visit struct {
	Person  string    `json:"person"`
	Token   string    `json:"token"`          // the sign-in that it ends with
	Link    string    `json:"link,omitempty"` // the look link in place of a person
	Host    string    `json:"host"`
	Expires time.Time `json:"expires"`
	// Framed is a visit within a page of the console.
	Framed bool `json:"framed,omitempty"`
}

// portOf reads which workspace's port a host name means.
func (s *Ports) portOf(ctx context.Context, host string) (w store.Workspace, port int, err error) {
	none := noPort(host)
	key, n, ok := s.PortHost(host)
	if !ok {
		return w, 0, none
	}
	w, err = s.store.Read().WorkspaceByPortKey(ctx, key)
	if errors.Is(err, store.ErrNotFound) {
		return w, 0, none
	}
	return w, n, err
}

// PortHost takes a host name of a port apart; ok is false when it is none.
func (s *Ports) PortHost(host string) (key string, port int, ok bool) {
	_, form, _ := strings.Cut(s.sessions.PortForm, "://")
	before, after, _ := strings.Cut(form, "*")
	name, ok1 := strings.CutPrefix(strings.ToLower(host), before)
	name, ok2 := strings.CutSuffix(name, after)
	key, number, ok3 := strings.Cut(name, "-")
	port, err := strconv.Atoi(number)
	return key, port, form != "" && ok1 && ok2 && ok3 && err == nil && checkPort(port) == nil
}

// mayVisit tells whether a person may visit a port, and until when if that is
// bounded: their own, or one that is shared with them. What they may not see does not
// exist for them.
func (s *Ports) mayVisit(ctx context.Context, a Actor, w store.Workspace, port int, host string) (until time.Time, err error) {
	owner, err := s.store.Read().PersonByID(ctx, w.OwnerID)
	if err != nil {
		return until, err
	}
	if !a.holds(w.RepositoryID) {
		return until, noPort(host)
	}
	if a.mayOf(policy.UseWorkspace, owner) {
		return until, nil
	}
	shared, err := s.store.Read().SharedPorts(ctx, w.ID, s.now())
	if err != nil {
		return until, err
	}
	share := shared[port]
	ours := owner.TeamID != "" && slices.Contains(a.Teams(), owner.TeamID)
	if (share.All || share.Team && ours) && a.mayOf(policy.VisitPort, owner) {
		return share.Until, nil
	}
	return until, noPort(host)
}

// noPort is one answer for what is not there and for what is private: it
// tells nobody which.
func noPort(host string) error {
	return notFound("port", host, "it may be private, or gone: ask whoever sent you the address to share it")
}

// VisitPort gives the way to a port's address, if the actor may go there.
func (s *Ports) VisitPort(ctx context.Context, a Actor, in wire.PortVisit) (wire.PortPass, error) {
	address := in.Address
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return wire.PortPass{}, invalid(quote(address)+" is no address of a port", "")
	}
	w, port, err := s.portOf(ctx, u.Host)
	if err == nil {
		_, err = s.mayVisit(ctx, a, w, port, u.Host)
	}
	if err != nil {
		return wire.PortPass{}, err
	}
	code, _ := newToken("")
	now := s.now()
	s.passes.mu.Lock()
	defer s.passes.mu.Unlock()
	if s.passes.open == nil {
		s.passes.open = map[string]visit{}
	}
	theirs, oldest := 0, ""
	for c, v := range s.passes.open {
		switch {
		case v.Expires.Before(now):
			delete(s.passes.open, c)
		case v.Person == a.ID:
			if theirs++; oldest == "" || v.Expires.Before(s.passes.open[oldest].Expires) {
				oldest = c
			}
		}
	}
	if theirs >= maxOpenPasses {
		delete(s.passes.open, oldest)
	}
	s.passes.open[code] = visit{Person: a.ID, Token: a.TokenID, Host: strings.ToLower(u.Host), Expires: now.Add(passLifetime), Framed: in.Framed}
	scheme, _, _ := strings.Cut(s.sessions.PortForm, "://")
	return wire.PortPass{Go: (&url.URL{Scheme: scheme, Host: u.Host, Path: PassPath, RawQuery: url.Values{"pass": {code}, "to": {u.RequestURI()}}.Encode()}).String()}, nil
}

// Doors are where the console is, and the hosts of ports.
type Doors struct {
	Console string // its address
	ports   string // the form of ports' addresses, with a * for what names one
}

// Doors tells where the console and the ports are.
func (s *Ports) Doors() Doors { return Doors{s.address, s.sessions.PortForm} }

// WayIn is where somebody who is not let in to a port yet is sent: to the
// console, which knows who they are, with where they wanted to go.
func (d Doors) WayIn(host, path, query string) string {
	scheme, _, _ := strings.Cut(d.ports, "://")
	here := url.URL{Scheme: scheme, Host: host, Path: path, RawQuery: query}
	return d.Console + "/visit?" + url.Values{"to": {here.String()}}.Encode()
}

// Frames is which frames a page of the console may have, as a policy for content
// says it: those of ports.
func (d Doors) Frames() string {
	scheme, form, _ := strings.Cut(d.ports, "://")
	_, domain, ok := strings.Cut(form, ".")
	if !ok {
		return ""
	}
	return scheme + "://*." + domain
}

// Secure tells whether ports are reached by TLS.
func (d Doors) Secure() bool { return strings.HasPrefix(d.ports, "https") }

// UsePass turns a pass into the cookie of a port's host.
func (s *Ports) UsePass(code, host string) (cookie string, expires time.Time, framed bool, err error) {
	s.passes.mu.Lock()
	v, ok := s.passes.open[code]
	delete(s.passes.open, code)
	s.passes.mu.Unlock()
	if !ok || v.Host != strings.ToLower(host) || v.Expires.Before(s.now()) {
		return "", time.Time{}, false, stranger("pass", "this pass was used, has expired, or is for another address", "open the port's address again")
	}
	v.Expires = s.now().Add(visitLifetime)
	cookie, err = s.sealed(v)
	return cookie, v.Expires, v.Framed, err
}

// ErrNoPass says that whoever asks a port's host has to be led over the console.
var ErrNoPass = errors.New("not let in here yet")

// Visit is a visit of a port, by somebody who may.
type Visit struct {
	Workspace    store.Workspace
	Port         int
	Host, Person string
	// Stranger is a visit of somebody who is not signed in. It is no sign of work, unless
	// it Wakes.
	Stranger, Wakes bool
	// Framed is a visit within a page of the console.
	Framed  bool
	Expires time.Time
	cookie  string
	who     Actor
}

// works tells whether a visit is a sign of work.
func (v Visit) works() bool { return !v.Stranger || v.Wakes }

// Way names the connections that are a visit's own.
func (v Visit) Way() string {
	sum := sha256.Sum256([]byte(v.cookie))
	return fmt.Sprintf("%x-%d-%d.visit", sum[:12], v.Port, v.Workspace.Body)
}

// entered are visits that were let in a moment ago. What changes a ground of any
// empties it: see [store.Store.OnGround].
type entered struct {
	mu     sync.Mutex
	round  int // how often it was emptied
	visits map[string]letIn
}

type letIn struct {
	visit Visit
	at    time.Time
}

const (
	enteredFor  = 3 * time.Second
	enteredMost = 10_000
)

// forget has every right looked at anew.
func (e *entered) forget() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.round++
	e.visits = nil
}

func (e *entered) find(key string, now time.Time) (v Visit, ok bool, round int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	x, ok := e.visits[key]
	return x.visit, ok && now.Sub(x.at) < enteredFor && now.Before(x.visit.Expires), e.round
}

// note keeps a visit, unless a ground has changed since its right was looked at.
func (e *entered) note(key string, v Visit, now time.Time, round int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if round != e.round {
		return
	}
	if e.visits == nil || len(e.visits) >= enteredMost {
		e.visits = map[string]letIn{}
	}
	e.visits[key] = letIn{v, now}
}

// EnterPort finds the port behind a host name for who holds its cookie. The
// right is looked at anew when something of its ground has changed, and after some
// seconds.
func (s *Ports) EnterPort(ctx context.Context, host, cookie string) (Visit, error) {
	key, now := host+" "+cookie, s.now()
	v, ok, round := s.entered.find(key, now)
	if ok {
		return v, nil
	}
	v, err := s.enter(ctx, host, cookie)
	if err == nil {
		s.entered.note(key, v, now, round)
	}
	return v, err
}

// Now is a visit with its workspace as that stands now.
func (s *Ports) Now(ctx context.Context, v Visit) Visit {
	if w, err := s.store.Read().WorkspaceByID(ctx, v.Workspace.ID); err == nil {
		v.Workspace = w
	}
	return v
}

// Asked notes that a port was asked, by a visit: a sign of work.
func (s *Ports) Asked(v Visit) {
	if s.keeper != nil && v.Workspace.Phase == lifecycle.Ready && v.works() {
		s.keeper.Status.PortAsked(v.Workspace.ID, v.Port)
	}
}

func (s *Ports) enter(ctx context.Context, host, cookie string) (Visit, error) {
	if cookie == "" {
		return s.links.public(ctx, host)
	}
	sealed, err := base64.RawURLEncoding.DecodeString(cookie)
	if err != nil {
		return Visit{}, ErrNoPass
	}
	body, err := s.vault.Open(sealed, "visit", strings.ToLower(host))
	var v visit
	if err != nil || json.Unmarshal([]byte(body), &v) != nil || v.Expires.Before(s.now()) {
		return Visit{}, ErrNoPass
	}
	if v.Link != "" {
		return s.links.enter(ctx, host, v, cookie)
	}
	t, err := s.store.Read().TokenByID(ctx, v.Token, s.now())
	if errors.Is(err, store.ErrNotFound) {
		return Visit{}, ErrNoPass // they signed out
	} else if err != nil {
		return Visit{}, err
	}
	p, err := s.store.Read().PersonByID(ctx, v.Person)
	if err != nil {
		return Visit{}, err
	}
	if p.Left(s.now()) {
		return Visit{}, ErrNoPass
	}
	out := Visit{Host: host, Person: p.ID, Framed: v.Framed, Expires: v.Expires, cookie: cookie}
	if t.ExpiresAt.Before(out.Expires) {
		out.Expires = t.ExpiresAt
	}
	out.who = Actor{Person: p, TokenID: t.ID, Grant: t.Grant}
	if out.Workspace, out.Port, err = s.portOf(ctx, host); err == nil {
		var until time.Time
		if until, err = s.mayVisit(ctx, out.who, out.Workspace, out.Port, host); !until.IsZero() && until.Before(out.Expires) {
			out.Expires = until
		}
	}
	return out, err
}

// Knock has the workspace of a visit started, where it is stopped and the visitor
// is its owner, or comes by a link that wakes it, by hand: neither others nor a page
// that asks again and again do. on tells that it is coming up; what does not is told why.
func (s *Ports) Knock(ctx context.Context, v Visit, byHand bool) (on bool, err error) {
	w, err := s.store.Read().WorkspaceByID(ctx, v.Workspace.ID)
	if err != nil {
		return false, err
	}
	asked := w.OwnerID != v.Person && !v.Wakes || !byHand
	_, err = s.wakes.knock(ctx, v.who, w, "ports", &asked)
	return err == nil, err
}

// Coming is the launch sheet of a visit's workspace, for its owner; empty for others.
func (s *Ports) Coming(ctx context.Context, v Visit) (wire.Sheet, error) {
	if v.Workspace.OwnerID != v.Person {
		return wire.Sheet{}, nil
	}
	sheet, err := s.store.Read().CurrentSheet(ctx, v.Workspace.ID)
	if err != nil {
		return wire.Sheet{}, err
	}
	steps, err := s.store.Read().Steps(ctx, sheet.ID)
	return sheetView(sheet, steps), err
}

// Listening lists the addresses of what listens in the workspace of a visit that
// its visitor may visit.
func (s *Ports) Listening(ctx context.Context, v Visit) ([]string, error) {
	if v.Workspace.OwnerID != v.Person {
		return nil, nil
	}
	var out []string
	for _, p := range s.keeper.Status.Ports(v.Workspace.ID) {
		out = append(out, s.sessions.PortAddress(v.Workspace.PortKey, strconv.Itoa(p.Number)))
	}
	return out, nil
}

// DialEntered connects to a port that EnterPort has found.
func (s *Ports) DialEntered(ctx context.Context, v Visit) (*steward.Conn, error) {
	return s.dial(ctx, s.Now(ctx, v).Workspace, steward.Request{Port: v.Port}, v.works())
}
