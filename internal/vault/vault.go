// Package vault seals small values with a key that is kept outside the
// database, in a file of its own. It touches that file and nothing else.
//
// Sealing is AES-256-GCM by Tink; every value is bound to where it belongs
// (its associated data), so that a sealed value moved to another row does not
// open. The key file is a Tink keyset in JSON and may hold older keys, which
// still open what they sealed.
package vault

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/insecurecleartextkeyset"
	"github.com/tink-crypto/tink-go/v2/keyset"
	"github.com/tink-crypto/tink-go/v2/tink"

	"yardbench/internal/durable"
)

// Vault seals and opens.
type Vault struct{ aead tink.AEAD }

// Open reads the key file, making it with a fresh key where there is none.
func Open(path string) (*Vault, error) {
	content, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		content, err = create(path)
	}
	if err != nil {
		return nil, fmt.Errorf("key file: %w", err)
	}
	handle, err := insecurecleartextkeyset.Read(keyset.NewJSONReader(bytes.NewReader(content)))
	if err != nil {
		return nil, fmt.Errorf("key file %s: %w", path, err)
	}
	a, err := aead.New(handle)
	if err != nil {
		return nil, fmt.Errorf("key file %s: %w", path, err)
	}
	return &Vault{a}, nil
}

// create writes a new key, whole or not at all.
func create(path string) ([]byte, error) {
	handle, err := keyset.NewHandle(aead.AES256GCMKeyTemplate())
	if err != nil {
		return nil, err
	}
	var buf bytes.Buffer
	if err := insecurecleartextkeyset.Write(handle, keyset.NewJSONWriter(&buf)); err != nil {
		return nil, err
	}
	return buf.Bytes(), durable.Write(path, buf.Bytes(), 0o600)
}

// Seal encrypts value for the place that where names.
func (v *Vault) Seal(value string, where ...string) ([]byte, error) {
	return v.aead.Encrypt([]byte(value), place(where))
}

// Open decrypts what Seal made for the same place.
func (v *Vault) Open(sealed []byte, where ...string) (string, error) {
	b, err := v.aead.Decrypt(sealed, place(where))
	if err != nil {
		return "", fmt.Errorf("a sealed value of %s does not open: it was sealed with another key or moved here", strings.Join(where, "/"))
	}
	return string(b), nil
}

func place(where []string) []byte { return []byte(strings.Join(where, "\x00")) }
