// Package reach tells where an address leads: to the open network, within ours,
// or to the machine itself. It asks the machine for its own addresses and for
// names, and nothing else.
package reach

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"
)

// Open tells whether an address is one of the open network.
func Open(a netip.Addr) bool {
	a = a.WithZone("").Unmap()
	return a.IsGlobalUnicast() && !a.IsPrivate() && !a.IsLoopback() && !a.IsLinkLocalUnicast() &&
		!slices.ContainsFunc(special, func(p netip.Prefix) bool { return p.Contains(a) }) && !own(a)
}

// special are what is not of the open network besides (the IANA registries of
// special-purpose addresses, RFC 6890), and what leads to other addresses: by a
// translator (RFC 6052, 8215) or a tunnel (RFC 3056, 4380).
var special = func() (out []netip.Prefix) {
	for _, p := range []string{"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.88.99.0/24", "198.18.0.0/15", "240.0.0.0/4",
		"::/96", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2002::/16", "fec0::/10"} {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}()

// Machine tells whether an address leads to this machine, to what only it
// reaches (link-local addresses, where clouds answer for it), or to nobody in
// particular. Private addresses are not among them.
func Machine(a netip.Addr) bool {
	a = a.WithZone("").Unmap()
	return !a.IsGlobalUnicast() || own(a) || (!a.IsPrivate() && slices.ContainsFunc(special, func(p netip.Prefix) bool { return p.Contains(a) }))
}

// own tells whether an address is one of this machine's own.
func own(a netip.Addr) bool {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return true // nobody knows: it may be
	}
	return slices.ContainsFunc(all, func(n net.Addr) bool {
		p, err := netip.ParsePrefix(n.String())
		return err == nil && p.Addr().Unmap() == a
	})
}

// NotTheMachine says why a host must not be fetched from by somebody who sits
// on the machine: one of the addresses that it has now is the machine's. A host
// whose addresses nobody knows counts as one.
func NotTheMachine(ctx context.Context, host string) error {
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return fmt.Errorf("%s is the machine itself", host)
	}
	if a, err := netip.ParseAddr(host); err == nil {
		if Machine(a) {
			return fmt.Errorf("%s is the machine's own, or only it reaches it", host)
		}
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	addrs, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil || len(addrs) == 0 {
		return fmt.Errorf("nobody here knows the address of %q", host)
	}
	for _, a := range addrs {
		if Machine(a) {
			return fmt.Errorf("%s leads to %s, which is the machine's own, or only it reaches it", host, a)
		}
	}
	return nil
}

// SafeWay tells whether nobody sits between people and an address: it is spoken
// to by TLS, or is this machine.
func SafeWay(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	ip, err := netip.ParseAddr(u.Hostname())
	return u.Scheme == "https" || u.Hostname() == "localhost" || strings.HasSuffix(u.Hostname(), ".localhost") || err == nil && ip.IsLoopback()
}
