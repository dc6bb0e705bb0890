package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/secret"
	"yardbench/internal/fault"
	"yardbench/internal/reconcile"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// Secrets are the use cases of secrets and of what people sign in to git hosts with.
type Secrets struct {
	keeper       *reconcile.Keeper
	store        *store.Store
	vault        *vault.Vault
	definitions  *Definitions
	repositories *Repositories
	sessions     *session.Sessions
	views        *views
}

// Whose says whose secrets are meant: the actor's own, or those of a repository, a
// team or the house.
type Whose struct {
	Level secret.Level
	Name  string // of the repository or team
}

// Mine are the actor's own.
var Mine = Whose{Level: secret.OfPerson}

// secretRights are what the actor must be allowed to see and change secrets of a
// level, and how it is said.
var secretRights = map[secret.Level]struct {
	see, change policy.Action
	what        string
}{
	secret.OfPerson:     {policy.SeeSecrets, policy.ChangeSecrets, "have secrets"},
	secret.OfRepository: {policy.SeeRepoSecrets, policy.ChangeRepoSecret, "see or set a repository's secrets"},
	secret.OfTeam:       {policy.SeeTeamSecrets, policy.ChangeTeamSecret, "see or set that team's secrets"},
	secret.OfHouse:      {policy.SeeHouseSecrets, policy.ChangeHouseSecret, "see or set the house's secrets"},
}

// subject finds whose secrets are meant, where the actor may see or change them.
func (s *Secrets) subject(ctx context.Context, a Actor, of Whose, change bool) (store.SecretsOf, string, error) {
	rights := secretRights[of.Level]
	action := rights.see
	if change {
		action = rights.change
	}
	to := store.SecretsOf{Level: of.Level, SubjectID: a.ID}
	allowed := a.may(action)
	switch of.Level {
	case secret.OfPerson:
	case secret.OfRepository:
		r, err := s.repositories.repository(ctx, a, of.Name)
		if err != nil {
			return to, "", err
		}
		to.SubjectID, of.Name = r.ID, r.Name
	case secret.OfTeam:
		t, err := s.store.Read().TeamByName(ctx, of.Name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return to, "", err
		}
		// Who may not see a team's finds none of it, whether there is one or not.
		theirs := err == nil && a.mayOf(rights.see, store.Person{ID: t.ID, TeamID: t.ID})
		if !theirs {
			return to, "", notFound("team", of.Name, "see them", fault.Do("list-teams", ""))
		}
		to.SubjectID, of.Name, allowed = t.ID, t.Name, a.mayOf(action, store.Person{ID: t.ID, TeamID: t.ID})
	case secret.OfHouse:
		to.SubjectID = store.TheHouse
	}
	if !allowed {
		return to, "", denied(a, rights.what)
	}
	return to, of.Name, nil
}

// Put sets a secret.
func (s *Secrets) Put(ctx context.Context, a Actor, of Whose, name string, in wire.SecretValue) (wire.Secret, error) {
	subject, whose, err := s.subject(ctx, a, of, true)
	if err != nil {
		return wire.Secret{}, err
	}
	row := store.Secret{Secret: secret.Secret{Level: of.Level, Name: name, Whose: whose}, SubjectID: subject.SubjectID, By: a.Name, UpdatedBy: a.ID}
	old, err := s.store.Read().Secrets(ctx, subject)
	if err != nil {
		return wire.Secret{}, err
	}
	var was *store.Secret
	if i := slices.IndexFunc(old, func(o store.Secret) bool { return o.Name == name }); i >= 0 {
		was = &old[i]
	} else if len(old) >= mostSecrets {
		return wire.Secret{}, conflict("too-many", fmt.Sprintf("there are %d secrets here already, and no more are kept", len(old)), "remove one that is not used")
	}
	if err := settle(&row, was, in); err != nil {
		return wire.Secret{}, err
	}
	var ids []string
	for _, name := range row.Repositories {
		r, err := s.repositories.repository(ctx, a, name)
		if err != nil {
			return wire.Secret{}, err
		}
		ids = append(ids, r.ID)
	}
	err = s.store.Write(ctx, func(tx *store.Tx) (err error) {
		row.UpdatedAt = tx.Now()
		var now Tagged
		all, err := tx.Secrets(ctx, subject)
		if i := slices.IndexFunc(all, func(o store.Secret) bool { return o.Name == row.Name }); i >= 0 {
			now = secretView(all[i])
		}
		if err == nil {
			err = matches(ctx, "secret "+row.Name, now)
		}
		if err != nil {
			return err
		}
		row.Version, err = tx.PutSecret(ctx, row, ids, func(version int) ([]byte, error) {
			return s.vault.Seal(in.Value, session.SecretPlace(row.Level, row.SubjectID, row.Name, version)...)
		})
		if err != nil {
			return err
		}
		return tx.Journal(ctx, row.SubjectID, secretOwner(row), a.ID, journal.SecretPut{Branches: row.Branches, Name: row.Name, Level: row.Level, Version: row.Version, Form: row.Form, Everywhere: row.Everywhere, Repositories: row.Repositories, Whose: whose})
	})
	if err != nil {
		return wire.Secret{}, err
	}
	s.secretsChanged(row.Of())
	v := secretView(row)
	if secret.Placeholder(in.Value) {
		v.Doubt = "the value looks like what an example has in its place; set it again if it is not the real one"
	}
	return v, nil
}

// mostSecrets bounds how many secrets one subject has.
const mostSecrets = 500

// settle puts what is asked for into a secret's row, with what it keeps of the one
// it replaces, and says what is wrong with it.
func settle(row *store.Secret, was *store.Secret, in wire.SecretValue) error {
	check := secret.CheckName
	if row.Level != secret.OfPerson {
		check = secret.CheckSharedName
	}
	said := in.Everywhere || len(in.Repositories) > 0
	images := row.Level == secret.OfRepository || row.Level == secret.OfHouse
	switch {
	case check(row.Name) != nil:
		return invalid(check(row.Name).Error(), "")
	case secret.CheckValue(in.Value) != nil:
		return invalid(secret.CheckValue(in.Value).Error(), "")
	case in.Everywhere && len(in.Repositories) > 0:
		return invalid("it is given either everywhere or to named repositories", "choose one of the two")
	case row.Level == secret.OfRepository && said:
		return invalid("a repository's secret is for that repository", "leave out whom else it is given to")
	case row.Level != secret.OfRepository && was == nil && !said:
		return at(at(invalid(row.Name+" is new: say whom it is given to", ""), "/repositories", "those whose workspaces get it"), "/everywhere", "or all do")
	}
	row.Form, row.Everywhere, row.Repositories = secret.Variable, in.Everywhere, in.Repositories
	if was != nil {
		row.Form, row.Path, row.Mode, row.Owner, row.Prebuilds, row.Branches, row.UsedAt = was.Form, was.Path, was.Mode, was.Owner, was.Prebuilds, was.Branches, was.UsedAt
		if !said {
			row.Everywhere, row.Repositories = was.Everywhere, was.Repositories
		}
	}
	if in.Form != "" {
		if row.Form = secret.Form(in.Form); was != nil && row.Form != was.Form {
			row.Path, row.Mode, row.Owner = "", 0, ""
		}
	}
	if in.Prebuilds != nil {
		row.Prebuilds = *in.Prebuilds
	}
	if in.Branches != nil {
		row.Branches = *in.Branches
	}
	if in.Path != nil {
		row.Path = *in.Path
	}
	if in.Owner != nil {
		row.Owner = *in.Owner
	}
	if in.Mode != "" {
		mode, err := strconv.ParseUint(in.Mode, 8, 32)
		if err != nil {
			return at(invalid(quote(in.Mode)+" is no mode", ""), "/mode", "three or four octal digits, like 0400")
		}
		row.Mode = uint32(mode)
	}
	switch {
	case row.Form == secret.Registry:
		host, username := row.SignsIn()
		host, username = cmp.Or(in.Registry, host), cmp.Or(in.Username, username)
		if in.Path != nil || in.Mode != "" || in.Owner != nil {
			return invalid("only a file has a path, a mode and an owner", "hand it over as a file")
		}
		if err := secret.CheckSignIn(host, username); err != nil {
			return invalid(err.Error(), "")
		}
		row.Path = username + "@" + host
	case in.Registry != "" || in.Username != "":
		return invalid("only what signs in to a registry has a registry and a username", "set it as one of a registry")
	case row.Form != secret.File:
		if in.Path != nil && *in.Path != "" || in.Mode != "" || in.Owner != nil && *in.Owner != "" {
			return invalid("only a file has a path, a mode and an owner", "hand it over as a file")
		}
		row.Path, row.Mode, row.Owner = "", 0, ""
	}
	if row.Form == secret.File {
		if err := cmp.Or(secret.CheckFile(row.Level, row.Path, row.Mode), secret.CheckOwner(row.Owner)); err != nil {
			return invalid(err.Error(), "")
		}
	}
	if err := secret.CheckBranches(row.Branches); err != nil {
		return invalid(err.Error(), "")
	}
	switch {
	case images:
	case row.Form == secret.Build || row.Prebuilds:
		return invalid("an image is everybody's who works in the repository, and a build secret goes into its making", "set it as the repository's, or as the house's")
	case row.Form == secret.Registry:
		return invalid("an image is everybody's who works in the repository, and so is what it is fetched with", "set it as the repository's, or as the house's")
	}
	if row.Prebuilds && (row.Form == secret.Build || row.Form == secret.Registry) {
		return invalid("builds have it in any case: the set-up of prebuilds is given variables and files", "leave that out")
	}
	return nil
}

// secretOwner is whose matter the journal takes a secret for.
func secretOwner(row store.Secret) string {
	if row.Level == secret.OfPerson {
		return row.SubjectID
	}
	return ""
}

// secretsChanged has the workspaces that a secret goes to checked: what runs
// there may hold the old value.
func (s *Secrets) secretsChanged(of store.SecretsOf) {
	s.keeper.Status.SecretsChanged(func(w store.Workspace) bool {
		switch of.Level {
		case secret.OfPerson:
			return w.OwnerID == of.SubjectID
		case secret.OfRepository:
			return w.RepositoryID == of.SubjectID
		}
		return true // a team's, the house's: it is looked at what each is given
	})
}

func secretView(r store.Secret) wire.Secret {
	v := wire.Secret{Name: r.Name, Level: string(r.Level), Form: string(r.Form), Path: r.Path, Everywhere: r.Everywhere, Repositories: append([]string{}, r.Repositories...), Branches: append([]string{}, r.Branches...),
		Prebuilds: r.Prebuilds, Version: r.Version, UpdatedAt: r.UpdatedAt, By: r.By, UsedAt: r.UsedAt}
	switch r.Level {
	case secret.OfRepository:
		v.Repository = r.Whose
	case secret.OfTeam:
		v.Team = r.Whose
	}
	if r.Form == secret.Registry {
		v.Path = ""
		v.Registry, v.Username = r.SignsIn()
	}
	if r.Form == secret.File {
		v.Mode, v.Owner = fmt.Sprintf("%04o", cmp.Or(r.Mode, 0o400)), r.Owner
	}
	return v
}

// List lists secrets, by name; values are never given out.
func (s *Secrets) List(ctx context.Context, a Actor, of Whose) ([]wire.Secret, error) {
	subject, _, err := s.subject(ctx, a, of, false)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Read().Secrets(ctx, subject)
	out := []wire.Secret{}
	for _, r := range rows {
		out = append(out, secretView(r))
	}
	return out, err
}

// Drop removes a secret.
func (s *Secrets) Drop(ctx context.Context, a Actor, of Whose, name string) error {
	subject, whose, err := s.subject(ctx, a, of, true)
	if err != nil {
		return err
	}
	row := store.Secret{Secret: secret.Secret{Level: of.Level}, SubjectID: subject.SubjectID}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropSecret(ctx, subject, name); err != nil {
			return err
		}
		return tx.Journal(ctx, subject.SubjectID, secretOwner(row), a.ID, journal.SecretRemoved{Name: name, Level: of.Level, Whose: whose})
	})
	if errors.Is(err, store.ErrNotFound) {
		return notFound("secret", name, "see them", fault.Do("list-secrets", ""))
	}
	if err == nil {
		s.secretsChanged(subject)
	}
	return err
}

// aging lists those of the actor's own, their team's and the house's secrets that they
// may change and that were set longer ago than some time; none for 0.
func (s *Secrets) aging(ctx context.Context, a Actor, after time.Duration, now time.Time) (out []wire.AgingSecret, err error) {
	if after == 0 {
		return nil, nil
	}
	var of []store.SecretsOf
	if a.may(policy.ChangeSecrets) {
		of = append(of, store.SecretsOf{Level: secret.OfPerson, SubjectID: a.ID})
	}
	for _, team := range a.Teams() {
		if a.mayOf(policy.ChangeTeamSecret, store.Person{ID: team, TeamID: team}) {
			of = append(of, store.SecretsOf{Level: secret.OfTeam, SubjectID: team})
		}
	}
	if a.may(policy.ChangeHouseSecret) {
		of = append(of, store.SecretsOf{Level: secret.OfHouse, SubjectID: store.TheHouse})
	}
	rows, err := s.store.Read().Secrets(ctx, of...)
	for _, r := range rows {
		if now.Sub(r.UpdatedAt) > after {
			out = append(out, wire.AgingSecret{Name: r.Name, Level: string(r.Level), Team: r.Whose, UpdatedAt: r.UpdatedAt})
		}
	}
	return out, err
}

// Looked is what is looked for among what becomes of secrets.
type Looked struct {
	Branch string // "" is the default one
	Name   string // of one secret; "" is all
}

// Explain says what becomes of each secret in the actor's workspaces of a
// repository, and which its definition asks for in vain.
func (s *Secrets) Explain(ctx context.Context, a Actor, repository string, look Looked) ([]wire.SecretChoice, error) {
	if !a.may(policy.SeeSecrets) {
		return nil, denied(a, "have secrets")
	}
	r, err := s.repositories.repository(ctx, a, repository)
	if err != nil {
		return nil, err
	}
	branch := cmp.Or(look.Branch, r.DefaultBranch)
	plan, err := s.definitions.plan(ctx, a.ID, r, branch, choice{})
	var wrong *fault.Fault
	if err != nil && !errors.As(err, &wrong) {
		return nil, err // a definition that is wrong asks for nothing
	}
	return s.explain(ctx, a.Person, r, branch, plan.Definition, look.Name)
}

// ExplainIn says what becomes of each secret in one of the actor's workspaces,
// and what runs there with an older value.
func (s *Secrets) ExplainIn(ctx context.Context, a Actor, ref string, look Looked) ([]wire.SecretChoice, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "see the secrets of")
	if err != nil {
		return nil, err
	}
	r, err := s.store.Read().RepositoryByID(ctx, w.RepositoryID)
	if err != nil {
		return nil, err
	}
	out, err := s.explain(ctx, a.Person, r, w.Branch, w.Plan.Definition, look.Name)
	if err != nil {
		return nil, err
	}
	given, err := s.sessions.Given(ctx, w)
	if err != nil {
		return nil, err
	}
	held := map[string][]wire.SecretHolder{}
	for _, h := range s.keeper.Status.Held(w.ID, given) {
		held[h.Name] = append(held[h.Name], wire.SecretHolder{Label: h.Label, Since: h.Since, Version: h.Version})
	}
	for i := range out {
		c := &out[i]
		if i == 0 || out[i-1].Name != c.Name { // it is told once, of the one that is given
			c.Held = held[c.Name]
		}
		if c.Given && !slices.ContainsFunc(given, func(g store.Secret) bool { return g.Name == c.Name }) {
			c.Given, c.Why = false, "nothing is given in this workspace: what runs here may be a stranger's"
		}
	}
	return out, nil
}

// Renew begins anew what the definition of one of the actor's workspaces has left running
// at its start: it has the secrets as they are now.
func (s *Secrets) Renew(ctx context.Context, a Actor, ref string) (wire.Renewal, error) {
	out := wire.Renewal{Commands: []wire.Renewed{}}
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "begin anew what runs in")
	if err != nil {
		return out, err
	}
	if w.Phase != lifecycle.Ready {
		return out, conflict("not-now", "nothing runs while the workspace is "+string(w.Phase)+"; what starts has the secrets as they are then", "start it", fault.Do("start-workspace", w.Name))
	}
	all, given, err := s.keeper.Status.Renew(ctx, w)
	if errors.Is(err, reconcile.ErrRenewing) {
		return out, conflict("not-now", err.Error(), "wait for it")
	}
	if err != nil {
		return out, fromRoom(err)
	}
	out.Workspace = w.Name
	var commands []string
	for _, r := range all {
		v := wire.Renewed{Command: r.Command, Output: r.Output}
		if r.Exit != nil {
			v.Code, v.Problem = &r.Exit.Code, r.Exit.Problem
		}
		out.Commands, commands = append(out.Commands, v), append(commands, r.Command)
	}
	if len(commands) == 0 {
		return out, nil
	}
	return out, s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.Renewed{Commands: commands, Secrets: given})
	})
}

// explain says what becomes of each secret in a person's workspaces on a branch of a
// repository, that a definition asks some of.
func (s *Secrets) explain(ctx context.Context, who store.Person, r store.Repository, branch string, def definition.Definition, name string) ([]wire.SecretChoice, error) {
	rows, choices, err := s.sessions.Choose(ctx, who, r, branch)
	if err != nil {
		return nil, err
	}
	wanted := map[string]definition.Wanted{}
	for _, w := range def.Secrets {
		wanted[w.Name] = w
	}
	out := []wire.SecretChoice{}
	for _, c := range choices {
		if name != "" && c.Name != name {
			continue
		}
		row := rows[session.Of(c.Secret)]
		_, is := wanted[c.Name]
		v := wire.SecretChoice{Name: c.Name, Level: string(c.Level), Whose: c.Whose, Form: string(c.Form), Version: c.Version, Given: c.Given, Wanted: is, Why: c.Why, By: row.By, UpdatedAt: &row.UpdatedAt, UsedAt: row.UsedAt, Hides: []string{}}
		for _, h := range c.Hides {
			v.Hides = append(v.Hides, string(h))
		}
		out = append(out, v)
	}
	names := wantedNames(def)
	if name != "" && !slices.Contains(names, name) {
		names = append(names, name)
	}
	for _, n := range secret.Missing(names, choices) {
		if name != "" && n != name || slices.ContainsFunc(choices, func(c secret.Choice) bool { return c.Name == n }) && name != "" {
			continue // of what there is each line says why it is not given
		}
		w, is := wanted[n]
		why := secret.Absent(n, secret.Place{Repository: r.Name, Branch: branch, Teams: who.TeamNames()}, choices)
		if is {
			why = "the definition asks for it and " + why
		}
		if w.Description != "" {
			why = w.Description + ": " + why
		}
		out = append(out, wire.SecretChoice{Name: n, Level: "none", Wanted: is, Required: w.Required, Why: why, Hides: []string{}})
	}
	return out, nil
}

// choices says what becomes of each secret in the actor's workspaces on a branch of a
// repository.
func (s *Secrets) choices(ctx context.Context, a Actor, r store.Repository, branch string) ([]secret.Choice, error) {
	_, choices, err := s.sessions.Choose(ctx, a.Person, r, branch)
	return choices, err
}

func wantedNames(d definition.Definition) (out []string) {
	for _, w := range d.Secrets {
		out = append(out, w.Name)
	}
	return out
}

var hostName = regexp.MustCompile(`^[A-Za-z0-9.-]{1,253}(:[0-9]{1,5})?$`)
