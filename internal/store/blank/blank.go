// Package blank gives tests empty records in the newest form, without the way there,
// which takes seconds under the race detector. Tests alone use it.
package blank

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"yardbench/internal/store"
)

// newest is the file of such records.
var newest = sync.OnceValues(func() (file []byte, err error) {
	dir, err := os.MkdirTemp("", "yardbench-blank-")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	path := filepath.Join(dir, "a.db")
	st, err := store.Open(context.Background(), path, time.Now)
	if err == nil {
		err = st.Close()
	}
	if err != nil {
		return nil, err
	}
	return os.ReadFile(path)
})

// Put lays them at a path, where nothing is yet.
func Put(t testing.TB, path string) {
	t.Helper()
	file, err := newest()
	if err == nil {
		err = os.WriteFile(path, file, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// Open opens such records at a path; they are closed with the test.
func Open(t testing.TB, path string, now func() time.Time) *store.Store {
	t.Helper()
	Put(t, path)
	st, err := store.Open(context.Background(), path, now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	return st
}
