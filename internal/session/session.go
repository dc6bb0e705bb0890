// Package session holds what a process in a workspace is given: its variables,
// its owner's secrets, the way to the git host and the credential there. It
// reads the records and opens what is sealed in them, and notes there that
// somebody wants to push.
package session

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/singleflight"

	"yardbench/internal/core/changes"
	"yardbench/internal/core/rules"
	"yardbench/internal/core/secret"
	"yardbench/internal/registry"
	"yardbench/internal/steward"
	"yardbench/internal/store"
	"yardbench/internal/vault"
)

// Sessions gives what processes need. All fields are set before use.
type Sessions struct {
	Store *store.Store
	Vault *vault.Vault
	// PortForm is the address of ports, with a * for the name of one, like
	// http://*.ports.localhost:7080.
	PortForm string
	// House gives the house rules in force.
	House interface {
		Rules(ctx context.Context, q store.Q) (rules.Rules, int, error)
	}
	Now func() time.Time
	// freshening is what is being made fresh, by person and host.
	freshening singleflight.Group
	asks       asks
}

// SecretPlace is what a sealed secret is bound to.
func SecretPlace(level secret.Level, subject, name string, version int) []string {
	return []string{"secret", string(level), subject, name, strconv.Itoa(version)}
}

// Opened is what a process is given beside its variables' names.
type Opened struct {
	Mask *secret.Values // what must be masked in anything that is written down
	// Mounts are what the build of an image may mount as secrets, by name, and Registries
	// what images are fetched with; see [Images.ForBuild].
	Mounts     map[string]string
	Registries registry.SignIns
	Given      []store.Secret
}

// Of says how processes of a workspace's owner run in it: as the
// definition's user, in the workspace folder, with the definition's variables,
// the owner's secrets and git set up for them, and which secrets those are.
func (s *Sessions) Of(ctx context.Context, w store.Workspace) (p steward.Process, opened Opened, err error) {
	owner, err := s.Store.Read().PersonByID(ctx, w.OwnerID)
	if err != nil {
		return p, opened, err
	}
	r, err := s.Store.Read().RepositoryByID(ctx, w.RepositoryID)
	if err != nil {
		return p, opened, err
	}
	opened.Given, err = s.Given(ctx, w)
	if err != nil {
		return p, opened, err
	}
	def := w.Target().Definition
	usual, err := s.Store.Read().UsualOf(ctx, w.OwnerID)
	if err != nil {
		return p, opened, err
	}
	p = s.Bare(w)
	p.GitConfig = append([]string{"user.name", cmp.Or(usual.GitName, owner.FullName), "user.email", cmp.Or(usual.GitEmail, owner.Email)}, p.GitConfig...)
	p.Env["YARDBENCH_OWNER"], p.Env["YARDBENCH_REPOSITORY"] = owner.Name, r.Name
	if usual.Zone != "" {
		p.Env["TZ"] = usual.Zone
	}
	if usual.Language != "" {
		p.Env["LANG"] = usual.Language
	}
	maps.Copy(p.Env, def.SessionEnv) // what the project says counts more
	if w.PortKey != "" && s.PortForm != "" {
		// The program inside finds out where its ports are to be reached.
		p.Env["YARDBENCH_PORT_ADDRESS"] = s.PortAddress(w.PortKey, "{port}")
		for _, port := range def.Ports {
			n := strconv.Itoa(port)
			p.Env["YARDBENCH_PORT_"+n+"_ADDRESS"] = s.PortAddress(w.PortKey, n)
		}
	}
	opened.Mask, p.Secrets, p.Files = secret.NewValues(nil), map[string]int{}, map[string]string{}
	for _, g := range opened.Given {
		v, err := s.open(g)
		if err != nil {
			return p, opened, err
		}
		opened.Mask.Add(g.Name, v)
		p.Secrets[g.Name] = g.Version
		if g.Form == secret.File {
			p.Files[g.Name] = v
			if g.Path != "" || g.Mode != 0 || g.Owner != "" {
				p.FileWays = append(p.FileWays, steward.FileWay{Name: g.Name, Path: g.Path, Mode: g.Mode, Owner: g.Owner})
			}
			p.Env[g.Name+"_FILE"] = secret.FileFolder + "/" + g.Name
		} else {
			p.Env[g.Name] = v
		}
	}
	if w.Plan.Adopted != nil { // a container that was taken on has no way
		return p, opened, nil
	}
	p.Asks = true
	return p, opened, s.ways(ctx, w, r, &p, opened.Mask)
}

// Bare says how processes run in a workspace that are not its owner's: as the
// definition's user, in the workspace folder, with the definition's variables, and
// nothing else.
func (s *Sessions) Bare(w store.Workspace) steward.Process {
	def := w.Target().Definition
	p := steward.Process{User: def.User, Folder: def.Folder, Probe: def.EnvProbe(), Unset: def.SessionUnset,
		GitConfig: []string{"safe.directory", def.TreeFolder()}, Env: map[string]string{"YARDBENCH_WORKSPACE": w.Name}}
	for _, b := range w.Target().Beside {
		p.GitConfig = append(p.GitConfig, "safe.directory", b.Folder)
	}
	maps.Copy(p.Env, def.SessionEnv)
	return p
}

// Given lists the secrets that a workspace's processes get, sealed.
func (s *Sessions) Given(ctx context.Context, w store.Workspace) ([]store.Secret, error) {
	if w.Plan.Adopted != nil {
		return nil, nil // a stranger's container holds nobody's
	}
	owner, err := s.Store.Read().PersonByID(ctx, w.OwnerID)
	if err != nil {
		return nil, err
	}
	r, err := s.Store.Read().RepositoryByID(ctx, w.RepositoryID)
	if err != nil {
		return nil, err
	}
	var all map[Chosen]store.Secret
	var choices []secret.Choice
	if w.Kind == store.ForPrebuild { // its image is everybody's: nothing of a person's or a team's
		all, choices, err = s.Images().chosen(ctx, r, secret.Place{Repository: r.Name, Branch: w.Branch, Prebuild: true})
	} else {
		all, choices, err = s.Choose(ctx, owner, r, w.Branch)
	}
	if err != nil {
		return nil, err
	}
	var out []store.Secret
	for _, c := range choices {
		if c.Given {
			out = append(out, all[Of(c.Secret)])
		}
	}
	return out, nil
}

func (s *Sessions) open(row store.Secret) (string, error) {
	return s.Vault.Open(row.Sealed, SecretPlace(row.Level, row.SubjectID, row.Name, row.Version)...)
}

// Chosen is a secret's name at one level, of one subject.
type Chosen struct {
	Level       secret.Level
	Whose, Name string
}

// Of names a secret.
func Of(s secret.Secret) Chosen { return Chosen{s.Level, s.Whose, s.Name} }

// Choose says what becomes of each secret that may reach the workspaces of a person
// on a branch of a repository, and gives them sealed.
func (s *Sessions) Choose(ctx context.Context, of store.Person, r store.Repository, branch string) (map[Chosen]store.Secret, []secret.Choice, error) {
	house, _, err := s.House.Rules(ctx, s.Store.Read())
	if err != nil {
		return nil, nil, err
	}
	place := secret.Place{Repository: r.Name, Branch: branch, Teams: of.TeamNames()}
	// What runs from a pull request may be a stranger's, and a guest is here for a time:
	// the house rules say what they are given.
	levels := house.Secrets.Levels(of.Guest != nil, changes.Request(branch) > 0)
	return s.chosen(ctx, store.SecretsFor(of, r.ID, levels), place)
}

func (s *Sessions) chosen(ctx context.Context, of []store.SecretsOf, place secret.Place) (map[Chosen]store.Secret, []secret.Choice, error) {
	rows, err := s.Store.Read().Secrets(ctx, of...)
	all, plain := map[Chosen]store.Secret{}, []secret.Secret{}
	for _, row := range rows {
		all[Of(row.Secret)] = row
		plain = append(plain, row.Secret)
	}
	return all, secret.Choose(place, plain), err
}

// Used notes that something is begun with secrets.
func (s *Sessions) Used(ctx context.Context, given []store.Secret) error {
	if !slices.ContainsFunc(given, func(g store.Secret) bool { return g.UsedAt == nil || s.Now().Sub(*g.UsedAt) > time.Hour }) {
		return nil
	}
	return s.Store.Write(ctx, func(tx *store.Tx) error { return tx.SecretsUsed(ctx, given) })
}

// PortAddress is where a port of a workspace is to be reached.
func (s *Sessions) PortAddress(key, port string) string {
	return strings.Replace(s.PortForm, "*", key+"-"+port, 1)
}
