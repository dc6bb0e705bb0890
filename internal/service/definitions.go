package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/repo"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

// choice is which definition of a repository is meant, and what a launch adds.
type choice struct {
	name   string
	beside []definition.Beside
}

// choiceOf is what a workspace was launched with.
func choiceOf(p store.Plan) choice { return choice{name: p.Definition.Name, beside: p.Asked} }

// plan reads a branch's head and what its definition resolves to. The host is
// asked each time, with the person's credential; what a commit says is read
// once.
func (s *Service) plan(ctx context.Context, person string, r store.Repository, branch string, ch choice) (store.Plan, error) {
	commit, err := s.head(ctx, person, r, branch)
	if err != nil {
		return store.Plan{}, err
	}
	p, err := s.planAt(ctx, r, branch, commit, ch)
	if err != nil {
		return p, err
	}
	p.Beside = nil
	for _, b := range p.Definition.Beside {
		one, err := s.planBeside(ctx, person, r, p.Definition, b)
		if err != nil {
			return p, err
		}
		p.Beside = append(p.Beside, one)
	}
	return p, nil
}

// planBeside finds a further repository.
func (s *Service) planBeside(ctx context.Context, person string, r store.Repository, def definition.Definition, b definition.Beside) (store.Beside, error) {
	other, err := s.Store.Read().RepositoryByName(ctx, b.Repository)
	if errors.Is(err, store.ErrNotFound) {
		return store.Beside{}, problem(422, "definition", fmt.Sprintf("the repository %s, wanted beside %s, is not registered", quote(b.Repository), r.Name), "see those that are with: yardbench repos")
	}
	if err != nil {
		return store.Beside{}, err
	}
	if repo.Host(other.URL) != repo.Host(r.URL) {
		return store.Beside{}, problem(422, "definition", fmt.Sprintf("%s is on another git host than %s, and a workspace signs in at one", other.Name, r.Name), "leave it out")
	}
	out := store.Beside{RepositoryID: other.ID, Name: other.Name, URL: other.URL, Branch: cmp.Or(b.Branch, other.DefaultBranch), Folder: path.Join(def.Mountpoint(), other.Name)}
	_, err = s.head(ctx, person, other, out.Branch)
	return out, err
}

// planAt is what the definition at a commit resolves to.
func (s *Service) planAt(ctx context.Context, r store.Repository, branch, commit string, ch choice) (store.Plan, error) {
	_, version, err := s.House.Rules(ctx, s.Store.Read())
	if err != nil {
		return store.Plan{}, err
	}
	key := fmt.Sprint(r.ID, " ", r.Name, " ", commit, " ", version, " ", ch)
	if p, ok := s.read.get(key); ok {
		return p, nil
	}
	p, err := s.readPlan(ctx, r, branch, commit, ch)
	if err == nil {
		s.read.put(key, p)
	}
	return p, err
}

// head fetches a repository with the person's credential and gives the commit
// at a branch's head.
func (s *Service) head(ctx context.Context, person string, r store.Repository, branch string) (string, error) {
	cred, err := s.gitCredential(ctx, person, r.URL)
	if err != nil {
		return "", err
	}
	if err := s.Mirrors.Fetch(ctx, r.ID, r.URL, cred); err != nil {
		return "", fromRoom(err)
	}
	commit, err := s.Mirrors.Resolve(ctx, r.ID, branch)
	if err == nil {
		s.headMoved(r, branch, commit)
	}
	return commit, fromRoom(err)
}

// maxPlansRead bounds the definitions that are remembered as read.
const maxPlansRead = 512

// plansRead remembers what commits say.
type plansRead struct {
	mu sync.Mutex
	of map[string]store.Plan
}

func (p *plansRead) get(key string) (store.Plan, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	plan, ok := p.of[key]
	return plan, ok
}

func (p *plansRead) put(key string, plan store.Plan) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.of == nil || len(p.of) >= maxPlansRead {
		p.of = map[string]store.Plan{} // bounded: it fills again
	}
	p.of[key] = plan
}

// source reads a commit of a repository. What cannot be read is told by failed.
func (s *Service) source(ctx context.Context, r store.Repository, commit string, ch choice) (src definition.Source, failed func() error, err error) {
	house, _, err := s.House.Rules(ctx, s.Store.Read())
	if err != nil {
		return src, nil, err
	}
	var readErr error
	note := func(err error) {
		if err != nil && readErr == nil {
			readErr = err
		}
	}
	src = definition.Source{Repository: r.Name, Name: ch.name, Beside: ch.beside, House: &house, Syntax: s.Keeper.Yard.Syntax(ctx),
		Read: func(p string) ([]byte, bool) {
			content, ok, err := s.Mirrors.ReadFile(ctx, r.ID, commit, p, definition.MaxBytes)
			if tooBig := (repo.Problem{}); errors.As(err, &tooBig) {
				return make([]byte, definition.MaxBytes+1), true
			}
			note(err)
			return content, ok
		},
		List: func(folder string) []string {
			names, err := s.Mirrors.List(ctx, r.ID, commit, folder)
			note(err)
			return names
		},
		Feature: func(ref string) (definition.FeatureContent, error) { return s.Keeper.Features.Look(ctx, ref) },
	}
	return src, func() error { return fromRoom(readErr) }, nil
}

// checkCommit resolves the definition at a commit and checks it.
func (s *Service) checkCommit(ctx context.Context, r store.Repository, commit string, ch choice) (definition.Definition, []definition.Finding, error) {
	src, failed, err := s.source(ctx, r, commit, ch)
	if err != nil {
		return definition.Definition{}, nil, err
	}
	def, findings := definition.Check(src)
	return def, findings, failed()
}

// readPlan reads what the definition at a commit resolves to.
func (s *Service) readPlan(ctx context.Context, r store.Repository, branch, commit string, ch choice) (store.Plan, error) {
	def, findings, err := s.checkCommit(ctx, r, commit, ch)
	if err != nil {
		return store.Plan{}, err
	}
	if f, bad := definition.Fatal(findings); bad {
		p := problem(422, "definition", fmt.Sprintf("%s at branch %s: %s", r.Name, branch, f), "correct it, push, and try again")
		for _, f := range findings {
			p.Errors = append(p.Errors, wire.FieldProblem{Field: fmt.Sprintf("%s:%d:%d", f.Path, f.Line, f.Column), Detail: f.What})
		}
		p.Errors = p.Errors[:min(len(p.Errors), 20)]
		if len(p.Errors) == 1 {
			p.Errors = nil // the detail says it all
		}
		return store.Plan{}, p
	}
	plan := store.Plan{Commit: commit, Findings: findings, Asked: ch.beside}
	if plan.Fingerprint, err = s.fingerprints(ctx, r, commit, &def); err != nil {
		return store.Plan{}, fromRoom(err)
	}
	plan.Definition = def
	return plan, nil
}

// fingerprints is the fingerprint of a definition's image; those of its
// services are put into it.
func (s *Service) fingerprints(ctx context.Context, r store.Repository, commit string, def *definition.Definition) (string, error) {
	trees := func(b *definition.Build) (out string, err error) {
		if b == nil {
			return "", nil
		}
		folders := []string{b.Context}
		if b.Inline == "" {
			folders = append(folders, path.Dir(b.Dockerfile)) // it may stand outside its context
		}
		for _, f := range folders {
			tree, err := s.Mirrors.Tree(ctx, r.ID, commit, f)
			if err != nil {
				return "", err
			}
			out += tree + " "
		}
		return out, nil
	}
	if def.Compose != nil {
		c := *def.Compose
		c.Services = slices.Clone(c.Services)
		for i, v := range c.Services {
			tree, err := trees(v.Build)
			if err != nil {
				return "", err
			}
			c.Services[i].Fingerprint = definition.Fingerprint(definition.Definition{Image: v.Image, Build: v.Build}, tree)
		}
		def.Compose = &c
	}
	all, err := trees(def.Build)
	if err != nil {
		return "", err
	}
	features := slices.Clone(def.Features)
	for i, f := range features {
		if f.Folder == "" {
			continue
		}
		if features[i].Digest, err = s.Mirrors.Tree(ctx, r.ID, commit, f.Folder); err != nil {
			return "", err
		}
	}
	def.Features = features
	return definition.Fingerprint(*def, all), nil
}

// CheckDefinition says what the definition at a branch's head comes to and
// what is wrong with it; branch "" is the repository's own, and name "" its
// first definition.
func (s *Service) CheckDefinition(ctx context.Context, a Actor, repository, branch, name string) (wire.DefinitionCheck, error) {
	r, err := s.repository(ctx, a, repository)
	if err != nil {
		return wire.DefinitionCheck{}, err
	}
	v := wire.DefinitionCheck{Repository: r.Name, Branch: cmp.Or(branch, r.DefaultBranch), Name: name, Findings: []wire.DefinitionFinding{}, Values: []wire.DefinitionValue{}, Images: []wire.DefinitionImage{}}
	if v.Commit, err = s.head(ctx, a.ID, r, v.Branch); err != nil {
		return v, err
	}
	ch := choice{name: name}
	src, failed, err := s.source(ctx, r, v.Commit, ch)
	if err != nil {
		return v, err
	}
	if v.Names = definition.Names(src); v.Names == nil {
		v.Names = []string{}
	}
	def, findings := definition.Check(src)
	if err := failed(); err != nil {
		return v, err
	}
	_, fatal := definition.Fatal(findings)
	if !fatal {
		more, err := s.showDefinition(ctx, r, &v, def)
		if err != nil {
			return v, err
		}
		findings = append(findings, more...)
	}
	for _, f := range findings {
		v.Findings = append(v.Findings, wire.DefinitionFinding(f))
	}
	return v, nil
}

// showDefinition puts in what a definition comes to: its values, its
// fingerprint, and its images as far as the yard has them.
func (s *Service) showDefinition(ctx context.Context, r store.Repository, v *wire.DefinitionCheck, def definition.Definition) (found []definition.Finding, err error) {
	if v.Fingerprint, err = s.fingerprints(ctx, r, v.Commit, &def); err != nil {
		return nil, fromRoom(err)
	}
	built := ""
	if def.Build != nil || len(def.Features) > 0 {
		built = s.Keeper.Tag(v.Fingerprint)
	}
	bases := def.Images()
	if b := def.Build; b != nil {
		file := []byte(b.Inline)
		if b.Inline == "" {
			if file, _, err = s.Mirrors.ReadFile(ctx, r.ID, v.Commit, b.Dockerfile, definition.MaxBytes); err != nil {
				return nil, fromRoom(err)
			}
		}
		bases = append(bases, definition.Bases(file, b.Args)...)
	}
	for _, image := range bases {
		img, ok, err := s.Keeper.Yard.FindImage(ctx, image)
		if err != nil {
			return nil, fromRoom(err)
		}
		one := wire.DefinitionImage{Name: image, Digest: img.Digest}
		if ok && image == def.Image {
			built = cmp.Or(built, image)
		}
		v.Images = append(v.Images, one)
	}
	if built != "" {
		img, ok, err := s.Keeper.Yard.FindImage(ctx, built)
		if err != nil {
			return nil, fromRoom(err)
		}
		if ok {
			v.Built = img.Digest
			def, found = definition.UnderImage(def, built, img.Metadata)
			found = append(found, s.tryImage(ctx, built, img.Digest, def)...)
			if def.Person() == "" {
				def.User = img.User
				if def.User != "" {
					if def.Origins == nil {
						def.Origins = map[string]string{}
					}
					def.Origins["user"] = "image " + built
				}
			}
		}
	}
	for _, x := range definition.Values(def) {
		v.Values = append(v.Values, wire.DefinitionValue(x))
	}
	return found, nil
}

// tryImage looks in a built image for the programs that the set-up begins
// with. The same image is looked at once.
func (s *Service) tryImage(ctx context.Context, image, digest string, def definition.Definition) []definition.Finding {
	programs := definition.Programs(def)
	if len(programs) == 0 {
		return nil
	}
	key := digest + " " + strings.Join(programs, " ")
	s.tried.mu.Lock()
	defer s.tried.mu.Unlock()
	missing, known := s.tried.of[key]
	if !known {
		ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
		defer cancel()
		out, err := s.Keeper.Yard.Try(ctx, image, []string{"/bin/sh", "-c", definition.ProgramsScript(programs)}, 64<<10)
		if err != nil {
			slog.Warn("an image cannot be tried", "image", image, "error", err)
			return nil
		}
		missing = strings.Fields(string(out))
		if s.tried.of == nil || len(s.tried.of) > maxPlansRead {
			s.tried.of = map[string][]string{}
		}
		s.tried.of[key] = missing
	}
	return definition.MissingPrograms(def, missing)
}

// tries remembers which programs images lack.
type tries struct {
	mu sync.Mutex
	of map[string][]string
}

// PlanOf reads what the head of a repository's default branch resolves to, with
// a person's credential. The demo calls it.
func (s *Service) PlanOf(ctx context.Context, person, repository string) (store.Plan, error) {
	p, err := s.Store.Read().PersonByName(ctx, person)
	if err != nil {
		return store.Plan{}, err
	}
	r, err := s.Store.Read().RepositoryByName(ctx, repository)
	if err != nil {
		return store.Plan{}, err
	}
	return s.plan(ctx, p.ID, r, r.DefaultBranch, choice{})
}

// headMoved has the workspaces of a branch looked at, whether their definition
// has changed since they were built. Each new head is looked at once.
func (s *Service) headMoved(r store.Repository, branch, commit string) {
	key := r.ID + " " + branch
	s.heads.mu.Lock()
	known := s.heads.of[key] == commit
	if s.heads.of == nil || len(s.heads.of) > 10_000 {
		s.heads.of = map[string]string{}
	}
	s.heads.of[key] = commit
	s.heads.mu.Unlock()
	if known {
		return
	}
	s.Keeper.Go(func(ctx context.Context) {
		if err := s.drift(ctx, r, branch, commit); err != nil && ctx.Err() == nil {
			slog.Warn("whether a rebuild is due cannot be told yet", "repository", r.Name, "branch", branch, "error", err)
			s.heads.mu.Lock()
			delete(s.heads.of, key)
			s.heads.mu.Unlock()
		}
	})
}

// lookForDrift has a branch's head asked for, as one of those who have a
// workspace of it may, so that workspaces for which a rebuild is due are told.
func (s *Service) lookForDrift(r store.Repository, branch string) {
	s.Keeper.Go(func(ctx context.Context) {
		all, err := s.Store.Read().WorkspacesOf(ctx, r.ID, branch)
		asked := map[string]bool{}
		for _, w := range all {
			if asked[w.OwnerID] {
				continue
			}
			asked[w.OwnerID] = true
			if _, err = s.head(ctx, w.OwnerID, r, branch); err == nil {
				return
			}
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("whether a rebuild is due cannot be told yet", "repository", r.Name, "branch", branch, "error", err)
		}
	})
}

// headsSeen remembers the heads that were looked at.
type headsSeen struct {
	mu sync.Mutex
	of map[string]string
}

// drift marks the workspaces whose definition is another one at a commit than
// at the one they were built from.
func (s *Service) drift(ctx context.Context, r store.Repository, branch, commit string) error {
	all, err := s.Store.Read().WorkspacesOf(ctx, r.ID, branch)
	if err != nil {
		return err
	}
	for _, w := range all {
		reason := ""
		if w.Plan.Commit != commit {
			if reason, err = s.changed(ctx, r, branch, *w.Plan, commit); err != nil {
				return err
			}
		}
		err := s.Store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error {
			now, err := tx.WorkspaceByID(ctx, w.ID)
			if err != nil || now.Phase == lifecycle.Removed || now.Plan.Commit != w.Plan.Commit {
				return err
			}
			if reason == "" {
				return tx.ClearCondition(ctx, now, lifecycle.RebuildDue)
			}
			return tx.SetCondition(ctx, now, lifecycle.RebuildDue, reason)
		})
		if err != nil {
			return err
		}
		s.Bus.Publish(w.ID)
	}
	return nil
}

// changed tells what of the definition is another at a commit than in a plan;
// "" when nothing is.
func (s *Service) changed(ctx context.Context, r store.Repository, branch string, p store.Plan, commit string) (string, error) {
	ch := choiceOf(p)
	old, err := s.planAt(ctx, r, branch, p.Commit, ch)
	if err == nil {
		var next store.Plan
		if next, err = s.planAt(ctx, r, branch, commit, ch); err == nil {
			lines := definition.Changes(old.Definition, next.Definition)
			files, err := s.buildFilesChanged(ctx, r, old, next)
			if err != nil {
				return "", err
			}
			if lines = append(lines, files...); len(lines) == 0 {
				return "", nil
			}
			return strings.Join(lines, "; "), nil
		}
	}
	var wrong *wire.Problem
	if errors.As(err, &wrong) {
		return "", nil // it cannot be launched from: a rebuild would not help
	}
	return "", err
}

// buildFilesChanged names the build files and features that differ.
func (s *Service) buildFilesChanged(ctx context.Context, r store.Repository, old, next store.Plan) (out []string, err error) {
	files := map[string]bool{}
	for _, d := range []definition.Definition{old.Definition, next.Definition} {
		builds := []*definition.Build{d.Build}
		if d.Compose != nil {
			for _, v := range d.Compose.Services {
				builds = append(builds, v.Build)
			}
		}
		for _, b := range builds {
			if b != nil && b.Inline == "" {
				files[b.Dockerfile] = true
			}
		}
	}
	for f := range files {
		a, _, err := s.Mirrors.ReadFile(ctx, r.ID, old.Commit, f, definition.MaxBytes)
		if err != nil {
			return nil, fromRoom(err)
		}
		b, _, err := s.Mirrors.ReadFile(ctx, r.ID, next.Commit, f, definition.MaxBytes)
		if err != nil {
			return nil, fromRoom(err)
		}
		if string(a) != string(b) {
			out = append(out, f+" changed")
		}
	}
	was := map[string]string{}
	for _, f := range old.Definition.Features {
		was[f.Ref] = f.Digest
	}
	for _, f := range next.Definition.Features {
		if digest, ok := was[f.Ref]; ok && digest != f.Digest {
			out = append(out, "feature "+f.Ref+" changed")
		}
	}
	slices.Sort(out)
	return out, nil
}
