package engine

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"yardbench/internal/yard"
)

// Shares bounds what the containers of a workspace use all together: a control
// group of the workspace's own holds those of its containers. It wants root, an
// engine on the same machine whose control groups it drives itself (cgroupfs,
// not systemd), and either version of control groups (cgroups(7)).
type Shares struct {
	// Builds tells that the engine was started with [BuildsGroup] as the parent of
	// what names no other, its builder's commands among it: that group is bounded too.
	Builds bool

	root    string
	unified bool // version 2
}

// BuildsGroup is where the engine puts what it builds.
const BuildsGroup = "/" + sharesFolder + "/" + builds

const builds = "builds"

// sharesFolder holds the groups of ours, in each hierarchy.
const sharesFolder = "yardbench"

// maxTasks bounds the processes and threads of a workspace, all its containers
// together.
const maxTasks = 8192

// NewShares finds the control groups of the machine under root, usually
// /sys/fs/cgroup, or says what is wanting.
func NewShares(root string) (*Shares, error) {
	s := &Shares{root: root}
	if _, err := os.Stat(filepath.Join(root, "cgroup.controllers")); err == nil {
		s.unified = true
	}
	for _, dir := range s.hierarchies("") {
		if _, err := os.Stat(filepath.Dir(dir)); err != nil {
			return nil, fmt.Errorf("bounding a workspace's containers together wants control groups: %w", err)
		}
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return nil, fmt.Errorf("bounding a workspace's containers together wants to write control groups: %w", err)
		}
	}
	if s.unified {
		for _, dir := range []string{root, filepath.Join(root, sharesFolder)} {
			if err := put(dir, "cgroup.subtree_control", "+cpu +memory +pids"); err != nil {
				return nil, err
			}
		}
	}
	return s, nil
}

// hierarchies are the folders of a group; "" is the folder of all of them.
func (s *Shares) hierarchies(group string) []string {
	if s.unified {
		return []string{filepath.Join(s.root, sharesFolder, group)}
	}
	var out []string
	for _, h := range []string{"memory", "cpu", "pids"} {
		out = append(out, filepath.Join(s.root, h, sharesFolder, group))
	}
	return out
}

// parent is what a container names as its parent.
func (s *Shares) parent(group string) string { return "/" + sharesFolder + "/" + group }

// set makes a group and gives it its bounds; one that is there gets these.
func (s *Shares) set(group string, share yard.Share) error {
	dirs := s.hierarchies(group)
	for _, dir := range dirs {
		if err := os.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("bound the workspace: %w", err)
		}
	}
	memory, quota := strconv.FormatInt(share.MemoryBytes, 10), strconv.FormatInt(share.CoresMilli*100, 10)
	tasks := strconv.Itoa(maxTasks)
	if s.unified {
		return errors.Join(put(dirs[0], "memory.max", memory), may(put(dirs[0], "memory.swap.max", "0")), put(dirs[0], "cpu.max", quota+" 100000"), put(dirs[0], "pids.max", tasks))
	}
	// The bound with swap is never the smaller of the two; a kernel may count none.
	return errors.Join(may(put(dirs[0], "memory.memsw.limit_in_bytes", "-1")), put(dirs[0], "memory.limit_in_bytes", memory), may(put(dirs[0], "memory.memsw.limit_in_bytes", memory)),
		put(dirs[1], "cpu.cfs_period_us", "100000"), put(dirs[1], "cpu.cfs_quota_us", quota), put(dirs[2], "pids.max", tasks))
}

// drop removes a group that holds no container any more.
func (s *Shares) drop(group string) {
	for _, dir := range s.hierarchies(group) {
		_ = os.Remove(dir) // one that is still used goes with the next removal
	}
}

// used tells whether anything ran in a group since it was made.
func (s *Shares) used(group string) bool {
	for _, dir := range s.hierarchies(group) {
		b, _ := os.ReadFile(filepath.Join(dir, "cpu.stat")) // the other hierarchies have none
		for line := range strings.Lines(string(b)) {
			name, n, _ := strings.Cut(strings.TrimSpace(line), " ")
			if (name == "usage_usec" || name == "nr_periods") && n != "0" {
				return true
			}
		}
	}
	return false
}

func put(dir, file, value string) error {
	if err := os.WriteFile(filepath.Join(dir, file), []byte(value), 0); err != nil {
		return fmt.Errorf("bound the workspace: %w", err)
	}
	return nil
}

// may passes over what this kernel has not.
func may(err error) error {
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return nil
	}
	return err
}
