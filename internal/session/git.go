package session

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"yardbench/internal/core/rules"
	"yardbench/internal/core/secret"
	"yardbench/internal/gitssh"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
)

const askTimeout = 10 * time.Second // bounds looking up where a steward's git may go

// ReadPlace is what a sealed credential of a repository is bound to.
func ReadPlace(repository string) []string { return []string{"read", repository} }

// GitPlace is what a sealed git credential is bound to.
func GitPlace(person, host string) []string { return []string{"git", person, host} }

// RefreshPlace is what is bound to that which such a credential is made fresh by.
func RefreshPlace(person, host string) []string { return []string{"git-refresh", person, host} }

// KeyPlace is what the private half of somebody's key for git is bound to.
func KeyPlace(person string) []string { return []string{"git-key", person} }

// GitSignIn opens what a person signs in with where a repository is. None is no error.
func (s *Sessions) GitSignIn(ctx context.Context, person, address string) (with outside.GitSignIn, err error) {
	if r, over := gitssh.Parse(address); over {
		with.SSH, err = s.overSSH(ctx, person, r.Host)
		return with, err
	}
	u, err := url.Parse(address)
	if err != nil {
		return with, err
	}
	if s.Lending().connects(ctx, u.Host) {
		with.Refused = "connect with it on your page in the console, or with: yardbench credential connect " + u.Host
	}
	row, err := s.Store.Read().GitCredential(ctx, person, u.Host)
	if errors.Is(err, store.ErrNotFound) {
		return with, nil
	}
	if err != nil {
		return with, err
	}
	if row.Lent {
		if row, err = s.Lending().fresh(ctx, row); err != nil || row.TakenBackAt != nil {
			return with, err
		}
	}
	with.Username = row.Username
	with.Password, err = s.Vault.Open(row.Sealed, GitPlace(person, u.Host)...)
	return with, err
}

// overSSH is what somebody signs in to a host with by SSH.
func (s *Sessions) overSSH(ctx context.Context, person, host string) (with gitssh.With, err error) {
	house, _, err := s.House.Rules(ctx, s.Store.Read())
	if err != nil {
		return with, err
	}
	with.HostKeys = hostKeys(house, host)
	_, with.Key, err = s.Key(ctx, person)
	return with, err
}

func hostKeys(house rules.Rules, host string) string {
	return strings.Join(house.Git.HostKeys[host], "\n")
}

// Key opens somebody's key for git: the zero values where they have none.
func (s *Sessions) Key(ctx context.Context, person string) (k store.GitKey, private string, err error) {
	k, err = s.Store.Read().GitKey(ctx, person)
	if errors.Is(err, store.ErrNotFound) {
		return k, "", nil
	}
	if err == nil {
		private, err = s.Vault.Open(k.Sealed, KeyPlace(person)...)
	}
	return k, private, err
}

// RepositoryCredential opens what a repository's prebuilds sign in to its git
// host with. None is no error.
func (s *Sessions) RepositoryCredential(ctx context.Context, r store.Repository) (c outside.GitSignIn, err error) {
	remote, over := gitssh.Parse(r.URL)
	if over {
		house, _, err := s.House.Rules(ctx, s.Store.Read())
		if err != nil {
			return c, err
		}
		c.SSH.HostKeys = hostKeys(house, remote.Host)
	}
	if !r.Reads() || over != (r.ReadKey != "") {
		return c, nil
	}
	p, err := s.Vault.Open(r.ReadSealed, ReadPlace(r.ID)...)
	if over {
		c.SSH.Key = p
	} else {
		c.Username, c.Password = r.ReadUsername, p
	}
	return c, err
}

// credential is what a workspace signs in to its git host with: its owner's, a
// prebuild's that of the repository.
func (s *Sessions) credential(ctx context.Context, w store.Workspace, r store.Repository) (outside.GitSignIn, error) {
	if w.Kind == store.ForPrebuild {
		return s.RepositoryCredential(ctx, r)
	}
	return s.GitSignIn(ctx, w.OwnerID, r.URL)
}

// ways sets up a process's ways to git hosts, on which the service signs in, and its
// owner's key where it has one. What signs in by HTTP is added to what is masked.
func (s *Sessions) ways(ctx context.Context, w store.Workspace, r store.Repository, p *steward.Process, mask *secret.Values) error {
	house, _, err := s.House.Rules(ctx, s.Store.Read())
	if err != nil {
		return err
	}
	if _, over := gitssh.Parse(r.URL); !over {
		u, err := url.Parse(r.URL)
		if err != nil {
			return err
		}
		p.GitHost = "http://" + u.Host + "/"
		if u.Scheme == "https" { // the service speaks TLS to the host, where it signs in
			p.GitConfig = append(p.GitConfig, "url.http://"+u.Host+"/.insteadOf", "https://"+u.Host+"/")
		}
		if err := s.masked(ctx, w, r, u.Host, mask); err != nil {
			return err
		}
	}
	p.SSHHosts = slices.Sorted(maps.Keys(house.Git.HostKeys))
	if agent, err := s.mayUseKey(ctx, w); err != nil || !agent {
		return err
	}
	k, err := s.Store.Read().GitKey(ctx, w.OwnerID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	p.Agent = true
	p.GitConfig = append(p.GitConfig, "gpg.format", "ssh", "user.signingKey", "key::"+k.Public)
	if k.Signs {
		p.GitConfig = append(p.GitConfig, "commit.gpgSign", "true", "tag.gpgSign", "true")
	}
	return nil
}

// masked adds what a workspace signs in with by HTTP to what is masked: as it is kept,
// as nothing that is begun waits for a git host.
func (s *Sessions) masked(ctx context.Context, w store.Workspace, r store.Repository, host string, mask *secret.Values) error {
	if w.Kind == store.ForPrebuild {
		c, err := s.RepositoryCredential(ctx, r)
		if c.Password != "" {
			mask.Add("git credential", c.Password)
		}
		return err
	}
	row, err := s.Store.Read().GitCredential(ctx, w.OwnerID, host)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	p, err := s.Vault.Open(row.Sealed, GitPlace(w.OwnerID, host)...)
	if err == nil {
		mask.Add("git credential", p)
	}
	return err
}

// Serve answers what a steward asks: the way to git hosts, on which the service signs
// in with its owner's credential, the agent of its owner's key, or a secret that a
// program asks for by its name. What signs in never comes into the workspace.
func (s *Sessions) Serve(link string, asked steward.Request, c *steward.Conn) {
	ctx, cancel := context.WithTimeout(context.Background(), askTimeout)
	defer cancel()
	r, w, err := s.repositoryOf(ctx, link)
	if err != nil || w.Plan.Adopted != nil { // a container that was taken on has no way
		return
	}
	switch asked.Kind {
	case steward.Agent:
		s.serveAgent(w.ID, c)
		return
	case steward.Asks:
		s.Asking().serve(w, asked, c)
		return
	}
	way := outside.GitWay{
		SignIn: func(ctx context.Context, push bool) (outside.GitSignIn, string, bool) {
			if push {
				if wait := s.waits(ctx, w.ID, "push to its git host"); wait != "" {
					return outside.GitSignIn{}, wait, false
				}
			}
			with, refused := s.signIn(ctx, link)
			return with, refused, true
		},
		Key: func(ctx context.Context, host string, push bool) (gitssh.With, string, bool) {
			if push {
				if wait := s.waits(ctx, w.ID, "push to its git host"); wait != "" {
					return gitssh.With{}, wait, false
				}
			}
			return s.keyFor(ctx, link, host)
		},
	}
	if _, over := gitssh.Parse(r.URL); !over {
		if u, err := url.Parse(r.URL); err == nil {
			way.Scheme, way.Host = u.Scheme, u.Host
		}
	}
	outside.ServeGit(c, way)
}

// signIn is what a workspace's git is signed in with now, and what is said where
// the host takes that from nobody.
func (s *Sessions) signIn(ctx context.Context, link string) (outside.GitSignIn, string) {
	r, w, err := s.repositoryOf(ctx, link)
	if err != nil {
		return outside.GitSignIn{}, "nobody knows what to sign in with: " + err.Error()
	}
	if w.Kind == store.ForPrebuild && w.SeededVolume > 0 {
		return outside.GitSignIn{}, notOfSetUp
	}
	u, err := url.Parse(r.URL)
	if err != nil {
		return outside.GitSignIn{}, "the repository's address cannot be read: " + err.Error()
	}
	with, err := s.credential(ctx, w, r)
	switch {
	case err != nil:
		return outside.GitSignIn{}, "the credential cannot be opened: " + err.Error()
	case w.Kind == store.ForPrebuild && with.Username == "":
		return with, fmt.Sprintf("the repository has no credential of its own; an operator gives it one with: yardbench repository credential %s --username NAME", r.Name)
	case w.Kind == store.ForPrebuild:
		return with, fmt.Sprintf("the git host refuses the repository's credential; an operator gives it another with: yardbench repository credential %s --username NAME", r.Name)
	case with.Refused != "":
		return with, u.Host + " does not let you in, or not any more; " + with.Refused
	case with.Username == "":
		return with, fmt.Sprintf("you have no credential for %s; give one with: yardbench credential put %s", u.Host, u.Host)
	}
	return with, fmt.Sprintf("the git host refuses your credential; give a fresh one with: yardbench credential put %s", u.Host)
}

// notOfSetUp: the repository's credential is for the clone, never for what the
// repository itself runs.
const notOfSetUp = "set-up commands of a prebuild cannot sign in at the git host"

// keyFor is what a workspace's git is signed in with by SSH: at any host that the
// house rules know the keys of, as its owner; a prebuild's at its own host alone.
func (s *Sessions) keyFor(ctx context.Context, link, host string) (with gitssh.With, refused string, may bool) {
	r, w, err := s.repositoryOf(ctx, link)
	if err != nil {
		return with, "nobody knows what to sign in with: " + err.Error(), false
	}
	if w.Kind == store.ForPrebuild {
		if remote, over := gitssh.Parse(r.URL); !over || remote.Host != host {
			return with, "a prebuild reaches its repository's git host alone", false
		}
		if w.SeededVolume > 0 {
			return with, notOfSetUp, false
		}
		c, err := s.RepositoryCredential(ctx, r)
		if err != nil {
			return with, "the key cannot be opened: " + err.Error(), false
		}
		return c.SSH, fmt.Sprintf("the git host lets the repository's prebuilds in by no key; an operator makes one with: yardbench repository deploy-key %s", r.Name), true
	}
	// Beyond the repository's own host the key is one of its owner's secrets, which what
	// a stranger wrote is not given.
	if remote, over := gitssh.Parse(r.URL); !over || remote.Host != host {
		if may, err := s.mayUseKey(ctx, w); err != nil || !may {
			return with, "the house rules give this workspace nothing of its owner's own, and so no key for " + host, false
		}
	}
	if with, err = s.overSSH(ctx, w.OwnerID, host); err != nil {
		return with, "the key cannot be opened: " + err.Error(), false
	}
	switch {
	case with.HostKeys == "":
		return with, "the house rules know no key of " + host + ", under git.host_keys", false
	case with.Key == "":
		return with, "the git host lets in by a key alone, and you have none; make one with: yardbench me git-key --new", true
	}
	return with, "the git host refuses your key; put the public half of it there, which says: yardbench me git-key", true
}

func (s *Sessions) repositoryOf(ctx context.Context, link string) (r store.Repository, w store.Workspace, err error) {
	w, err = s.Store.Read().WorkspaceByID(ctx, outside.WorkspaceOf(link))
	if err != nil {
		return r, w, err
	}
	r, err = s.Store.Read().RepositoryByID(ctx, w.RepositoryID)
	return r, w, err
}
