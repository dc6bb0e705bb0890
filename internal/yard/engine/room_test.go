package engine

import (
	"context"
	"errors"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"yardbench/internal/yard"
)

// A disk is short below a twentieth, a large one below 4 GiB; what goes on then
// ends and says why, and ends by itself else.
func TestRoom(t *testing.T) {
	const gib = 1 << 30
	var left atomic.Int64
	d := disk{root: "/engine", stat: func(path string, to *unix.Statfs_t) error {
		if path != "/engine" {
			return errors.New("elsewhere")
		}
		to.Bsize, to.Blocks, to.Bavail = 4096, 40*gib/4096, uint64(left.Load())/4096
		return nil
	}}
	for n, want := range map[int64]bool{0: true, 2*gib - 4096: true, 2 * gib: false, 40 * gib: false} {
		left.Store(n)
		if _, short := d.short(); short != want {
			t.Errorf("%d of 40 GiB are short: %v", n, short)
		}
	}
	if floor(1<<40) != 4<<30 || floor(10<<30) != (10<<30)/20 {
		t.Errorf("of 1 TiB %d are to be left, of 10 GiB %d", floor(1<<40), floor(10<<30))
	}
	if _, short := (disk{stat: d.stat}).short(); short {
		t.Error("a disk elsewhere is short")
	}
	left.Store(3 * gib)
	ctx, end := d.within(t.Context(), time.Millisecond)
	defer end()
	time.Sleep(20 * time.Millisecond)
	if ctx.Err() != nil {
		t.Fatalf("with room it is %v", context.Cause(ctx))
	}
	left.Store(gib)
	select {
	case <-ctx.Done():
	case <-time.After(10 * time.Second):
		t.Fatal("without room it goes on")
	}
	if err := context.Cause(ctx); !errors.Is(err, yard.ErrRefused) || !strings.Contains(err.Error(), "only 1 GiB left") {
		t.Errorf("it says %v", err)
	}
	if got := most(map[string]int64{"a": 300 << 20, "b": 2 << 30, "c": 2 << 30, "": 9 << 30}); got != "b" {
		t.Errorf("most has written %q", got)
	}
	if got := most(map[string]int64{"a": 200 << 20}); got != "" {
		t.Errorf("one who wrote little is asked to stop: %q", got)
	}
}
