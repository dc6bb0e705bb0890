package reconcile

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/plain"
	"yardbench/internal/core/secret"
	"yardbench/internal/due"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/store"
)

// Logs are the logs of steps, files under the data directory.
type Logs struct {
	bus     *live.Bus
	dataDir string
	house   *house.Book
	now     func() time.Time
	store   *store.Store
	due     *due.Queue
}

// maxLogBytes bounds one step's log; a test sets it lower.
var maxLogBytes int64 = 64 << 20

// LogPath is where the log of a step stands under the data directory.
func (k *Logs) LogPath(workspace string, sheet, step int) string {
	return filepath.Join(k.dataDir, "logs", workspace, fmt.Sprintf("%d-%d.log", sheet, step))
}

// stepLog writes one step's log: masked while it is written, bounded, its
// newest lines kept for the error, its followers told.
type stepLog struct {
	mu     sync.Mutex
	file   *os.File
	masker *secret.Masker
	size   int64
	tail   []byte
	grew   func()
}

func (k *Logs) openLog(w store.Workspace, sheet, step int, secrets *secret.Values) (*stepLog, error) {
	path := k.LogPath(w.ID, sheet, step)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, err
	}
	l := &stepLog{file: f, grew: func() { k.bus.Publish(w.ID) }}
	l.masker = secrets.Masker(logSink{l})
	return l, nil
}

func (l *stepLog) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.masker.Write(p)
}

// Close ends the log.
func (l *stepLog) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return errors.Join(l.masker.Close(), l.file.Close())
}

// lastLine is the last line with something on it.
func (l *stepLog) lastLine() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	_ = l.masker.Close() // passes on what it held back; a failure shows at the log's own Close
	lines := strings.Split(strings.TrimSpace(string(l.tail)), "\n")
	return plain.Line(strings.TrimSpace(lines[len(lines)-1]), 300)
}

// logSink takes what the masker passes on.
type logSink struct{ l *stepLog }

func (s logSink) Write(p []byte) (int, error) {
	l := s.l
	if l.tail = append(l.tail, p...); len(l.tail) > 2048 {
		l.tail = append([]byte(nil), l.tail[len(l.tail)-2048:]...)
	}
	if l.size >= maxLogBytes {
		return len(p), nil
	}
	q := p[:min(int64(len(p)), maxLogBytes-l.size)]
	l.size += int64(len(q))
	if l.size >= maxLogBytes {
		q = append(append([]byte(nil), q...), "\n[the log is cut here: it has reached its largest size]\n"...)
	}
	if _, err := l.file.Write(q); err != nil {
		return 0, err
	}
	l.grew()
	return len(p), nil
}

var _ io.WriteCloser = (*stepLog)(nil)

// clearLogs removes logs that are older than the house rules keep them, now
// and then each day. A log that is being written is never old.
func (k *Logs) clearLogs(ctx context.Context) error {
	r, _, err := k.house.Rules(ctx, k.store.Read())
	if err == nil && r.LogsMost > 0 {
		err = clearBefore(filepath.Join(k.dataDir, "logs"), k.now().Add(-r.LogsMost))
	}
	if err == nil {
		k.due.Set("logs", k.now().Add(24*time.Hour), k.clearLogs)
	}
	return err
}

// clearBefore removes the files of a folder's folders that were last written
// before a time, and folders that are empty then.
func clearBefore(dir string, before time.Time) error {
	folders, err := os.ReadDir(dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	errs := []error{err}
	for _, f := range folders {
		in := filepath.Join(dir, f.Name())
		files, err := os.ReadDir(in)
		errs = append(errs, err)
		left := len(files)
		for _, l := range files {
			if i, err := l.Info(); err == nil && i.ModTime().Before(before) {
				errs = append(errs, os.Remove(filepath.Join(in, l.Name())))
				left--
			}
		}
		if left == 0 && len(files) > 0 {
			_ = os.Remove(in) // a log that has just begun keeps it
		}
	}
	return errors.Join(errs...)
}
