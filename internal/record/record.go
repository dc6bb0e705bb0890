// Package record keeps what terminals print, in files of the open format asciicast.
// It looks at a terminal as a guest does, through the steward, so that nobody need be
// at it; it knows how far each recording has come, and goes on there after a restart.
//
// It may touch the records, the links to stewards and its own folder. What is typed
// is not kept.
package record

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"yardbench/internal/core/rules"
	"yardbench/internal/steward"
	"yardbench/internal/store"
)

// Bounds of recordings.
const (
	maxBytes = 64 << 20 // of one
	maxAll   = 8 << 30  // of all together; the oldest go for it
	// A terminal that prints more than so much is left out in part.
	perSecond = 256 << 10
	burst     = 4 << 20
)

const (
	noteEvery  = 5 * time.Second
	sweepEvery = 5 * time.Second
	dropAtOnce = 200
)

// Hub is what is asked of the links to stewards.
type Hub interface {
	Ask(ctx context.Context, link string, r steward.Request) (*steward.Conn, error)
}

// Recorder records terminals.
type Recorder struct {
	Dir   string
	Store *store.Store
	Hub   Hub
	Rules func(context.Context) (rules.Rules, error)
	Now   func() time.Time
	// Every is how often the house rules are looked at, and Most how long a file may be;
	// 0 is the usual.
	Every time.Duration
	Most  int64
	// Told is told when a terminal begins or ceases to be recorded.
	Told func(workspace, terminal string, recorded bool)

	mu  sync.Mutex
	ctx context.Context // of the service; nil before Run
	on  map[string]*task
	all sync.WaitGroup

	summed time.Time // when all were last within the bound; the sweep's own
}

func key(workspace, terminal string) string { return workspace + " " + terminal }

// Run goes on with the recordings that went on when the service ended, and keeps all
// to what the house rules say until ctx ends.
func (r *Recorder) Run(ctx context.Context) error {
	if err := os.MkdirAll(r.Dir, 0o700); err != nil {
		return fmt.Errorf("the folder of recordings: %w", err)
	}
	open, err := r.Store.Read().OpenRecordings(ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	r.ctx = ctx
	r.mu.Unlock()
	for _, rec := range open {
		w, err := r.Store.Read().WorkspaceByID(ctx, rec.WorkspaceID)
		if err != nil {
			return err
		}
		r.follow(rec, w)
	}
	r.all.Go(func() {
		tick := time.NewTicker(cmp.Or(r.Every, sweepEvery))
		defer tick.Stop()
		for {
			if err := r.sweep(ctx); err != nil && ctx.Err() == nil {
				slog.Warn("recordings", "error", err)
			}
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
		}
	})
	return nil
}

// Wait waits until nothing is written any more, after the end of Run's context.
func (r *Recorder) Wait() { r.all.Wait() }

// Begin begins to record a terminal that is open, or tells of the recording that goes
// on. One that the house rules have is not asked.
func (r *Recorder) Begin(ctx context.Context, w store.Workspace, terminal string, asked bool, actor string) (store.Recording, error) {
	r.mu.Lock()
	t, ends := r.on[key(w.ID, terminal)], r.ctx
	r.mu.Unlock()
	if ends == nil {
		return store.Recording{}, errors.New("recordings are not kept here")
	}
	if t != nil {
		return t.now(), nil
	}
	rec := store.Recording{ID: store.NewID(), WorkspaceID: w.ID, OwnerID: w.OwnerID, Terminal: terminal, Asked: asked, BeganAt: r.Now().UTC()}
	if err := r.Store.Write(ctx, func(tx *store.Tx) error { return tx.BeginRecording(ctx, w, rec, actor) }); err != nil {
		return rec, err
	}
	if was := r.follow(rec, w); was != nil { // somebody was as quick
		return was.now(), r.Store.Write(ctx, func(tx *store.Tx) error {
			return tx.EndRecording(ctx, w, rec, "it was begun twice", actor)
		})
	}
	return rec, nil
}

// follow records from where a recording stands. It gives the one that goes on
// already, if there is one.
func (r *Recorder) follow(rec store.Recording, w store.Workspace) (was *task) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if t := r.on[key(w.ID, rec.Terminal)]; t != nil {
		return t
	}
	if r.on == nil {
		r.on = map[string]*task{}
	}
	ctx, stop := context.WithCancelCause(r.ctx)
	t := &task{r: r, rec: rec, w: w, stop: stop, done: make(chan struct{})}
	r.on[key(w.ID, rec.Terminal)] = t
	r.Told(w.ID, rec.Terminal, true)
	r.all.Go(func() {
		defer stop(nil)
		t.run(ctx)
	})
	return nil
}

// End ends a recording that goes on.
func (r *Recorder) End(ctx context.Context, rec store.Recording, why string) {
	r.mu.Lock()
	t := r.on[key(rec.WorkspaceID, rec.Terminal)]
	r.mu.Unlock()
	if t == nil || t.now().ID != rec.ID {
		return
	}
	t.stop(ended(why))
	select {
	case <-t.done:
	case <-ctx.Done():
	}
}

// ended is the cause of a recording that somebody ends.
type ended string

func (e ended) Error() string { return string(e) }

// Progress is a recording as far as it has come.
func (r *Recorder) Progress(rec store.Recording) store.Recording {
	r.mu.Lock()
	t := r.on[key(rec.WorkspaceID, rec.Terminal)]
	r.mu.Unlock()
	if t != nil {
		if now := t.now(); now.ID == rec.ID {
			return now
		}
	}
	return rec
}

// On tells whether a terminal is recorded.
func (r *Recorder) On(workspace, terminal string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.on[key(workspace, terminal)] != nil
}

func (r *Recorder) path(id string) string { return filepath.Join(r.Dir, id+".cast") }

// Open opens what a recording holds, as far as it has come.
func (r *Recorder) Open(rec store.Recording) (io.ReadCloser, error) { return os.Open(r.path(rec.ID)) }

// Remove removes a recording that has ended.
func (r *Recorder) Remove(ctx context.Context, rec store.Recording, also func(tx *store.Tx) error) error {
	// The file first: what is forgotten half has no content.
	if err := os.Remove(r.path(rec.ID)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("remove a recording: %w", err)
	}
	return r.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropRecording(ctx, rec.ID); err != nil {
			return err
		}
		return also(tx)
	})
}

// sweep ends what the house rules do not have any more, and removes what is too old,
// or too much.
func (r *Recorder) sweep(ctx context.Context) error {
	house, err := r.Rules(ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	var over []*task
	for _, t := range r.on {
		if way := house.Terminals.Recording; way == "" || way == rules.RecordAsked && !t.now().Asked {
			over = append(over, t)
		}
	}
	r.mu.Unlock()
	for _, t := range over {
		t.stop(ended("the house rules do not have it any more"))
	}
	most := cmp.Or(house.Terminals.RecordingsMost, rules.RecordingsUsual)
	old, err := r.Store.Read().EndedRecordings(ctx, r.Now().Add(-most), dropAtOnce)
	if err != nil {
		return err
	}
	if now := time.Now(); len(old) == 0 && now.Sub(r.summed) > time.Minute {
		n, err := r.Store.Read().RecordedBytes(ctx)
		if err != nil {
			return err
		}
		if n <= maxAll {
			r.summed = now
		} else if old, err = r.Store.Read().EndedRecordings(ctx, r.Now(), 1); err != nil {
			return err
		}
	}
	for _, rec := range old {
		err = errors.Join(err, r.Remove(ctx, rec, func(*store.Tx) error { return nil }))
	}
	return err
}
