package session

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"yardbench/internal/core/changes"
	"yardbench/internal/core/secret"
	"yardbench/internal/steward"
	"yardbench/internal/store"
)

// allowTimeout is how long a signature waits for a person who is to allow it.
const allowTimeout = time.Minute

// mayUseKey tells whether what runs in a workspace may have its owner's key sign: where
// it is given the owner's own secrets too, of which the key is one.
func (s *Sessions) mayUseKey(ctx context.Context, w store.Workspace) (bool, error) {
	if w.Kind == store.ForPrebuild || w.Plan.Adopted != nil {
		return false, nil
	}
	owner, err := s.Store.Read().PersonByID(ctx, w.OwnerID)
	if err != nil {
		return false, err
	}
	house, _, err := s.House.Rules(ctx, s.Store.Read())
	if err != nil || owner.Left(s.Now()) {
		return false, err
	}
	return slices.Contains(house.Secrets.Levels(owner.Guest != nil, changes.Request(w.Branch) > 0), secret.OfPerson), nil
}

// serveAgent answers as an agent of SSH with the key of a workspace's owner.
func (s *Sessions) serveAgent(workspace string, c *steward.Conn) {
	if err := agent.ServeAgent(&keyAgent{s, workspace}, c.Stream); err != nil {
		slog.Debug("an agent's connection ended", "workspace", workspace, "error", err)
	}
}

// keyAgent is an agent with one key, which is asked for at each use: a key that was
// taken away signs nothing from then on.
type keyAgent struct {
	s         *Sessions
	workspace string
}

// ring holds the key, if there is one now.
func (a *keyAgent) ring() (agent.ExtendedAgent, error) {
	ctx, cancel := context.WithTimeout(context.Background(), askTimeout)
	defer cancel()
	ring, is := agent.NewKeyring().(agent.ExtendedAgent)
	w, err := a.s.Store.Read().WorkspaceByID(ctx, a.workspace)
	if err != nil || !is {
		return nil, cmp.Or(err, agent.ErrExtensionUnsupported)
	}
	if may, err := a.s.mayUseKey(ctx, w); err != nil || !may {
		return ring, err
	}
	k, private, err := a.s.Key(ctx, w.OwnerID)
	if err != nil || private == "" {
		return ring, err
	}
	raw, err := ssh.ParseRawPrivateKey([]byte(private))
	if err != nil {
		return nil, err
	}
	_, comment, _, _, err := ssh.ParseAuthorizedKey([]byte(k.Public))
	return ring, errors.Join(err, ring.Add(agent.AddedKey{PrivateKey: raw, Comment: comment}))
}

func (a *keyAgent) List() ([]*agent.Key, error) {
	ring, err := a.ring()
	if err != nil {
		return nil, err
	}
	return ring.List()
}

func (a *keyAgent) Sign(key ssh.PublicKey, data []byte) (*ssh.Signature, error) {
	return a.SignWithFlags(key, data, 0)
}

// SignWithFlags signs once its owner allows it, where the house rules want that: it
// waits for them a while, as whoever commits does not come again by themselves.
func (a *keyAgent) SignWithFlags(key ssh.PublicKey, data []byte, flags agent.SignatureFlags) (*ssh.Signature, error) {
	ctx, cancel := context.WithTimeout(context.Background(), allowTimeout)
	defer cancel()
	for {
		wait := a.s.waits(ctx, a.workspace, "sign with your key")
		if wait == "" {
			break
		}
		select {
		case <-ctx.Done():
			return nil, errors.New(wait)
		case <-time.After(time.Second):
		}
	}
	ring, err := a.ring()
	if err != nil {
		return nil, err
	}
	return ring.SignWithFlags(key, data, flags)
}

var errKept = errors.New("keys are given by the service alone")

func (a *keyAgent) Add(agent.AddedKey) error       { return errKept }
func (a *keyAgent) Remove(ssh.PublicKey) error     { return errKept }
func (a *keyAgent) RemoveAll() error               { return errKept }
func (a *keyAgent) Lock([]byte) error              { return errKept }
func (a *keyAgent) Unlock([]byte) error            { return errKept }
func (a *keyAgent) Signers() ([]ssh.Signer, error) { return nil, errKept }
func (a *keyAgent) Extension(string, []byte) ([]byte, error) {
	return nil, agent.ErrExtensionUnsupported
}
