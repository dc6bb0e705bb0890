package service

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Keys are the use cases of coming in by SSH: people's public keys, and
// certificates of a short life. A key is a sign-in like others, by another proof:
// it is listed, ended and looked at in the same places.
type Keys struct {
	signIns *SignIns
	house   *house.Book
	store   *store.Store
	now     func() time.Time
	ssh     SSH
}

// SSH is what is known of the door of SSH.
type SSH struct {
	Address string             // where it is reached, host and port; "" is over the HTTP door alone
	Host    ed25519.PrivateKey // by which it is known
	People  ed25519.PrivateKey // by which people's certificates are signed
}

// Bounds of what lets somebody in by SSH.
const (
	keyDays         = 365
	certificateLife = 12 * time.Hour
	keyDoor         = "ssh"
	maxKeys         = 50 // of one person
)

// Door tells where the door of SSH is, and by which key it is known.
func (s *Keys) Door(ctx context.Context) (wire.SSHDoor, error) {
	key, err := ssh.NewPublicKey(s.ssh.Host.Public())
	if err != nil {
		return wire.SSHDoor{}, err
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	out := wire.SSHDoor{Address: s.ssh.Address, HostKey: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))), Fingerprint: ssh.FingerprintSHA256(key), Editors: []wire.SSHEditor{}}
	for _, e := range house.Editors {
		out.Editors = append(out.Editors, wire.SSHEditor{Name: e.Name, Link: e.Link})
	}
	return out, err
}

// Keys lists the actor's public keys.
func (s *Keys) Keys(ctx context.Context, a Actor) ([]wire.SSHKey, error) {
	rows, err := s.store.Read().Tokens(ctx, a.ID, s.now())
	out := []wire.SSHKey{}
	for _, t := range rows {
		if t.Door == keyDoor {
			out = append(out, keyView(t))
		}
	}
	return out, err
}

func keyView(t store.Token) wire.SSHKey {
	return wire.SSHKey{ID: t.ID, Comment: t.Name, Fingerprint: "SHA256:" + base64.RawStdEncoding.EncodeToString(t.Hash), AddedAt: t.CreatedAt, ExpiresAt: t.ExpiresAt, LastUsedAt: t.LastUsedAt}
}

// Add lets the actor in by a public key.
func (s *Keys) Add(ctx context.Context, a Actor, in wire.NewSSHKey) (wire.SSHKey, error) {
	key, comment, err := publicKey(in.Key)
	if err != nil {
		return wire.SSHKey{}, err
	}
	if in.Comment != "" {
		comment = in.Comment
	}
	comment = plain.Line(strings.TrimSpace(comment), 60)
	days := keyDays
	if in.Days > 0 {
		days = in.Days
	}
	sum := sha256.Sum256(key.Marshal())
	now := s.now().UTC()
	t := store.Token{ID: store.NewID(), PersonID: a.ID, Hash: sum[:], Door: keyDoor, Name: comment, CreatedAt: now, ExpiresAt: now.Add(time.Duration(days) * 24 * time.Hour)}
	return keyView(t), s.store.Write(ctx, func(tx *store.Tx) error {
		all, err := tx.Tokens(ctx, a.ID, now)
		if err != nil {
			return err
		}
		n := 0
		for _, t := range all {
			if t.Door == keyDoor {
				n++
			}
		}
		if n >= maxKeys {
			return conflict("too-many", "you have as many keys as one person may have", "remove one that nobody uses", fault.Do("list-keys", ""))
		}
		switch _, err := tx.TokenByHash(ctx, t.Hash, time.Time{}); {
		case err == nil:
			return at(conflict("name-taken", "this key lets somebody in already", "use a key of your own; remove it first where it is yours", fault.Do("list-keys", "")), "/key", "a key that nobody has given")
		case !errors.Is(err, store.ErrNotFound):
			return err
		}
		if err := tx.AddToken(ctx, t); err != nil {
			return err
		}
		return tx.Journal(ctx, t.ID, a.ID, a.ID, journal.KeyAdded{ExpiresAt: t.ExpiresAt, Fingerprint: keyView(t).Fingerprint})
	})
}

// Remove lets the actor in by a key no more; what is open by it ends.
func (s *Keys) Remove(ctx context.Context, a Actor, id string) error {
	all, err := s.Keys(ctx, a)
	if _, err = One(all, err, func(v wire.SSHKey) bool { return v.ID == id }, "key", id); err != nil {
		return err
	}
	return s.signIns.EndToken(ctx, a, id)
}

// publicKey reads a line of authorized_keys (sshd(8)) that holds a key and a
// comment, and of the kinds those that are taken for sound.
func publicKey(line string) (key ssh.PublicKey, comment string, err error) {
	bad := func(why, next string) (ssh.PublicKey, string, error) {
		return nil, "", at(invalid("this is no public key: "+why, next), "/key", "one line, like: ssh-ed25519 AAAA… comment")
	}
	if strings.Contains(line, "PRIVATE KEY") {
		return bad("it is a private one, which nobody but you may have", "give the file that ends in .pub; and make a new pair, as this one went over the network")
	}
	key, comment, options, rest, err := ssh.ParseAuthorizedKey([]byte(strings.TrimSpace(line)))
	switch {
	case err != nil:
		return bad("it cannot be read", "give the whole line of the file that ends in .pub")
	case len(options) > 0 || len(strings.TrimSpace(string(rest))) > 0:
		return bad("there is more than a key and a comment", "give one key, without options")
	}
	switch key.Type() {
	case ssh.KeyAlgoED25519, ssh.KeyAlgoSKED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoSKECDSA256:
	case ssh.KeyAlgoRSA:
		if bits, ok := key.(ssh.CryptoPublicKey); !ok || rsaBits(bits) < 2048 {
			return bad("it is an RSA key of fewer than 2,048 bits", "make one with: ssh-keygen -t ed25519")
		}
	default:
		return bad("a key of the kind "+quote(key.Type())+" is not taken", "make one with: ssh-keygen -t ed25519")
	}
	return key, comment, nil
}

func rsaBits(key ssh.CryptoPublicKey) int {
	if k, ok := key.CryptoPublicKey().(*rsa.PublicKey); ok {
		return k.N.BitLen()
	}
	return 0
}

// Certify signs a public key of the actor's, for a short time and no longer than
// what they came with holds.
func (s *Keys) Certify(ctx context.Context, a Actor, in wire.NewSSHCertificate) (wire.SSHCertificate, error) {
	key, _, err := publicKey(in.Key)
	if err != nil {
		return wire.SSHCertificate{}, err
	}
	t, err := s.store.Read().TokenByID(ctx, a.TokenID, s.now())
	if err != nil {
		return wire.SSHCertificate{}, err
	}
	until := s.now().Add(certificateLife)
	if t.ExpiresAt.Before(until) {
		until = t.ExpiresAt
	}
	signer, err := ssh.NewSignerFromSigner(s.ssh.People)
	if err != nil {
		return wire.SSHCertificate{}, err
	}
	c := &ssh.Certificate{Key: key, CertType: ssh.UserCert, KeyId: t.ID, ValidPrincipals: []string{a.ID},
		ValidAfter: uint64(s.now().Add(-time.Minute).Unix()), ValidBefore: uint64(until.Unix()),
		Permissions: ssh.Permissions{Extensions: map[string]string{"permit-pty": "", "permit-port-forwarding": "", "permit-agent-forwarding": ""}}}
	if err := c.SignCert(rand.Reader, signer); err != nil {
		return wire.SSHCertificate{}, err
	}
	return wire.SSHCertificate{Certificate: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(c))), ExpiresAt: until.UTC()}, nil
}

// Enter finds who a public key or a certificate lets in. That they hold it is for
// the door to have shown.
func (s *Keys) Enter(ctx context.Context, key ssh.PublicKey) (Actor, error) {
	c, ok := key.(*ssh.Certificate)
	if !ok {
		sum := sha256.Sum256(key.Marshal())
		t, err := s.store.Read().TokenByHash(ctx, sum[:], s.now())
		if err == nil && t.Door != keyDoor {
			err = store.ErrNotFound
		}
		return s.holder(ctx, t, err)
	}
	signed, err := ssh.NewPublicKey(s.ssh.People.Public())
	if err != nil {
		return Actor{}, err
	}
	check := ssh.CertChecker{Clock: s.now, IsUserAuthority: func(by ssh.PublicKey) bool { return string(by.Marshal()) == string(signed.Marshal()) }}
	if c.CertType != ssh.UserCert || len(c.ValidPrincipals) != 1 || !check.IsUserAuthority(c.SignatureKey) {
		return Actor{}, stranger("sign-in", "this certificate is not of this service", "have one made")
	}
	if err := check.CheckCert(c.ValidPrincipals[0], c); err != nil {
		return Actor{}, stranger("sign-in", "this certificate does not hold: "+err.Error(), "have another made")
	}
	t, err := s.store.Read().TokenByID(ctx, c.KeyId, s.now())
	if err == nil && t.PersonID != c.ValidPrincipals[0] {
		err = store.ErrNotFound
	}
	return s.holder(ctx, t, err)
}

func (s *Keys) holder(ctx context.Context, t store.Token, err error) (a Actor, _ error) {
	if err == nil {
		a, err = s.signIns.actorOf(ctx, t)
	}
	if errors.Is(err, store.ErrNotFound) {
		return Actor{}, stranger("sign-in", "nobody is let in by this", "add your key, or have a certificate made")
	}
	if err != nil {
		return Actor{}, err
	}
	return a, a.Refusal(policy.UseWorkspace)
}

// Used notes that somebody came in by a key.
func (s *Keys) Used(ctx context.Context, a Actor) {
	if t, err := s.store.Read().TokenByID(ctx, a.TokenID, s.now()); err == nil {
		s.signIns.used(t)
	}
}
