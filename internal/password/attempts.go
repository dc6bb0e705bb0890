package password

import (
	"net/netip"
	"sync"
	"time"
)

// Bounds on sign-ins that fail, within a window.
const (
	window    = 5 * time.Minute
	perName   = 10
	perSource = 100  // several people may come from one address
	perRest   = 1000 // for all that there is no room to count apart
	maxKept   = 20_000
)

// Attempts counts sign-ins by name and by address. The zero value works.
type Attempts struct {
	mu        sync.Mutex
	of        map[string][]time.Time
	forgotten time.Time // when those outside the window were last forgotten
}

// Begin counts an attempt before it is tried: many at once are not more than
// one after the other. ok is false where there were too many; succeeded takes
// it back, and so does untried, for one that nothing was held against.
func (a *Attempts) Begin(name, from string, now time.Time) (succeeded, untried func(), ok bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.of == nil {
		a.of = map[string][]time.Time{}
	}
	keys := []struct {
		key  string
		most int
	}{{"name " + name, perName}, {"from " + source(from), perSource}}
	for i, k := range keys {
		recent := a.recent(k.key, now)
		if _, known := a.of[k.key]; !known && len(a.of) >= maxKept {
			a.forget(now)
			if len(a.of) >= maxKept { // a flood of names: they are counted together
				keys[i].key, keys[i].most = "the rest", perRest
				recent = a.recent(keys[i].key, now)
			}
		}
		if len(recent) >= keys[i].most {
			return nil, nil, false
		}
	}
	for _, k := range keys {
		a.of[k.key] = append(a.recent(k.key, now), now)
	}
	drop := func(key string) {
		if all := a.of[key]; len(all) > 0 {
			a.of[key] = all[:len(all)-1]
		}
	}
	return func() {
			a.mu.Lock()
			defer a.mu.Unlock()
			delete(a.of, keys[0].key) // whoever knows the password begins afresh
			drop(keys[1].key)
		}, func() {
			a.mu.Lock()
			defer a.mu.Unlock()
			drop(keys[0].key)
			drop(keys[1].key)
		}, true
}

// recent are a key's attempts within the window.
func (a *Attempts) recent(key string, now time.Time) (kept []time.Time) {
	for _, t := range a.of[key] {
		if now.Sub(t) < window {
			kept = append(kept, t)
		}
	}
	return kept
}

// forget drops what lies outside the window.
func (a *Attempts) forget(now time.Time) {
	if now.Sub(a.forgotten) < window/10 { // it looks at all there is
		return
	}
	a.forgotten = now
	for key := range a.of {
		if len(a.recent(key, now)) == 0 {
			delete(a.of, key)
		}
	}
}

// source is what is counted as one address: of IPv6 the network that one
// subscriber has.
func source(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if a = a.Unmap(); a.Is6() {
		p, _ := a.Prefix(64) // never fails for 64 of 128
		return p.String()
	}
	return a.String()
}
