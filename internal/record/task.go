package record

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"yardbench/internal/core/cast"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
)

// awayMost is how long a recording waits for a workspace that is away.
const awayMost = 15 * time.Minute

// task is a recording that goes on.
type task struct {
	r    *Recorder
	w    store.Workspace
	stop context.CancelCauseFunc
	done chan struct{}

	mu    sync.Mutex
	rec   store.Recording
	file  *os.File
	rest  []byte // of a character whose end has not come
	pace  *rate.Limiter
	left  int64 // bytes that were left out
	notes *time.Timer
	wrong error // the file could not be written
}

func (t *task) now() store.Recording {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.noted()
}

// noted is the recording as it can be gone on with: up to a whole character. t.mu is
// held.
func (t *task) noted() store.Recording {
	rec := t.rec
	rec.Place -= int64(len(t.rest))
	return rec
}

// run records until the terminal ends, somebody ends it, or the service does: then it
// goes on when that is there again.
func (t *task) run(ctx context.Context) {
	why := t.record(ctx)
	if cause, ok := errors.AsType[ended](context.Cause(ctx)); ok {
		why = string(cause)
	}
	t.mu.Lock()
	if t.notes != nil {
		t.notes.Stop()
	}
	if t.file != nil {
		t.wrong = errors.Join(t.wrong, t.file.Sync(), t.file.Close())
	}
	rec, wrong := t.noted(), t.wrong
	t.mu.Unlock()
	if wrong != nil && why != "" {
		slog.Error("a recording", "recording", rec.ID, "error", wrong)
		why = "it could not be written"
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	err := t.r.Store.Write(last, func(tx *store.Tx) error {
		if why == "" {
			return tx.NoteRecording(last, rec)
		}
		return tx.EndRecording(last, t.w, rec, why, "service")
	})
	if err != nil {
		slog.Error("a recording", "recording", rec.ID, "error", err)
	}
	t.r.mu.Lock()
	delete(t.r.on, key(t.w.ID, rec.Terminal))
	t.r.mu.Unlock()
	t.r.Told(t.w.ID, rec.Terminal, false)
	close(t.done)
	if why == full && !rec.Asked { // the next one goes on where it ended
		next := store.Recording{ID: store.NewID(), WorkspaceID: rec.WorkspaceID, OwnerID: rec.OwnerID, Terminal: rec.Terminal, Life: rec.Life, Place: rec.Place, BeganAt: t.r.Now().UTC()}
		if err := t.r.Store.Write(last, func(tx *store.Tx) error {
			if err := tx.BeginRecording(last, t.w, next, "service"); err != nil {
				return err
			}
			return tx.NoteRecording(last, next)
		}); err != nil {
			slog.Error("a recording", "recording", next.ID, "error", err)
			return
		}
		t.r.follow(next, t.w)
	}
}

// full is why a recording ended that is as long as one may be.
const full = "it is as long as one may be"

// record gives why it ended; "" is with the service.
func (t *task) record(ctx context.Context) (why string) {
	if err := t.open(); err != nil {
		slog.Error("a recording", "recording", t.rec.ID, "error", err)
		return "its file is not what it was"
	}
	var away time.Time
	for wait := 200 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		rec := t.now()
		c, err := t.r.Hub.Ask(ctx, outside.Link(t.w.ID, t.w.Body), steward.Request{Kind: steward.Terminal, ID: rec.Terminal, Looks: true, Records: true, Typist: rand.Text(), Life: rec.Life, From: rec.Place})
		switch _, refused := errors.AsType[outside.Refused](err); {
		case ctx.Err() != nil:
			return ""
		case refused:
			return "the terminal has ended"
		case err == nil:
			away, wait = time.Time{}, 200*time.Millisecond
			if why := t.take(ctx, c); why != "" || ctx.Err() != nil {
				return why
			}
		}
		w, err := t.r.Store.Read().WorkspaceByID(ctx, t.w.ID)
		switch {
		case ctx.Err() != nil:
			return ""
		case err == nil && w.Body != t.w.Body, err == nil && w.Phase != lifecycle.Ready:
			return "its container has ended"
		case away.IsZero():
			away = time.Now()
		case time.Since(away) > awayMost:
			return "the workspace was away too long"
		}
		select {
		case <-ctx.Done():
			return ""
		case <-time.After(wait):
		}
	}
}

// open opens the file where the recording stands: what was written after that was
// noted last is written again.
func (t *task) open() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.pace = rate.NewLimiter(perSecond, burst)
	f, err := os.OpenFile(t.r.path(t.rec.ID), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	t.file = f
	info, err := f.Stat()
	if err == nil && info.Size() < t.rec.Bytes {
		err = fmt.Errorf("it has %d bytes of %d", info.Size(), t.rec.Bytes)
	}
	if err == nil {
		err = f.Truncate(t.rec.Bytes)
	}
	if err == nil {
		_, err = f.Seek(t.rec.Bytes, 0)
	}
	return err
}

// take takes what the terminal prints until the link to it breaks, with "", or it is
// over.
func (t *task) take(ctx context.Context, c *steward.Conn) (why string) {
	defer c.Stream.Close()
	stop := context.AfterFunc(ctx, func() { c.Stream.Close() })
	defer stop()
	var buf []byte
	for {
		k, p, err := c.ReceiveFrameIn(buf)
		if err != nil {
			return ""
		}
		if cap(p) > cap(buf) {
			buf = p[:0]
		}
		if k == steward.Ended {
			return "the terminal has ended"
		}
		if why := t.frame(k, p); why != "" {
			return why
		}
	}
}

func (t *task) frame(k steward.FrameKind, p []byte) (why string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch k {
	case steward.Placed:
		var at steward.Place
		if json.Unmarshal(p, &at) != nil || len(at.Life) > 64 || at.At < 0 {
			return "what its helper says makes no sense"
		}
		if has := t.noted().Place; t.rec.Life != "" && at.At > has {
			t.left += at.At - has // it is not kept any more
		}
		if t.rec.Life == "" && t.notes == nil { // from here it is gone on with
			t.notes = time.AfterFunc(0, t.note)
		}
		t.rec.Life, t.rec.Place, t.rest = at.Life, at.At, nil
	case steward.Resize:
		var size steward.Size
		if json.Unmarshal(p, &size) != nil || size.Columns < 1 || size.Rows < 1 || size.Columns > 2000 || size.Rows > 2000 {
			return "what its helper says makes no sense"
		}
		if t.rec.Bytes == 0 {
			t.write(cast.Begin(size.Columns, size.Rows, t.rec.BeganAt, t.w.Name+": "+t.rec.Terminal))
		} else {
			t.event(cast.Resize, cast.Size(size.Columns, size.Rows))
		}
	case steward.Output:
		t.output(p)
	}
	switch {
	case t.wrong != nil:
		return "it could not be written"
	case t.rec.Bytes > cmp.Or(t.r.Most, maxBytes):
		return full
	}
	return ""
}

// output writes what was printed. t.mu is held.
func (t *task) output(p []byte) {
	t.rec.Place += int64(len(p))
	if t.rec.Bytes == 0 { // a helper that knows no sizes
		t.write(cast.Begin(80, 24, t.rec.BeganAt, t.w.Name+": "+t.rec.Terminal))
	}
	if !t.pace.AllowN(time.Now(), len(p)) {
		t.left += int64(len(t.rest) + len(p))
		t.rest = nil
		return
	}
	if t.left > 0 {
		t.event(cast.Mark, fmt.Sprintf("%d bytes are left out here", t.left))
		t.left = 0
	}
	whole, rest := cast.Whole(append(t.rest, p...))
	t.rest = append([]byte(nil), rest...)
	if len(whole) > 0 {
		t.event(cast.Output, string(whole))
	}
}

func (t *task) event(kind, text string) {
	t.write(cast.Event{At: t.r.Now().Sub(t.rec.BeganAt), Kind: kind, Text: text}.Line())
}

// write writes a line, and has it noted soon how far it has come. t.mu is held.
func (t *task) write(line []byte) {
	if t.wrong != nil {
		return
	}
	if _, t.wrong = t.file.Write(line); t.wrong != nil {
		return
	}
	t.rec.Bytes += int64(len(line))
	if t.notes == nil {
		t.notes = time.AfterFunc(noteEvery, t.note)
	}
}

// note notes how far it has come: what is on disk, and no more.
func (t *task) note() {
	t.mu.Lock()
	t.notes = nil
	err := t.file.Sync()
	rec := t.noted()
	t.mu.Unlock()
	select {
	case <-t.done:
		return
	default:
	}
	if err == nil {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		err = t.r.Store.Write(ctx, func(tx *store.Tx) error { return tx.NoteRecording(ctx, rec) })
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) { // it may have ended meanwhile
		slog.Warn("a recording", "recording", rec.ID, "error", err)
	}
}
