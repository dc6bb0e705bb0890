package backup

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"yardbench/internal/durable"
	"yardbench/internal/store"
)

// A trail is a copy of the records at a second place that follows them while the service
// runs, so that what a machine takes with it is a few seconds, and records can be had as
// they were at a moment. It is a folder of stretches, each of which is a folder:
// base.db, a copy of the database, page by page; log-N, the write-ahead logs since, as
// SQLite wrote them, each to the end of a transaction; marks, a line of JSON for each
// moment that can be had, by how far the logs go; and stretch.json, written last.
// keys/ has the keys, each time they were others, sealed as in a backup.

const (
	trailEvery   = 2 * time.Second
	trailStretch = 24 * time.Hour // after which a fresh one begins
	trailKept    = 7 * 24 * time.Hour
	beginAgain   = 30 * time.Second
	// mostStretches bounds them where the service is started again and again.
	mostStretches = 40
	// logUsual is how large the write-ahead log becomes before it is brought into the
	// database, and logMost before that is done though it could not be followed: there is
	// a gap then.
	logUsual = 8 << 20
	logMost  = 512 << 20

	stretchFile = "stretch.json"
	trailTime   = "20060102T150405.000Z" // in names, of UTC
	baseFile    = "base.db"
	marksFile   = "marks"
)

// Stretch says what a part of a trail is.
type Stretch struct {
	Form         int       `json:"form"`
	BeganAt      time.Time `json:"began_at"`
	Version      string    `json:"version"`
	RecordsForm  int64     `json:"records_form"`
	Installation string    `json:"installation"`
	Base         File      `json:"base"`
}

// mark is a moment that can be had.
type mark struct {
	At    time.Time `json:"at"`
	Log   int       `json:"log"`   // the last that counts; those before count whole
	Bytes int64     `json:"bytes"` // of it
}

// Trail follows the records of a service.
type Trail struct {
	dir, to, passphrase, version string
	store                        *store.Store
	now                          func() time.Time
	log                          string // the write-ahead log
	stretch                      *stretch
	keys                         []byte // as they were written last
	tried                        time.Time
	failed                       error // of the last try to begin a stretch

	mu     sync.Mutex
	behind time.Time // since when it could not be followed; zero where it is
	why    error
}

// stretch is one that is being written.
type stretch struct {
	folder string
	began  time.Time
	log    int // the newest; 0 is none yet
	place  walPlace
	// Of its marks: where the last line begins and ends, what it says, and whether it
	// says no more than the one before.
	start, end int64
	last       mark
	repeats    bool
}

// NewTrail begins to follow the records of a service whose data is in dir, at to. With a
// passphrase the keys are kept there too.
func NewTrail(ctx context.Context, st *store.Store, dir, to, passphrase, version string, now func() time.Time) (*Trail, error) {
	if inside, err := within(dir, to); err != nil || inside {
		return nil, errors.Join(err, fmt.Errorf("the trail %s is in the data directory itself: what ends that would end it too", to))
	}
	log, err := st.Follow(ctx)
	return &Trail{dir: dir, to: to, passphrase: passphrase, version: version, store: st, now: now, log: log}, err
}

// Run follows the records until ctx ends, and once more then.
func (t *Trail) Run(ctx context.Context) {
	tick := time.NewTicker(trailEvery)
	defer tick.Stop()
	for {
		t.pass(context.WithoutCancel(ctx))
		select {
		case <-ctx.Done():
			t.pass(context.WithoutCancel(ctx))
			return
		case <-tick.C:
		}
	}
}

// Behind tells since when the records could not be followed, and why; ok is false where
// the trail has them.
func (t *Trail) Behind() (since time.Time, why error, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.behind, t.why, !t.behind.IsZero()
}

// pass brings the trail up to now, and keeps the write-ahead log small.
func (t *Trail) pass(ctx context.Context) {
	err := t.follow(ctx)
	size := int64(0)
	if st, serr := os.Stat(t.log); serr == nil {
		size = st.Size()
	}
	if err == nil && t.stretch.place.at > logUsual || size > logMost {
		cerr := t.store.Checkpoint(ctx, func() error {
			if t.stretch == nil {
				return nil // nothing follows: there is a gap
			}
			return t.ship()
		})
		if cerr != nil && size > logMost { // the log must end before the disk does
			t.stretch = nil
			cerr = t.store.Checkpoint(ctx, func() error { return nil })
		}
		err = errors.Join(err, cerr)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case err != nil && t.behind.IsZero():
		t.behind = t.now().UTC()
		slog.Error("the trail does not follow the records", "at", t.to, "error", err)
	case err == nil && !t.behind.IsZero():
		slog.Info("the trail follows the records again", "at", t.to, "was_behind", t.now().Sub(t.behind).Round(time.Second))
		t.behind = time.Time{}
	}
	t.why = err
}

// follow brings the trail up to now; with an error it is tried again.
func (t *Trail) follow(ctx context.Context) error {
	if err := t.keepKeys(); err != nil {
		return fmt.Errorf("keep the keys: %w", err)
	}
	if s := t.stretch; (s == nil || t.now().Sub(s.began) > trailStretch) && (t.failed == nil || t.now().Sub(t.tried) >= beginAgain) { // which copies the whole database
		if t.tried, t.failed = t.now(), t.begin(ctx); t.failed != nil {
			t.failed = fmt.Errorf("begin a stretch: %w", t.failed)
		} else if err := t.prune(); err != nil {
			return fmt.Errorf("drop what is old: %w", err)
		}
	}
	if t.stretch == nil {
		return t.failed
	}
	err := t.ship() // to the one before, where no fresh one could begin
	if errors.Is(err, errGap) {
		t.stretch = nil // the next begins with all there is
	}
	return errors.Join(t.failed, err)
}

// errGap says that the log has begun anew more often than it was read.
var errGap = errors.New("others have brought the write-ahead log into the database meanwhile: there is a gap, and a fresh stretch begins")

// begin begins a stretch. The one before goes on until its base is there.
func (t *Trail) begin(ctx context.Context) (err error) {
	began := t.now().UTC()
	folder := filepath.Join(t.to, began.Format(trailTime))
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	fresh := &stretch{folder: folder, began: began}
	before := t.stretch
	defer func() {
		if err != nil {
			t.stretch = before
			err = errors.Join(err, os.RemoveAll(folder))
		}
	}()
	copied := filepath.Join(t.dir, ".trail-base")
	for _, beside := range []string{"", "-wal", "-shm", "-journal"} {
		if err := os.Remove(copied + beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	defer os.Remove(copied) // what is left is taken away by the next
	if err := store.CopyPages(ctx, t.store.Path(), copied); err != nil {
		return err
	}
	form, installation, err := store.Known(ctx, copied)
	if err != nil {
		return err
	}
	base := filepath.Join(folder, baseFile)
	if err := copyFile(copied, base); err != nil {
		return err
	}
	s := Stretch{Form: Form, BeganAt: began, Version: t.version, RecordsForm: form, Installation: installation}
	if s.Base, err = fileOf(base); err != nil {
		return err
	}
	s.Base.Path = baseFile
	t.stretch = fresh
	if err := t.ship(); err != nil { // the base is of a moment that the logs have, and is none without them
		return err
	}
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return durable.Write(filepath.Join(folder, stretchFile), append(text, '\n'), 0o600)
}

// ship appends what the write-ahead log has of whole transactions to the stretch.
func (t *Trail) ship() error {
	s, at := t.stretch, t.now().UTC()
	log, err := os.Open(t.log)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err == nil {
		defer log.Close()
		err = s.append(log)
	}
	switch {
	case err == nil:
	case errors.Is(err, errNoLog), errors.Is(err, fs.ErrNotExist): // nothing was written since the base
	default:
		return err
	}
	return s.mark(at)
}

// append appends to the stretch what a log has since.
func (s *stretch) append(log *os.File) error {
	is, err := beginning(log)
	if err != nil {
		return err
	}
	if n := binary.BigEndian.Uint32(is.header[12:]) - binary.BigEndian.Uint32(s.place.header[12:]); s.log > 0 && n > 1 {
		return errGap // its number goes up each time it begins anew
	}
	if s.log == 0 || is.header != s.place.header { // it began anew once all of it was in the database
		out, err := os.OpenFile(s.path(s.log+1), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
		if err != nil {
			return err
		}
		_, err = out.Write(is.header[:])
		if err := errors.Join(err, out.Sync(), out.Close(), durable.Folder(s.folder)); err != nil {
			return err
		}
		s.log, s.place = s.log+1, is
	}
	out, err := os.OpenFile(s.path(s.log), os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	place := s.place
	if _, err = out.Seek(place.at, 0); err == nil { // over what a try that failed has left
		err = place.goOn(log, func(frames []byte) error { _, err := out.Write(frames); return err })
	}
	if err == nil && place.at > s.place.at {
		err = out.Sync()
	}
	if err = errors.Join(err, out.Close()); err == nil {
		s.place = place
	}
	return err
}

func (s *stretch) path(log int) string { return filepath.Join(s.folder, fmt.Sprintf("log-%06d", log)) }

// mark notes that the records can be had as of a moment. That nothing has changed since
// is one line, not one each time.
func (s *stretch) mark(at time.Time) error {
	m := mark{at.Truncate(time.Millisecond), s.log, s.place.at}
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	same := m.Log == s.last.Log && m.Bytes == s.last.Bytes && !s.last.At.IsZero()
	from := s.end
	if same && s.repeats {
		from = s.start
	}
	out, err := os.OpenFile(filepath.Join(s.folder, marksFile), os.O_WRONLY|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	if err = out.Truncate(from); err == nil {
		_, err = out.WriteAt(append(text, '\n'), from)
	}
	if err == nil {
		err = out.Sync()
	}
	if err = errors.Join(err, out.Close()); err == nil {
		s.start, s.end, s.last, s.repeats = from, from+int64(len(text))+1, m, same
	}
	return err
}

// keepKeys keeps the keys, where a passphrase seals them, each time they are others:
// before what is sealed by them.
func (t *Trail) keepKeys() error {
	folder := filepath.Join(t.to, keysFolder)
	if t.passphrase == "" {
		return os.MkdirAll(t.to, 0o700)
	}
	keys, err := packKeys(filepath.Join(t.dir, keysFolder))
	if err != nil || bytes.Equal(keys, t.keys) {
		return err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	if err := sealKeys(keys, filepath.Join(folder, t.now().UTC().Format(trailTime)+".age"), t.passphrase); err != nil {
		return err
	}
	t.keys = keys
	return nil
}

// prune drops stretches that no moment that is kept needs, and keys that none of the
// others does.
func (t *Trail) prune() error {
	all, err := stretches(t.to)
	if err != nil {
		return err
	}
	oldest := t.now().Add(-trailKept)
	for len(all) > mostStretches || len(all) > 1 && all[1].BeganAt.Before(oldest) {
		if err := os.RemoveAll(filepath.Join(t.to, all[0].folder)); err != nil {
			return err
		}
		all = all[1:]
	}
	entries, err := os.ReadDir(t.to)
	if err != nil {
		return err
	}
	for _, e := range entries { // those that never had a base, and ended with their service
		at, err := time.Parse(trailTime, e.Name())
		whole := slices.ContainsFunc(all, func(s found) bool { return s.folder == e.Name() })
		if err == nil && !whole && at.Before(t.stretch.began) {
			if err := os.RemoveAll(filepath.Join(t.to, e.Name())); err != nil {
				return err
			}
		}
	}
	keys, err := trailKeys(t.to)
	if err != nil || len(all) == 0 {
		return err
	}
	for len(keys) > 1 && !keys[1].at.After(all[0].BeganAt) {
		if err := os.Remove(keys[0].path); err != nil {
			return err
		}
		keys = keys[1:]
	}
	return nil
}
