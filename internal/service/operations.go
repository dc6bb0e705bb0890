package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/operation"
	"yardbench/internal/core/page"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/live"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Operations ask one verb of many workspaces, a few at a time, and go on where
// they were when the service was ended: of each workspace it is asked once.
type Operations struct {
	store      *store.Store
	bus        *live.Bus
	workspaces *Workspaces
	views      *views
	now        func() time.Time

	base context.Context // ends with the service
	turn chan struct{}
	all  sync.WaitGroup
}

// The bounds of operations.
const (
	operationAtOnce = 8      // workspaces under way, of all operations together
	operationMost   = 10_000 // workspaces of one
	operationsOpen  = 5      // of one person
	operationsShown = 1000   // in the list: the newest
	// operationPatience is how long one workspace is waited for; it goes on after.
	operationPatience = time.Hour
)

var operationKind = page.Kind[store.Outcome]{Name: "outcomes", ID: func(o store.Outcome) string { return page.Number(int64(o.Number)) }, Orders: []page.Order[store.Outcome]{
	{Name: "number", Key: func(o store.Outcome) string { return page.Number(int64(o.Number)) }},
	{Name: "name", Key: func(o store.Outcome) string { return o.Name }},
	{Name: "state", Key: func(o store.Outcome) string { return string(o.State) + "\x00" + page.Number(int64(o.Number)) }},
	{Name: "at", Key: func(o store.Outcome) string { return page.Number(o.At.UnixMicro()) }},
}}

// OutcomeOrders are the orders of outcomes.
var OutcomeOrders = operationKind.Names()

// options are what goes with a verb.
type options struct {
	Seconds  int64 `json:"seconds,omitempty"`
	NewFiles bool  `json:"new_files,omitempty"`
	Discard  bool  `json:"discard,omitempty"`
}

// Make begins an operation. What it is asked of is settled here; whether it may be
// is asked of each, when its turn comes.
func (s *Operations) Make(ctx context.Context, a Actor, in wire.NewOperation) (wire.Operation, error) {
	verb, reason := operation.Verb(in.Verb), strings.TrimSpace(in.Reason)
	switch {
	case !a.may(policy.Operate):
		return wire.Operation{}, denied(a, "ask something of workspaces")
	case !verb.Known():
		return wire.Operation{}, invalid("there is no verb "+quote(in.Verb), "")
	case hasControl(reason) || verb.NeedsReason() && reason == "":
		return wire.Operation{}, invalid("the reason is missing, or holds what nobody can read", "say why in one line")
	case verb == operation.Hold && in.Seconds < 60:
		return wire.Operation{}, invalid("it is not said how long they are to be held", "say at least 1 min")
	case verb != operation.Hold && in.Seconds != 0, verb != operation.Rebuild && in.NewFiles, in.Discard && verb != operation.Remove && !in.NewFiles:
		return wire.Operation{}, invalid("something is asked for that does not go with "+string(verb), "seconds go with hold, new_files with rebuild, discard with remove")
	case (len(in.Names) > 0) == (in.Where != nil):
		return wire.Operation{}, invalid("it is not said of which workspaces", "give either names or where")
	}
	of, err := s.chosen(ctx, a, in)
	if err != nil {
		return wire.Operation{}, err
	}
	if len(of) == 0 {
		return wire.Operation{}, invalid("no workspace is so", "see which there are", fault.Do("list-workspaces", ""))
	}
	if len(of) > operationMost {
		return wire.Operation{}, invalid(fmt.Sprintf("%d workspaces are so; an operation takes at most %d", len(of), operationMost), "narrow it")
	}
	text, err := json.Marshal(options{in.Seconds, in.NewFiles, in.Discard})
	if err != nil {
		return wire.Operation{}, err
	}
	o := store.Operation{ID: store.NewID(), PersonID: a.ID, Grant: grantText(a), Verb: verb, Reason: reason, Options: string(text)}
	if a.Token {
		o.TokenID = a.TokenID
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		open, err := tx.OpenOperations(ctx)
		if err != nil {
			return err
		}
		open = slices.DeleteFunc(open, func(o store.Operation) bool { return o.PersonID != a.ID })
		if len(open) >= operationsOpen {
			return conflict("too-many", fmt.Sprintf("%d operations of yours are under way", len(open)), "wait until one is over, or cancel one", fault.Do("list-operations", ""))
		}
		if err := tx.AddOperation(ctx, &o, of); err != nil {
			return err
		}
		return tx.Journal(ctx, o.ID, a.ID, a.ID, journal.OperationAsked{Reason: reason, Total: len(of), Verb: string(verb)})
	})
	if err != nil {
		return wire.Operation{}, fromRoom(err)
	}
	s.begin(o)
	return s.view(ctx, o)
}

// chosen are the workspaces that an operation is asked of, each once.
func (s *Operations) chosen(ctx context.Context, a Actor, in wire.NewOperation) (of []store.Outcome, err error) {
	if w := in.Where; w != nil {
		rows, err := s.workspaces.List(ctx, a, WorkspaceQuery{All: w.All, Owner: w.Owner, Team: w.Team, Repository: w.Repository, Branch: w.Branch, Size: w.Size, States: w.States, Find: w.Find, Cause: w.Cause})
		for _, r := range rows.Items {
			of = append(of, store.Outcome{WorkspaceID: r.ID, Name: r.Name + "." + r.Owner})
		}
		return of, err
	}
	seen := map[string]bool{}
	for _, ref := range in.Names {
		w, owner, err := s.views.findOwned(ctx, a, ref)
		if err != nil {
			return nil, err
		}
		if !seen[w.ID] {
			seen[w.ID] = true
			of = append(of, store.Outcome{WorkspaceID: w.ID, Name: w.Name + "." + owner.Name})
		}
	}
	return of, nil
}

// mine tells whether an actor may see somebody's operation.
func (s *Operations) mine(ctx context.Context, a Actor, o store.Operation) bool {
	if len(a.Grant.Repositories) > 0 { // what others' names stand in is not theirs
		return o.PersonID == a.ID && o.Grant == grantText(a)
	}
	if o.PersonID == a.ID {
		return true
	}
	asker, err := s.store.Read().PersonByID(ctx, o.PersonID)
	return err == nil && a.Widest(policy.SeeWorkspace) == policy.Other && a.mayOf(policy.SeeWorkspace, asker)
}

func (s *Operations) find(ctx context.Context, a Actor, id string) (store.Operation, error) {
	o, err := s.store.Read().OperationByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && !s.mine(ctx, a, o) {
		return o, notFound("operation", id, "see yours", fault.Do("list-operations", ""))
	}
	return o, err
}

func (s *Operations) view(ctx context.Context, o store.Operation) (wire.Operation, error) {
	n, err := s.store.Read().CountOutcomes(ctx, o.ID)
	v := wire.Operation{ID: o.ID, Verb: string(o.Verb), Reason: o.Reason, By: nameOf(ctx, s.store.Read(), o.PersonID), MadeAt: o.MadeAt, EndedAt: o.EndedAt, Total: o.Total,
		Waiting: n[operation.Waiting], UnderWay: n[operation.UnderWay], Done: n[operation.Done], Failed: n[operation.Failed], Refused: n[operation.Refused], Cancelled: n[operation.Cancelled]}
	if o.CancelledBy != "" {
		v.CancelledBy = nameOf(ctx, s.store.Read(), o.CancelledBy)
	}
	return v, err
}

// List lists the newest operations that the actor may see.
func (s *Operations) List(ctx context.Context, a Actor) ([]wire.Operation, error) {
	out := []wire.Operation{}
	rows, err := s.store.Read().Operations(ctx, operationsShown)
	for _, o := range rows {
		if !s.mine(ctx, a, o) {
			continue
		}
		v, err := s.view(ctx, o)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, err
}

// Show tells of one operation.
func (s *Operations) Show(ctx context.Context, a Actor, id string) (wire.Operation, error) {
	o, err := s.find(ctx, a, id)
	if err != nil {
		return wire.Operation{}, err
	}
	return s.view(ctx, o)
}

// Outcomes lists how an operation stands with each workspace; those in one of some
// states, if there are any.
func (s *Operations) Outcomes(ctx context.Context, a Actor, id string, states []string, ask page.Ask) (out Part[wire.Outcome], err error) {
	o, err := s.find(ctx, a, id)
	if err != nil {
		return out, err
	}
	rows, err := s.store.Read().Outcomes(ctx, o.ID)
	if err != nil {
		return out, err
	}
	if len(states) > 0 {
		rows = slices.DeleteFunc(rows, func(r store.Outcome) bool { return !slices.Contains(states, string(r.State)) })
	}
	part, err := PartOf(operationKind, rows, ask)
	out = Part[wire.Outcome]{Items: []wire.Outcome{}, Next: part.Next}
	for _, r := range part.Items {
		out.Items = append(out.Items, wire.Outcome{Number: r.Number, Name: r.Name, State: string(r.State), Kind: r.Kind, Detail: r.Detail, At: r.At})
	}
	return out, err
}

// Cancel leaves those alone whose turn has not come. What is under way goes on.
func (s *Operations) Cancel(ctx context.Context, a Actor, id string) (wire.Operation, error) {
	o, err := s.find(ctx, a, id)
	if err != nil {
		return wire.Operation{}, err
	}
	if o.PersonID != a.ID && !a.may(policy.ChangeRules) {
		return wire.Operation{}, denied(a, "cancel what others asked for")
	}
	err = s.cancel(ctx, o, a.ID, "it was cancelled before its turn came")
	if errors.Is(err, store.ErrNotFound) {
		return wire.Operation{}, conflict("not-now", "this operation is over, or was cancelled before", "")
	}
	if err != nil {
		return wire.Operation{}, err
	}
	return s.Show(ctx, a, id)
}

func (s *Operations) cancel(ctx context.Context, o store.Operation, by, why string) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.CancelOperation(ctx, o.ID, by, why); err != nil {
			return err
		}
		return tx.Journal(ctx, o.ID, o.PersonID, by, journal.OperationCancelled{Why: why})
	})
}

// Run goes on with what was under way when the service ended. Operations end with
// ctx, and go on after the next start.
func (s *Operations) Run(ctx context.Context) error {
	s.base = ctx
	open, err := s.store.Read().OpenOperations(ctx)
	for _, o := range open {
		s.begin(o)
	}
	return err
}

// Wait waits until nothing is asked of anything any more, once their context ended.
func (s *Operations) Wait() { s.all.Wait() }

// begin drives an operation, if the service runs.
func (s *Operations) begin(o store.Operation) {
	if s.base == nil {
		return
	}
	s.all.Go(func() {
		for wait := time.Second; ; wait = min(2*wait, time.Minute) {
			err := s.drive(s.base, o)
			if err == nil || s.base.Err() != nil {
				return
			}
			slog.Error("an operation does not go on; it is tried again", "operation", o.ID, "in", wait, "error", err)
			select {
			case <-s.base.Done():
				return
			case <-time.After(wait):
			}
		}
	})
}

// drive has each workspace asked in its turn, and ends the operation when it is
// over with all of them.
func (s *Operations) drive(ctx context.Context, o store.Operation) error {
	var errs []error
	var mu sync.Mutex
	var going sync.WaitGroup
	defer going.Wait()
	under := map[int]bool{}
	for {
		var next []store.Outcome
		for _, state := range []operation.State{operation.UnderWay, operation.Waiting} { // what was under way before a restart first
			part, err := s.store.Read().OutcomesIn(ctx, o.ID, state, 2*operationAtOnce)
			if err != nil {
				return err
			}
			next = append(next, part...)
		}
		mu.Lock()
		i := slices.IndexFunc(next, func(w store.Outcome) bool { return !under[w.Number] })
		bad := len(errs) > 0
		mu.Unlock()
		if i < 0 || bad {
			going.Wait()
			if len(errs) > 0 {
				return errors.Join(errs...)
			}
			return s.end(ctx, o)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case s.turn <- struct{}{}:
		}
		w := next[i]
		mu.Lock()
		under[w.Number] = true
		mu.Unlock()
		going.Go(func() {
			defer func() { <-s.turn }()
			if err := s.one(ctx, o, w); err != nil {
				mu.Lock()
				errs = append(errs, err)
				mu.Unlock()
			}
		})
	}
}

// end writes down that it is over with all of them.
func (s *Operations) end(ctx context.Context, o store.Operation) error {
	n, err := s.store.Read().CountOutcomes(ctx, o.ID)
	if err != nil {
		return err
	}
	if left := n.Left(); left > 0 {
		return fmt.Errorf("%d of its workspaces are not over, and nothing is done with them", left)
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		err := tx.EndOperation(ctx, o.ID)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		return tx.Journal(ctx, o.ID, o.PersonID, "service", journal.OperationEnded{Cancelled: n[operation.Cancelled], Done: n[operation.Done], Failed: n[operation.Failed], Refused: n[operation.Refused]})
	})
}

// one asks the verb of one workspace and waits until it is over with it. The asking
// stands in one transaction with a key of its own: after a restart it is not asked
// twice.
func (s *Operations) one(ctx context.Context, o store.Operation, w store.Outcome) error {
	now, err := s.store.Read().OperationByID(ctx, o.ID)
	if err != nil {
		return err
	}
	if now.CancelledBy != "" && w.State == operation.Waiting {
		return nil // its outcome is written already
	}
	key := fmt.Sprintf("operation %s %d", o.ID, w.Number)
	_, err = s.store.Read().AskedWith(ctx, o.PersonID, key, s.now())
	if errors.Is(err, store.ErrNotFound) {
		err = s.ask(ctx, o, &w, key)
	}
	if err != nil || w.State.Over() {
		return err
	}
	return s.follow(ctx, o, w)
}

// ask asks the verb of one workspace, as whoever asked for the operation may now.
func (s *Operations) ask(ctx context.Context, o store.Operation, w *store.Outcome, key string) error {
	a, err := s.actor(ctx, o)
	var f *fault.Fault
	if errors.As(err, &f) {
		if err := s.cancel(ctx, o, o.PersonID, f.Detail); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		w.State = operation.Cancelled
		return nil
	}
	if err != nil {
		return err
	}
	row, err := s.store.Read().WorkspaceByID(ctx, w.WorkspaceID)
	if err != nil {
		return err
	}
	w.State = operation.UnderWay
	if o.Verb == operation.Rebuild {
		w.Goal = row.Body + 1
	}
	err = s.set(ctx, o, *w)
	if errors.Is(err, store.ErrNotFound) { // cancelled meanwhile
		w.State = operation.Cancelled
		return nil
	}
	if err != nil {
		return err
	}
	if row.Phase == lifecycle.Removed {
		err = notFound("workspace", w.Name, "it was removed before its turn came")
	} else {
		err = s.verb(store.Once(ctx, store.Asked{PersonID: o.PersonID, Key: key, What: []byte{}}), a, o, w.Name)
	}
	switch {
	case err == nil || store.IsDuplicate(err):
		return nil
	case !errors.As(err, &f):
		return err
	}
	w.State, w.Kind, w.Detail = operation.Refused, f.Kind, f.Detail
	for _, l := range f.Limits {
		w.Detail += "; " + l.Kind + ", " + l.Whose + ": " + l.Text
	}
	for _, p := range f.Parts {
		w.Detail += "; " + p.Field + ": " + p.Detail
	}
	if len(w.Detail) > 2000 {
		w.Detail = strings.ToValidUTF8(w.Detail[:2000], "") + "…"
	}
	return s.set(ctx, o, *w)
}

// actor is who asked for an operation, as they are now.
func (s *Operations) actor(ctx context.Context, o store.Operation) (Actor, error) {
	p, err := s.store.Read().PersonByID(ctx, o.PersonID)
	if errors.Is(err, store.ErrNotFound) || err == nil && p.Left(s.now()) {
		return Actor{}, forbidden("the account of who asked for it is closed", "")
	}
	if err == nil && o.TokenID != "" { // who goes home signs out; a token that ends is taken back
		if _, err = s.store.Read().TokenByID(ctx, o.TokenID, s.now()); errors.Is(err, store.ErrNotFound) {
			return Actor{}, forbidden("the token by which it was asked has ended", "")
		}
	}
	a := Actor{Person: p, Operation: o.ID, Why: o.Reason}
	if err == nil && o.Grant != "" {
		err = json.Unmarshal([]byte(o.Grant), &a.Grant)
	}
	return a, err
}

// grantText is what an actor's sign-in reaches, as it is kept; empty is everything.
func grantText(a Actor) string {
	if a.Grant.Whole() {
		return ""
	}
	text, _ := json.Marshal(a.Grant) // words alone
	return string(text)
}

// verb asks an operation's verb of one workspace.
func (s *Operations) verb(ctx context.Context, a Actor, o store.Operation, ref string) (err error) {
	var with options
	if err := json.Unmarshal([]byte(o.Options), &with); err != nil {
		return err
	}
	switch o.Verb {
	case operation.Start:
		_, err = s.workspaces.Start(ctx, a, ref)
	case operation.Stop:
		_, err = s.workspaces.Stop(ctx, a, ref)
	case operation.Rebuild:
		_, err = s.workspaces.Rebuild(ctx, a, ref, wire.Rebuild{NewFiles: with.NewFiles, Discard: with.Discard})
	case operation.Hold:
		_, err = s.workspaces.Hold(ctx, a, ref, wire.Hold{Seconds: with.Seconds, Why: o.Reason})
	case operation.LetRest:
		_, err = s.workspaces.EndHold(ctx, a, ref)
	case operation.Remove:
		_, err = s.workspaces.Remove(ctx, a, ref, with.Discard)
	case operation.Tell:
		err = s.workspaces.Tell(ctx, a, ref, o.Reason)
	}
	return err
}

func (s *Operations) set(ctx context.Context, o store.Operation, w store.Outcome) error {
	return s.store.Write(ctx, func(tx *store.Tx) error { return tx.SetOutcome(ctx, o.ID, w) })
}

// follow waits until it is over with a workspace that was asked.
func (s *Operations) follow(ctx context.Context, o store.Operation, w store.Outcome) error {
	watch := s.bus.Watch()
	defer watch.Close()
	late := time.NewTimer(operationPatience)
	defer late.Stop()
	for {
		row, err := s.store.Read().WorkspaceByID(ctx, w.WorkspaceID)
		if err != nil {
			return err
		}
		seen := operation.Seen{Phase: row.Phase, Cause: row.Cause, Rebuilding: row.NextBody > 0, Body: row.Body, Goal: w.Goal}
		if o.Verb == operation.Rebuild {
			sheet, err := s.store.Read().CurrentSheet(ctx, row.ID)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			seen.SheetCause = sheet.Cause
		}
		if w.State, w.Detail = operation.Judge(o.Verb, seen); w.State.Over() {
			return s.set(ctx, o, w)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-late.C:
			w.State, w.Detail = operation.Failed, cmp.Or(row.Cause, "it is still "+string(row.Phase)+" after an hour, and is not waited for any longer")
			return s.set(ctx, o, w)
		case <-watch.News():
		}
	}
}
