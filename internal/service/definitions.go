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

	"yardbench/internal/core/changes"
	"yardbench/internal/core/definition"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/reconcile"
	"yardbench/internal/repo"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/yard"
	"yardbench/wire"
)

// Definitions reads and checks what workspaces are launched from, and notices where a
// branch has moved away from what runs.
type Definitions struct {
	bus          *live.Bus
	house        *house.Book
	keeper       *reconcile.Keeper
	images       imageFinder
	trier        yard.Trier // nil where the yard tries no images
	mirrors      Mirrors
	sessions     *session.Sessions
	store        *store.Store
	repositories *Repositories
	heads        headsSeen
	read         plansRead
	tried        tries
	looks        looks
	readers      readers
}

// imageFinder is what is asked of the yard's images.
type imageFinder interface {
	FindImage(ctx context.Context, ref string) (img yard.Image, ok bool, err error)
}

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
func (s *Definitions) plan(ctx context.Context, person string, r store.Repository, branch string, ch choice) (store.Plan, error) {
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
func (s *Definitions) planBeside(ctx context.Context, person string, r store.Repository, def definition.Definition, b definition.Beside) (store.Beside, error) {
	other, err := s.store.Read().RepositoryByName(ctx, b.Repository)
	if errors.Is(err, store.ErrNotFound) {
		return store.Beside{}, invalidAs("definition", fmt.Sprintf("the repository %s, wanted beside %s, is not registered", quote(b.Repository), r.Name), "see those that are", fault.Do("list-repositories", ""))
	}
	if err != nil {
		return store.Beside{}, err
	}
	if repo.Host(other.URL) != repo.Host(r.URL) {
		return store.Beside{}, invalidAs("definition", fmt.Sprintf("%s is on another git host than %s, and a workspace signs in at one", other.Name, r.Name), "leave it out")
	}
	if err := noRequest(b.Branch); err != nil {
		return store.Beside{}, err
	}
	out := store.Beside{RepositoryID: other.ID, Name: other.Name, URL: other.URL, Branch: cmp.Or(b.Branch, other.DefaultBranch), Folder: path.Join(def.Mountpoint(), other.Name)}
	_, err = s.head(ctx, person, other, out.Branch)
	return out, err
}

// noRequest refuses a pull request where only a branch is meant: what is in it may be
// a stranger's, and a workspace that is of one, and of nothing else, is given nothing.
func noRequest(branch string) error {
	if n := changes.Request(branch); n > 0 {
		return invalid(fmt.Sprintf("pull request %d is no branch", n), "name a branch; a pull request is launched by itself")
	}
	return nil
}

// planAt is what the definition at a commit resolves to.
func (s *Definitions) planAt(ctx context.Context, r store.Repository, branch, commit string, ch choice) (store.Plan, error) {
	house, version, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return store.Plan{}, err
	}
	key := fmt.Sprint(r.ID, " ", r.Name, " ", commit, " ", version, ".", house.Ended, " ", ch)
	if p, ok := s.read.get(key); ok {
		return p, nil
	}
	p, err := s.readPlan(ctx, r, branch, commit, ch)
	if err == nil {
		s.read.put(key, p)
	}
	return p, err
}

// planAsRepository is the plan of a run that is nobody's: the repository is read
// with its own credential, and further repositories are none of it. Those are
// fetched by who launches, with their right.
func (s *Definitions) planAsRepository(ctx context.Context, r store.Repository, branch string) (store.Plan, error) {
	c, err := s.sessions.RepositoryCredential(ctx, r)
	if err != nil {
		return store.Plan{}, err
	}
	commit, err := s.headBy(ctx, repo.Credential(c), r, branch)
	if refused := (repo.SignIn{}); errors.As(err, &refused) {
		why := "it has no credential of its own, and the git host shows it to nobody without one"
		if r.Reads() {
			why = "the git host refuses its credential"
		}
		if repo.OverSSH(r.URL) {
			return store.Plan{}, conflict("repository-credential", "prebuilds of "+r.Name+" cannot read it: "+why, "an operator makes it a key, and puts the public half at the git host", fault.Do("make-deploy-key", r.Name))
		}
		return store.Plan{}, conflict("repository-credential", "prebuilds of "+r.Name+" cannot read it: "+why, "an operator gives it one", fault.Do("put-repository-credential", r.Name))
	}
	if err != nil {
		return store.Plan{}, fromRoom(err)
	}
	return s.planAt(ctx, r, branch, commit, choice{})
}

// head fetches a repository with the person's credential and gives the commit
// at a branch's head.
func (s *Definitions) head(ctx context.Context, person string, r store.Repository, branch string) (string, error) {
	cred, err := gitCredential(ctx, s.sessions, person, r.URL)
	if err != nil {
		return "", err
	}
	commit, err := s.headBy(ctx, cred, r, branch)
	return commit, fromRoom(err)
}

func (s *Definitions) headBy(ctx context.Context, cred repo.Credential, r store.Repository, branch string) (string, error) {
	if err := s.mirrors.Fetch(ctx, r.ID, r.URL, cred); err != nil {
		return "", err
	}
	if changes.Request(branch) > 0 {
		if err := s.mirrors.FetchRequest(ctx, r.ID, r.URL, cred, branch); err != nil {
			return "", err
		}
	}
	commit, err := s.mirrors.Resolve(ctx, r.ID, branch)
	if err == nil {
		s.headMoved(r, branch, commit)
	}
	return commit, err
}

// readers remembers whom the git host lets read what, for a while.
type readers struct {
	mu sync.Mutex
	of map[[2]string]time.Time // until when, by person and repository
}

const (
	// readerTime is how long it counts that the git host let somebody read.
	readerTime = 5 * time.Minute
	maxReaders = 10_000
)

// mayRead asks the git host whether it lets somebody read a repository.
func (s *Definitions) mayRead(ctx context.Context, a Actor, r store.Repository) error {
	key := [2]string{a.ID, r.ID}
	s.readers.mu.Lock()
	until := s.readers.of[key]
	s.readers.mu.Unlock()
	if time.Now().Before(until) {
		return nil
	}
	cred, err := gitCredential(ctx, s.sessions, a.ID, r.URL)
	if err == nil {
		_, err = s.mirrors.DefaultBranch(ctx, r.URL, cred)
	}
	if err != nil {
		return fromRoom(err)
	}
	s.readers.mu.Lock()
	defer s.readers.mu.Unlock()
	if s.readers.of == nil || len(s.readers.of) >= maxReaders {
		s.readers.of = map[[2]string]time.Time{} // bounded: it is asked again
	}
	s.readers.of[key] = time.Now().Add(readerTime)
	return nil
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
func (s *Definitions) source(ctx context.Context, r store.Repository, commit string, ch choice) (src definition.Source, failed func() error, err error) {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return src, nil, err
	}
	var readErr error
	note := func(err error) {
		if err != nil && readErr == nil {
			readErr = err
		}
	}
	src = definition.Source{Repository: r.Name, Name: ch.name, Beside: ch.beside, House: &house,
		Read: func(p string) ([]byte, bool) {
			content, ok, err := s.mirrors.ReadFile(ctx, r.ID, commit, p, definition.MaxBytes)
			if tooBig := (repo.Problem{}); errors.As(err, &tooBig) {
				return make([]byte, definition.MaxBytes+1), true
			}
			note(err)
			return content, ok
		},
		List: func(folder string) []string {
			names, err := s.mirrors.List(ctx, r.ID, commit, folder)
			note(err)
			return names
		},
		Feature: func(ref string) (definition.FeatureContent, error) {
			as, err := s.sessions.Images().Registries(ctx, r, r.DefaultBranch)
			if err != nil {
				return definition.FeatureContent{}, err
			}
			return s.keeper.Features.Look(ctx, ref, as)
		},
	}
	return src, func() error { return fromRoom(readErr) }, nil
}

// checkCommit resolves the definition at a commit and checks it.
func (s *Definitions) checkCommit(ctx context.Context, r store.Repository, commit string, ch choice) (definition.Definition, []definition.Finding, error) {
	src, failed, err := s.source(ctx, r, commit, ch)
	if err != nil {
		return definition.Definition{}, nil, err
	}
	def, findings, err := s.looks.check(ctx, src)
	if err != nil {
		return def, nil, err
	}
	return def, findings, failed()
}

// readPlan reads what the definition at a commit resolves to.
func (s *Definitions) readPlan(ctx context.Context, r store.Repository, branch, commit string, ch choice) (store.Plan, error) {
	def, findings, err := s.checkCommit(ctx, r, commit, ch)
	if err != nil {
		return store.Plan{}, err
	}
	if f, bad := definition.Fatal(findings); bad {
		p := invalidAs("definition", fmt.Sprintf("%s at branch %s: %s", r.Name, branch, f), "correct it, push, and try again")
		for _, f := range findings {
			p.Parts = append(p.Parts, fault.Part{Field: fmt.Sprintf("%s:%d:%d", f.Path, f.Line, f.Column), Detail: f.What})
		}
		p.Parts = p.Parts[:min(len(p.Parts), 20)]
		if len(p.Parts) == 1 {
			p.Parts = nil // the detail says it all
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
func (s *Definitions) fingerprints(ctx context.Context, r store.Repository, commit string, def *definition.Definition) (string, error) {
	trees := func(b *definition.Build) (out string, err error) {
		if b == nil {
			return "", nil
		}
		folders := []string{b.Context}
		if b.Inline == "" {
			folders = append(folders, path.Dir(b.Dockerfile)) // it may stand outside its context
		}
		for _, f := range folders {
			tree, err := s.mirrors.Tree(ctx, r.ID, commit, f)
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
		if features[i].Digest, err = s.mirrors.Tree(ctx, r.ID, commit, f.Folder); err != nil {
			return "", err
		}
	}
	def.Features = features
	return definition.Fingerprint(*def, all), nil
}

// CheckDefinition says what the definition at a branch's head comes to and
// what is wrong with it; branch "" is the repository's own, and name "" its
// first definition.
func (s *Definitions) CheckDefinition(ctx context.Context, a Actor, repository, branch, name string) (wire.DefinitionCheck, error) {
	r, err := s.repositories.repository(ctx, a, repository)
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
	v.Files = map[string]string{}
	src = definition.Noting(src, v.Files)
	if v.Names = definition.Names(src); v.Names == nil {
		v.Names = []string{}
	}
	def, findings, err := s.looks.check(ctx, src)
	if err != nil {
		return v, err
	}
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

// CompareDefinitions says what differs between the definitions at two
// branches' heads, and what the change makes due.
func (s *Definitions) CompareDefinitions(ctx context.Context, a Actor, repository, since, branch, name string) (wire.DefinitionChanges, error) {
	var sides [2]wire.DefinitionCheck
	for i, b := range []string{since, branch} {
		found, err := s.CheckDefinition(ctx, a, repository, b, name)
		if err != nil {
			return wire.DefinitionChanges{}, err
		}
		if len(found.Values) == 0 {
			return wire.DefinitionChanges{}, conflict("definition-refused", "the definition at "+found.Branch+" is refused, and comes to nothing", "see what is wrong with it", fault.Do("check-definition", found.Repository+"@"+found.Branch))
		}
		sides[i] = found
	}
	return Compared(sides[0], sides[1]), nil
}

// Compared is what differs between two definitions that were looked at, each
// of which comes to something.
func Compared(old, next wire.DefinitionCheck) wire.DefinitionChanges {
	values := func(c wire.DefinitionCheck) (out []definition.Value) {
		for _, v := range c.Values {
			out = append(out, definition.Value(v))
		}
		return definition.BuildFiles(out, c.Files)
	}
	changes := definition.Differences(values(old), values(next))
	v := wire.DefinitionChanges{Changes: []wire.DefinitionChange{}, Due: definition.Due(changes)}
	for _, c := range changes {
		v.Changes = append(v.Changes, wire.DefinitionChange(c))
	}
	return v
}

// showDefinition puts in what a definition comes to: its values, its
// fingerprint, and its images as far as the yard has them.
func (s *Definitions) showDefinition(ctx context.Context, r store.Repository, v *wire.DefinitionCheck, def definition.Definition) (found []definition.Finding, err error) {
	if v.Fingerprint, err = s.fingerprints(ctx, r, v.Commit, &def); err != nil {
		return nil, fromRoom(err)
	}
	built := ""
	if def.Build != nil || len(def.Features) > 0 {
		built = s.keeper.Images.Tag(v.Fingerprint)
	}
	bases := def.Images()
	if b := def.Build; b != nil {
		file := []byte(b.Inline)
		if b.Inline == "" {
			if file, _, err = s.mirrors.ReadFile(ctx, r.ID, v.Commit, b.Dockerfile, definition.MaxBytes); err != nil {
				return nil, fromRoom(err)
			}
		}
		bases = append(bases, definition.Bases(file, b.Args)...)
	}
	for _, image := range bases {
		img, ok, err := s.images.FindImage(ctx, image)
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
		img, ok, err := s.images.FindImage(ctx, built)
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
	for _, x := range definition.Explain(def) {
		v.Steps = append(v.Steps, wire.DefinitionStep(x))
	}
	return found, nil
}

// tryImage looks in a built image for the programs that the set-up begins
// with. The same image is looked at once.
func (s *Definitions) tryImage(ctx context.Context, image, digest string, def definition.Definition) []definition.Finding {
	programs := definition.Programs(def)
	if len(programs) == 0 || s.trier == nil {
		return nil
	}
	key := digest + " " + strings.Join(programs, " ")
	s.tried.mu.Lock()
	missing, known := s.tried.of[key]
	s.tried.mu.Unlock()
	if !known { // nobody waits for another's try: two who come at once both try
		ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
		defer cancel()
		out, err := s.trier.Try(ctx, image, []string{"/bin/sh", "-c", definition.ProgramsScript(programs)}, 64<<10)
		if err != nil {
			slog.Warn("an image cannot be tried", "image", image, "error", err)
			return nil
		}
		missing = strings.Fields(string(out))
		s.tried.mu.Lock()
		defer s.tried.mu.Unlock()
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
func (s *Definitions) PlanOf(ctx context.Context, person, repository string) (store.Plan, error) {
	p, err := s.store.Read().PersonByName(ctx, person)
	if err != nil {
		return store.Plan{}, err
	}
	r, err := s.store.Read().RepositoryByName(ctx, repository)
	if err != nil {
		return store.Plan{}, err
	}
	return s.plan(ctx, p.ID, r, r.DefaultBranch, choice{})
}
