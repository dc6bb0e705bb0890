package service

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sort"
	"strconv"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/reconcile"
	"yardbench/internal/session"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// Ports are the use cases of what listens in workspaces.
type Ports struct {
	bus      *live.Bus
	hub      reconcile.Stewards
	keeper   *reconcile.Keeper
	sessions *session.Sessions
	store    *store.Store
	vault    *vault.Vault
	now      func() time.Time
	views    *views
	passes   passes
	entered  entered
	house    *house.Book
	links    *LookLinks
	wakes    *Workspaces
	address  string // the console's

	strangers strangers
}

// Ports lists the declared and the listening ports of a workspace.
func (s *Ports) Ports(ctx context.Context, a Actor, ref string) ([]wire.Port, error) {
	w, err := s.views.find(ctx, a, ref)
	if err != nil {
		return nil, err
	}
	shared, err := s.store.Read().SharedPorts(ctx, w.ID, s.now())
	if err != nil {
		return nil, err
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return nil, err
	}
	def := w.Plan.Definition
	all := map[int]*wire.Port{}
	at := func(n int) *wire.Port {
		if all[n] == nil {
			all[n] = &wire.Port{Number: n, Label: def.PortLabels[n], Visitors: "owner", Address: s.sessions.PortAddress(w.PortKey, strconv.Itoa(n))}
			switch share := shared[n]; {
			case share.Public && house.Ports.PublicMost > 0:
				all[n].Visitors = "public"
			case share.All:
				all[n].Visitors = "everybody"
			case share.Team:
				all[n].Visitors = "team"
			}
			if all[n].Shared = all[n].Visitors != "owner"; !shared[n].Until.IsZero() {
				until := shared[n].Until
				all[n].Until = &until
			}
		}
		return all[n]
	}
	for _, n := range def.Ports {
		p := at(n)
		if p.Declared, p.Service = true, def.PortHosts[n]; p.Service != "" && w.Phase == lifecycle.Ready {
			p.Listening, p.Process = true, "service "+p.Service // it says so itself
		}
	}
	for n := range shared {
		at(n)
	}
	if w.Phase == lifecycle.Ready {
		for _, l := range s.keeper.Status.Ports(w.ID) {
			p := at(l.Number)
			p.Listening, p.Process, p.Loopback = true, l.Process, l.Loopback
		}
	}
	out := []wire.Port{}
	for _, p := range all {
		out = append(out, *p)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Number < out[j].Number })
	return out, nil
}

// SharePort says who may visit a port of the actor's beside themselves, and for how
// long.
func (s *Ports) SharePort(ctx context.Context, a Actor, ref string, port int, in wire.PortChange) (wire.Port, error) {
	w, owner, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "share ports of")
	if err != nil {
		return wire.Port{}, err
	}
	if err := checkPort(port); err != nil {
		return wire.Port{}, err
	}
	share := store.Share{All: in.Visitors == "everybody" || in.Visitors == "public" || in.Visitors == "" && in.Shared, Team: in.Visitors == "team", Public: in.Visitors == "public"}
	if share.Team && owner.TeamID == "" {
		return wire.Port{}, at(invalid(owner.Name+" is in no team", ""), "/visitors", "owner, or everybody")
	}
	lasts := time.Duration(in.Seconds) * time.Second
	if share.Public {
		if lasts, err = s.publicFor(ctx, lasts); err != nil {
			return wire.Port{}, err
		}
	}
	if lasts > 0 && (share.All || share.Team) {
		share.Until = s.now().UTC().Add(lasts)
	}
	if err := s.store.Write(ctx, func(tx *store.Tx) error { return tx.SharePort(ctx, w, port, share, a.ID) }); err != nil {
		return wire.Port{}, err
	}
	s.bus.Publish(w.ID)
	all, err := s.Ports(ctx, a, ref)
	if i := slices.IndexFunc(all, func(p wire.Port) bool { return p.Number == port }); i >= 0 {
		return all[i], err
	}
	return wire.Port{Number: port, Address: s.sessions.PortAddress(w.PortKey, strconv.Itoa(port))}, err
}

// publicFor is how long a port is public: never for good, and no longer than the house
// rules let it.
func (s *Ports) publicFor(ctx context.Context, asked time.Duration) (time.Duration, error) {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	most := house.Ports.PublicMost
	switch {
	case err != nil:
		return 0, err
	case most == 0:
		return 0, conflict("house-rules", "the house rules allow no public ports", "share it with people who are signed in, or ask an operator for ports.public_most")
	case asked > most:
		return 0, at(invalid("a port is public for at most "+rules.Duration(most)+", by the house rules", ""), "/seconds", "ask for less")
	case asked == 0:
		return most, nil
	}
	return asked, nil
}

func checkPort(port int) error {
	if port < 1 || port > 65535 {
		return invalid(fmt.Sprintf("%d is no port", port), "use a number from 1 to 65535")
	}
	return nil
}

// DialPort connects to a port of the actor's own workspace.
func (s *Ports) DialPort(ctx context.Context, a Actor, ref string, port int) (*steward.Conn, error) {
	return s.dialOwn(ctx, a, ref, steward.Request{Port: port})
}

// DialDatagrams is DialPort by UDP: each datagram goes over the stream with its length
// before it; see [steward.WriteDatagram].
func (s *Ports) DialDatagrams(ctx context.Context, a Actor, ref string, port int) (*steward.Conn, error) {
	return s.dialOwn(ctx, a, ref, steward.Request{Port: port, Datagrams: true})
}

func (s *Ports) dialOwn(ctx context.Context, a Actor, ref string, r steward.Request) (*steward.Conn, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "forward ports of")
	if err != nil {
		return nil, err
	}
	if err := checkPort(r.Port); err != nil {
		return nil, err
	}
	return s.dial(ctx, w, r, true)
}

// DialHost connects to an address as the actor's own workspace reaches it: a port
// of the workspace's for its own names, else what its network leads to.
func (s *Ports) DialHost(ctx context.Context, a Actor, ref, host string, port int) (*steward.Conn, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "forward ports of")
	if err != nil {
		return nil, err
	}
	if err := checkPort(port); err != nil {
		return nil, err
	}
	own := host == "" || host == "localhost" || host == w.Name
	if ip, err := netip.ParseAddr(host); err == nil {
		if own = ip.IsLoopback() || ip.IsUnspecified(); !own && (ip.IsLinkLocalUnicast() || ip.IsMulticast()) {
			return nil, invalid(quote(host)+" is nothing that a workspace reaches", "name an address outside, a service beside the workspace, or localhost")
		}
	}
	if own {
		return s.dial(ctx, w, steward.Request{Port: port}, true)
	}
	if err := lifecycle.Permit(lifecycle.Use, w.Phase, w.Plan.Adopted != nil); err != nil {
		return nil, fromRoom(err)
	}
	c, err := s.hub.Ask(ctx, outside.Link(w.ID, w.Body), steward.Request{Kind: steward.Dial, Port: port, Service: host})
	return c, fromRoom(err)
}

// dial connects to a port of a workspace, which may be a sign of work.
func (s *Ports) dial(ctx context.Context, w store.Workspace, r steward.Request, works bool) (*steward.Conn, error) {
	if err := lifecycle.Permit(lifecycle.Use, w.Phase, w.Plan.Adopted != nil); err != nil {
		return nil, fromRoom(err)
	}
	r.Kind, r.Service = steward.Dial, w.Plan.Definition.PortHosts[r.Port]
	c, err := s.hub.Ask(ctx, outside.Link(w.ID, w.Body), r)
	if err != nil {
		return nil, fromRoom(err)
	}
	if works {
		s.keeper.Status.PortAsked(w.ID, r.Port)
	}
	return c, nil
}
