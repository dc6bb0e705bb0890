package due

import (
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// In the order of time, each name once, moved and dropped as was said last.
func TestOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var q Queue
		var mu sync.Mutex
		var done []string
		begin := time.Now()
		set := func(name string, after time.Duration) {
			q.Set(name, begin.Add(after), func(context.Context) error {
				mu.Lock()
				defer mu.Unlock()
				done = append(done, name+" "+time.Since(begin).String())
				return nil
			})
		}
		set("c", 3*time.Hour)
		set("a", time.Second)
		set("b", time.Minute)
		set("gone", 2*time.Second)
		set("b", 2*time.Minute)
		q.Drop("gone")
		ctx, cancel := context.WithCancel(t.Context())
		go q.Run(ctx, time.Now)
		synctest.Wait()
		set("early", 500*time.Millisecond)
		time.Sleep(4 * time.Hour)
		cancel()
		synctest.Wait()
		if got := strings.Join(done, ", "); got != "early 500ms, a 1s, b 2m0s, c 3h0m0s" {
			t.Errorf("it was done: %s", got)
		}
	})
}

// What fails is done again, after growing waits, whatever the clock is set to;
// what was said meanwhile counts.
func TestAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var q Queue
		var offset atomic.Int64
		clock := func() time.Time { return time.Now().Add(time.Duration(offset.Load())) }
		begin := time.Now()
		var at []time.Duration
		q.Set("x", begin, func(context.Context) error {
			if at = append(at, time.Since(begin)); len(at) == 2 {
				offset.Store(-int64(time.Hour)) // the clock is set back
			}
			if len(at) < 5 {
				return errors.New("the disk is full")
			}
			return nil
		})
		replaced, dropped := 0, 0
		q.Set("replaced", begin, func(context.Context) error {
			replaced++
			q.Set("replaced", begin.Add(10*time.Second), func(context.Context) error { replaced += 10; return nil })
			return errors.New("no")
		})
		q.Set("dropped", begin, func(context.Context) error { dropped++; q.Drop("dropped"); return errors.New("no") })
		ctx, cancel := context.WithCancel(t.Context())
		go q.Run(ctx, clock)
		time.Sleep(2 * time.Hour)
		cancel()
		synctest.Wait()
		want := []time.Duration{0, time.Second, 3 * time.Second, 7 * time.Second, 15 * time.Second}
		if len(at) != len(want) || replaced != 11 || dropped != 1 {
			t.Fatalf("tried at %v; replaced %d, dropped %d", at, replaced, dropped)
		}
		for i := range want {
			if at[i] != want[i] {
				t.Errorf("tried at %v, not %v", at, want)
			}
		}
	})
}

// However much is due at once, so much is done at once, and all of it in the
// end; Run waits for what has begun.
func TestAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var q Queue
		var now, peak, all atomic.Int64
		for i := range 1000 {
			q.Set(string(rune('a'+i%26))+time.Duration(i).String(), time.Now(), func(context.Context) error {
				n := now.Add(1)
				for p := peak.Load(); n > p && !peak.CompareAndSwap(p, n); p = peak.Load() {
				}
				time.Sleep(time.Second)
				now.Add(-1)
				all.Add(1)
				return nil
			})
		}
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan bool)
		go func() { q.Run(ctx, time.Now); close(ended) }()
		time.Sleep(time.Minute)
		q.Set("last", time.Now(), func(context.Context) error { time.Sleep(time.Second); all.Add(1); return nil })
		synctest.Wait()
		cancel()
		<-ended
		if peak.Load() != most || all.Load() != 1001 {
			t.Errorf("%d at once, %d in all", peak.Load(), all.Load())
		}
	})
}
