// Package vault seals small values with a key that is kept outside the
// database, in a file of its own. It touches that file, and the key service that
// guards it where there is one, and nothing else.
//
// Sealing is AES-256-GCM by Tink; every value is bound to where it belongs
// (its associated data), so that a sealed value moved to another row does not
// open. The key file is a Tink keyset in JSON and may hold older keys, which
// still open what they sealed. Where a key service guards it, it is an encrypted
// keyset, which opens with that service alone.
package vault

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/insecurecleartextkeyset"
	"github.com/tink-crypto/tink-go/v2/keyset"
	"github.com/tink-crypto/tink-go/v2/tink"

	"yardbench/internal/durable"
)

// Vault seals and opens.
type Vault struct {
	path  string
	guard Guard
	mu    sync.Mutex // guards the file
	keys  atomic.Pointer[keys]
}

type keys struct {
	aead   tink.AEAD
	handle *keyset.Handle
}

// Key is one by which values are sealed, or were.
type Key struct {
	ID      uint32
	Current bool // what is sealed from now on is sealed by it
}

// Open reads the key file, making it with a fresh key where there is none. guard is the
// key service that guards it; nil is none. A file that nothing guarded until now is
// written anew, guarded.
func Open(path string, guard Guard) (*Vault, error) {
	v := &Vault{path: path, guard: guard}
	content, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		handle, err := keyset.NewHandle(aead.AES256GCMKeyTemplate())
		if err != nil {
			return nil, err
		}
		return v, v.use(handle, true)
	}
	if err != nil {
		return nil, fmt.Errorf("key file: %w", err)
	}
	wrapped := bytes.Contains(content, []byte(`"encryptedKeyset"`))
	var handle *keyset.Handle
	switch r := keyset.NewJSONReader(bytes.NewReader(content)); {
	case wrapped && guard == nil:
		return nil, fmt.Errorf("key file %s: a key service guards it; say which with --key-service", path)
	case wrapped:
		handle, err = keyset.Read(r, master{guard})
	default:
		handle, err = insecurecleartextkeyset.Read(r)
	}
	if err != nil {
		return nil, fmt.Errorf("key file %s: %w", path, err)
	}
	return v, v.use(handle, guard != nil && !wrapped)
}

// use has values sealed by a set of keys, once that is written where it is another.
func (v *Vault) use(handle *keyset.Handle, write bool) error {
	a, err := aead.New(handle)
	if err != nil {
		return fmt.Errorf("key file %s: %w", v.path, err)
	}
	if write {
		var buf bytes.Buffer
		w := keyset.NewJSONWriter(&buf)
		if v.guard != nil {
			err = handle.Write(w, master{v.guard})
		} else {
			err = insecurecleartextkeyset.Write(handle, w)
		}
		if err == nil {
			err = durable.Write(v.path, buf.Bytes(), 0o600)
		}
		if err != nil {
			return fmt.Errorf("key file %s: %w", v.path, err)
		}
	}
	v.keys.Store(&keys{a, handle})
	return nil
}

// Rotate makes a fresh key, by which values are sealed from now on. The older ones
// open what they sealed, until they are retired.
func (v *Vault) Rotate() (Key, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	m := keyset.NewManagerFromHandle(v.keys.Load().handle)
	id, err := m.Add(aead.AES256GCMKeyTemplate())
	if err == nil {
		err = m.SetPrimary(id)
	}
	if err != nil {
		return Key{}, err
	}
	handle, err := m.Handle()
	if err != nil {
		return Key{}, err
	}
	return Key{id, true}, v.use(handle, true)
}

// Retire forgets an older key: what it sealed opens no more.
func (v *Vault) Retire(id uint32) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	m := keyset.NewManagerFromHandle(v.keys.Load().handle)
	if err := m.Delete(id); err != nil {
		return err
	}
	handle, err := m.Handle()
	if err != nil {
		return err
	}
	return v.use(handle, true)
}

// Keys lists them, the oldest first.
func (v *Vault) Keys() (out []Key) {
	info := v.keys.Load().handle.KeysetInfo()
	for _, k := range info.GetKeyInfo() {
		out = append(out, Key{k.GetKeyId(), k.GetKeyId() == info.GetPrimaryKeyId()})
	}
	return out
}

// By is the key that sealed a value, by what Tink writes before it: a byte, and the
// key's number (tink wire format, output prefix).
func By(sealed []byte) uint32 {
	if len(sealed) < 5 {
		return 0
	}
	return binary.BigEndian.Uint32(sealed[1:5])
}

// Seal encrypts value for the place that where names.
func (v *Vault) Seal(value string, where ...string) ([]byte, error) {
	return v.keys.Load().aead.Encrypt([]byte(value), place(where))
}

// Open decrypts what Seal made for the same place.
func (v *Vault) Open(sealed []byte, where ...string) (string, error) {
	b, err := v.keys.Load().aead.Decrypt(sealed, place(where))
	if err != nil {
		return "", fmt.Errorf("a sealed value of %s does not open: it was sealed with another key or moved here", strings.Join(where, "/"))
	}
	return string(b), nil
}

func place(where []string) []byte { return []byte(strings.Join(where, "\x00")) }
