package engine

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"

	"yardbench/internal/yard"
)

// subnetBits is the size of one workspace's piece of the address range: a /27
// has room for its services and costs little of the range.
const subnetBits = 27

// networks gives each workspace a network of its own, in a piece of the range
// that nobody uses: the engine's own choice runs out at the 31st.
type networks struct {
	*conn
	mu sync.Mutex
	// making are pieces that networks are being made in, and refused those that
	// something other than a network of the engine has.
	making, refused map[netip.Prefix]bool
}

// make makes a workspace's network.
func (n *networks) make(ctx context.Context, t yard.Network) error {
	workspace := t.Workspace
	for {
		piece, there, err := n.choose(ctx, workspace)
		if err != nil || there {
			return err
		}
		_, err = n.cli.NetworkCreate(ctx, n.name(workspace), client.NetworkCreateOptions{Driver: "bridge", Internal: t.Closed, Labels: n.labels(workspace, 0),
			IPAM: &network.IPAM{Config: []network.IPAMConfig{{Subnet: piece}}}})
		taken := err != nil && strings.Contains(strings.ToLower(err.Error()), "overlap")
		n.mu.Lock()
		delete(n.making, piece)
		n.refused[piece] = taken || n.refused[piece]
		n.mu.Unlock()
		if !taken { // else by another service meanwhile, or by the machine: the range has an end
			return n.wrap("make the network", err)
		}
	}
}

// choose takes the lowest piece that is free; there tells that the workspace
// has its network already.
func (n *networks) choose(ctx context.Context, workspace string) (piece netip.Prefix, there bool, err error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	all, err := n.cli.NetworkList(ctx, client.NetworkListOptions{})
	if err != nil {
		return piece, false, n.wrap("look at the networks", err)
	}
	var used []netip.Prefix
	for _, one := range all.Items {
		if one.Labels[LabelInstallation] == n.Installation && one.Labels[LabelWorkspace] == workspace {
			return piece, true, nil
		}
		for _, c := range one.IPAM.Config {
			if c.Subnet.IsValid() && c.Subnet.Overlaps(n.Addresses) {
				used = append(used, c.Subnet)
			}
		}
	}
	if n.making == nil {
		n.making, n.refused = map[netip.Prefix]bool{}, map[netip.Prefix]bool{}
	}
	piece, ok := free(n.Addresses, used, func(p netip.Prefix) bool { return n.making[p] || n.refused[p] })
	if !ok {
		clear(n.refused) // what has had one may have let it go by the next launch
		return piece, false, yard.Refused("the address range %s is used up; give the service a larger one", n.Addresses)
	}
	n.making[piece] = true
	return piece, false, nil
}

// remove takes a workspace's network away. There may be two of its name: an engine
// that was asked for one by a service that was killed then, may make it after the
// service that followed has asked for it again.
func (n *networks) remove(ctx context.Context, workspace string) error {
	return n.removeNetworks(ctx, workspace, 0)
}

// single leaves a workspace one network, where a service that was killed has made
// another: with two of a name an engine starts no container in either.
func (e *conn) single(ctx context.Context, workspace string) error {
	return e.removeNetworks(ctx, workspace, 1)
}

// removeNetworks removes a workspace's networks, but for the oldest of them.
func (e *conn) removeNetworks(ctx context.Context, workspace string, but int) error {
	all, err := e.cli.NetworkList(ctx, client.NetworkListOptions{Filters: e.mine(workspace)})
	if err != nil {
		return e.wrap("look at the networks", err)
	}
	slices.SortFunc(all.Items, func(a, b network.Summary) int { return a.Created.Compare(b.Created) })
	for _, one := range all.Items[min(but, len(all.Items)):] {
		if _, err := e.cli.NetworkRemove(ctx, one.ID, client.NetworkRemoveOptions{}); err != nil && gone(err) != nil {
			return e.wrap("remove the network", err)
		}
	}
	return nil
}

// ambiguous tells that an engine knows two networks of a name.
func ambiguous(err error) bool { return err != nil && strings.Contains(err.Error(), "is ambiguous") }

// free is the lowest piece of a range that overlaps with nothing used and is
// not passed over.
func free(from netip.Prefix, used []netip.Prefix, over func(netip.Prefix) bool) (netip.Prefix, bool) {
	if !from.Addr().Is4() || from.Bits() > subnetBits {
		return netip.Prefix{}, false
	}
	exact := map[netip.Prefix]bool{}
	var wide []netip.Prefix
	for _, u := range used {
		if u.Bits() == subnetBits {
			exact[u.Masked()] = true
		} else {
			wide = append(wide, u)
		}
	}
	a := from.Addr().As4()
	base := uint64(a[0])<<24 | uint64(a[1])<<16 | uint64(a[2])<<8 | uint64(a[3])
next:
	for i := uint64(0); i < 1<<(subnetBits-from.Bits()); i++ {
		at := base + i<<(32-subnetBits)
		p := netip.PrefixFrom(netip.AddrFrom4([4]byte{byte(at >> 24), byte(at >> 16), byte(at >> 8), byte(at)}), subnetBits)
		if exact[p] || over(p) {
			continue
		}
		for _, w := range wide {
			if w.Overlaps(p) {
				continue next
			}
		}
		return p, true
	}
	return netip.Prefix{}, false
}
