package reconcile

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/rules"
	"yardbench/internal/due"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/presence"
	"yardbench/internal/session"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
)

// Status is what stewards say of their workspaces now, and the conditions that
// follow from it.
type Status struct {
	bus      *live.Bus
	house    *house.Book
	hub      Stewards
	now      func() time.Time
	sessions *session.Sessions
	store    *store.Store
	board    *presence.Board
	ctx      context.Context
	due      *due.Queue
	keeper   waker
	rest     *Rest
	// fails writes down that what is under way at a workspace has failed.
	fails    func(w store.Workspace, cause error) error
	renewing sync.Map // workspaces in which what a definition started is begun anew
}

// Ports lists what listens in a workspace now.
func (k *Status) Ports(id string) (out []steward.Port) {
	k.board.With(id, func(s *presence.Status) { out = slices.Clone(s.Ports) })
	return out
}

// DiskBytes is what a workspace's folder takes; 0 while unknown.
func (k *Status) DiskBytes(id string) (n int64) {
	k.board.With(id, func(s *presence.Status) { n = s.Disk })
	return n
}

// PortAsked notes that somebody used a port: a sign of work.
func (k *Status) PortAsked(id string, port int) {
	was := false
	k.board.With(id, func(s *presence.Status) { s.Signs.Port, s.Signs.Number, was = k.now(), port, s.Idle })
	if was {
		k.rest.rest(id)
	}
}

// FilesTouched notes that somebody looked into files, or changed some: a sign of
// work.
func (k *Status) FilesTouched(id string) {
	was := false
	k.board.With(id, func(s *presence.Status) { s.Signs.Read, was = k.now(), s.Idle })
	if was {
		k.rest.rest(id)
	}
}

// took takes a steward's word on how things stand.
func (k *Status) took(id string, said steward.Status) {
	c := k.board.Take(id, said, k.now().UTC())
	if c.Work {
		k.rest.rest(id)
	}
	if c.Holders || c.Disk || c.Full { // a word without news costs nothing
		if err := k.checkStatus(k.ctx, id, c); err != nil && k.ctx.Err() == nil {
			slog.Error("check how a workspace stands", "workspace", id, "error", err)
			k.checkLater(id, k.now())
		}
	}
	if c.Shows { // signs of work are no news to who looks at a list
		k.bus.Publish(id)
	}
}

// checkLater checks all of a workspace's status at a time.
func (k *Status) checkLater(id string, at time.Time) {
	k.due.Set("status "+id, at, func(ctx context.Context) error {
		return k.checkStatus(ctx, id, presence.Changes{Holders: true, Disk: true, Full: true})
	})
}

// checkStatus sets or ends the conditions that follow from what a steward said.
func (k *Status) checkStatus(ctx context.Context, id string, c presence.Changes) error {
	w, err := k.store.Read().WorkspaceByID(ctx, id)
	if err != nil || w.Phase != lifecycle.Ready {
		return err // at the steward's next word
	}
	conditions, err := k.store.Read().Conditions(ctx, id)
	if err != nil {
		return err
	}
	stands := map[lifecycle.ConditionKind]string{}
	for _, c := range conditions {
		stands[c.Kind] = c.Reason
	}
	if c.Holders {
		if err := k.checkSecrets(ctx, w, stands[lifecycle.SecretsChanged]); err != nil {
			return err
		}
		if err := k.checkAsks(ctx, id, stands[lifecycle.SecretAsked]); err != nil { // of an earlier life of the service
			return err
		}
	}
	if c.Disk {
		if err := k.checkDisk(ctx, w, stands[lifecycle.OverLimit]); err != nil {
			return err
		}
	}
	if c.Full {
		return k.checkFull(ctx, w, stands[lifecycle.DiskFull])
	}
	return nil
}

// condition sets a condition to a reason, or ends it where that is "", as often
// as a workspace may; else it is looked at again when it may. told is false then.
func (k *Status) condition(ctx context.Context, id string, kind lifecycle.ConditionKind, reason string) (told bool, err error) {
	next, ok := k.board.MayTell(id, kind, k.now())
	if !ok {
		k.checkLater(id, next)
		return false, nil
	}
	err = k.store.Write(store.About(ctx, id), func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(ctx, id)
		if err == nil && reason == "" && w.Phase != lifecycle.Removed {
			return tx.ClearCondition(ctx, w, kind)
		}
		if err != nil || w.Phase != lifecycle.Ready && (w.Phase != lifecycle.Starting || kind != lifecycle.SecretAsked) { // set-up asks too
			return err
		}
		return tx.SetCondition(ctx, w, kind, reason)
	})
	if err == nil {
		k.bus.Publish(id)
	}
	return err == nil, err
}

// checkFull sets or ends the condition that a workspace has no room left.
func (k *Status) checkFull(ctx context.Context, w store.Workspace, stands string) error {
	reason := ""
	k.board.With(w.ID, func(s *presence.Status) { reason, s.Filled = s.Full, true })
	if reason == stands {
		return nil
	}
	told, err := k.condition(ctx, w.ID, lifecycle.DiskFull, reason)
	if !told {
		k.board.With(w.ID, func(s *presence.Status) { s.Filled = false })
	}
	return err
}

// SecretsChanged has the workspaces checked that a secret goes to, in the
// background: what runs there may hold its old value. of tells which of a
// workspace's rows are meant.
func (k *Status) SecretsChanged(of func(w store.Workspace) bool) {
	for _, id := range k.board.Workspaces() {
		k.board.With(id, func(s *presence.Status) { s.Checked = false }) // also where what follows does not come to it
	}
	k.sessions.Asking().Given()
	k.keeper.Go(func(ctx context.Context) {
		var placing sync.WaitGroup
		defer placing.Wait()
		room := make(chan struct{}, mostPlacing)
		for _, id := range k.board.Workspaces() {
			w, err := k.store.Read().WorkspaceByID(ctx, id)
			if err != nil || !of(w) {
				continue
			}
			room <- struct{}{}
			placing.Go(func() {
				defer func() { <-room }()
				if err := k.placeFiles(ctx, w); err != nil && ctx.Err() == nil { // the next that is begun has them
					slog.Warn("bring secrets that are files into a workspace", "workspace", id, "error", err)
				}
			})
			if err := k.checkStatus(ctx, id, presence.Changes{Holders: true}); err != nil && ctx.Err() == nil {
				slog.Error("check who holds which secrets", "workspace", id, "error", err)
				k.checkLater(id, k.now())
			}
			k.bus.Publish(id)
		}
	})
}

// mostPlacing bounds in how many workspaces files are placed at once, and
// placeTimeout each.
const (
	mostPlacing  = 16
	placeTimeout = 10 * time.Second
)

// placeFiles has the secrets that are files stand in a workspace as they are given
// now, without waiting for what is begun next: one that was taken back is gone.
func (k *Status) placeFiles(ctx context.Context, w store.Workspace) error {
	if k.hub == nil || w.Phase != lifecycle.Ready || w.Kind == store.ForPrebuild || w.Plan.Adopted != nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, placeTimeout)
	defer cancel()
	w.NextPlan = nil // the body in use, not what a rebuild is making
	process, _, err := k.sessions.Of(ctx, w)
	if err != nil {
		return err
	}
	c, err := k.hub.Ask(ctx, outside.Link(w.ID, w.Body), steward.Request{Kind: steward.PutFiles, Process: steward.Process{User: process.User, Files: process.Files, FileWays: process.FileWays}})
	if err != nil {
		return err
	}
	return c.Stream.Close()
}

// checkSecrets sets or ends the condition that something that runs in a
// workspace holds older values of secrets than there are now.
func (k *Status) checkSecrets(ctx context.Context, w store.Workspace, stands string) error {
	given, err := k.sessions.Given(ctx, w)
	if err != nil {
		return err
	}
	k.board.With(w.ID, func(s *presence.Status) { s.Checked = true })
	var old []string
	for held := k.Held(w.ID, given); len(held) > 0; {
		first, names := held[0], []string{}
		for len(held) > 0 && held[0].Label == first.Label && held[0].Since.Equal(first.Since) {
			names, held = append(names, held[0].Name), held[1:]
		}
		old = append(old, fmt.Sprintf("%s (since %s) holds an older %s", first.Label, k.house.Local(k.ctx, k.store.Read(), k.now(), first.Since), some(names)))
	}
	reason := some(old)
	if reason == stands {
		return nil
	}
	told, err := k.condition(ctx, w.ID, lifecycle.SecretsChanged, reason)
	if !told {
		k.board.With(w.ID, func(s *presence.Status) { s.Checked = false })
	}
	return err
}

// asked has it looked at soon which secrets programs in a workspace wait for.
func (k *Status) asked(id string) {
	k.bus.Publish(id)
	k.due.Set("asks "+id, k.now(), func(ctx context.Context) error {
		conditions, err := k.store.Read().Conditions(ctx, id)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(conditions, func(c lifecycle.Condition) bool { return c.Kind == lifecycle.SecretAsked })
		stands := ""
		if i >= 0 {
			stands = conditions[i].Reason
		}
		return k.checkAsks(ctx, id, stands)
	})
}

// Asks lists the secrets that programs in a workspace wait for.
func (k *Status) Asks(id string) []session.Ask { return k.sessions.Asking().Of(id) }

// checkAsks sets or ends the condition that programs in a workspace wait for secrets.
func (k *Status) checkAsks(ctx context.Context, id, stands string) error {
	var names []string
	for _, a := range k.sessions.Asking().Of(id) {
		names = append(names, a.Name)
	}
	reason := ""
	if len(names) > 0 {
		reason = "a program in it waits for " + some(names)
	}
	if reason == stands {
		return nil
	}
	_, err := k.condition(ctx, id, lifecycle.SecretAsked, reason)
	return err
}

// Held is an older value of a secret that something in a workspace holds.
type Held struct {
	Label, Name string
	Since       time.Time
	Version     int
}

// Held lists what in a workspace holds older values than what is given there now,
// by holder and name.
func (k *Status) Held(id string, given []store.Secret) (out []Held) {
	now := map[string]store.Secret{}
	for _, g := range given {
		now[g.Name] = g
	}
	var holders []presence.Holder
	k.board.With(id, func(s *presence.Status) { holders = slices.Clone(s.Holders) })
	for _, h := range holders {
		for _, name := range slices.Sorted(maps.Keys(h.Secrets)) {
			// One that was removed and set anew counts its versions from 1 again.
			if g := now[name]; g.Version != h.Secrets[name] || h.Since.Before(g.UpdatedAt) {
				out = append(out, Held{h.Label, name, h.Since, h.Secrets[name]})
			}
		}
	}
	return out
}

// mostNamed bounds what a reason names one by one.
const mostNamed = 5

// some joins the first few of many.
func some(all []string) string {
	if more := len(all) - mostNamed; more > 0 {
		return plain.Line(strings.Join(all[:mostNamed], "; "), 1000) + fmt.Sprintf("; and %d more", more)
	}
	return plain.Line(strings.Join(all, "; "), 1000)
}

// checkDisk warns of a workspace that has grown over its disk, and puts one to
// rest that has grown a tenth beyond it. The engine itself cannot bound it
// everywhere.
func (k *Status) checkDisk(ctx context.Context, w store.Workspace, stands string) error {
	used := k.DiskBytes(w.ID)
	if w.DiskBytes == 0 || used == 0 {
		return nil
	}
	over, far := used > w.DiskBytes, used > w.DiskBytes+w.DiskBytes/10
	k.board.With(w.ID, func(s *presence.Status) { s.Weighed = !over })
	text := fmt.Sprintf("its files take %s of the %s its size allows", rules.Bytes(used>>20<<20), rules.Bytes(w.DiskBytes))
	switch {
	case !over && stands == "":
		return nil
	case !over:
		_, err := k.condition(ctx, w.ID, lifecycle.OverLimit, "")
		return err
	case stands == "":
		_, err := k.condition(ctx, w.ID, lifecycle.OverLimit, text+"; make room, or it is put to rest when it grows further")
		return err
	case !far, w.NextBody != 0: // a rebuild may be what makes room
		return nil
	}
	return k.rests(ctx, w.ID, text)
}

// sprawls puts a workspace to rest that writes the yard's disk full, outside of
// its volumes, where nothing else bounds it.
func (k *Status) sprawls(id string) error {
	w, err := k.store.Read().WorkspaceByID(k.ctx, id)
	if err != nil {
		return err
	}
	if w.Kind == store.ForPrebuild {
		if w.Phase != lifecycle.Starting {
			return nil // nothing of the repository's runs then
		}
		err := k.fails(w, errors.New("the yard's disk has little room left, and of all the run wrote most outside of its volumes"))
		k.keeper.Interrupt(id)
		return err
	}
	return k.rests(k.ctx, id, "the yard's disk has little room left, and of all it wrote most outside of its volumes; a rebuild gives that back")
}

// rests puts a workspace to rest for what it uses.
func (k *Status) rests(ctx context.Context, id, why string) error {
	stop := false
	err := k.store.Write(store.About(ctx, id), func(tx *store.Tx) error {
		stop = false
		w, err := tx.WorkspaceByID(ctx, id)
		if err != nil || w.Phase != lifecycle.Ready && w.Phase != lifecycle.Starting {
			return err // what sets up may use as much as what is ready; a rebuild ends with the stop
		}
		stop, w.Wanted = true, lifecycle.WantStopped
		return k.rest.beginStop(tx, &w, "put to rest: "+why)
	})
	if err == nil && stop {
		k.keeper.Interrupt(id)
	}
	return err
}
