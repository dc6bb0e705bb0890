package reconcile

import (
	"context"
	"errors"
	"slices"
	"strings"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/yard"
	"yardbench/wire"
)

// settle does step after step until the workspace is as it is wanted. How a
// step ended and which one begins next is written in one transaction.
func (k *Keeper) settle(id string, j *work) error {
	turn := k.turns.next()
	defer turn.end()
	w, err := k.Store.Read().WorkspaceByID(k.ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil // the yard speaks of one that the records do not know: they were set back
	}
	if err != nil {
		return err
	}
	if k.Hold != nil {
		if err := try(k.ctx, k.Hold); err != nil {
			if w.Phase.Settled() || !errors.Is(err, yard.ErrAway) {
				return err // nobody waits for it, or the service ends
			}
			if w.Kind != store.ForPrebuild {
				return k.waitForYard(w, err)
			}
			defer k.Images.runEnded(w)
			return errors.Join(k.failed(w, err), err)
		}
	}
	var seen yard.Observation
	// A launch that has just been accepted has nothing to look at.
	look := w.Phase != lifecycle.Waiting || w.Body != 1 || w.Plan.Image != "" || w.NextPlan != nil
	var finish func(*store.Tx) error
	for k.ctx.Err() == nil {
		turn.begin()
		if look {
			w, err := k.Store.Read().WorkspaceByID(k.ctx, id)
			if err != nil {
				return err
			}
			if w.Phase == lifecycle.Removed {
				return nil
			}
			k.Links.adopt(w)
			if err := try(k.ctx, func(ctx context.Context) (err error) { seen, err = k.Yard.Observe(ctx, id); return err }); err != nil {
				if w.Phase.Settled() {
					return err // nobody waits for it
				}
				if w.Kind != store.ForPrebuild && errors.Is(err, yard.ErrAway) {
					return k.waitForYard(w, err)
				}
				if err := k.fail(w, err); err != nil {
					return err
				}
				continue // a prebuild that failed is removed
			}
			look = false
		}
		k.mu.Lock()
		j.interrupted = false
		k.mu.Unlock()
		var next *begun
		err := k.Store.Write(store.About(k.ctx, id), func(tx *store.Tx) (err error) {
			if finish != nil {
				if err := finish(tx); err != nil {
					return err
				}
			}
			next, err = k.advance(tx, id, seen)
			return err
		})
		k.Bus.Publish(id)
		if err != nil {
			return err
		}
		if next == nil {
			return k.settled(id)
		}
		ctx, cancel := context.WithCancel(store.About(k.ctx, id))
		k.mu.Lock()
		if j.cancel = cancel; j.interrupted {
			cancel() // it came between the look and this step
		}
		k.mu.Unlock()
		turn.end()
		finish, err = k.step(ctx, *next, &seen)
		cut := ctx.Err() != nil
		k.mu.Lock()
		j.cancel = nil
		k.mu.Unlock()
		cancel()
		switch {
		case k.ctx.Err() != nil:
			return nil // the service ends; its next life goes on from the records
		case err == nil:
		case errors.Is(err, yard.ErrAway) && next.w.Kind != store.ForPrebuild && !cut && next.step.Attempt < mostAway:
			return k.waitForYard(next.w, err) // the step stays open
		case cut, errors.Is(err, errLookAgain):
			look = true // somebody asked for something else, or the yard changed
		default:
			if werr := k.Store.Write(store.About(k.ctx, id), finish); werr != nil {
				return errors.Join(err, werr)
			}
			finish = nil
			if err := k.fail(next.w, err); err != nil {
				return err
			}
			look = true
		}
	}
	return nil
}

// advance asks what must be done next and writes it down: the phase, what
// follows from what was seen, and that the next step begins. It gives nil
// when there is nothing to do.
func (k *Keeper) advance(tx *store.Tx, id string, seen yard.Observation) (*begun, error) {
	for {
		w, err := tx.WorkspaceByID(k.ctx, id)
		if err != nil {
			return nil, err
		}
		state, err := k.state(tx.Q, w)
		if err != nil {
			return nil, err
		}
		mv := lifecycle.Next(state, k.observed(w, state, seen))
		if err := k.note(tx, &w, state, mv, seen); err != nil {
			return nil, err
		}
		switch {
		case mv.Idle():
			return nil, nil
		case mv.Action == "":
			continue // only the phase changed
		}
		b := &begun{w: w, mv: mv, body: state.Target()}
		key, title := string(mv.Action), titles[mv.Action]
		if mv.Action == lifecycle.RemoveAll && w.Plan.Adopted != nil {
			title = "Let go"
		}
		if mv.Action == lifecycle.RunSetUp {
			if key, title = "set-up/"+string(mv.Moment), string(mv.Moment); mv.Moment == definition.Personal {
				title = wire.OwnFilesTitle
			} else if mv.Moment == definition.Luggage {
				title = wire.LuggageTitle
			}
		}
		if b.sheet, err = tx.CurrentSheet(k.ctx, id); err != nil || b.sheet.EndedAt != nil {
			kind := lifecycle.StartSheet
			if mv.Action == lifecycle.RemoveAll {
				kind = lifecycle.RemoveSheet
			}
			if b.sheet, err = tx.OpenSheet(k.ctx, id, kind); err != nil {
				return nil, err
			}
		}
		b.step, err = tx.BeginStep(k.ctx, store.Step{SheetID: b.sheet.ID, Key: key, Title: title, Body: b.body})
		return b, err
	}
}

// begun is a step that is written down as begun.
type begun struct {
	w     store.Workspace
	mv    lifecycle.Move
	body  int
	sheet store.Sheet
	step  store.Step
}

// errLookAgain says that the yard is not as it was last seen.
var errLookAgain = errors.New("look again")

func (k *Keeper) state(q store.Q, w store.Workspace) (lifecycle.State, error) {
	s := lifecycle.State{Adopted: w.Plan.Adopted != nil, Prebuild: w.Kind == store.ForPrebuild, Phase: w.Phase, Wanted: w.Wanted, Body: w.Body, NextBody: w.NextBody, Volume: w.Volume, NextVolume: w.NextVolume,
		HasImage: w.Target().Image != "", Over: map[definition.Moment]bool{}}
	s.Seeded, s.WaitFor = w.SeededVolume >= s.TargetVolume(), w.Target().Definition.WaitFor
	for _, m := range w.Target().Definition.MomentsDue() {
		if !s.Prebuild || m.BeforePerson() {
			s.SetUp = append(s.SetUp, m)
		}
	}
	var own store.Profile
	if travels(w) {
		var err error
		if own, err = q.ProfileOf(k.ctx, w.OwnerID); err != nil {
			return s, err
		}
		if own.FilesURL != "" {
			if _, err := q.ErrandOf(k.ctx, w.ID); errors.Is(err, store.ErrNotFound) { // one for one command needs none
				s.SetUp = append(s.SetUp, definition.Personal)
			} else if err != nil {
				return s, err
			}
		}
	}
	if along, _, err := k.luggage.of(k.ctx, q, w); err != nil {
		return s, err
	} else if len(along) > 0 {
		s.SetUp = slices.Insert(s.SetUp, 0, definition.Luggage)
	}
	prepared := w.Target().Prepared
	if len(s.SetUp) == 0 {
		return s, nil
	}
	once, failed, err := q.EndedSetUp(k.ctx, w.ID, s.Target())
	if err != nil {
		return s, err
	}
	now := map[definition.Moment]bool{}
	if sheet, err := q.CurrentSheet(k.ctx, w.ID); err == nil {
		steps, err := q.Steps(k.ctx, sheet.ID)
		if err != nil {
			return s, err
		}
		for _, st := range steps {
			if m, ok := strings.CutPrefix(st.Key, "set-up/"); ok && st.EndedAt != nil && st.Body == s.Target() {
				now[definition.Moment(m)] = true
			}
		}
	}
	for _, m := range s.SetUp {
		atRest := w.Phase == lifecycle.Ready && w.NextBody == 0 && m.EveryStart() && !k.sheetOpen(q, w.ID)
		if m == definition.Personal { // of a workspace that is up they come with its next start
			s.Over[m] = once[m] && !own.EachStart || now[m] || w.Phase == lifecycle.Ready && w.NextBody == 0 && !k.sheetOpen(q, w.ID)
			continue
		}
		if m == definition.Services || m == definition.Luggage { // at each start, whatever failed before
			s.Over[m] = now[m] || atRest
			continue
		}
		// After a failure the specification runs none of those that follow.
		// What a prebuild has run; new content since then is met again.
		if prepared != nil && m.BeforePerson() && (m != definition.UpdateContent || prepared.Behind == 0) {
			s.Over[m] = true
			continue
		}
		s.Over[m] = failed || (once[m] && !m.EveryStart()) || now[m] || atRest
	}
	return s, nil
}

func (k *Keeper) sheetOpen(q store.Q, id string) bool {
	s, err := q.CurrentSheet(k.ctx, id)
	return err == nil && s.EndedAt == nil
}

func (k *Keeper) observed(w store.Workspace, s lifecycle.State, o yard.Observation) lifecycle.Observed {
	return lifecycle.Observed{Network: o.Network, Volumes: o.Volumes, Bodies: o.Bodies, Named: o.Named, Steward: k.Hub.Connected(outside.Link(w.ID, s.Target()))}
}

// note writes down what a move changes by itself: the phase, the end of the
// sheet, the conditions that follow from what is seen.
func (k *Keeper) note(tx *store.Tx, w *store.Workspace, s lifecycle.State, mv lifecycle.Move, seen yard.Observation) error {
	away := w.Phase == lifecycle.Ready && mv.Idle() && s.NextBody == 0 && !k.Hub.Connected(outside.Link(w.ID, w.Body))
	sheet, err := tx.CurrentSheet(k.ctx, w.ID)
	open := err == nil && sheet.EndedAt == nil
	enter := mv.Enter != "" && mv.Enter != w.Phase
	settled := (mv.Idle() && w.Phase.Settled()) || (mv.Action == "" && mv.Enter.Settled() && !mv.GoesOn)
	conditions, err := tx.Conditions(k.ctx, w.ID)
	if err != nil {
		return err
	}
	wasAway := false
	for _, c := range conditions {
		wasAway = wasAway || c.Kind == lifecycle.StewardAway
		if c.Kind == lifecycle.WaitsForYard {
			if err := tx.ClearCondition(k.ctx, *w, c.Kind); err != nil {
				return err
			}
		}
	}
	if !enter && away == wasAway && !(open && settled) {
		return nil
	}
	if enter {
		cause := ""
		if w.Phase == lifecycle.Stopping && mv.Enter == lifecycle.Stopped {
			cause = w.Cause // why it was put to rest
		}
		if w.Phase == lifecycle.Ready && mv.Enter == lifecycle.Stopped {
			cause = k.Sight.endedHow(tx.Q, seen.Bodies[w.Body], seen.Ends[w.Body])
			w.Wanted = lifecycle.WantStopped
		}
		if w.Phase == lifecycle.Stopped && mv.Enter == lifecycle.Ready {
			w.Wanted = lifecycle.WantReady
		}
		if err := k.entered(tx, w, mv.Enter, cause); err != nil {
			return err
		}
	}
	if away {
		why := "its steward is not connected; it dials again by itself"
		if seen.Elsewhere[w.Body] {
			why = "its container was made where the service was before, and does not find it here: stop and start it, and it is made anew, with its files"
		}
		if err := tx.SetCondition(k.ctx, *w, lifecycle.StewardAway, why); err != nil {
			return err
		}
	} else if wasAway {
		if err := tx.ClearCondition(k.ctx, *w, lifecycle.StewardAway); err != nil {
			return err
		}
	}
	if open && settled {
		return tx.CloseSheet(k.ctx, sheet.ID, lifecycle.Done, "")
	}
	return nil
}
