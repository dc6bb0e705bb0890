package backup

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yardbench/internal/durable"
	"yardbench/internal/store"
)

// found is a stretch of a trail, by the name of its folder.
type found struct {
	Stretch
	folder string
}

// stretches lists those of a trail that have their base, the oldest first.
func stretches(trail string) (out []found, err error) {
	entries, err := os.ReadDir(trail)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if _, err := time.Parse(trailTime, e.Name()); err != nil || !e.IsDir() {
			continue
		}
		text, err := os.ReadFile(filepath.Join(trail, e.Name(), stretchFile))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		s := found{folder: e.Name()}
		if err == nil {
			err = json.Unmarshal(text, &s.Stretch)
		}
		if err != nil {
			return nil, fmt.Errorf("%s cannot be read: %w", filepath.Join(trail, e.Name(), stretchFile), err)
		}
		if s.Form < 1 || s.Form > Form {
			return nil, fmt.Errorf("the trail has form %d and this release knows %d at most: take the release that made it (%s)", s.Form, Form, s.Version)
		}
		out = append(out, s)
	}
	return out, nil
}

// dated is a file of keys, and since when they were so.
type dated struct {
	path string
	at   time.Time
}

// trailKeys lists the keys that a trail has, the oldest first.
func trailKeys(trail string) (out []dated, err error) {
	all, err := filepath.Glob(filepath.Join(trail, keysFolder, "*.age"))
	for _, path := range all {
		if at, err := time.Parse(trailTime, strings.TrimSuffix(filepath.Base(path), ".age")); err == nil {
			out = append(out, dated{path, at})
		}
	}
	return out, err
}

// marks reads the moments of a stretch, in their order; a last line that was cut off is
// none.
func (s found) marks(trail string) (out []mark, err error) {
	f, err := os.Open(filepath.Join(trail, s.folder, marksFile))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	for lines := bufio.NewReader(f); ; {
		line, err := lines.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		var m mark
		if err == nil {
			err = json.Unmarshal(line, &m)
		}
		if err != nil {
			return nil, fmt.Errorf("read the moments of %s: %w", s.folder, err)
		}
		out = append(out, m)
	}
}

// Span is a time of which the records can be had as they were at any moment, to a few
// seconds.
type Span struct {
	From  time.Time `json:"from"`
	To    time.Time `json:"to"`
	Bytes int64     `json:"bytes"` // that it takes
}

// Moment is how a moment of a trail is written: in milliseconds, as a trail keeps them,
// so that one that is read is one that can be asked for.
const Moment = "2006-01-02T15:04:05.000Z07:00"

// Spans lists the times that a trail has, the oldest first.
func Spans(ctx context.Context, trail string) (out []Span, err error) {
	all, err := stretches(trail)
	if err != nil {
		return nil, err
	}
	for _, s := range all {
		marks, err := s.marks(trail)
		if err != nil {
			return nil, err
		}
		if len(marks) == 0 {
			continue
		}
		files, err := filesOf(ctx, filepath.Join(trail, s.folder))
		if err != nil {
			return nil, err
		}
		out = append(out, Span{marks[0].At, marks[len(marks)-1].At, Manifest{Files: files}.Bytes()})
	}
	return out, nil
}

// FromTrail makes a backup, in a folder that is not there yet, of the records as they
// were at a moment, or shortly before; the zero time is the newest that there is. Logs
// and recordings are not in it.
func FromTrail(ctx context.Context, trail, to string, at time.Time) (m Manifest, err error) {
	s, from, err := moment(trail, at)
	if err != nil {
		return m, err
	}
	if _, err := os.Lstat(to); !errors.Is(err, fs.ErrNotExist) {
		return m, fmt.Errorf("%s is there already: name a folder that is not, each backup is one of its own", to)
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return m, err
	}
	partial, err := unfinished(to, time.Now())
	if err != nil {
		return m, err
	}
	defer os.RemoveAll(partial) // nothing is there any more once it has its name
	records := filepath.Join(partial, recordsFile)
	if err := s.records(ctx, trail, from, records); err != nil {
		return m, err
	}
	m = Manifest{Form: Form, MadeAt: from.At, Version: s.Version}
	if m.RecordsForm, m.Installation, err = store.Known(ctx, records); err != nil {
		return m, err
	}
	keys, err := trailKeys(trail)
	if err != nil {
		return m, err
	}
	keys = slices.DeleteFunc(keys, func(k dated) bool { return k.at.After(from.At) })
	if m.Keys = len(keys) > 0; m.Keys {
		if err := copyFile(keys[len(keys)-1].path, filepath.Join(partial, keysFile)); err != nil {
			return m, err
		}
	}
	err = m.finish(ctx, partial, to)
	return m, err
}

// moment finds the stretch and the mark of a moment.
func moment(trail string, at time.Time) (s found, m mark, err error) {
	all, err := stretches(trail)
	if err != nil {
		return s, m, err
	}
	var oldest, newest time.Time
	for _, one := range all {
		marks, err := one.marks(trail)
		if err != nil {
			return s, m, err
		}
		for _, is := range marks {
			if oldest.IsZero() {
				oldest = is.At
			}
			newest = is.At
			if at.IsZero() || !is.At.After(at) {
				s, m = one, is
			}
		}
	}
	switch {
	case newest.IsZero():
		return s, m, fmt.Errorf("%s is no trail, or has nothing yet", trail)
	case m.At.IsZero():
		return s, m, fmt.Errorf("the trail has nothing of %s: it goes from %s to %s", at.Format(Moment), oldest.Format(Moment), newest.Format(Moment))
	}
	return s, m, nil
}

// records makes the records as of a mark: the base, and one log after the other.
func (s found) records(ctx context.Context, trail string, at mark, to string) error {
	folder := filepath.Join(trail, s.folder)
	if is, err := fileOf(filepath.Join(folder, baseFile)); err != nil {
		return err
	} else if is.Path = baseFile; is != s.Base {
		return fmt.Errorf("the trail is damaged: %s of %s is not what it was", baseFile, s.folder)
	}
	if err := copyFile(filepath.Join(folder, baseFile), to); err != nil {
		return err
	}
	for n := 1; n <= at.Log; n++ {
		name := fmt.Sprintf("log-%06d", n)
		log, err := os.ReadFile(filepath.Join(folder, name))
		if err != nil {
			return err
		}
		most := int64(len(log))
		if n == at.Log {
			most = at.Bytes
		}
		if most > int64(len(log)) {
			return fmt.Errorf("the trail is damaged: %s of %s is cut off", name, s.folder)
		}
		log = log[:most]
		if err := wholeLog(log); err != nil {
			return fmt.Errorf("the trail is damaged: %s of %s: %w", name, s.folder, err)
		}
		if err := durable.Write(to+"-wal", log, 0o600); err != nil {
			return err
		}
		if err := store.Apply(ctx, to); err != nil {
			return fmt.Errorf("bring %s of %s into the records: %w", name, s.folder, err)
		}
	}
	for _, beside := range []string{"-wal", "-shm"} {
		if err := os.Remove(to + beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// wholeLog checks every frame of a log, which ends with a transaction.
func wholeLog(log []byte) error {
	in := bytes.NewReader(log)
	p, err := beginning(in)
	if err == nil {
		err = p.goOn(in, func([]byte) error { return nil })
	}
	if err == nil && p.at != int64(len(log)) {
		err = fmt.Errorf("it is sound to byte %d of %d alone", p.at, len(log))
	}
	return err
}
