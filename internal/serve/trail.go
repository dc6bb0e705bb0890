package serve

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"yardbench/internal/backup"
	"yardbench/internal/store"
	"yardbench/wire"
)

// trailPhrase reads what seals the keys at the second place.
func (c Config) trailPhrase() (string, error) {
	switch {
	case c.TrailPassphrase == "":
		return "", nil
	case c.Trail == "":
		return "", errors.New("--trail-passphrase-file seals the keys of a trail, and there is none: name its folder with --trail")
	}
	text, err := os.ReadFile(c.TrailPassphrase)
	phrase := strings.TrimRight(string(text), "\r\n")
	if err == nil && len([]rune(phrase)) < backup.FewestOfPassphrase {
		err = fmt.Errorf("--trail-passphrase-file %s: a passphrase has at least %d characters: whoever guesses it has every secret", c.TrailPassphrase, backup.FewestOfPassphrase)
	}
	return phrase, err
}

// follow has the second place follow the records, where there is one, until end is
// called, and once more then.
func (c Config) follow(ctx context.Context, st *store.Store, dir string) (behind func() time.Time, end func(), err error) {
	if c.Trail == "" {
		return nil, func() {}, nil
	}
	phrase, err := c.trailPhrase()
	if err != nil {
		return nil, nil, err
	}
	now := c.Now
	if now == nil {
		now = time.Now
	}
	trail, err := backup.NewTrail(ctx, st, dir, c.Trail, phrase, wire.Version(), now)
	if err != nil {
		return nil, nil, err
	}
	// It outlives what the service ends with: that is written down too.
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	over := make(chan struct{})
	go func() { defer close(over); trail.Run(ctx) }()
	return func() time.Time { since, _, _ := trail.Behind(); return since }, func() { cancel(); <-over }, nil
}
