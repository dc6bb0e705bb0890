// Package password keeps and checks passwords, and bounds what strangers may
// have it do: each check takes memory and time on purpose. It touches nothing.
package password

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"sync/atomic"

	"golang.org/x/crypto/argon2"
)

// Passwords: argon2id with the second recommended parameters of RFC 9106, 4
// (64 MiB, 3 passes), stored in the PHC string form.
const (
	memoryKiB = 64 << 10
	passes    = 3
	lanes     = 4
)

// Least and Most bound the length of a password, in bytes.
const (
	Least = 8
	Most  = 1024
)

// mostWaiting bounds those who wait for their turn; one more is told to come
// again.
const mostWaiting = 32

var (
	// ErrShort says that a password is too short or too long to be set.
	ErrShort = fmt.Errorf("a password has at least %d and at most %d characters", Least, Most)
	// ErrBusy says that more passwords are being checked than is good.
	ErrBusy = errors.New("too many passwords are being checked at the moment")
)

var (
	turns   = make(chan struct{}, min(max(runtime.NumCPU(), 1), 4)) // 64 MiB each
	waiting atomic.Int64
)

// turn waits until one more may be worked out.
func turn(ctx context.Context) (end func(), err error) {
	if waiting.Add(1) > mostWaiting {
		waiting.Add(-1)
		return nil, ErrBusy
	}
	defer waiting.Add(-1)
	select {
	case turns <- struct{}{}:
		return func() { <-turns }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Hash makes what is kept of a password. It gives [ErrShort] or [ErrBusy].
func Hash(ctx context.Context, password string) (string, error) {
	if len(password) < Least || len(password) > Most {
		return "", ErrShort
	}
	end, err := turn(ctx)
	if err != nil {
		return "", err
	}
	defer end()
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails, by its documentation
	key := argon2.IDKey([]byte(password), salt, passes, memoryKiB, lanes, 32)
	b := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", memoryKiB, passes, lanes, b.EncodeToString(salt), b.EncodeToString(key)), nil
}

// absent is a hash that nobody's password has.
var absent = fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$AAAAAAAAAAAAAAAAAAAAAA$%s", memoryKiB, passes, lanes, strings.Repeat("A", 43))

// Check tells whether a password is the one of which hash is kept. With "" for
// somebody whom nobody knows it takes as long, and is false. It may give
// [ErrBusy].
func Check(ctx context.Context, hash, password string) (bool, error) {
	if len(password) > Most {
		return false, nil
	}
	if hash == "" {
		hash = absent
	}
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		return false, nil
	}
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return false, nil
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false, nil
	}
	end, err := turn(ctx)
	if err != nil {
		return false, err
	}
	defer end()
	return subtle.ConstantTimeCompare(want, argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want)))) == 1, nil
}
