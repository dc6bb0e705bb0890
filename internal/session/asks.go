package session

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/changes"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/secret"
	"yardbench/internal/steward"
	"yardbench/internal/store"
)

const (
	mostAsking = 16              // programs of a workspace that wait for secrets at once
	askedMost  = time.Hour       // the longest that one waits
	lookAgain  = 5 * time.Second // what was given is noticed by then, however it came
	// noteAgain is how long what a program asks for again and again is no news.
	noteAgain = time.Hour
	mostNoted = 4096
	mostSaid  = 200 // characters of what a program says it is for
)

// Ask is a secret that programs in a workspace wait for.
type Ask struct {
	Name   string
	Says   string // what it is for, in the first program's own words
	Absent string // why it is not given
	Since  time.Time
}

// asks is who asks for what.
type asks struct {
	mu      sync.Mutex
	waiting map[string][]*Ask
	masked  map[string]map[*secret.Values]bool // what is written down of workspaces just now
	given   chan struct{}                      // closed when what is given may have changed
	noted   map[string]time.Time               // when it was last journalled what was handed over
	changed func(workspace string)
}

// Asking is what programs in workspaces ask for by name.
type Asking struct{ *Sessions }

// Asking is what programs in workspaces ask for by name.
func (s *Sessions) Asking() Asking { return Asking{s} }

// Changed has f called when what the programs of a workspace wait for has changed. It
// is set before use.
func (s Asking) Changed(f func(workspace string)) { s.asks.changed = f }

// Of lists what the programs of a workspace wait for, the oldest first, each name once.
func (s Asking) Of(workspace string) (out []Ask) {
	s.asks.mu.Lock()
	defer s.asks.mu.Unlock()
	for _, a := range s.asks.waiting[workspace] {
		if !slices.ContainsFunc(out, func(o Ask) bool { return o.Name == a.Name }) {
			out = append(out, *a)
		}
	}
	return out
}

// Given has everybody who waits look again.
func (s Asking) Given() {
	s.asks.mu.Lock()
	defer s.asks.mu.Unlock()
	if s.asks.given != nil {
		close(s.asks.given)
		s.asks.given = nil
	}
}

// WriteDown has what is written down of a workspace hold no value that a program is
// handed meanwhile, until done.
func (s Asking) WriteDown(workspace string, v *secret.Values) (done func()) {
	s.asks.mu.Lock()
	defer s.asks.mu.Unlock()
	if s.asks.masked == nil {
		s.asks.masked = map[string]map[*secret.Values]bool{}
	}
	if s.asks.masked[workspace] == nil {
		s.asks.masked[workspace] = map[*secret.Values]bool{}
	}
	s.asks.masked[workspace][v] = true
	return func() {
		s.asks.mu.Lock()
		defer s.asks.mu.Unlock()
		if delete(s.asks.masked[workspace], v); len(s.asks.masked[workspace]) == 0 {
			delete(s.asks.masked, workspace)
		}
	}
}

// wait notes that a program waits; ok is false where too many do.
func (s Asking) wait(workspace string, a *Ask) (done func(), ok bool) {
	s.asks.mu.Lock()
	if ok = len(s.asks.waiting[workspace]) < mostAsking; ok {
		if s.asks.waiting == nil {
			s.asks.waiting = map[string][]*Ask{}
		}
		s.asks.waiting[workspace] = append(s.asks.waiting[workspace], a)
	}
	s.asks.mu.Unlock()
	if !ok {
		return nil, false
	}
	s.tell(workspace)
	return func() {
		s.asks.mu.Lock()
		left := slices.DeleteFunc(s.asks.waiting[workspace], func(o *Ask) bool { return o == a })
		if s.asks.waiting[workspace] = left; len(left) == 0 {
			delete(s.asks.waiting, workspace)
		}
		s.asks.mu.Unlock()
		s.tell(workspace)
	}, true
}

func (s Asking) tell(workspace string) {
	if s.asks.changed != nil {
		s.asks.changed(workspace)
	}
}

// next is closed when what is given may have changed.
func (s Asking) next() <-chan struct{} {
	s.asks.mu.Lock()
	defer s.asks.mu.Unlock()
	if s.asks.given == nil {
		s.asks.given = make(chan struct{})
	}
	return s.asks.given
}

// errNobody: nobody can give what is asked for.
type errNobody string

func (e errNobody) Error() string { return string(e) }

// serve gives a program in a workspace the secret that it asks for by name, once it is
// given to the workspace: its owner is asked meanwhile, outside of it.
func (s Asking) serve(w store.Workspace, r steward.Request, c *steward.Conn) {
	ctx, cancel := context.WithTimeout(context.Background(), askedMost)
	defer cancel()
	go func() { // who asks says nothing more: what comes is their end
		defer cancel()
		var one [1]byte
		_, _ = c.Stream.Read(one[:])
	}()
	answer, err := s.answer(ctx, w.ID, r, func(waits string) { _ = c.Send(steward.Answer{Waits: waits}) }) // a program that went away ends it
	var nobody errNobody
	switch {
	case errors.As(err, &nobody):
		answer.Problem = err.Error()
	case ctx.Err() != nil:
		answer = steward.Answer{Problem: "nobody has given " + plain.Line(r.ID, mostSaid) + " so far; ask again"}
	case err != nil:
		slog.Error("give a program a secret that it asks for", "workspace", w.ID, "error", err)
		answer = steward.Answer{Problem: "what is given here cannot be read now; ask again"}
	}
	_ = c.Send(answer)
}

func (s Asking) answer(ctx context.Context, id string, r steward.Request, waits func(string)) (steward.Answer, error) {
	if err := secret.CheckName(r.ID); err != nil {
		return steward.Answer{}, errNobody(err.Error())
	}
	waiting := false
	for {
		next := s.next() // before the look: what is given after it is not missed
		w, err := s.Store.Read().WorkspaceByID(ctx, id)
		if err != nil {
			return steward.Answer{}, err
		}
		given, err := s.Sessions.Given(ctx, w)
		if err != nil {
			return steward.Answer{}, err
		}
		if i := slices.IndexFunc(given, func(g store.Secret) bool { return g.Name == r.ID }); i >= 0 {
			return s.hand(ctx, w, given[i])
		}
		if !waiting {
			a, where, err := s.absent(ctx, w, r)
			if err != nil {
				return steward.Answer{}, err
			}
			done, ok := s.wait(id, a)
			if !ok {
				return steward.Answer{}, errNobody(fmt.Sprintf("%d programs of this workspace wait for secrets already", mostAsking))
			}
			defer done()
			waiting = true
			waits(where)
		}
		select {
		case <-ctx.Done():
			return steward.Answer{}, ctx.Err()
		case <-next:
		case <-time.After(lookAgain):
		}
	}
}

// absent says what a program is to wait for, and where it is given; or why nobody can
// give it.
func (s Asking) absent(ctx context.Context, w store.Workspace, r steward.Request) (*Ask, string, error) {
	if w.Kind == store.ForPrebuild {
		return nil, "", errNobody(r.ID + " is not given to the set-up of prebuilds, where nobody is asked: set it in-prebuilds, as the repository's or the house's")
	}
	owner, err := s.Store.Read().PersonByID(ctx, w.OwnerID)
	if err != nil {
		return nil, "", err
	}
	repository, err := s.Store.Read().RepositoryByID(ctx, w.RepositoryID)
	if err != nil {
		return nil, "", err
	}
	house, _, err := s.House.Rules(ctx, s.Store.Read())
	if err != nil {
		return nil, "", err
	}
	_, choices, err := s.Choose(ctx, owner, repository, w.Branch)
	if err != nil {
		return nil, "", err
	}
	place := secret.Place{Repository: repository.Name, Branch: w.Branch, Teams: owner.TeamNames()}
	why := secret.Absent(r.ID, place, choices)
	if i := slices.IndexFunc(choices, func(c secret.Choice) bool { return c.Name == r.ID }); i >= 0 {
		why = choices[i].Why
	}
	switch {
	case r.Now:
		return nil, "", errNobody(r.ID + " is not given here: " + why)
	case !slices.Contains(house.Secrets.Levels(owner.Guest != nil, changes.Request(w.Branch) > 0), secret.OfPerson):
		return nil, "", errNobody(r.ID + " is not given here, and the house rules give this workspace none of its owner's own")
	}
	says := plain.Line(strings.TrimSpace(r.Text), mostSaid)
	return &Ask{Name: r.ID, Says: says, Absent: why, Since: s.Now().UTC()},
		fmt.Sprintf("waits for %s: give it on the page of %s, or with: yardbench secret put %s --for %s", r.ID, w.Name, r.ID, repository.Name), nil
}

// hand gives a program a value: what is written down of its workspace meanwhile does not
// hold it, and the journal says that it was given.
func (s Asking) hand(ctx context.Context, w store.Workspace, g store.Secret) (steward.Answer, error) {
	value, err := s.open(g)
	if err != nil {
		return steward.Answer{}, err
	}
	now, key := s.Now(), fmt.Sprint(w.ID, g.Name, g.Level, g.Version, g.UpdatedAt)
	s.asks.mu.Lock()
	for v := range s.asks.masked[w.ID] {
		v.Add(g.Name, value)
	}
	news := now.Sub(s.asks.noted[key]) > noteAgain
	s.asks.mu.Unlock()
	if news {
		err := s.Store.Write(ctx, func(tx *store.Tx) error {
			return errors.Join(tx.SecretsUsed(ctx, []store.Secret{g}), tx.Journal(ctx, w.ID, w.OwnerID, w.OwnerID, journal.SessionOpened{What: "secret", Secrets: map[string]int{g.Name: g.Version}}))
		})
		if err != nil {
			return steward.Answer{}, err
		}
		s.asks.mu.Lock()
		if s.asks.noted == nil || len(s.asks.noted) >= mostNoted {
			s.asks.noted = map[string]time.Time{}
		}
		s.asks.noted[key] = now
		s.asks.mu.Unlock()
	}
	return steward.Answer{Value: value, Version: g.Version}, nil
}
