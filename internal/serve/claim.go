package serve

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// claim holds the yard for this service, against another one that was started
// from a copy of the records, and against records that were set back.
type claim struct {
	yard     yard.Claimer
	store    *store.Store
	holder   string
	where    string
	takeOver bool

	mu   sync.Mutex
	held int // the number of the claim that this life put down; 0 for none yet
}

// Keys of the installation's own table.
const (
	metaClaim   = "claim"    // the number of the newest claim
	metaSetBack = "set back" // the yard's number when the records were found to be older than it
)

// holderOf names a data directory: a copy of it, or another machine, has
// another name, and where it was only moved it keeps its own.
func holderOf(dir string) (string, error) {
	info, err := os.Stat(dir)
	if err != nil {
		return "", err
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return "", fmt.Errorf("data directory %s: the system does not tell which it is", dir)
	}
	machine, err := os.ReadFile("/etc/machine-id") // machine-id(5)
	if err != nil {
		name, err := os.Hostname()
		if err != nil {
			return "", err
		}
		machine = []byte(name)
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %d %d", machine, st.Dev, st.Ino))
	return hex.EncodeToString(sum[:12]), nil
}

// hold makes sure that the yard is this service's to keep. It gives an error
// that is [yard.ErrClaimed] where it is another's, and [yard.ErrAway] while it
// cannot be told.
func (c *claim) hold(ctx context.Context) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.held > 0 {
		return nil
	}
	there, ok, err := c.yard.Claimed(ctx)
	if err != nil {
		return err
	}
	if ok && there.Holder != c.holder && !c.takeOver {
		return c.refusal(there)
	}
	number := 0
	err = c.store.Write(ctx, func(tx *store.Tx) error {
		text, err := tx.Meta(ctx, metaClaim)
		if err != nil {
			return err
		}
		ours, _ := strconv.Atoi(text) // "" at the first start
		number = max(ours, there.Number) + 1
		switch {
		case ok && (ours < there.Number || there.Holder != c.holder):
			// The yard has seen a start that the records know nothing of, or may
			// have seen launches of another service since they were copied.
			if err := tx.SetMeta(ctx, metaSetBack, strconv.Itoa(there.Number)); err != nil {
				return err
			}
			if err := tx.Journal(ctx, "", "", "service", journal.YardSetBack{Known: ours, Found: there.Number}); err != nil {
				return err
			}
		case c.takeOver:
			if err := tx.SetMeta(ctx, metaSetBack, ""); err != nil { // an operator has looked
				return err
			}
		}
		return tx.SetMeta(ctx, metaClaim, strconv.Itoa(number))
	})
	if err != nil {
		return err
	}
	mine := yard.Claim{Number: number, Holder: c.holder, Where: c.where}
	if err := c.yard.Claim(ctx, mine); err != nil {
		return err
	}
	if there, ok, err = c.yard.Claimed(ctx); err != nil {
		return err
	}
	if !ok || there != mine {
		return c.refusal(there) // two at once: the other was first
	}
	c.held = number
	return nil
}

// RunsHere tells whether a service runs at a place as a claim names it, a machine and a
// data directory, where that machine is this one.
func RunsHere(where string) bool {
	host, dir, named := strings.Cut(where, ":")
	if own, err := os.Hostname(); !named || err != nil || own != host {
		return false
	}
	lock, err := os.Open(filepath.Join(dir, "lock"))
	if err != nil {
		return false
	}
	defer lock.Close()
	return errors.Is(syscall.Flock(int(lock.Fd()), syscall.LOCK_SH|syscall.LOCK_NB), syscall.EWOULDBLOCK)
}

func (c *claim) refusal(there yard.Claim) error {
	is := "" // on another machine it is not seen from here
	if RunsHere(there.Where) {
		is = ", runs now" // its lock tells it more surely than a beat would that it leaves in the yard
	} else if own, err := os.Hostname(); err == nil && strings.HasPrefix(there.Where, own+":") {
		is = ", does not run now"
	}
	return fmt.Errorf("%w: the one at %s, with the same records%s. Two would take each other's workspaces away, so this one does nothing. If that one is gone for good, or was moved here, start this one once with --take-over", yard.ErrClaimed, there.Where, is)
}

// claimLook is how often it is looked whether another service has taken over.
const claimLook = 5 * time.Second

// watch ends the service where another one has taken the yard over.
func (c *claim) watch(ctx context.Context, end context.CancelCauseFunc) {
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
			return
		case <-time.After(claimLook):
		}
		if err := c.hold(ctx); errors.Is(err, yard.ErrClaimed) {
			end(err)
			return
		}
		there, ok, err := c.yard.Claimed(ctx)
		c.mu.Lock()
		lost := err == nil && ok && c.held > 0 && there.Number > c.held
		c.mu.Unlock()
		if lost {
			slog.Error("another service has taken the yard over: this one ends, and leaves everything as it is", "where", there.Where)
			end(fmt.Errorf("%w: the one at %s has taken over", yard.ErrClaimed, there.Where))
			return
		}
	}
}

// setBack tells whether the records were set back and nobody has looked yet.
func setBack(ctx context.Context, st *store.Store) (bool, error) {
	v, err := st.Read().Meta(ctx, metaSetBack)
	return v != "", err
}

// looked notes that an operator has looked through what the records do not know.
func looked(ctx context.Context, st *store.Store) error {
	return st.Write(ctx, func(tx *store.Tx) error { return tx.SetMeta(ctx, metaSetBack, "") })
}
