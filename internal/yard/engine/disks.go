package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	"github.com/moby/moby/client"
)

// Disks bounds volumes: each is an ext4 file system in a sparse file of its
// size, which the kernel offers as a loop device and the engine mounts. It
// wants root, an engine that shares the service's files, losetup(8) and
// mkfs.ext4(8). The zero Disks bounds nothing.
//
// A volume names its device by a link of ours, so that it may be another
// device each time: one is taken when a container starts and given back by
// the kernel itself when the last mount of it ends.
type Disks struct {
	dir string
	mu  sync.Mutex // one attaches at a time
}

// NewDisks keeps disks under dir, or says what is wanting.
func NewDisks(dir string) (*Disks, error) {
	if os.Geteuid() != 0 {
		return nil, errors.New("bounded disks want the service to run as root")
	}
	for _, tool := range []string{"losetup", "mkfs.ext4"} {
		if _, err := exec.LookPath(tool); err != nil {
			return nil, fmt.Errorf("bounded disks want %s: install e2fsprogs and mount", tool)
		}
	}
	if _, err := os.Stat("/dev/loop-control"); err != nil {
		return nil, errors.New("bounded disks want loop devices, and this machine has none")
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("bounded disks: %w", err)
	}
	return &Disks{dir: dir}, nil
}

func (d *Disks) file(volume string) string   { return filepath.Join(d.dir, volume+".ext4") }
func (d *Disks) device(volume string) string { return filepath.Join(d.dir, volume+".device") }

// options are what the engine's local driver mounts a volume by (mount(2)).
func (d *Disks) options(volume string) map[string]string {
	return map[string]string{"type": "ext4", "device": d.device(volume)}
}

// make makes a volume's disk, whole or not at all; one that is there stays.
func (d *Disks) make(ctx context.Context, volume string, size int64) error {
	path := d.file(volume)
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("make a disk: %w", err)
	}
	if err := errors.Join(f.Truncate(size), f.Close()); err != nil {
		return fmt.Errorf("make a disk: %w", err)
	}
	if _, err := tool(ctx, "mkfs.ext4", "-q", "-F", "-m", "0", "-E", "lazy_itable_init=1,lazy_journal_init=1", path+".new"); err != nil {
		return fmt.Errorf("make a disk: %w", err)
	}
	return os.Rename(path+".new", path)
}

// attach sees to it that a volume's device is there to be mounted.
func (d *Disks) attach(ctx context.Context, volume string) error {
	path := d.file(volume)
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return nil // a volume of before disks were bounded
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if at, err := os.Readlink(d.device(volume)); err == nil && backs(at, path) {
		return nil
	}
	out, err := tool(ctx, "losetup", "--find", "--show", path)
	if err != nil {
		return fmt.Errorf("attach a disk: %w", err)
	}
	next := d.device(volume) + ".new"
	if err := os.Remove(next); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.Symlink(strings.TrimSpace(out), next); err != nil {
		return err
	}
	return os.Rename(next, d.device(volume))
}

// release gives a volume's device back as soon as nothing has it mounted.
func (d *Disks) release(ctx context.Context, volume string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if at, err := os.Readlink(d.device(volume)); err == nil && backs(at, d.file(volume)) {
		_, _ = tool(ctx, "losetup", "--detach", at) // it is given back at the latest when the machine ends
	}
}

// remove takes a volume's disk away.
func (d *Disks) remove(ctx context.Context, volume string) error {
	d.release(ctx, volume)
	var errs []error
	for _, p := range []string{d.device(volume), d.file(volume), d.file(volume) + ".new"} {
		if err := os.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// backs tells whether a loop device is of a file.
func backs(device, path string) bool {
	b, err := os.ReadFile("/sys/block/" + filepath.Base(device) + "/loop/backing_file")
	return err == nil && strings.TrimSpace(string(b)) == path
}

func tool(ctx context.Context, name string, args ...string) (string, error) {
	var out, errs bytes.Buffer
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		return "", fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(errs.String()))
	}
	return out.String(), nil
}

// disksOf lists the bounded volumes that a body mounts.
func (e *bodies) disksOf(ctx context.Context, body string) ([]string, error) {
	in, err := e.cli.ContainerInspect(ctx, body, client.ContainerInspectOptions{})
	if err != nil {
		return nil, err
	}
	var out []string
	for _, m := range in.Container.Mounts {
		if strings.HasPrefix(m.Name, "yb-"+e.Installation+"-") {
			out = append(out, m.Name)
		}
	}
	return out, nil
}
