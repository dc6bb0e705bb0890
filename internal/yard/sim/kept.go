package sim

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

func read(file string, v any) error {
	text, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(text, v)
	}
	return err
}

func write(file string, v any) error {
	text, err := json.Marshal(v)
	if err == nil {
		err = os.WriteFile(file+".new", text, 0o600)
	}
	if err == nil {
		err = os.Rename(file+".new", file)
	}
	return err
}

// recall reads what was kept.
func (y *ground) recall() error {
	if err := os.MkdirAll(filepath.Join(y.Dir, "workspaces"), 0o700); err != nil {
		return err
	}
	kept, err := os.ReadDir(filepath.Join(y.Dir, "workspaces"))
	if err != nil {
		return err
	}
	for _, e := range kept {
		id, whole := strings.CutSuffix(e.Name(), ".json")
		if !whole {
			continue // its writing was cut off
		}
		var w workspace
		if err := read(filepath.Join(y.Dir, "workspaces", e.Name()), &w); err != nil {
			return err
		}
		y.has[id] = &w
	}
	if err := read(filepath.Join(y.Dir, "images.json"), &y.place.images); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// keep writes down what the yard has of a workspace. y.mu is held.
func (y *ground) keep(id string) error {
	if y.Dir == "" {
		return nil
	}
	file := filepath.Join(y.Dir, "workspaces", id+".json")
	if w := y.has[id]; w != nil {
		return write(file, w)
	}
	if err := os.Remove(file); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// keepImages writes down which images there are.
func (y *ground) keepImages() error {
	if y.Dir == "" {
		return nil
	}
	y.place.mu.Lock()
	defer y.place.mu.Unlock()
	return write(filepath.Join(y.Dir, "images.json"), y.place.images)
}
