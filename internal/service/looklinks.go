package service

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// LookLinks are the use cases of links by which whoever holds one visits a port, for a
// time, signed in or not. They stand on the house rules, on their workspace and on
// its owner's account, and end with each of them.
type LookLinks struct {
	house *house.Book
	ports *Ports
	store *store.Store
	vault *vault.Vault
	views *views
	now   func() time.Time

	mu    sync.Mutex
	paces map[string]*rate.Limiter // of how often each link is opened
}

const (
	lookLinkFor  = 24 * time.Hour // where nothing else is said
	lookLinkMark = "yb_look_"
	maxLookLinks = 50 // of one workspace
	// A link may be opened so often: each time is written down.
	lookLinkBurst    = 60
	lookLinkPaces    = 10_000
	lookLinkEach     = time.Second
	maxStrangers     = 200 // requests of people who are not signed in, of one workspace at once
	strangersComeFor = 5 * time.Second
)

// LookPath is where a port's host takes a look link.
const LookPath = "/.yardbench/look"

// LookLinks lists the links of the actor's own workspace that hold.
func (s *LookLinks) LookLinks(ctx context.Context, a Actor, ref string) ([]wire.LookLink, error) {
	w, owner, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "see look links of")
	if err != nil {
		return nil, err
	}
	links, err := s.store.Read().LookLinks(ctx, w.ID, s.now())
	out := []wire.LookLink{}
	for _, l := range links {
		out = append(out, linkView(l, w, owner))
	}
	return out, err
}

func linkView(l store.LookLink, w store.Workspace, owner store.Person) wire.LookLink {
	return wire.LookLink{ID: l.ID, Workspace: w.Name, Owner: owner.Name, Port: l.Port, Wakes: l.Wakes, Visits: l.Visits, VisitsMost: l.VisitsMost, VisitedAt: l.VisitedAt, MadeAt: l.MadeAt, Until: l.Until}
}

// Make makes a link to a port of the actor's own workspace. Its address is told this
// once.
func (s *LookLinks) Make(ctx context.Context, a Actor, ref string, in wire.NewLookLink) (wire.MadeLookLink, error) {
	w, owner, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "make look links to")
	if err != nil {
		return wire.MadeLookLink{}, err
	}
	if err := checkPort(in.Port); err != nil {
		return wire.MadeLookLink{}, err
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return wire.MadeLookLink{}, err
	}
	most := house.Ports.LookLinksMost
	lasts := time.Duration(in.Seconds) * time.Second
	switch {
	case most == 0:
		return wire.MadeLookLink{}, conflict("house-rules", "the house rules allow no look links", "share the port with people who are signed in, or ask an operator for ports.look_links_most")
	case lasts > most:
		return wire.MadeLookLink{}, at(invalid("a look link lasts at most "+rules.Duration(most)+", by the house rules", ""), "/seconds", "ask for less")
	case lasts == 0:
		lasts = min(lookLinkFor, most)
	}
	value, hash := newToken(lookLinkMark)
	now := s.now().UTC()
	l := store.LookLink{ID: store.NewID(), WorkspaceID: w.ID, Port: in.Port, Hash: hash, Wakes: in.Wakes, VisitsMost: in.VisitsMost, MadeAt: now, Until: now.Add(lasts)}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		have, err := tx.LookLinks(ctx, w.ID, s.now())
		if err != nil {
			return err
		}
		if len(have) >= maxLookLinks {
			return conflict("too-many", fmt.Sprintf("%s has %d look links", w.Name, len(have)), "end some of them", fault.Do("list-look-links", w.Name))
		}
		return tx.AddLookLink(ctx, w, l, a.ID)
	})
	host := s.ports.sessions.PortAddress(w.PortKey, strconv.Itoa(in.Port))
	return wire.MadeLookLink{LookLink: linkView(l, w, owner), Address: strings.TrimSuffix(host, "/") + LookPath + "?" + url.Values{"link": {value}}.Encode()}, err
}

// End ends a link: whoever came by it is let in no more.
func (s *LookLinks) End(ctx context.Context, a Actor, ref, id string) error {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "end look links of")
	if err != nil {
		return err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error { return tx.EndLookLink(ctx, w, id, a.ID) })
	if errors.Is(err, store.ErrNotFound) {
		return notFound("look link", id, "it has ended, perhaps: the list of look links has those that hold")
	}
	return err
}

// ErrLinkOver is one answer for links that there never were, and for those that are
// over.
var ErrLinkOver error = &fault.Fault{Class: fault.Missing, Kind: "not-found", Detail: "this link leads nowhere any more", Next: "ask whoever sent it to you for another one"}

// Opening is what a look link says before it is counted.
type Opening struct {
	link store.LookLink
	// Left is how often it can be opened still; negative is without bound.
	Left int
}

// Find finds the link that an address of a port's host holds.
func (s *LookLinks) Find(ctx context.Context, value, host string) (Opening, error) {
	sum := sha256.Sum256([]byte(value))
	l, err := s.store.Read().LookLinkByHash(ctx, sum[:], s.now())
	if errors.Is(err, store.ErrNotFound) {
		return Opening{}, ErrLinkOver
	} else if err != nil {
		return Opening{}, err
	}
	if _, _, err := s.at(ctx, l, host); err != nil {
		return Opening{}, err
	}
	o := Opening{link: l, Left: -1}
	if l.VisitsMost > 0 {
		if o.Left = max(0, l.VisitsMost-l.Visits); o.Left == 0 {
			return Opening{}, ErrLinkOver
		}
	}
	return o, nil
}

// Open counts a visit by a link, and gives the cookie of the port's host for it.
func (s *LookLinks) Open(ctx context.Context, o Opening, host string) (cookie string, expires time.Time, err error) {
	if after := s.pace(o.link.ID); after > 0 {
		return "", time.Time{}, tooFast("this link is opened too often", "try again in a moment", after)
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error { return tx.CountVisit(ctx, o.link.ID) })
	if errors.Is(err, store.ErrNotFound) {
		return "", time.Time{}, ErrLinkOver
	} else if err != nil {
		return "", time.Time{}, err
	}
	v := visit{Link: o.link.ID, Host: strings.ToLower(host), Expires: s.now().Add(visitLifetime)}
	if o.link.Until.Before(v.Expires) {
		v.Expires = o.link.Until
	}
	// Two who come by one link are two visits.
	v.Token, _ = newToken("")
	cookie, err = s.ports.sealed(v)
	return cookie, v.Expires, err
}

func (s *LookLinks) pace(id string) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.paces == nil || len(s.paces) >= lookLinkPaces {
		s.paces = map[string]*rate.Limiter{}
	}
	l := s.paces[id]
	if l == nil {
		l = rate.NewLimiter(rate.Every(lookLinkEach), lookLinkBurst)
		s.paces[id] = l
	}
	now := s.now()
	r := l.ReserveN(now, 1)
	after := r.DelayFrom(now)
	if after > 0 {
		r.CancelAt(now)
	}
	return after
}

// holds gives the owner of a workspace whose ports may be shown to strangers still: the
// house rules allow it, which allowed tells, their account is open and the workspace
// is there. It gives over where that is not so.
func (s *LookLinks) holds(ctx context.Context, w store.Workspace, allowed func(rules.Ports) bool, over error) (owner store.Person, err error) {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return owner, err
	}
	if owner, err = s.store.Read().PersonByID(ctx, w.OwnerID); err != nil {
		return owner, err
	}
	if !allowed(house.Ports) || owner.ClosedAt != nil || w.Phase == lifecycle.Removing || w.Phase == lifecycle.Removed {
		return owner, over
	}
	return owner, nil
}

// at is the workspace that a link shows at a port's host, and its owner, while it holds.
func (s *LookLinks) at(ctx context.Context, l store.LookLink, host string) (w store.Workspace, owner store.Person, err error) {
	w, port, err := s.ports.portOf(ctx, host)
	if err != nil || w.ID != l.WorkspaceID || port != l.Port {
		return w, owner, ErrLinkOver
	}
	owner, err = s.holds(ctx, w, func(p rules.Ports) bool { return p.LookLinksMost > 0 }, ErrLinkOver)
	return w, owner, err
}

// enter is a visit by a link that was opened before.
func (s *LookLinks) enter(ctx context.Context, host string, v visit, cookie string) (Visit, error) {
	l, err := s.store.Read().LookLink(ctx, v.Link, s.now())
	if errors.Is(err, store.ErrNotFound) {
		return Visit{}, ErrLinkOver
	} else if err != nil {
		return Visit{}, err
	}
	w, owner, err := s.at(ctx, l, host)
	if err != nil {
		return Visit{}, err
	}
	out := Visit{Workspace: w, Port: l.Port, Host: host, Expires: v.Expires, Stranger: true, Wakes: l.Wakes, cookie: cookie}
	if l.Until.Before(out.Expires) {
		out.Expires = l.Until
	}
	if l.Wakes { // as its owner's door, which it is
		out.who = Actor{Person: owner}
	}
	return out, nil
}

// public is a visit of a port that anybody may visit. [ErrNoPass] where they may not.
func (s *LookLinks) public(ctx context.Context, host string) (Visit, error) {
	w, port, err := s.ports.portOf(ctx, host)
	if err != nil {
		return Visit{}, ErrNoPass
	}
	now := s.now()
	shared, err := s.store.Read().SharedPorts(ctx, w.ID, now)
	if err != nil {
		return Visit{}, err
	}
	share := shared[port]
	if !share.Public {
		return Visit{}, ErrNoPass
	}
	if _, err := s.holds(ctx, w, func(p rules.Ports) bool { return p.PublicMost > 0 }, ErrNoPass); err != nil {
		return Visit{}, err
	}
	v := Visit{Workspace: w, Port: port, Host: host, Expires: now.Add(visitLifetime), Stranger: true}
	if share.Until.Before(v.Expires) {
		v.Expires = share.Until
	}
	return v, nil
}

// strangers counts the requests of people who are not signed in, by workspace.
type strangers struct {
	mu sync.Mutex
	at map[string]int
}

// Begin begins a request of a visit. end is called when it is over.
func (s *Ports) Begin(v Visit) (end func(), err error) {
	if !v.Stranger {
		return func() {}, nil
	}
	n := &s.strangers
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.at == nil {
		n.at = map[string]int{}
	}
	if n.at[v.Workspace.ID] >= maxStrangers {
		return nil, tooFast("too many people look at this at once", "try again in a moment", strangersComeFor)
	}
	n.at[v.Workspace.ID]++
	return func() {
		n.mu.Lock()
		defer n.mu.Unlock()
		if n.at[v.Workspace.ID]--; n.at[v.Workspace.ID] == 0 {
			delete(n.at, v.Workspace.ID)
		}
	}, nil
}

// sealed is a visit as a cookie holds it.
func (s *Ports) sealed(v visit) (string, error) {
	body, err := json.Marshal(v)
	if err != nil {
		return "", err
	}
	sealed, err := s.vault.Seal(string(body), "visit", v.Host)
	return base64.RawURLEncoding.EncodeToString(sealed), err
}
