// Package durable writes files that are there whole or not at all, whatever
// ends the service or the machine meanwhile. It touches the file system only.
package durable

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// Write puts a file of that content and mode in the place of whatever is at
// path. When it returns nil the content and its name are on disk; with an error
// the old file is there as it was, or the new one. Its folder is made, for its
// owner alone, where there is none.
func Write(path string, content []byte, mode os.FileMode) (err error) {
	dir := filepath.Dir(path)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(dir, ".new-")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = os.Remove(f.Name()) // the error that made it useless is told
		}
	}()
	_, err = f.Write(content)
	if err := errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	if err := Folder(dir); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	return nil
}

// Folder sees to it that the names in a folder are on disk (fsync(2)).
func Folder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}
