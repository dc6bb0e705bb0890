package reconcile

import (
	"context"
	"errors"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"yardbench/internal/presence"
	"yardbench/internal/steward"
)

// faltering are stewards of whom the connected one does not answer well at first.
type faltering struct {
	Stewards
	asked atomic.Int64
	up    atomic.Bool
}

func (f *faltering) Connected(string) bool { return f.up.Load() }

func (f *faltering) Ask(context.Context, string, steward.Request) (*steward.Conn, error) {
	n := f.asked.Add(1)
	if n == 1 {
		return nil, errors.New("too many streams")
	}
	ours, theirs := net.Pipe()
	go func() {
		c := &steward.Conn{Stream: theirs}
		if n == 2 {
			_ = c.Send([]int{1, 2, 3}) // no status
			return
		}
		for c.Send(steward.Status{TypedMS: 0, ReadMS: -1, BusyMS: -1}) == nil {
			time.Sleep(50 * time.Millisecond)
		}
	}()
	return &steward.Conn{Stream: ours}, nil
}

// What a steward says is followed as long as it is connected, whatever goes
// wrong in between: else a workspace is put to rest while somebody types.
func TestAStewardIsFollowedWhateverGoesWrong(t *testing.T) {
	f := &faltering{}
	f.up.Store(true)
	b := newBench(t, func(r *Rooms) { r.Hub = f })
	b.Followers.StewardChanged("w-b1")
	defer f.up.Store(false)
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		typed := false
		b.board.With("w", func(s *presence.Status) { typed = !s.Signs.Typed.IsZero() })
		if typed {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("asked %d times, and nothing is known", f.asked.Load())
		}
	}
	b.Followers.StewardChanged("w-b1") // it connects anew: the follower before has gone
	time.Sleep(200 * time.Millisecond)
	b.Followers.mu.Lock()
	n := len(b.Followers.of)
	b.Followers.mu.Unlock()
	if n != 1 {
		t.Errorf("there are %d followers", n)
	}
}
