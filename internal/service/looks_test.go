package service

import (
	"context"
	"errors"
	"strings"
	"testing"

	"yardbench/internal/core/definition"
)

// A reader that fails takes nobody with it, and a look ends with whoever asked
// for it; the next one finds a place all the same.
func TestLooks(t *testing.T) {
	l := newLooks()
	src := func(read func(string) ([]byte, bool)) definition.Source {
		return definition.Source{Repository: "tide-board", Read: read}
	}
	for range 2 * cap(l.slots) {
		if _, _, err := l.check(t.Context(), src(func(string) ([]byte, bool) { panic("rubbish") })); err == nil || !strings.Contains(err.Error(), "cannot be read") {
			t.Fatalf("a reader that fails says %v", err)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	hold := make(chan struct{})
	_, _, err := l.check(ctx, src(func(string) ([]byte, bool) { cancel(); <-hold; return nil, false }))
	if !errors.Is(err, context.Canceled) {
		t.Errorf("a look that nobody waits for says %v", err)
	}
	close(hold)
	def, _, err := l.check(t.Context(), src(func(p string) ([]byte, bool) { return []byte(`{"image": "a:1"}`), p == definition.Places[0] }))
	if err != nil || def.Image != "a:1" {
		t.Errorf("the next look gives %+v, %v", def, err)
	}
}
