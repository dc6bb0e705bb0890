package backup

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"yardbench/internal/core/policy"
	"yardbench/internal/store"
	"yardbench/internal/store/blank"
	"yardbench/internal/vault"
)

// followed is a service's data that a trail follows, by a clock of the test's.
type followed struct {
	t     *testing.T
	st    *store.Store
	trail *Trail
	to    string
	mu    sync.Mutex
	at    time.Time
}

func (f *followed) now() time.Time { f.mu.Lock(); defer f.mu.Unlock(); return f.at }

// later moves the clock on.
func (f *followed) later(d time.Duration) time.Time {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.at = f.at.Add(d)
	return f.at
}

func follow(t *testing.T) *followed {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "data")
	if _, err := vault.Open(filepath.Join(dir, "keys", "sealing.json"), nil); err != nil {
		t.Fatal(err)
	}
	f := &followed{t: t, at: time.Date(2026, 3, 14, 9, 0, 0, 0, time.UTC), to: filepath.Join(t.TempDir(), "second place", "trail")}
	f.st = blank.Open(t, filepath.Join(dir, "yardbench.db"), f.now)
	f.write(func(tx *store.Tx) error {
		if err := tx.SetMeta(t.Context(), "installation", "quayside"); err != nil {
			return err
		}
		return tx.AddPerson(t.Context(), store.Person{ID: "p1", Name: "ingrid", Role: policy.Developer})
	})
	var err error
	if f.trail, err = NewTrail(t.Context(), f.st, dir, f.to, phrase, "1", f.now); err != nil {
		t.Fatal(err)
	}
	return f
}

func (f *followed) write(do func(tx *store.Tx) error) {
	f.t.Helper()
	if err := f.st.Write(context.Background(), do); err != nil {
		f.t.Fatal(err)
	}
}

// set writes a state that is told by a number, and as much beside it as is said.
func (f *followed) set(n, bytes int) {
	f.t.Helper()
	f.write(func(tx *store.Tx) error {
		if err := tx.SetMeta(context.Background(), "filling-"+strconv.Itoa(n%7), strings.Repeat(strconv.Itoa(n%10), bytes)); err != nil {
			return err
		}
		return tx.SetMeta(context.Background(), "state", strconv.Itoa(n))
	})
}

// state is which state a backup of a trail has, all of which was found to hold.
func (f *followed) state(trail string, at time.Time) string {
	f.t.Helper()
	to := filepath.Join(f.t.TempDir(), "backup")
	if _, err := FromTrail(f.t.Context(), trail, to, at); err != nil {
		f.t.Fatal(err)
	}
	if _, err := Verify(f.t.Context(), to, Keys{Passphrase: phrase}); err != nil {
		f.t.Fatal(err)
	}
	records := filepath.Join(f.t.TempDir(), "records.db")
	if err := copyFile(filepath.Join(to, recordsFile), records); err != nil {
		f.t.Fatal(err)
	}
	st, err := store.Open(f.t.Context(), records, time.Now)
	if err != nil {
		f.t.Fatal(err)
	}
	defer st.Close()
	is, err := st.Read().Meta(f.t.Context(), "state")
	if err != nil {
		f.t.Fatal(err)
	}
	return is
}

// Whatever is written, however often the log begins anew and whenever the machine is
// gone, each moment that the trail has can be had as it was.
func TestTrail(t *testing.T) {
	f, ctx := follow(t), t.Context()
	want := map[time.Time]int{}
	var moments []time.Time
	for n := range 60 {
		f.set(n, 1+rand.IntN(200_000))
		if n%9 == 4 { // one that is begun and not committed
			_ = f.st.Write(ctx, func(tx *store.Tx) error {
				if err := tx.SetMeta(ctx, "state", "none"); err != nil {
					return err
				}
				return fmt.Errorf("undone")
			})
		}
		at := f.later(time.Minute)
		f.trail.pass(ctx)
		if _, why, behind := f.trail.Behind(); behind {
			t.Fatal(why)
		}
		want[at], moments = n, append(moments, at)
		switch rand.IntN(6) {
		case 0: // the log begins anew
			if err := f.st.Checkpoint(ctx, f.trail.ship); err != nil {
				t.Fatal(err)
			}
		case 1: // a fresh stretch
			f.trail.stretch.began = f.trail.stretch.began.Add(-trailStretch)
		case 2: // the service ended, and another follows
			trail, err := NewTrail(ctx, f.st, f.trail.dir, f.to, phrase, "1", f.now)
			if err != nil {
				t.Fatal(err)
			}
			f.trail = trail
		case 3: // nothing happens for a while
			for range 3 {
				f.later(time.Second)
				f.trail.pass(ctx)
			}
		}
	}
	for _, n := range []int{0, 1, rand.IntN(60), rand.IntN(60), rand.IntN(60), 59} {
		at := moments[n]
		if got := f.state(f.to, at.Add(30*time.Second)); got != strconv.Itoa(want[at]) {
			t.Errorf("as of %s there is state %s, not %d", at, got, want[at])
		}
	}
	if got := f.state(f.to, time.Time{}); got != "59" {
		t.Errorf("the newest is %s", got)
	}
	spans, err := Spans(ctx, f.to)
	if err != nil || len(spans) == 0 || !spans[0].From.Equal(moments[0]) || spans[len(spans)-1].To.Before(moments[59]) || spans[0].Bytes == 0 {
		t.Errorf("it has %+v, %v", spans, err)
	}
	for _, at := range []time.Time{moments[0].Add(-time.Second)} {
		if _, err := FromTrail(ctx, f.to, filepath.Join(t.TempDir(), "x"), at); err == nil || !strings.Contains(err.Error(), "it goes from") {
			t.Errorf("as of %s: %v", at, err)
		}
	}
	if _, err := FromTrail(ctx, t.TempDir(), filepath.Join(t.TempDir(), "x"), time.Time{}); err == nil {
		t.Error("a folder that is no trail gives a backup")
	}
}

// A log that was large once and began anew is small, and is not begun anew each time.
func TestTrailOfMuch(t *testing.T) {
	f, ctx := follow(t), t.Context()
	for n := range 12 { // of a MiB each
		f.set(n, 1<<20)
		f.later(time.Minute)
		f.trail.pass(ctx)
	}
	at := f.trail.stretch.log
	for n := range 10 {
		f.set(20+n, 100)
		f.later(time.Minute)
		f.trail.pass(ctx)
	}
	if more := f.trail.stretch.log - at; at < 1 || at > 3 || more > 1 {
		t.Errorf("of 12 MiB it began %d times, and then %d times more", at, more)
	}
	if st, err := os.Stat(f.trail.log); err != nil || st.Size() > logUsual {
		t.Errorf("the log is %v, %v", st, err)
	}
	if got := f.state(f.to, time.Time{}); got != "29" {
		t.Errorf("there is %s", got)
	}
}

// The machine is gone in the middle of what is written, or what is at the second place is
// damaged: what is sound is had, and what is not is said.
func TestTrailCutOff(t *testing.T) {
	f, ctx := follow(t), t.Context()
	for n := range 4 {
		f.set(n, 20_000)
		f.later(time.Minute)
		f.trail.pass(ctx)
	}
	folder := f.trail.stretch.folder
	log, marks := filepath.Join(folder, "log-000001"), filepath.Join(folder, marksFile)
	whole, err := os.ReadFile(log)
	if err != nil {
		t.Fatal(err)
	}
	put := func(path string, content []byte) {
		t.Helper()
		if err := os.WriteFile(path, content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	put(log, append(bytes.Clone(whole), whole[100:3000]...)) // more than was marked
	lines, err := os.ReadFile(marks)
	if err != nil {
		t.Fatal(err)
	}
	put(marks, append(bytes.Clone(lines), lines[:10]...))
	if got := f.state(f.to, time.Time{}); got != "3" {
		t.Errorf("there is %s", got)
	}
	put(marks, lines)
	refused := func(what string) {
		t.Helper()
		if _, err := FromTrail(ctx, f.to, filepath.Join(t.TempDir(), "x"), time.Time{}); err == nil || !strings.Contains(err.Error(), "damaged") {
			t.Errorf("%s: %v", what, err)
		}
	}
	put(log, whole[:len(whole)-1])
	refused("a log that is cut off")
	bent := bytes.Clone(whole)
	bent[len(bent)/2] ^= 1
	put(log, bent)
	refused("a log with another bit")
	put(log, whole)
	base, err := os.ReadFile(filepath.Join(folder, baseFile))
	if err != nil {
		t.Fatal(err)
	}
	base[5000] ^= 1
	put(filepath.Join(folder, baseFile), base)
	refused("a base with another bit")
}

// While the second place is away the trail is behind, says so, and goes on by itself;
// what others have brought into the database is a gap, behind which a fresh stretch
// begins. What is old goes.
func TestTrailBehind(t *testing.T) {
	f, ctx := follow(t), t.Context()
	f.set(1, 10)
	f.trail.pass(ctx)
	away := f.to + "-away"
	if err := os.Rename(f.to, away); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(f.to, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	f.set(2, 10)
	at := f.later(time.Minute)
	f.trail.pass(ctx)
	f.later(time.Minute)
	f.trail.pass(ctx)
	if since, why, behind := f.trail.Behind(); !behind || !since.Equal(at) || why == nil {
		t.Errorf("behind %t since %s: %v", behind, since, why)
	}
	if err := os.Remove(f.to); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(away, f.to); err != nil {
		t.Fatal(err)
	}
	f.trail.pass(ctx)
	if _, why, behind := f.trail.Behind(); behind {
		t.Errorf("still behind: %v", why)
	}
	if got := f.state(f.to, time.Time{}); got != "2" {
		t.Errorf("there is %s", got)
	}

	for n := 3; n < 6; n++ { // brought into the database twice, unseen
		f.set(n, 10)
		if err := f.st.Checkpoint(ctx, func() error { return nil }); err != nil {
			t.Fatal(err)
		}
	}
	f.set(6, 10)
	before := f.trail.stretch.folder
	f.later(time.Minute)
	f.trail.pass(ctx)
	f.later(time.Minute)
	f.trail.pass(ctx)
	if _, why, behind := f.trail.Behind(); behind || f.trail.stretch.folder == before {
		t.Errorf("behind a gap: %t, %v", behind, why)
	}
	if got := f.state(f.to, time.Time{}); got != "6" {
		t.Errorf("behind the gap there is %s", got)
	}

	for range 10 {
		f.later(trailStretch + time.Minute)
		f.trail.pass(ctx)
	}
	spans, err := Spans(ctx, f.to)
	if err != nil || len(spans) < 7 || len(spans) > 9 || f.now().Sub(spans[0].To) < trailKept-trailStretch {
		t.Errorf("%d are kept, from %v, %v", len(spans), spans, err)
	}
	if _, err := NewTrail(ctx, f.st, f.trail.dir, filepath.Join(f.trail.dir, "trail"), "", "1", f.now); err == nil {
		t.Error("a trail in the data directory itself is one")
	}
}
