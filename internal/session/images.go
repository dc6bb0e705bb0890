package session

import (
	"context"
	"slices"

	"yardbench/internal/core/changes"
	"yardbench/internal/core/secret"
	"yardbench/internal/registry"
	"yardbench/internal/store"
)

// Images are what goes into the making of images, which are everybody's who works in a
// repository: secrets of the repository and of the house, and of nobody in particular.
type Images struct{ of *Sessions }

// Images gives what goes into the making of images.
func (s *Sessions) Images() Images { return Images{s} }

// ForBuild gives the build secrets of a workspace's repository and the house: what the
// build of its image may mount. An image is everybody's who works in the repository,
// so nothing of a person's or a team's goes in. The build of a pull request mounts none:
// it may be a stranger's; its images are fetched with what signs in of the levels that
// the house rules open to it.
func (s Images) ForBuild(ctx context.Context, w store.Workspace) (opened Opened, err error) {
	opened.Mask, opened.Mounts = secret.NewValues(nil), map[string]string{}
	if w.Plan.Adopted != nil {
		return opened, nil
	}
	r, err := s.of.Store.Read().RepositoryByID(ctx, w.RepositoryID)
	if err != nil {
		return opened, err
	}
	all, choices, err := s.chosen(ctx, r, secret.Place{Repository: r.Name, Branch: w.Branch, Build: true})
	for _, c := range choices {
		if err != nil || !c.Given || c.Form == secret.Build && changes.Request(w.Branch) > 0 {
			continue
		}
		row := all[Of(c.Secret)]
		opened.Given = append(opened.Given, row)
		var value string
		if value, err = s.of.open(row); err != nil {
			continue
		}
		if opened.Mask.Add(row.Name, value); row.Form == secret.Build {
			opened.Mounts[row.Name] = value
		}
	}
	if err == nil {
		opened.Registries, err = s.signIns(all, choices)
	}
	return opened, err
}

// Registries is what images and features of a branch of a repository are fetched with.
func (s Images) Registries(ctx context.Context, r store.Repository, branch string) (registry.SignIns, error) {
	all, choices, err := s.chosen(ctx, r, secret.Place{Repository: r.Name, Branch: branch, Build: true})
	if err != nil {
		return nil, err
	}
	return s.signIns(all, choices)
}

// signIns are those among chosen secrets; at one registry the nearest level counts,
// of one level the first by name.
func (s Images) signIns(all map[Chosen]store.Secret, choices []secret.Choice) (registry.SignIns, error) {
	out := registry.SignIns{}
	for _, level := range secret.Levels {
		for _, c := range choices {
			host, username := c.SignsIn()
			if _, has := out[host]; !c.Given || c.Form != secret.Registry || c.Level != level || has {
				continue
			}
			password, err := s.of.open(all[Of(c.Secret)])
			if err != nil {
				return nil, err
			}
			out[host] = registry.SignIn{Username: username, Password: password}
		}
	}
	return out, nil
}

// chosen says what becomes of each secret of a repository and the house in the
// making of images.
func (s Images) chosen(ctx context.Context, r store.Repository, place secret.Place) (map[Chosen]store.Secret, []secret.Choice, error) {
	house, _, err := s.of.House.Rules(ctx, s.of.Store.Read())
	if err != nil {
		return nil, nil, err
	}
	levels := slices.DeleteFunc(house.Secrets.Levels(false, changes.Request(place.Branch) > 0), func(l secret.Level) bool { return l != secret.OfRepository && l != secret.OfHouse })
	return s.of.chosen(ctx, store.SecretsFor(store.Person{}, r.ID, levels), place)
}

// SharedBy gives the values of all secrets that others set for a repository's
// workspaces or the builds of its images, by level and name: those that no image of it
// may hold.
func (s Images) SharedBy(ctx context.Context, r store.Repository) (map[string]string, error) {
	q := s.of.Store.Read()
	teams, err := q.Teams(ctx)
	if err != nil {
		return nil, err
	}
	of := []store.SecretsOf{{Level: secret.OfRepository, SubjectID: r.ID}, {Level: secret.OfHouse, SubjectID: store.TheHouse}}
	for _, t := range teams {
		of = append(of, store.SecretsOf{Level: secret.OfTeam, SubjectID: t.ID})
	}
	rows, err := q.Secrets(ctx, of...)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, row := range rows {
		if row.Level != secret.OfRepository && !row.Everywhere && !slices.Contains(row.Repositories, r.Name) {
			continue
		}
		name := row.Name + " of the " + string(row.Level)
		if row.Level == secret.OfTeam {
			name = row.Name + " of team " + row.Whose
		}
		if out[name], err = s.of.open(row); err != nil {
			return nil, err
		}
	}
	return out, nil
}
