package service

import (
	"context"
	"errors"
	"sort"
	"strings"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/starter"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Starters are the use cases of definitions to begin with.
type Starters struct {
	house       *house.Book
	mirrors     Mirrors
	store       *store.Store
	definitions *Definitions
}

// starters gives the repository that holds the starters, at its head.
func (s *Starters) starters(ctx context.Context, a Actor) (r store.Repository, commit string, err error) {
	if !a.may(policy.SeeRepositories) {
		return r, "", denied(a, "see starters")
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return r, "", err
	}
	if house.Starters == "" {
		return r, "", &fault.Fault{Class: fault.Missing, Kind: "not-found", Detail: "the house rules name no repository with starters", Next: "ask an operator to put starters: REPOSITORY into them"}
	}
	r, err = s.store.Read().RepositoryByName(ctx, house.Starters)
	if errors.Is(err, store.ErrNotFound) {
		return r, "", &fault.Fault{Class: fault.Missing, Kind: "not-found", Detail: "the house rules have the starters in " + quote(house.Starters) + ", which is not registered", Next: "an operator registers it", Actions: []fault.Action{fault.Do("add-repository", "ADDRESS")}}
	}
	if err != nil {
		return r, "", err
	}
	commit, err = s.definitions.head(ctx, a.ID, r, r.DefaultBranch)
	return r, commit, err
}

// Starters lists the starters. One whose manifest cannot be read is listed
// with what is wrong.
func (s *Starters) Starters(ctx context.Context, a Actor) ([]wire.Starter, error) {
	r, commit, err := s.starters(ctx, a)
	if err != nil {
		return nil, err
	}
	names, err := s.mirrors.List(ctx, r.ID, commit, "")
	if err != nil {
		return nil, fromRoom(err)
	}
	out := []wire.Starter{}
	for _, n := range names {
		folder, ok := strings.CutSuffix(n, "/")
		if !ok {
			continue
		}
		text, ok, err := s.mirrors.ReadFile(ctx, r.ID, commit, folder+"/"+starter.ManifestName, definition.MaxBytes)
		if err != nil {
			return nil, fromRoom(err)
		}
		if !ok {
			continue
		}
		one, err := starter.Read(folder, text)
		v := starterView(one)
		if err != nil {
			v.Problem = err.Error()
		}
		out = append(out, v)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}

func starterView(s starter.Starter) wire.Starter {
	v := wire.Starter{Name: s.Name, Title: s.Title, Description: s.Description, Version: s.Version, Options: []wire.StarterOption{}}
	for _, o := range s.Options {
		kind := "text"
		if o.Boolean {
			kind = "yes or no"
		}
		v.Options = append(v.Options, wire.StarterOption{Name: o.Name, Description: o.Description, Kind: kind, Default: o.Default, Choices: append(append([]string{}, o.Enum...), o.Proposals...), OnlyThese: len(o.Enum) > 0})
	}
	return v
}

// FillStarter gives the files of a starter with the chosen options in them.
func (s *Starters) FillStarter(ctx context.Context, a Actor, name string, in wire.FillStarter) (wire.FilledStarter, error) {
	r, commit, err := s.starters(ctx, a)
	if err != nil {
		return wire.FilledStarter{}, err
	}
	none := notFound("starter", name, "see them", fault.Do("list-starters", ""))
	if !starter.Inside(name) || strings.Contains(name, "/") {
		return wire.FilledStarter{}, none
	}
	text, ok, err := s.mirrors.ReadFile(ctx, r.ID, commit, name+"/"+starter.ManifestName, definition.MaxBytes)
	if err != nil {
		return wire.FilledStarter{}, fromRoom(err)
	}
	if !ok {
		return wire.FilledStarter{}, none
	}
	one, err := starter.Read(name, text)
	if err != nil {
		return wire.FilledStarter{}, invalid(err.Error(), "tell whoever keeps the starters")
	}
	values, err := one.Choose(in.Options)
	if err != nil {
		return wire.FilledStarter{}, invalid(err.Error(), "see what may be chosen", fault.Do("show-starter", name))
	}
	rows, err := s.mirrors.Files(ctx, r.ID, commit, name, starter.MaxFiles, starter.MaxFileBytes)
	if err != nil {
		return wire.FilledStarter{}, fromRoom(err)
	}
	files := make([]starter.File, len(rows))
	for i, f := range rows {
		files[i] = starter.File(f)
	}
	files, err = one.Fill(files, values)
	if err != nil {
		return wire.FilledStarter{}, invalid(err.Error(), "tell whoever keeps the starters")
	}
	out := wire.FilledStarter{Starter: starterView(one), Commit: commit, Files: []wire.StarterFile{}}
	for _, f := range files {
		out.Files = append(out.Files, wire.StarterFile{Path: f.Path, Executable: f.Executable, Content: f.Content})
	}
	return out, nil
}
