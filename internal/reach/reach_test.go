package reach

import (
	"net/netip"
	"testing"
)

func TestWhereAddressesLead(t *testing.T) {
	for address, want := range map[string]struct{ open, machine bool }{
		"198.51.100.9": {true, false}, "2606:2800::1": {true, false},
		"10.1.2.3": {false, false}, "192.168.0.1": {false, false}, "fd00::1": {false, false},
		"127.0.0.1": {false, true}, "::1": {false, true}, "0.0.0.0": {false, true}, "::": {false, true}, "::ffff:127.0.0.1": {false, true},
		"169.254.169.254": {false, true}, "fe80::1%lo": {false, true}, "224.0.0.1": {false, true}, "100.64.0.1": {false, true}, "64:ff9b::7f00:1": {false, true},
	} {
		a := netip.MustParseAddr(address)
		if Open(a) != want.open || Machine(a) != want.machine {
			t.Errorf("%s is open: %v, the machine's: %v", address, Open(a), Machine(a))
		}
	}
	for host, fine := range map[string]bool{"127.0.0.1": false, "10.1.2.3": true, "localhost": false, "x.localhost": false, "no-such-host.invalid": false, "": false, "::1": false} {
		if err := NotTheMachine(t.Context(), host); (err == nil) != fine {
			t.Errorf("%q: %v", host, err)
		}
	}
}
