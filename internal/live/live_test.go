package live

import (
	"fmt"
	"sync"
	"testing"
)

// However many publish, and however slow a watcher is, it is told of every
// topic, nobody waits, and nothing grows with repetition.
func TestEveryWatcherIsTold(t *testing.T) {
	var b Bus
	slow, gone := b.Watch(), b.Watch()
	gone.Close()
	var wg sync.WaitGroup
	for i := range 50 {
		wg.Go(func() {
			for range 200 {
				b.Publish(fmt.Sprint(i))
			}
		})
	}
	wg.Wait()
	<-slow.C
	if got := slow.Take(); len(got) != 50 {
		t.Errorf("a slow watcher is told of %d topics", len(got))
	}
	select {
	case <-slow.C:
		t.Error("it is told again of what it took")
	default:
	}
	if len(gone.Take()) != 0 || len(b.subs) != 1 {
		t.Error("who left is still told")
	}
}
