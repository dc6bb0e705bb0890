package service

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/trouble"
	"yardbench/wire"
)

// What is looked at now and then is told from when it was first seen, until it is over;
// nobody's work is said to wait for it.
func TestHealth(t *testing.T) {
	s, _, _ := bare(t)
	if !slices.Equal(wire.Troubles, trouble.Kinds) {
		t.Errorf("the API knows the kinds %v, the core %v", wire.Troubles, trouble.Kinds)
	}
	key := filepath.Join(t.TempDir(), "keys", "sealing.json")
	put := func() {
		if err := os.MkdirAll(filepath.Dir(key), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(key, []byte("{}"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	put()
	now := time.Now().Add(time.Minute)
	s.Service.Health.keys, s.Service.Health.now = []string{key}, func() time.Time { return now }
	seen := func(status string, kinds ...string) wire.Health {
		t.Helper()
		s.Service.Health.look(t.Context())
		h := s.Service.Health.Health()
		var got []string
		for _, x := range h.Troubles {
			if x.Kind != trouble.DiskFilling && x.Kind != trouble.DiskNearlyFull { // of this machine
				got = append(got, x.Kind)
			}
		}
		if !slices.Equal(got, kinds) || len(got) == len(h.Troubles) && h.Status != status {
			t.Errorf("it says %+v, want %s with %v", h, status, kinds)
		}
		return h
	}
	seen("ok")
	if err := os.Remove(key); err != nil {
		t.Fatal(err)
	}
	first := seen("warned", trouble.KeysGone).Troubles[0]
	if first.Grave || strings.Contains(first.Text, t.TempDir()) || !strings.Contains(first.Text, "keys/sealing.json") {
		t.Errorf("of a key that is gone it says %+v", first)
	}
	now = now.Add(time.Minute)
	if again := seen("warned", trouble.KeysGone).Troubles[0]; !again.Since.Equal(first.Since) {
		t.Errorf("a minute later it is so since %s", again.Since)
	}
	put()
	seen("ok")
	now = now.Add(-3 * time.Hour)
	seen("warned", trouble.ClockBack)
	now = now.Add(3 * time.Hour)
	seen("ok")
}
