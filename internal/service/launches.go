package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/changes"
	"yardbench/internal/core/cost"
	"yardbench/internal/core/definition"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/prebuild"
	"yardbench/internal/core/quota"
	"yardbench/internal/core/rules"
	"yardbench/internal/core/secret"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/wire"
)

// Launches accepts launches within the limits.
type Launches struct {
	lease        time.Duration // of a workspace that is for one command
	house        *house.Book
	keeper       *reconcile.Keeper
	mirrors      Mirrors
	store        *store.Store
	vault        *vault.Vault
	definitions  *Definitions
	repositories *Repositories
	secrets      *Secrets
	views        *views
}

// prepared chooses the prepared image that serves a plan, or says why none does.
// A branch without a good one of its own may be served by the default branch's.
func (s *Launches) prepared(ctx context.Context, r store.Repository, branch string, plan *store.Plan) error {
	var runs []prebuild.Run
	users := map[string]store.Prepared{}
	branches := []string{branch}
	if branch != r.DefaultBranch {
		branches = append(branches, r.DefaultBranch)
	}
	for _, b := range branches {
		good, err := s.store.Read().GoodRuns(ctx, r.ID, b)
		if err != nil {
			return err
		}
		for _, g := range good {
			if _, seen := users[g.ID]; seen {
				continue
			}
			behind, err := s.mirrors.Behind(ctx, r.ID, g.Commit, plan.Commit)
			if err != nil {
				return fromRoom(err)
			}
			runs = append(runs, prebuild.Run{ID: g.ID, Number: g.Number, Commit: g.Commit, Fingerprint: g.Fingerprint, MadeAt: g.StartedAt, Behind: behind})
			users[g.ID] = store.Prepared{Run: g.ID, Number: g.Number, Image: g.Image, Digest: g.Digest, User: g.User, MadeAt: g.StartedAt, Behind: behind}
		}
	}
	best, ok, why := prebuild.Choose(runs, definition.Prepared(plan.Definition, plan.Fingerprint))
	plan.Prepared, plan.Scratch = nil, why
	if ok {
		p := users[best.ID]
		plan.Prepared = &p
	}
	return nil
}

// order is a launch as it would be done.
type order struct {
	repository store.Repository
	branch     string
	plan       store.Plan
	house      rules.Rules
	sizeName   string
	size       rules.Size
	rest       time.Duration // 0 is the usual
}

// order resolves what a launch asks for: what is wrong with it is told before
// anything is made.
func (s *Launches) order(ctx context.Context, a Actor, in wire.Launch) (o order, err error) {
	if !a.may(policy.Launch) {
		return o, denied(a, "launch workspaces")
	}
	if o.repository, err = s.repositories.repository(ctx, a, in.Repository); err != nil {
		return o, err
	}
	if in.Name != "" {
		if !workspaceName.MatchString(in.Name) {
			return o, invalid(quote(in.Name)+" is no workspace name", "use lower-case letters, digits and dashes, starting with a letter, at most 40")
		}
	}
	if o.house, _, err = s.house.Rules(ctx, s.store.Read()); err != nil {
		return o, err
	}
	if err := o.forGuest(a); err != nil {
		return o, err
	}
	if in.Size != "" && !slices.Contains(o.house.Order, in.Size) {
		if _, ok := o.house.Sizes[in.Size]; ok {
			return o, denied(a, "have size "+in.Size+", but "+strings.Join(o.house.Order, ", "))
		}
		return o, invalid(quote(in.Size)+" is no size", "the house rules have: "+strings.Join(o.house.Order, ", "))
	}
	o.rest = time.Duration(in.RestAfterS) * time.Second
	if o.rest > o.house.Idle.RestAfterMost {
		return o, invalid("rest after "+rules.Duration(o.rest)+" is longer than the house rules allow", "ask for at most "+rules.Duration(o.house.Idle.RestAfterMost))
	}
	usual, err := s.store.Read().UsualOf(ctx, a.ID)
	if err != nil {
		return o, err
	}
	o.usually(usual)
	if o.rest != 0 && o.rest < time.Minute {
		return o, invalid("rest after "+rules.Duration(o.rest)+" is too short to work in", "ask for at least 1 min")
	}
	if o.branch = in.Branch; in.Branch == "" {
		o.branch = o.repository.DefaultBranch
	}
	ch := choice{name: in.Definition}
	for _, b := range in.Beside {
		name, branch, _ := strings.Cut(b, "@")
		ch.beside = append(ch.beside, definition.Beside{Repository: name, Branch: branch})
	}
	if o.plan, err = s.definitions.plan(ctx, a.ID, o.repository, o.branch, ch); err != nil {
		return o, err
	}
	o.chooseSize(in.Size)
	return o, s.prepared(ctx, o.repository, o.branch, &o.plan)
}

// chooseSize takes the size that was asked for, else the usual one, or where
// the definition needs more, the first that is enough. A size that is too
// small is told, and taken.
func (o *order) chooseSize(asked string) {
	needs := o.plan.Definition.Needs
	o.sizeName = cmp.Or(asked, o.house.UsualSize)
	if asked == "" && needs.Fits(o.house.Sizes[o.sizeName]) != "" {
		for _, name := range o.house.Order {
			if needs.Fits(o.house.Sizes[name]) == "" {
				o.sizeName = name
				break
			}
		}
	}
	o.size = o.house.Sizes[o.sizeName]
	if less := needs.Fits(o.size); less != "" {
		f := definition.Finding{Severity: definition.Warning, Path: o.plan.Definition.Path, Rule: "size-too-small", Why: definition.Rules["size-too-small"],
			What: fmt.Sprintf("size %s is smaller than hostRequirements asks for: %s", o.sizeName, less), Fix: "choose a larger size, if there is one"}
		o.plan.Findings = append(slices.Clip(o.plan.Findings), f)
	}
}

// bodyID is what stands for a workspace in its definition (${devcontainerId}):
// the same through all its rebuilds.
func bodyID(workspace string) string {
	sum := sha256.Sum256([]byte(workspace))
	return hex.EncodeToString(sum[:])[:52]
}

// accounts are whose limits a request of the owner's counts against, as q sees
// them.
func (s *Launches) accounts(ctx context.Context, q store.Q, house rules.Rules, owner store.Person) ([]quota.Account, error) {
	used, err := q.Reserved(ctx, store.Scope{OwnerID: owner.ID})
	if err != nil {
		return nil, err
	}
	out := []quota.Account{{Whose: owner.Name, Used: used, Allowed: house.Limits.OfPerson(owner.Name)}}
	if owner.TeamID == "" {
		return out, nil
	}
	if used, err = q.Reserved(ctx, store.Scope{Teams: []string{owner.TeamID}}); err != nil {
		return nil, err
	}
	return append(out, quota.Account{Whose: "team " + owner.Team, Used: used, Allowed: house.Limits.OfTeam(owner.Team)}), nil
}

// some names the first few of many.
func some(names []string) string {
	if more := len(names) - 6; more > 1 {
		return strings.Join(names[:6], ", ") + fmt.Sprintf(" and %d more", more)
	}
	return strings.Join(names, ", ")
}

// admit holds a request against the limits, in the transaction that writes
// the reservation. The refusal names each limit that is exceeded and what of
// the owner's own could be stopped.
func (s *Launches) admit(ctx context.Context, tx *store.Tx, owner store.Person, asked rules.Amounts) error {
	house, version, err := s.house.Rules(ctx, tx.Q)
	if err != nil {
		return err
	}
	accounts, err := s.accounts(ctx, tx.Q, house, owner)
	if err != nil {
		return err
	}
	lines, ok := quota.Admit(asked, accounts...)
	if ok {
		return nil
	}
	p := conflict("over-limit", "this would go over a limit of the house rules", "")
	p.Rules = version
	removing := false
	for _, l := range lines {
		if l.Over() {
			p.Limits = append(p.Limits, fault.Limit{Kind: string(l.Kind), Whose: l.Whose, Used: l.Used, Asked: l.Asked, Allowed: l.Allowed, Text: l.String(), Line: s.house.LimitLine(ctx, tx.Q, l.Whose, l.Kind)})
			removing = removing || l.Kind == rules.Existing
		}
	}
	own, err := tx.PeoplesWorkspaces(ctx, store.Scope{OwnerID: owner.ID})
	if err != nil {
		return err
	}
	var stop, remove []string
	for _, w := range own {
		switch w.Phase {
		case lifecycle.Ready, lifecycle.Starting, lifecycle.Preparing, lifecycle.Waiting:
			stop = append(stop, w.Name)
		case lifecycle.Stopped, lifecycle.Failed:
			remove = append(remove, w.Name)
		}
	}
	switch {
	case removing && len(remove) > 0:
		p.Next = "remove one that you do not need: " + some(remove)
		p.Actions = append(p.Actions, fault.Do("remove-workspace", remove[0]))
	case len(stop) > 0:
		p.Next = "ask an operator for more, or stop one of yours that runs: " + some(stop)
		p.Actions = append(p.Actions, fault.Do("stop-workspace", stop[0]))
	default:
		p.Next = "what is used is your team's; ask them to stop something, or an operator for more"
	}
	return p
}

func limitViews(lines []quota.Line) []wire.LimitLine {
	out := []wire.LimitLine{}
	for _, l := range lines {
		out = append(out, wire.LimitLine{Kind: string(l.Kind), Whose: l.Whose, Used: l.Used, Asked: l.Asked, Allowed: l.Allowed, Over: l.Over(), Text: l.String()})
	}
	return out
}

// Preflight says what a launch would come to, without launching.
func (s *Launches) Preflight(ctx context.Context, a Actor, in wire.Launch) (wire.Preflight, error) {
	o, err := s.order(ctx, a, in)
	if err == nil {
		err = paused(ctx, s.house, s.store.Read(), a, rules.Pause.Launches)
	}
	if err != nil {
		return wire.Preflight{}, err
	}
	if in.Name != "" { // a launch finds it out as it is written
		if _, err := s.store.Read().WorkspaceByName(ctx, a.ID, in.Name); err == nil {
			return wire.Preflight{}, nameTaken(in.Name)
		}
	}
	def := o.plan.Definition
	v := wire.Preflight{Repository: o.repository.Name, Branch: o.branch, Commit: o.plan.Commit, Definition: def.Path, Image: imageOf(def), Folder: def.Folder, User: def.Person(),
		Ports: def.Ports, SetUp: []string{}, Findings: []wire.DefinitionFinding{}, Size: o.sizeName, RestAfterS: int64(o.house.Idle.RestAfter / time.Second), RestMostS: int64(o.house.Idle.RestAfterMost / time.Second),
		Prepared: preparedView(o.plan.Prepared), Scratch: o.plan.Scratch, Currency: o.house.Currency, HourMicros: int64(cost.Hourly(o.house.Rates, o.sizeName, o.size)), Missing: []wire.WantedSecret{}}
	if v.Ports == nil {
		v.Ports = []int{}
	}
	v.Services, v.Beside, v.Needs = []string{}, []string{}, def.Needs.String()
	if def.Compose != nil {
		for _, x := range def.Compose.Services {
			v.Services = append(v.Services, x.Name)
		}
	}
	for _, b := range o.plan.Beside {
		v.Beside = append(v.Beside, b.Name+"@"+b.Branch)
	}
	src, failed, err := s.definitions.source(ctx, o.repository, o.plan.Commit, choice{})
	if err != nil {
		return v, err
	}
	v.Names = append([]string{}, definition.Names(src)...)
	if err := failed(); err != nil {
		return v, err
	}
	if o.rest > 0 {
		v.RestAfterS = int64(o.rest / time.Second)
	}
	for _, m := range def.MomentsDue() {
		v.SetUp = append(v.SetUp, string(m))
	}
	for _, f := range o.plan.Findings {
		v.Findings = append(v.Findings, wire.DefinitionFinding(f))
	}
	v.Sizes = sizeOffers(o.house)
	prepared, scratch, err := s.store.Read().UsualTimes(ctx, o.repository.ID)
	if err != nil {
		return v, err
	}
	times := scratch
	if o.plan.Prepared != nil {
		times = prepared
	}
	usual, slow := lifecycle.Typical(times)
	v.UsualMS, v.SlowMS = usual.Milliseconds(), slow.Milliseconds()
	choices, err := s.secrets.choices(ctx, a, o.repository, o.branch)
	if err != nil {
		return v, err
	}
	missing := map[string]bool{}
	for _, m := range secret.Missing(wantedNames(def), choices) {
		missing[m] = true
	}
	v.Request = changes.Request(o.branch)
	for _, w := range def.Secrets {
		if missing[w.Name] && v.Request == 0 { // there the house rules say what is given
			v.Missing = append(v.Missing, wire.WantedSecret{Name: w.Name, Description: w.Description, Required: w.Required})
		}
	}
	accounts, err := s.accounts(ctx, s.store.Read(), o.house, a.Person)
	if err != nil {
		return v, err
	}
	lines, ok := quota.Admit(quota.Launch(o.size), accounts...)
	v.Limits, v.Refused = limitViews(lines), !ok
	for i, z := range v.Sizes {
		over, _ := quota.Admit(quota.Launch(o.house.Sizes[z.Name]), accounts...)
		for _, l := range over {
			if l.Over() && v.Sizes[i].Over == "" {
				v.Sizes[i].Over = string(l.Kind) + ", " + l.Whose + ": " + l.String()
			}
		}
	}
	return v, nil
}

// sizeOffers are the sizes of the house rules, with their prices.
func sizeOffers(house rules.Rules) []wire.SizeOffer {
	out := []wire.SizeOffer{}
	for _, name := range house.Order {
		z := house.Sizes[name]
		out = append(out, wire.SizeOffer{Name: name, CoresMilli: z.CoresMilli, MemoryBytes: z.MemoryBytes, DiskBytes: z.DiskBytes, HourMicros: int64(cost.Hourly(house.Rates, name, z)), Currency: house.Currency})
	}
	return out
}

// Launch accepts a workspace. What the definition says is read first, so that
// a mistake in it is told at once and leaves nothing behind; its limits are
// reserved with its row; all else happens after the answer.
func (s *Launches) Launch(ctx context.Context, a Actor, in wire.Launch) (wire.Workspace, error) {
	return s.launch(ctx, a, in, nil)
}

// launch launches; with, where it is set, is done in the transaction that accepts the
// workspace, and may refuse it.
func (s *Launches) launch(ctx context.Context, a Actor, in wire.Launch, with func(*store.Tx, store.Workspace) error) (wire.Workspace, error) {
	o, err := s.order(ctx, a, in)
	if err != nil {
		return wire.Workspace{}, err
	}
	if err := s.required(ctx, a, o); err != nil {
		return wire.Workspace{}, err
	}
	base := o.repository.Name
	if in.Errand != nil {
		base = "errand"
	}
	w := store.Workspace{ID: store.NewID(), OwnerID: a.ID, Name: in.Name, RepositoryID: o.repository.ID, Branch: o.branch, Plan: &o.plan,
		Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady, Body: 1, Volume: 1, Size: o.sizeName, CoresMilli: o.size.CoresMilli, MemoryBytes: o.size.MemoryBytes,
		DiskBytes: o.size.DiskBytes, RestAfter: o.rest, PortKey: NewPortKey()}
	w.Plan.Definition = definition.WithID(w.Plan.Definition, bodyID(w.ID))
	if w.StewardToken, err = s.vault.Seal(store.NewID()+store.NewID(), "steward", w.ID); err != nil {
		return wire.Workspace{}, err
	}
	if err := w.Encode(); err != nil {
		return wire.Workspace{}, err
	}
	rates, err := s.house.Rates(ctx, s.store.Read())
	if err != nil {
		return wire.Workspace{}, err
	}
	var errand store.Errand
	err = s.store.Write(store.About(ctx, w.ID), func(tx *store.Tx) error {
		if in.Name == "" {
			if w.Name, err = freeName(ctx, tx, a.ID, base); err != nil {
				return err
			}
		}
		if err := paused(ctx, s.house, tx.Q, a, rules.Pause.Launches); err != nil {
			return err
		}
		if err := s.admit(ctx, tx, a.Person, quota.Launch(o.size)); err != nil {
			return err
		}
		err := s.Accept(ctx, tx, &w, lifecycle.LaunchSheet, a.ID, o.repository.Name)
		if err == nil && with != nil {
			err = with(tx, w)
		}
		if err != nil || in.Errand == nil {
			return err
		}
		errand = store.Errand{WorkspaceID: w.ID, LeaseUntil: tx.Now().Add(s.lease), MostUntil: tx.Now().Add(time.Duration(cmp.Or(in.Errand.Seconds, 3600)) * time.Second)}
		if err := tx.AddErrand(ctx, errand); err != nil {
			return err
		}
		return tx.SetCondition(ctx, w, lifecycle.Errand, "it is removed when its one command is over")
	})
	if store.IsDuplicate(err) {
		return wire.Workspace{}, nameTaken(w.Name)
	}
	if err != nil {
		return wire.Workspace{}, fromRoom(err)
	}
	if in.Errand != nil {
		s.keeper.Rest.Errand(errand)
	}
	s.keeper.Wake(w.ID)
	// As it was accepted, whatever became of it since. Nothing that may fail comes
	// after that: who is told of a failure asks again, and has two.
	return s.views.at(s.views.rowOf(w, around{owner: a.Person, repository: o.repository, sheet: 1, house: &o.house, rates: rates}), s.views.now().UTC()), nil
}

// required refuses a launch whose definition requires secrets that nobody gives.
func (s *Launches) required(ctx context.Context, a Actor, o order) error {
	var required []string
	for _, w := range o.plan.Definition.Secrets {
		if w.Required {
			required = append(required, w.Name)
		}
	}
	if len(required) == 0 || changes.Request(o.branch) > 0 { // there the house rules say what is given, and nobody can give more
		return nil
	}
	choices, err := s.secrets.choices(ctx, a, o.repository, o.branch)
	if err != nil {
		return err
	}
	missing := secret.Missing(required, choices)
	if len(missing) == 0 {
		return nil
	}
	return conflict("secret-missing", fmt.Sprintf("the definition of %s requires %s, and nobody gives it", o.repository.Name, strings.Join(missing, ", ")), "give it", fault.Do("put-secret", missing[0], o.repository.Name))
}

// Accept writes a workspace, its launch sheet and the entry that metering
// begins with.
func (s *Launches) Accept(ctx context.Context, tx *store.Tx, w *store.Workspace, kind lifecycle.SheetKind, actor, repository string) error {
	r, err := tx.RepositoryByID(ctx, w.RepositoryID)
	if err == nil && r.Removed {
		err = notFound("repository", repository, "see what is registered", fault.Do("list-repositories", ""))
	}
	if err == nil && (kind == lifecycle.LaunchSheet || kind == lifecycle.PrebuildRun) {
		err = roomToBegin(s.store)
	}
	if err != nil {
		return err
	}
	if err := tx.AddWorkspace(ctx, w); err != nil {
		return err
	}
	if err := tx.FirstSheet(ctx, w.ID, kind); err != nil {
		return err
	}
	owner := w.OwnerID
	if w.Kind == store.ForPrebuild {
		owner = ""
	}
	return tx.Journal(ctx, w.ID, owner, actor, journal.WorkspaceLaunched{Name: w.Name, For: w.Kind, Repository: repository, Branch: w.Branch, Commit: w.Plan.Commit, Size: w.Size, DiskBytes: w.DiskBytes})
}

// NewPortKey is what the host names of a workspace's ports begin with: 50
// random bits, so that nobody comes upon them by trying.
func NewPortKey() string {
	var b [7]byte
	_, _ = rand.Read(b[:]) // never fails, by its documentation
	return strings.ToLower(base32.StdEncoding.EncodeToString(b[:]))[:10]
}

func nameTaken(name string) error {
	return at(conflict("name-taken", "you have a workspace "+quote(name)+" already", "choose another name, or remove that one", fault.Do("remove-workspace", name)), "/name", "it is taken")
}

// freeName is the repository's name, with a number where that is taken.
func freeName(ctx context.Context, tx *store.Tx, owner, name string) (string, error) {
	for n := 1; ; n++ {
		try := name
		if n > 1 {
			suffix := "-" + strconv.Itoa(n)
			try = strings.TrimRight(name[:min(len(name), 40-len(suffix))], "-") + suffix
		}
		if taken, err := tx.NameTaken(ctx, owner, try); err != nil || !taken {
			return try, err
		}
	}
}
