package service

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/githost"
	"yardbench/internal/repo"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// GitHosts are what people sign in to git hosts with: what they typed, and what a host
// lends whom they are (OAuth 2.0). An operator registers such a host.
type GitHosts struct {
	address  string
	store    *store.Store
	vault    *vault.Vault
	sessions *session.Sessions
	now      func() time.Time
}

const (
	maxGitHosts = 20
	// givenBackEach is how often it is looked who has left with something lent.
	givenBackEach = 20 * time.Second
)

func (s *GitHosts) callback() string { return s.address + "/api/v1/git-hosts/return" }

// GitHosts lists those that people connect with.
func (s *GitHosts) GitHosts(ctx context.Context, a Actor) ([]wire.GitHost, error) {
	if !a.may(policy.SeeSelf) {
		return nil, denied(a, "see git hosts")
	}
	rows, err := s.store.Read().GitHosts(ctx)
	out := []wire.GitHost{}
	for _, h := range rows {
		out = append(out, s.view(h))
	}
	return out, err
}

func (s *GitHosts) view(h store.GitHost) wire.GitHost {
	return wire.GitHost{Host: h.Host, Title: h.Title, Authorize: h.Authorize, Token: h.Token, Device: h.Device, Revoke: h.Revoke, Repositories: h.Repositories, Member: h.Member, Client: h.Client,
		Scopes: strings.Fields(h.Scopes), Username: h.Username, Callback: s.callback(), CreatedAt: h.CreatedAt}
}

var memberName = regexp.MustCompile(`^[A-Za-z0-9_.-]{1,64}$`)

// Put has people connect with a git host, or changes how.
func (s *GitHosts) Put(ctx context.Context, a Actor, host string, in wire.PutGitHost) (wire.GitHost, error) {
	if !a.may(policy.ChangeProviders) {
		return wire.GitHost{}, denied(a, "change git hosts")
	}
	all, err := s.store.Read().GitHosts(ctx)
	if err != nil {
		return wire.GitHost{}, err
	}
	i := slices.IndexFunc(all, func(h store.GitHost) bool { return h.Host == host })
	h := store.GitHost{Host: host, MadeBy: a.ID, CreatedAt: s.now().UTC()}
	if i >= 0 {
		h = all[i]
	}
	was := h
	h.Title, h.Authorize, h.Token, h.Device, h.Revoke, h.Repositories, h.Client = cmp.Or(strings.TrimSpace(in.Title), host), in.Authorize, in.Token, in.Device, in.Revoke, in.Repositories, in.Client
	h.Member, h.Username, h.Scopes = cmp.Or(in.Member, "clone_url"), cmp.Or(in.Username, "oauth2"), strings.Join(in.Scopes, " ")
	for field, at := range map[string]string{"/authorize": h.Authorize, "/token": h.Token, "/device": h.Device, "/revoke": h.Revoke, "/repositories": h.Repositories} {
		u, err := url.Parse(at)
		if at == "" && field != "/authorize" && field != "/token" {
			continue
		}
		if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil || u.Fragment != "" || hasControl(at) {
			return wire.GitHost{}, wrongAt(quote(at)+" is no address", field, "like https://git.skerryline.example/oauth"+field)
		}
	}
	for _, scope := range in.Scopes {
		if scope == "" || strings.ContainsAny(scope, " \"\\") || hasControl(scope) {
			return wire.GitHost{}, wrongAt(quote(scope)+" is no scope", "/scopes", "give words")
		}
	}
	switch {
	case !hostName.MatchString(host):
		return wire.GitHost{}, invalid(quote(host)+" is no host", "give it as it stands in addresses of repositories, with :PORT where it is not the usual one")
	case i < 0 && len(all) >= maxGitHosts:
		return wire.GitHost{}, conflict("too-many", fmt.Sprintf("there are %d git hosts already", len(all)), "remove one first")
	case hasControl(h.Title) || hasControl(h.Client) || h.Client == "":
		return wire.GitHost{}, wrongAt("the client is missing, or holds a character that is no text", "/client", "give what the host knows this service by")
	case !memberName.MatchString(h.Member):
		return wire.GitHost{}, wrongAt(quote(h.Member)+" is no member", "/member", "name that of a repository in the host's list which has the address for git")
	case strings.ContainsAny(h.Username, ":\r\n\x00"):
		return wire.GitHost{}, wrongAt("the name holds a character that git cannot pass on", "/username", "name as whom git signs in with what is lent")
	case in.Secret == "" && i >= 0 && len(was.Secret) > 0 && was.Token != h.Token:
		return wire.GitHost{}, wrongAt("the client's secret is missing", "/secret", "a secret of one address is not told to another: give it again")
	}
	if in.Secret != "" {
		if h.Secret, err = s.vault.Seal(in.Secret, session.HostPlace(host)...); err != nil {
			return wire.GitHost{}, err
		}
	}
	return s.view(h), s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.PutGitHost(ctx, h); err != nil {
			return err
		}
		return tx.Journal(ctx, host, "", a.ID, journal.GitHostPut{Host: host, Client: h.Client})
	})
}

func wrongAt(what, field, next string) error { return at(invalid(what, ""), field, next) }

// Drop has nobody connect with a git host any more. What it lent is given back.
func (s *GitHosts) Drop(ctx context.Context, a Actor, host string) error {
	if !a.may(policy.ChangeProviders) {
		return denied(a, "remove git hosts")
	}
	if _, err := s.named(ctx, host); err != nil {
		return err
	}
	rows, err := s.store.Read().LentAt(ctx, host)
	if err != nil {
		return err
	}
	for _, r := range rows {
		if err := s.giveBack(ctx, r); err != nil {
			slog.Warn("a git host was not told that what it lent is forgotten", "host", host, "error", err)
			break // it does not answer: what it lent ends there in its time
		}
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropGitHost(ctx, host); err != nil {
			return err
		}
		return tx.Journal(ctx, host, "", a.ID, journal.GitHostDropped{Host: host})
	})
}

func (s *GitHosts) named(ctx context.Context, host string) (store.GitHost, error) {
	h, err := s.store.Read().GitHost(ctx, host)
	if errors.Is(err, store.ErrNotFound) {
		return h, notFound("git host to connect with", host, "see them", fault.Do("list-git-hosts", ""))
	}
	return h, err
}

func (s *GitHosts) asked(ctx context.Context, host string) (h store.GitHost, ask githost.Host, err error) {
	if h, err = s.named(ctx, host); err == nil {
		ask, err = s.sessions.Lending().GitHost(h, s.callback())
	}
	return h, ask, err
}

// lending is what a browser, or the command line, keeps sealed while somebody is at a
// git host.
type lending struct {
	githost.Arrival
	Device, Host, Person string
	Until                time.Time
}

func (s *GitHosts) keep(v lending) (string, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return "", err
	}
	sealed, err := s.vault.Seal(string(text), "lending")
	return base64.RawURLEncoding.EncodeToString(sealed), err
}

func (s *GitHosts) kept(text string) (v lending, err error) {
	sealed, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		var plain string
		if plain, err = s.vault.Open(sealed, "lending"); err == nil {
			err = json.Unmarshal([]byte(plain), &v)
		}
	}
	if err != nil || s.now().After(v.Until) {
		return v, invalidAs("git-host", "this was begun elsewhere, or too long ago", "begin anew")
	}
	return v, nil
}

// Begin sends the actor to a git host, to let this service in as them; kept is what
// their browser keeps meanwhile.
func (s *GitHosts) Begin(ctx context.Context, a Actor, host string) (address, kept string, err error) {
	if !a.may(policy.ChangeSelf) {
		return "", "", denied(a, "connect with git hosts")
	}
	_, ask, err := s.asked(ctx, host)
	if err != nil {
		return "", "", err
	}
	v := lending{Host: host, Person: a.ID, Until: s.now().Add(arrivalMost)}
	address, v.Arrival = ask.Begin()
	kept, err = s.keep(v)
	return address, kept, err
}

// Return takes what somebody came back with from a git host.
func (s *GitHosts) Return(ctx context.Context, kept string, q url.Values) error {
	v, err := s.kept(kept)
	if err != nil {
		return err
	}
	h, ask, err := s.asked(ctx, v.Host)
	if err != nil {
		return err
	}
	t, err := ask.Return(ctx, v.Arrival, q)
	if err != nil {
		return s.failed(h, err)
	}
	return s.lend(ctx, h, v.Person, t)
}

func (s *GitHosts) failed(h store.GitHost, err error) error {
	slog.Warn("a connection with a git host failed", "host", h.Host, "error", err)
	if errors.Is(err, githost.ErrRefused) {
		return invalidAs("git-host", h.Title+" has not let this service in", "try again; an operator can look at the service's log")
	}
	return fromRoom(err)
}

// lend keeps what a host lends somebody, unless they have left meanwhile.
func (s *GitHosts) lend(ctx context.Context, h store.GitHost, person string, t githost.Tokens) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		p, err := tx.PersonByID(ctx, person)
		if err != nil {
			return err
		}
		if p.Left(tx.Now()) {
			return invalidAs("git-host", "your account here is closed", "ask an operator")
		}
		if _, err := tx.GitHost(ctx, h.Host); err != nil {
			return err
		}
		if err := s.sessions.Lending().Lend(ctx, tx, person, h, t); err != nil {
			return err
		}
		return tx.Journal(ctx, person, person, person, journal.CredentialPut{Host: h.Host, Lent: true})
	})
}

// BeginDevice begins a connection for somebody at a command line: what they type, and where.
func (s *GitHosts) BeginDevice(ctx context.Context, a Actor, host string) (wire.GitHostCode, error) {
	if !a.may(policy.ChangeSelf) {
		return wire.GitHostCode{}, denied(a, "connect with git hosts")
	}
	h, ask, err := s.asked(ctx, host)
	if err != nil {
		return wire.GitHostCode{}, err
	}
	if h.Device == "" {
		return wire.GitHostCode{}, invalidAs("git-host", h.Title+" lets nobody in by a code", "connect with it in the console, at "+s.address+"/you")
	}
	d, err := ask.BeginDevice(ctx)
	if err != nil {
		return wire.GitHostCode{}, s.failed(h, err)
	}
	until := s.now().Add(arrivalMost)
	if !d.Until.IsZero() && d.Until.Before(until) {
		until = d.Until
	}
	kept, err := s.keep(lending{Device: d.Device, Host: host, Person: a.ID, Until: until})
	return wire.GitHostCode{Code: d.Code, At: d.At, Kept: kept, IntervalS: int(d.Interval / time.Second), Until: until.UTC()}, err
}

// AskDevice asks once whether somebody has typed their code.
func (s *GitHosts) AskDevice(ctx context.Context, a Actor, host, kept string) (wire.GitHostAnswer, error) {
	v, err := s.kept(kept)
	if err != nil {
		return wire.GitHostAnswer{}, err
	}
	if v.Person != a.ID || v.Host != host || v.Device == "" || !a.may(policy.ChangeSelf) {
		return wire.GitHostAnswer{}, invalidAs("git-host", "this was begun by somebody else, or with another host", "begin anew")
	}
	h, ask, err := s.asked(ctx, host)
	if err != nil {
		return wire.GitHostAnswer{}, err
	}
	t, err := ask.AskDevice(ctx, v.Device)
	if errors.Is(err, githost.ErrWaits) {
		return wire.GitHostAnswer{}, nil
	}
	if err != nil {
		return wire.GitHostAnswer{}, s.failed(h, err)
	}
	return wire.GitHostAnswer{Connected: true}, s.lend(ctx, h, a.ID, t)
}

// Repositories lists what a host lets the actor read, that is connected with it.
func (s *GitHosts) Repositories(ctx context.Context, a Actor, host string) ([]wire.HostedRepository, error) {
	if !a.may(policy.SeeSelf) {
		return nil, denied(a, "see what git hosts let you read")
	}
	h, ask, err := s.asked(ctx, host)
	if err != nil {
		return nil, err
	}
	with, err := s.sessions.GitSignIn(ctx, a.ID, "https://"+host+"/")
	if err != nil {
		return nil, fromRoom(err)
	}
	if with.Password == "" {
		return nil, conflict("not-connected", "you are not connected with "+h.Title, "do so", fault.Do("begin-git-host", host))
	}
	addresses, err := ask.List(ctx, with.Password)
	if err != nil {
		return nil, s.failed(h, err)
	}
	registered := map[string]string{}
	rows, err := s.store.Read().Repositories(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		registered[strings.TrimSuffix(r.URL, ".git")] = r.Name
	}
	out := []wire.HostedRepository{}
	for _, address := range addresses {
		if repo.CheckURL(address) == nil {
			out = append(out, wire.HostedRepository{URL: address, Registered: registered[strings.TrimSuffix(address, ".git")]})
		}
	}
	return out, nil
}

// giveBack has a host forget what it lent.
func (s *GitHosts) giveBack(ctx context.Context, row store.Sealed) error {
	h, err := s.store.Read().GitHost(ctx, row.Name)
	if err != nil {
		return err
	}
	ask, err := s.sessions.Lending().GitHost(h, "")
	if err != nil {
		return err
	}
	var t githost.Tokens
	if t.Access, err = s.vault.Open(row.Sealed, session.GitPlace(row.PersonID, row.Name)...); err != nil {
		return err
	}
	if len(row.Refresh) > 0 {
		if t.Refresh, err = s.vault.Open(row.Refresh, session.RefreshPlace(row.PersonID, row.Name)...); err != nil {
			return err
		}
	}
	return ask.End(ctx, t)
}

// Run gives back what was lent to those who have left, until ctx ends. A host that
// does not answer is asked again.
func (s *GitHosts) Run(ctx context.Context) {
	for {
		if err := s.leavers(ctx); err != nil && ctx.Err() == nil {
			slog.Warn("what git hosts have lent somebody who left is not given back yet", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(givenBackEach):
		}
	}
}

func (s *GitHosts) leavers(ctx context.Context) error {
	rows, err := s.store.Read().LentByLeft(ctx, s.now())
	for _, row := range rows {
		e := s.giveBack(ctx, row)
		if e == nil {
			e = s.store.Write(ctx, func(tx *store.Tx) error {
				if err := tx.DropGitCredential(ctx, row.PersonID, row.Name); err != nil {
					return err
				}
				return tx.Journal(ctx, row.PersonID, row.PersonID, serviceName, journal.CredentialRemoved{Host: row.Name})
			})
		}
		err = errors.Join(err, e)
	}
	return err
}
