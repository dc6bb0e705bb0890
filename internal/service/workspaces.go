package service

import (
	"context"
	"errors"
	"fmt"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/keeper"
	"yardbench/internal/repo"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

var workspaceName = regexp.MustCompile(`^[a-z]([a-z0-9-]{0,38}[a-z0-9])?$`)

// workTimeout bounds the look at a workspace's work before it is dropped.
const workTimeout = 45 * time.Second

// Repositories lists the registered repositories.
func (s *Service) Repositories(ctx context.Context, _ Actor) ([]wire.Repository, error) {
	rows, err := s.Store.Read().Repositories(ctx)
	out := []wire.Repository{}
	for _, r := range rows {
		out = append(out, repositoryView(r))
	}
	return out, err
}

func repositoryView(r store.Repository) wire.Repository {
	return wire.Repository{Name: r.Name, URL: r.URL, DefaultBranch: r.DefaultBranch}
}

// AddRepository registers a repository. The git host is asked with the
// actor's own credential.
func (s *Service) AddRepository(ctx context.Context, a Actor, in wire.NewRepository) (wire.Repository, error) {
	if !a.operator() {
		return wire.Repository{}, forbidden("only an operator registers repositories", "ask one of them")
	}
	if err := repo.CheckURL(in.URL); err != nil {
		return wire.Repository{}, fromRoom(err)
	}
	name := in.Name
	if name == "" {
		name = strings.ToLower(strings.TrimSuffix(path.Base(in.URL), ".git"))
	}
	if !workspaceName.MatchString(name) {
		return wire.Repository{}, invalid(quote(name)+" is no repository name", "give one with lower-case letters, digits and dashes")
	}
	cred, err := s.gitCredential(ctx, a, in.URL)
	if err != nil {
		return wire.Repository{}, err
	}
	branch, err := s.Mirrors.DefaultBranch(ctx, in.URL, cred)
	if err != nil {
		return wire.Repository{}, fromRoom(err)
	}
	r := store.Repository{ID: store.NewID(), Name: name, URL: in.URL, DefaultBranch: branch}
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddRepository(ctx, r); err != nil {
			return err
		}
		return tx.Journal(ctx, "repository.added", r.ID, "", a.ID, map[string]any{"name": r.Name, "url": r.URL})
	})
	if store.IsDuplicate(err) {
		return wire.Repository{}, conflict("name-taken", "there is a repository "+quote(name)+" already", "give another with --name")
	}
	return repositoryView(r), err
}

func (s *Service) gitCredential(ctx context.Context, a Actor, address string) (repo.Credential, error) {
	c, err := s.Keeper.GitCredential(ctx, a.ID, repo.Host(address))
	return repo.Credential{Username: c.Username, Password: c.Password}, err
}

// plan reads a branch's head and what its definition resolves to.
func (s *Service) plan(ctx context.Context, a Actor, r store.Repository, branch string) (store.Plan, error) {
	cred, err := s.gitCredential(ctx, a, r.URL)
	if err != nil {
		return store.Plan{}, err
	}
	if err := s.Mirrors.Fetch(ctx, r.ID, r.URL, cred); err != nil {
		return store.Plan{}, fromRoom(err)
	}
	commit, err := s.Mirrors.Resolve(ctx, r.ID, branch)
	if err != nil {
		return store.Plan{}, fromRoom(err)
	}
	src := definition.Source{Files: map[string][]byte{}, Repository: r.Name}
	for _, p := range definition.Places {
		content, ok, err := s.Mirrors.ReadFile(ctx, r.ID, commit, p, definition.MaxBytes)
		if err != nil {
			return store.Plan{}, fromRoom(err)
		}
		if ok {
			src.Files[p] = content
			break
		}
	}
	var readErr error
	src.Exists = func(p string) bool {
		_, ok, err := s.Mirrors.ReadFile(ctx, r.ID, commit, p, definition.MaxBytes)
		if err != nil {
			readErr = err
		}
		return ok
	}
	def, findings := definition.Resolve(src)
	if readErr != nil {
		return store.Plan{}, fromRoom(readErr)
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
	plan := store.Plan{Commit: commit, Definition: def}
	tree := ""
	if def.Build != nil {
		if tree, err = s.Mirrors.Tree(ctx, r.ID, commit, def.Build.Context); err != nil {
			return store.Plan{}, fromRoom(err)
		}
		// The build file may stand outside its context.
		dir, err := s.Mirrors.Tree(ctx, r.ID, commit, path.Dir(def.Build.Dockerfile))
		if err != nil {
			return store.Plan{}, fromRoom(err)
		}
		tree += " " + dir
	}
	plan.Fingerprint = definition.Fingerprint(def, tree)
	return plan, nil
}

// Launch accepts a workspace. What the definition says is read first, so that
// a mistake in it is told at once and leaves nothing behind; all else happens
// after the answer.
func (s *Service) Launch(ctx context.Context, a Actor, in wire.Launch) (wire.Workspace, error) {
	if in.Name != "" && !workspaceName.MatchString(in.Name) {
		return wire.Workspace{}, invalid(quote(in.Name)+" is no workspace name", "use lower-case letters, digits and dashes, starting with a letter, at most 40")
	}
	r, err := s.Store.Read().RepositoryByName(ctx, in.Repository)
	if errors.Is(err, store.ErrNotFound) {
		return wire.Workspace{}, notFound("repository", in.Repository, "see what is registered with: yardbench repos")
	}
	if err != nil {
		return wire.Workspace{}, err
	}
	if in.Name != "" {
		if _, err := s.Store.Read().WorkspaceByName(ctx, a.ID, in.Name); err == nil {
			return wire.Workspace{}, nameTaken(in.Name)
		}
	}
	branch := in.Branch
	if branch == "" {
		branch = r.DefaultBranch
	}
	plan, err := s.plan(ctx, a, r, branch)
	if err != nil {
		return wire.Workspace{}, err
	}
	w := store.Workspace{ID: store.NewID(), OwnerID: a.ID, Name: in.Name, RepositoryID: r.ID, Branch: branch, Plan: plan,
		Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady, Body: 1, Volume: 1}
	if w.StewardToken, err = s.Vault.Seal(store.NewID()+store.NewID(), "steward", w.ID); err != nil {
		return wire.Workspace{}, err
	}
	var view wire.Workspace
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		if in.Name == "" {
			if w.Name, err = freeName(ctx, tx, a.ID, r.Name); err != nil {
				return err
			}
		}
		if err := tx.AddWorkspace(ctx, &w); err != nil {
			return err
		}
		if _, err := tx.OpenSheet(ctx, w.ID, lifecycle.LaunchSheet); err != nil {
			return err
		}
		err := tx.Journal(ctx, "workspace.launched", w.ID, a.ID, a.ID, map[string]any{"name": w.Name, "repository": r.Name, "branch": branch, "commit": plan.Commit})
		if err != nil {
			return err
		}
		view, err = s.view(ctx, tx.Q, w)
		return err
	})
	if store.IsDuplicate(err) {
		return wire.Workspace{}, nameTaken(w.Name)
	}
	if err != nil {
		return wire.Workspace{}, fromRoom(err)
	}
	s.Keeper.Wake(w.ID)
	return view, nil
}

func nameTaken(name string) error {
	return conflict("name-taken", "you have a workspace "+quote(name)+" already", "choose another with --name, or remove that one: yardbench remove "+name)
}

// freeName is the repository's name, with a number where that is taken.
func freeName(ctx context.Context, tx *store.Tx, owner, name string) (string, error) {
	for n := 1; ; n++ {
		try := name
		if n > 1 {
			suffix := "-" + strconv.Itoa(n)
			try = strings.TrimRight(name[:min(len(name), 40-len(suffix))], "-") + suffix
		}
		_, err := tx.WorkspaceByName(ctx, owner, try)
		if errors.Is(err, store.ErrNotFound) {
			return try, nil
		}
		if err != nil {
			return "", err
		}
	}
}

// find resolves NAME or NAME.OWNER among what the actor may see. What they
// may not see does not exist for them.
func (s *Service) find(ctx context.Context, a Actor, ref string) (store.Workspace, error) {
	none := notFound("workspace", ref, "see yours with: yardbench list")
	name, owner, other := strings.Cut(ref, ".")
	id := a.ID
	if other && owner != a.Name {
		p, err := s.Store.Read().PersonByName(ctx, owner)
		if errors.Is(err, store.ErrNotFound) || (err == nil && !a.operator()) {
			return store.Workspace{}, none
		}
		if err != nil {
			return store.Workspace{}, err
		}
		id = p.ID
	}
	w, err := s.Store.Read().WorkspaceByName(ctx, id, name)
	if errors.Is(err, store.ErrNotFound) {
		return w, none
	}
	return w, err
}

// List lists the actor's workspaces; an operator's list of everybody's with all.
func (s *Service) List(ctx context.Context, a Actor, all bool) ([]wire.Workspace, error) {
	owner := a.ID
	if all {
		if !a.operator() {
			return nil, forbidden("only an operator sees everybody's workspaces", "leave --all out to see your own")
		}
		owner = ""
	}
	rows, err := s.Store.Read().Workspaces(ctx, owner)
	if err != nil {
		return nil, err
	}
	out := []wire.Workspace{}
	for _, w := range rows {
		v, err := s.view(ctx, s.Store.Read(), w)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// Show tells of one workspace.
func (s *Service) Show(ctx context.Context, a Actor, ref string) (wire.Workspace, error) {
	w, err := s.find(ctx, a, ref)
	if err != nil {
		return wire.Workspace{}, err
	}
	return s.view(ctx, s.Store.Read(), w)
}

// Sheets lists the launch sheets of a workspace, newest first.
func (s *Service) Sheets(ctx context.Context, a Actor, ref string) ([]wire.Sheet, error) {
	w, err := s.find(ctx, a, ref)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Read().Sheets(ctx, w.ID)
	if err != nil {
		return nil, err
	}
	out := []wire.Sheet{}
	for _, sh := range rows {
		steps, err := s.Store.Read().Steps(ctx, sh.ID)
		if err != nil {
			return nil, err
		}
		out = append(out, sheetView(sh, steps))
	}
	return out, nil
}

// Start brings a stopped or failed workspace up.
func (s *Service) Start(ctx context.Context, a Actor, ref string) (wire.Workspace, error) {
	return s.want(ctx, a, ref, lifecycle.Start, func(tx *store.Tx, w *store.Workspace) error {
		if w.Phase == lifecycle.Ready {
			return nil
		}
		kind := lifecycle.StartSheet
		if w.SeededVolume == 0 {
			kind = lifecycle.LaunchSheet
		}
		w.Wanted = lifecycle.WantReady
		return s.begin(ctx, tx, w, a, lifecycle.Waiting, kind)
	})
}

// Stop stops a workspace; its files stay.
func (s *Service) Stop(ctx context.Context, a Actor, ref string) (wire.Workspace, error) {
	return s.want(ctx, a, ref, lifecycle.Stop, func(tx *store.Tx, w *store.Workspace) error {
		if w.Phase == lifecycle.Stopped {
			return nil
		}
		w.Wanted = lifecycle.WantStopped
		return s.begin(ctx, tx, w, a, lifecycle.Stopping, lifecycle.StopSheet)
	})
}

// begin opens a sheet and enters the first phase of what was asked for.
func (s *Service) begin(ctx context.Context, tx *store.Tx, w *store.Workspace, a Actor, p lifecycle.Phase, kind lifecycle.SheetKind) error {
	if _, err := tx.OpenSheet(ctx, w.ID, kind); err != nil {
		return err
	}
	return tx.SetPhase(ctx, w, p, a.ID, "")
}

// Rebuild makes a new body from the branch's head; the old one stays until
// the new one runs. With new files the volume is new too.
func (s *Service) Rebuild(ctx context.Context, a Actor, ref string, in wire.Rebuild) (wire.Workspace, error) {
	w, err := s.find(ctx, a, ref)
	if err != nil {
		return wire.Workspace{}, err
	}
	if err := lifecycle.Permit(lifecycle.Rebuild, w.Phase); err != nil {
		return wire.Workspace{}, fromRoom(err)
	}
	if in.NewFiles && !in.Discard {
		if err := s.mustBeSafe(ctx, w, "rebuild --new-files"); err != nil {
			return wire.Workspace{}, err
		}
	}
	r, err := s.Store.Read().RepositoryByID(ctx, w.RepositoryID)
	if err != nil {
		return wire.Workspace{}, err
	}
	plan, err := s.plan(ctx, a, r, w.Branch)
	if err != nil {
		return wire.Workspace{}, err
	}
	return s.want(ctx, a, ref, lifecycle.Rebuild, func(tx *store.Tx, w *store.Workspace) error {
		if w.NextBody > 0 {
			return conflict("not-now", "a rebuild of "+quote(w.Name)+" is under way", "wait for it, or stop the workspace")
		}
		w.Wanted = lifecycle.WantReady
		w.NextPlan, w.NextBody = &plan, w.Body+1
		if in.NewFiles {
			w.NextVolume = max(w.Volume, w.SeededVolume) + 1
		}
		if err := tx.SetCondition(ctx, *w, lifecycle.Rebuilding, "a new container is being made from "+plan.Commit[:10]); err != nil {
			return err
		}
		if w.Phase == lifecycle.Ready {
			if _, err := tx.OpenSheet(ctx, w.ID, lifecycle.RebuildSheet); err != nil {
				return err
			}
			return tx.SaveWorkspace(ctx, *w)
		}
		return s.begin(ctx, tx, w, a, lifecycle.Waiting, lifecycle.RebuildSheet)
	})
}

// Remove removes a workspace with its files. It refuses while work exists
// nowhere else, unless discard is set.
func (s *Service) Remove(ctx context.Context, a Actor, ref string, discard bool) (wire.Workspace, error) {
	w, err := s.find(ctx, a, ref)
	if err != nil {
		return wire.Workspace{}, err
	}
	if !discard && w.Phase != lifecycle.Removing && w.Wanted != lifecycle.WantRemoved {
		if err := s.mustBeSafe(ctx, w, "remove"); err != nil {
			return wire.Workspace{}, err
		}
	}
	return s.want(ctx, a, ref, lifecycle.Remove, func(tx *store.Tx, w *store.Workspace) error {
		if w.Phase == lifecycle.Removing {
			return nil
		}
		if discard {
			if err := tx.Journal(ctx, "workspace.discarded", w.ID, w.OwnerID, a.ID, map[string]any{}); err != nil {
				return err
			}
		}
		w.Wanted = lifecycle.WantRemoved
		return s.begin(ctx, tx, w, a, lifecycle.Removing, lifecycle.RemoveSheet)
	})
}

// mustBeSafe refuses where files would go whose content exists nowhere else.
func (s *Service) mustBeSafe(ctx context.Context, w store.Workspace, verb string) error {
	work, err := s.look(ctx, w)
	if err != nil {
		return err
	}
	if work.Clean() {
		return nil
	}
	next := fmt.Sprintf("commit and push it, or give it up: yardbench %s %s --discard", verb, w.Name)
	if work.Problem != "" {
		return conflict("work-unknown", fmt.Sprintf("the work in %s cannot be looked at: %s", quote(w.Name), work.Problem),
			fmt.Sprintf("start it so that it can be, or give up whatever is there: yardbench %s %s --discard", verb, w.Name))
	}
	p := problem(409, "unpushed-work", fmt.Sprintf("%s holds work that exists nowhere else", quote(w.Name)), next)
	for _, u := range work.Uncommitted {
		p.Errors = append(p.Errors, wire.FieldProblem{Field: "not committed", Detail: u})
	}
	for _, u := range work.Unpushed {
		p.Errors = append(p.Errors, wire.FieldProblem{Field: "not pushed", Detail: u})
	}
	if work.Stashes > 0 {
		p.Errors = append(p.Errors, wire.FieldProblem{Field: "stashed", Detail: fmt.Sprintf("%d in git stash", work.Stashes)})
	}
	return p
}

// look asks the steward for the work of a workspace.
func (s *Service) look(ctx context.Context, w store.Workspace) (steward.WorkReport, error) {
	if w.SeededVolume == 0 {
		return steward.WorkReport{}, nil // there never were files
	}
	if w.Phase != lifecycle.Ready {
		return steward.WorkReport{Problem: "the workspace is " + string(w.Phase)}, nil
	}
	ctx, cancel := context.WithTimeout(ctx, workTimeout)
	defer cancel()
	// Not what a rebuild is making: what is in use.
	w.NextPlan = nil
	session, _, err := s.Keeper.Session(ctx, w)
	if err != nil {
		return steward.WorkReport{}, err
	}
	session.Env = nil
	var report steward.WorkReport
	c, err := s.Hub.Ask(ctx, keeper.Link(w), steward.Request{Kind: steward.Work, Process: session})
	if err == nil {
		defer c.Stream.Close()
		stop := context.AfterFunc(ctx, func() { c.Stream.Close() })
		defer stop()
		err = c.Receive(&report)
	}
	if errors.Is(err, outside.ErrAway) || err != nil {
		report = steward.WorkReport{Problem: err.Error()}
	}
	return report, nil
}

// Work tells what in a workspace exists nowhere else.
func (s *Service) Work(ctx context.Context, a Actor, ref string) (wire.Work, error) {
	w, err := s.find(ctx, a, ref)
	if err != nil {
		return wire.Work{}, err
	}
	r, err := s.look(ctx, w)
	v := wire.Work{Uncommitted: r.Uncommitted, Unpushed: r.Unpushed, Stashes: r.Stashes, Problem: r.Problem}
	if v.Uncommitted == nil {
		v.Uncommitted = []string{}
	}
	if v.Unpushed == nil {
		v.Unpushed = []string{}
	}
	return v, err
}

// want writes what is wanted of a workspace, if its phase permits the verb,
// and has its keeper look at once.
func (s *Service) want(ctx context.Context, a Actor, ref string, v lifecycle.Verb, change func(*store.Tx, *store.Workspace) error) (wire.Workspace, error) {
	w, err := s.find(ctx, a, ref)
	if err != nil {
		return wire.Workspace{}, err
	}
	var view wire.Workspace
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(ctx, w.ID)
		if err != nil {
			return err
		}
		if err := lifecycle.Permit(v, w.Phase); err != nil {
			return err
		}
		if err := change(tx, &w); err != nil {
			return err
		}
		if err := tx.Journal(ctx, "workspace.asked", w.ID, w.OwnerID, a.ID, map[string]any{"verb": v}); err != nil {
			return err
		}
		view, err = s.view(ctx, tx.Q, w)
		return err
	})
	if err != nil {
		return wire.Workspace{}, fromRoom(err)
	}
	s.Keeper.Interrupt(w.ID)
	return view, nil
}
