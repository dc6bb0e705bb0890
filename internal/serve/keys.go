package serve

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"yardbench/internal/service"
	"yardbench/internal/store"
	"yardbench/internal/vault"
)

// Keys of the installation's own table: what the records know of the keys that
// are kept beside them.
const (
	metaSealed     = service.MetaSealed // a known word, sealed
	metaJournalKey = "journal key"      // SHA-256 of the public key, in hexadecimal
)

// sealedWord is what is sealed to be opened at each start.
const sealedWord = "yardbench"

// openKeys opens the key that secrets are sealed with and the one that journal
// heads are signed with. They are made for new records only: records that were
// there before with a key that is missing, or is another one, are refused, and
// nothing is written.
func openKeys(ctx context.Context, st *store.Store, dir, keyService string) (*vault.Vault, ed25519.PrivateKey, error) {
	sealing, signing := filepath.Join(dir, "sealing.json"), filepath.Join(dir, "journal.pem")
	fresh, err := newRecords(ctx, st)
	if err != nil {
		return nil, nil, err
	}
	if !fresh {
		for _, f := range []struct{ path, what string }{{sealing, "the secrets in the records were sealed with"}, {signing, "the heads of the journal are signed with"}} {
			if _, err := os.Stat(f.path); errors.Is(err, fs.ErrNotExist) {
				return nil, nil, fmt.Errorf("the key %s, that %s, is missing. A new one would not open them. Put it back from where you keep it apart from the records", f.path, f.what)
			}
		}
	}
	var guard vault.Guard
	if words := strings.Fields(keyService); len(words) > 0 {
		guard = vault.Command(words)
	}
	v, err := vault.Open(sealing, guard)
	if err != nil {
		return nil, nil, err
	}
	key, err := vault.SigningKey(signing)
	if err != nil {
		return nil, nil, err
	}
	if err := knownKeys(ctx, st, v, key, sealing, signing); err != nil {
		return nil, nil, err
	}
	return v, key, nil
}

// newRecords tells whether nothing was ever sealed or signed for these records.
func newRecords(ctx context.Context, st *store.Store) (bool, error) {
	q := st.Read()
	sealed, err := q.Meta(ctx, metaSealed)
	if err != nil || sealed != "" {
		return false, err
	}
	head, err := q.JournalHead(ctx)
	return head == 0, err
}

// knownKeys holds the keys against what the records know of them, and has them
// known where they are not yet.
func knownKeys(ctx context.Context, st *store.Store, v *vault.Vault, key ed25519.PrivateKey, sealing, signing string) error {
	der, err := x509.MarshalPKIXPublicKey(key.Public())
	if err != nil {
		return err
	}
	sum := sha256.Sum256(der)
	print := hex.EncodeToString(sum[:])
	q := st.Read()
	sealed, err := q.Meta(ctx, metaSealed)
	if err != nil {
		return err
	}
	known, err := q.Meta(ctx, metaJournalKey)
	if err != nil {
		return err
	}
	if sealed != "" {
		raw, err := hex.DecodeString(sealed)
		if err == nil {
			_, err = v.Open(raw, "meta", metaSealed)
		}
		if err != nil {
			return fmt.Errorf("the key %s is not the one that the secrets in the records were sealed with: it opens none of them. Put that one back", sealing)
		}
	} else if err := opensSomething(ctx, q, v); err != nil {
		return fmt.Errorf("the key %s is not the one that the secrets in the records were sealed with: %w. Put that one back", sealing, err)
	}
	if known != "" && known != print {
		return fmt.Errorf("the key %s is not the one that the heads of this journal were signed with. Put that one back", signing)
	}
	if sealed != "" && known != "" {
		return nil
	}
	word, err := v.Seal(sealedWord, "meta", metaSealed)
	if err != nil {
		return err
	}
	return st.Write(ctx, func(tx *store.Tx) error {
		if err := tx.SetMeta(ctx, metaSealed, hex.EncodeToString(word)); err != nil {
			return err
		}
		return tx.SetMeta(ctx, metaJournalKey, print)
	})
}

// opensSomething tries a key on records of before it was known.
func opensSomething(ctx context.Context, q store.Q, v *vault.Vault) error {
	all, err := q.Workspaces(ctx)
	if err != nil {
		return err
	}
	for _, w := range all {
		_, err := v.Open(w.StewardToken, "steward", w.ID)
		return err // the first will do
	}
	return nil
}

// sshKeys opens the key by which the door of SSH is known, and the one by which
// people's certificates are signed; they are made where there are none. Nothing in
// the records was made with them.
func sshKeys(dir string) (host, people ed25519.PrivateKey, err error) {
	if host, err = vault.SigningKey(filepath.Join(dir, "ssh-host.pem")); err == nil {
		people, err = vault.SigningKey(filepath.Join(dir, "ssh-people.pem"))
	}
	return host, people, err
}
