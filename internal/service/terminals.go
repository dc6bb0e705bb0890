package service

import (
	"cmp"
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/policy"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Seat is somebody's place at a terminal. It is left when their stream is closed.
type Seat struct {
	// News are those who are at the terminal, and whether it is recorded, when that
	// changes; the newest takes the place of one that was not read.
	News  chan wire.Lookers
	Looks bool // they may not type
	is    wire.Looker
}

// seats knows who is at which terminal.
type seats struct {
	mu sync.Mutex
	at map[string][]*Seat // by workspace and label
	on map[string]bool    // what is recorded
}

// record notes that a terminal is recorded, or not any more.
func (s *seats) record(workspace, label string, on bool) {
	key := seatKey(workspace, label)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.on == nil {
		s.on = map[string]bool{}
	}
	if delete(s.on, key); on {
		s.on[key] = true
	}
	s.tell(key)
}

// come takes a seat.
func (s *seats) come(key string, x *Seat) (leave func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.at == nil {
		s.at = map[string][]*Seat{}
	}
	s.at[key] = append(s.at[key], x)
	s.tell(key)
	var once sync.Once
	return func() {
		once.Do(func() {
			s.mu.Lock()
			defer s.mu.Unlock()
			if s.at[key] = slices.DeleteFunc(s.at[key], func(y *Seat) bool { return y == x }); len(s.at[key]) == 0 {
				delete(s.at, key)
			}
			s.tell(key)
		})
	}
}

// tell tells everybody at a terminal who is there. s.mu is held.
func (s *seats) tell(key string) {
	all := wire.Lookers{Lookers: s.list(key), Recorded: s.on[key]}
	for _, x := range s.at[key] {
		select {
		case <-x.News:
		default:
		}
		x.News <- all
	}
}

func (s *seats) list(key string) []wire.Looker {
	out := []wire.Looker{}
	for _, x := range s.at[key] {
		out = append(out, x.is)
	}
	return out
}

// who lists those at a terminal.
func (s *seats) who(key string) []wire.Looker {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.list(key)
}

// seated is a stream whose seat is left with it.
type seated struct {
	io.ReadWriteCloser
	leave func()
}

func (s seated) Close() error {
	s.leave()
	return s.ReadWriteCloser.Close()
}

func seatKey(workspace, label string) string { return workspace + " " + label }

// sit gives whoever opened a terminal a seat at it.
func (s *Sessions) sit(a Actor, w store.Workspace, label string, looks bool, c *steward.Conn) *Seat {
	x := &Seat{News: make(chan wire.Lookers, 1), Looks: looks, is: wire.Looker{Person: a.Name, Writes: !looks, Since: s.now().UTC()}}
	c.Stream = seated{c.Stream, s.seats.come(seatKey(w.ID, label), x)}
	return x
}

// Terminals lists the terminals that are open in the actor's own workspace.
func (s *Sessions) Terminals(ctx context.Context, a Actor, ref string) ([]wire.Terminal, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "see the terminals of")
	if err != nil {
		return nil, err
	}
	if err := lifecycle.Permit(lifecycle.Use, w.Phase, w.Plan.Adopted != nil); err != nil {
		return nil, about(ref, a, fromRoom(err))
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	c, err := s.hub.Ask(ctx, outside.Link(w.ID, w.Body), steward.Request{Kind: steward.Listed})
	if err != nil {
		return nil, fromRoom(err)
	}
	defer c.Stream.Close()
	stop := context.AfterFunc(ctx, func() { c.Stream.Close() })
	defer stop()
	var said steward.TerminalList
	if err := c.ReceiveAtMost(&said, steward.MaxAsked); err != nil {
		return nil, fromRoom(outside.ErrAway)
	}
	out := []wire.Terminal{}
	for _, t := range said.Terminals[:min(len(said.Terminals), 200)] {
		if !terminalLabel.MatchString(t.Label) {
			continue
		}
		out = append(out, wire.Terminal{Label: t.Label, Program: plain.Line(t.Program, 40), Since: s.now().UTC().Add(-time.Duration(max(0, t.SinceMS)) * time.Millisecond), Lookers: s.seats.who(seatKey(w.ID, t.Label)), Recorded: s.recordings.On(w.ID, t.Label)})
	}
	return out, nil
}

// lookFor is how long somebody may look where nothing is said; lookMost at most.
const (
	lookFor  = time.Hour
	lookMost = 24 * time.Hour
)

// look finds a terminal that its owner lets the actor look at; ok is false where
// there is none that they might know of.
func (s *Sessions) look(ctx context.Context, a Actor, ref, label string) (w store.Workspace, l store.Look, ok bool, err error) {
	name, ownerName, other := cutRef(ref)
	if !other || !a.Grant.Reaches(policy.UseWorkspace) {
		return w, l, false, nil
	}
	owner, err := s.store.Read().PersonByName(ctx, ownerName)
	if err == nil {
		w, err = s.store.Read().WorkspaceByName(ctx, owner.ID, name)
	}
	if errors.Is(err, store.ErrNotFound) {
		return w, l, false, nil
	}
	if err != nil {
		return w, l, false, err
	}
	all, err := s.store.Read().LooksAt(ctx, w.ID, s.now())
	if err != nil || !a.holds(w.RepositoryID) || owner.ClosedAt != nil {
		return w, l, false, err
	}
	for _, l := range all {
		if l.PersonID == a.ID && l.Terminal == label {
			return w, l, true, nil
		}
	}
	return w, l, false, nil
}

// Looks lists who may look at the terminals of the actor's own workspace.
func (s *Sessions) Looks(ctx context.Context, a Actor, ref string) ([]wire.Look, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "see the terminals of")
	if err != nil {
		return nil, err
	}
	all, err := s.store.Read().LooksAt(ctx, w.ID, s.now())
	if err != nil {
		return nil, err
	}
	return s.lookViews(ctx, all)
}

// LooksOf lists what others let the actor look at.
func (s *Sessions) LooksOf(ctx context.Context, a Actor) ([]wire.Look, error) {
	all, err := s.store.Read().LooksOf(ctx, a.ID, s.now())
	if err != nil {
		return nil, err
	}
	return s.lookViews(ctx, all)
}

func (s *Sessions) lookViews(ctx context.Context, all []store.Look) ([]wire.Look, error) {
	out := []wire.Look{}
	for _, l := range all {
		w, err := s.store.Read().WorkspaceByID(ctx, l.WorkspaceID)
		if err != nil {
			return nil, err
		}
		if w.Phase == lifecycle.Removed {
			continue
		}
		owner, err := s.store.Read().PersonByID(ctx, w.OwnerID)
		if err != nil {
			return nil, err
		}
		p, err := s.store.Read().PersonByID(ctx, l.PersonID)
		if err != nil {
			return nil, err
		}
		out = append(out, wire.Look{Workspace: w.Name, Owner: owner.Name, Terminal: l.Terminal, Person: p.Name, Writes: l.Writes, Until: l.Until})
	}
	return out, nil
}

// AllowLook lets a colleague look at a terminal of the actor's own workspace for a
// time, or type into it.
func (s *Sessions) AllowLook(ctx context.Context, a Actor, ref, label, person string, in wire.AllowLook) (wire.Look, error) {
	w, owner, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "let others look at terminals of")
	if err != nil {
		return wire.Look{}, err
	}
	if !terminalLabel.MatchString(label) {
		return wire.Look{}, invalid(quote(label)+" is no label for a terminal", "use lower-case letters, digits and dashes, at most 32")
	}
	p, err := s.store.Read().PersonByName(ctx, person)
	if errors.Is(err, store.ErrNotFound) || err == nil && (p.ClosedAt != nil || p.Program) {
		return wire.Look{}, notFound("person", person, "somebody with an account of their own is meant")
	}
	if err != nil {
		return wire.Look{}, err
	}
	if p.ID == w.OwnerID {
		return wire.Look{}, invalid("it is their own terminal", "name a colleague")
	}
	for_ := min(cmp.Or(time.Duration(in.Seconds)*time.Second, lookFor), lookMost)
	l := store.Look{WorkspaceID: w.ID, Terminal: label, PersonID: p.ID, Writes: in.Writes, Until: s.now().UTC().Add(for_)}
	err = s.store.Write(ctx, func(tx *store.Tx) error { return tx.AllowLook(ctx, w, l) })
	return wire.Look{Workspace: w.Name, Owner: owner.Name, Terminal: label, Person: p.Name, Writes: l.Writes, Until: l.Until}, err
}

// EndLook lets a colleague look no more: what they look at ends.
func (s *Sessions) EndLook(ctx context.Context, a Actor, ref, label, person string) error {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "say who may look at terminals of")
	if err != nil {
		return err
	}
	p, err := s.store.Read().PersonByName(ctx, person)
	if err == nil {
		err = s.store.Write(ctx, func(tx *store.Tx) error { return tx.EndLook(ctx, w, label, p.ID) })
	}
	if errors.Is(err, store.ErrNotFound) {
		return notFound("leave of "+person+" to look at", label, "the list of looks has them")
	}
	return err
}

// FirstLine is what each new terminal of the actor's own workspace runs first.
func (s *Sessions) FirstLine(ctx context.Context, a Actor, ref string) (wire.FirstLine, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "see the terminals of")
	if err != nil {
		return wire.FirstLine{}, err
	}
	line, err := s.store.Read().FirstLine(ctx, w.ID)
	return wire.FirstLine{Line: line}, err
}

// SetFirstLine says what each new terminal of the actor's own workspace runs first.
func (s *Sessions) SetFirstLine(ctx context.Context, a Actor, ref string, in wire.NewFirstLine) (wire.FirstLine, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "change the terminals of")
	if err != nil {
		return wire.FirstLine{}, err
	}
	if strings.ContainsFunc(in.Line, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }) {
		return wire.FirstLine{}, at(invalid("this is no line", ""), "/line", "one line of text; put more into a file, and have it read that")
	}
	is := wire.FirstLine{Line: strings.TrimSpace(in.Line)}
	err = s.store.Write(ctx, func(tx *store.Tx) error { return tx.SetFirstLine(ctx, w, is.Line, a.ID) })
	return is, err
}

// lookAt opens a terminal for somebody whom its owner lets look.
func (s *Sessions) lookAt(ctx context.Context, a Actor, w store.Workspace, l store.Look, in wire.Run) (*steward.Conn, *Seat, error) {
	if err := lifecycle.Permit(lifecycle.Use, w.Phase, w.Plan.Adopted != nil); err != nil {
		return nil, nil, fromRoom(err)
	}
	r := steward.Request{Kind: steward.Terminal, ID: l.Terminal, Looks: true, From: max(0, in.From), Life: in.Life, Typist: in.Typist}
	if l.Writes {
		// They type, and neither open it nor give it their size.
		r.Looks, r.Joins = false, true
	}
	c, err := s.hub.Ask(ctx, outside.Link(w.ID, w.Body), r)
	if err != nil {
		return nil, nil, fromRoom(err)
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.SessionOpened{What: "look"})
	})
	if err != nil {
		c.Stream.Close()
		return nil, nil, err
	}
	return c, s.sit(a, w, l.Terminal, !l.Writes, c), nil
}
