package keeper

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/idle"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/internal/core/secret"
	"yardbench/internal/steward"
	"yardbench/internal/store"
)

// pulses is what is known of the workspaces that run, from their stewards.
type pulses struct {
	mu sync.Mutex
	of map[string]*pulse
}

// pulse is what is known of one workspace. It is not stored: after a restart
// the steward tells it anew.
type pulse struct {
	signs   idle.Signs
	ports   []steward.Port
	holders []holder
	disk    int64
	full    string // where there is no room left, as told last
	filled  bool   // that is in the records
	checked bool   // which secrets they hold, and nothing is new since
	weighed bool   // the disk, that it is not too large, and nothing is new since
	idle    bool   // the condition stands
	// rulesChanged has the steward asked anew where the rules are others.
	rulesChanged func(version int)
	warned       time.Time
}

// holder is a process with the secrets it was given.
type holder struct {
	label   string
	since   time.Time
	secrets map[string]int
}

func (h holder) same(other holder) bool {
	return h.label == other.label && maps.Equal(h.secrets, other.secrets) && h.since.Sub(other.since).Abs() < 2*time.Second
}

// with calls do on a workspace's pulse.
func (p *pulses) with(id string, do func(*pulse)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.of == nil {
		p.of = map[string]*pulse{}
	}
	if p.of[id] == nil {
		p.of[id] = &pulse{}
	}
	do(p.of[id])
}

func (p *pulses) drop(id string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.of, id)
}

// Ports lists what listens in a workspace now.
func (k *Keeper) Ports(id string) (out []steward.Port) {
	k.pulses.with(id, func(p *pulse) { out = append(out, p.ports...) })
	return out
}

// DiskBytes is what a workspace's folder takes; 0 while unknown.
func (k *Keeper) DiskBytes(id string) (n int64) {
	k.pulses.with(id, func(p *pulse) { n = p.disk })
	return n
}

// PortAsked notes that somebody used a port: a sign of work.
func (k *Keeper) PortAsked(id string, port int) {
	was := false
	k.pulses.with(id, func(p *pulse) { p.signs.Port, p.signs.Number, was = k.Now(), port, p.idle })
	if was {
		k.rest(id)
	}
}

// StewardChanged is called when a steward has come or gone.
func (k *Keeper) StewardChanged(link string) {
	id := workspaceOf(link)
	k.Wake(id)
	if k.Hub.Connected(link) {
		k.Go(func(context.Context) { k.followSteward(id, link) })
	}
}

// followSteward takes what a steward tells until it goes; where the house rules
// have changed it asks anew, by the new ones.
func (k *Keeper) followSteward(id, link string) {
	for again := true; again && k.ctx.Err() == nil; {
		again = k.followOnce(id, link)
	}
}

func (k *Keeper) followOnce(id, link string) (again bool) {
	turn := k.turns.next()
	defer turn.end()
	w, err := k.Store.Read().WorkspaceByID(k.ctx, id)
	if err != nil || w.Kind != store.ForPerson {
		return false
	}
	r, version, err := k.Rules(k.ctx, k.Store.Read())
	if err != nil {
		slog.Error("watch a workspace", "workspace", id, "error", err)
		return false
	}
	turn.end()
	c, err := k.Hub.Ask(k.ctx, link, steward.Request{Kind: steward.Watch, FloorMilli: r.Idle.CPUFloorMilli, Process: steward.Process{Folder: measured(w)}})
	if err != nil {
		return false // it went again; the next connection begins anew
	}
	defer c.Stream.Close()
	changed := false
	k.pulses.with(id, func(p *pulse) {
		p.rulesChanged = func(now int) {
			if now != version {
				changed = true
				c.Stream.Close()
			}
		}
	})
	defer k.pulses.with(id, func(p *pulse) { again = changed })
	defer context.AfterFunc(k.ctx, func() { c.Stream.Close() })()
	for {
		turn.end()
		var st steward.Status
		if err := c.Receive(&st); err != nil {
			return false
		}
		turn.begin()
		if w, err = k.Store.Read().WorkspaceByID(k.ctx, id); err != nil || w.Phase == lifecycle.Removed {
			return false
		}
		if Link(w) == link { // not a body that a rebuild is making
			k.took(id, st)
		}
	}
}

// measured is the folder whose size is looked at: in a container that others
// made, none is ours to bound.
func measured(w store.Workspace) string {
	if w.Plan.Adopted != nil {
		return ""
	}
	return w.Plan.Definition.Mountpoint()
}

// took takes a steward's word on how things stand, within bounds.
func (k *Keeper) took(id string, st steward.Status) {
	now := k.Now().UTC()
	at := func(ago int64, old time.Time) time.Time {
		t := now.Add(-time.Duration(ago) * time.Millisecond)
		if ago < 0 || ago > 1e11 || t.Before(old) {
			return old
		}
		return t
	}
	wake, shows, held, grew, filled := false, false, false, false, false
	k.pulses.with(id, func(p *pulse) {
		ports, disk, holders := slices.Clone(p.ports), p.disk, slices.Clone(p.holders)
		defer func() {
			shows = !slices.Equal(ports, p.ports) || disk>>20 != p.disk>>20
			p.checked = p.checked && slices.EqualFunc(holders, p.holders, holder.same)
			p.weighed = p.weighed && disk == p.disk
			held, grew = !p.checked, !p.weighed
			where := fullWhere(st)
			p.filled = p.filled && where == p.full
			filled, p.full = !p.filled, where
		}()
		before, _ := p.signs.Last()
		p.signs.Typed, p.signs.Read, p.signs.Busy = at(st.TypedMS, p.signs.Typed), at(st.ReadMS, p.signs.Read), at(st.BusyMS, p.signs.Busy)
		after, _ := p.signs.Last()
		wake = p.idle && after.After(before)
		p.ports = p.ports[:0]
		for _, port := range st.Ports[:min(len(st.Ports), 200)] {
			if port.Number > 0 && port.Number < 65536 {
				port.Process = printable(port.Process, 40)
				p.ports = append(p.ports, port)
			}
		}
		p.holders = p.holders[:0]
		for _, h := range st.Holders[:min(len(st.Holders), 100)] {
			p.holders = append(p.holders, holder{printable(h.Label, 64), at(h.SinceMS, time.Time{}), h.Secrets})
		}
		p.disk = max(0, st.DiskBytes)
	})
	if wake {
		k.rest(id)
	}
	if held { // a word without news costs nothing
		if err := k.CheckSecrets(k.ctx, id); err != nil && k.ctx.Err() == nil {
			slog.Error("check who holds which secrets", "workspace", id, "error", err)
		}
	}
	if grew {
		if err := k.checkDisk(id); err != nil && k.ctx.Err() == nil {
			slog.Error("check the disk", "workspace", id, "error", err)
		}
	}
	if filled {
		if err := k.checkFull(id); err != nil && k.ctx.Err() == nil {
			slog.Error("note that a disk is full", "workspace", id, "error", err)
		}
	}
	if shows { // signs of work are no news to who looks at a list
		k.Bus.Publish(id)
	}
}

// fullWhere says where a workspace has no room left.
func fullWhere(st steward.Status) string {
	switch {
	case st.RootFull:
		return "there is no room left outside its folder, where its container's own files are: the yard's disk is full; an operator can make room there"
	case st.FolderFull:
		return "there is no room left in its folder: what is written there fails; remove what is not needed"
	}
	return ""
}

// checkFull sets or ends the condition that a workspace has no room left.
func (k *Keeper) checkFull(id string) error {
	w, err := k.Store.Read().WorkspaceByID(k.ctx, id)
	if err != nil || w.Phase != lifecycle.Ready {
		return err // at the steward's next word
	}
	conditions, err := k.Store.Read().Conditions(k.ctx, id)
	if err != nil {
		return err
	}
	reason, stands := "", ""
	for _, c := range conditions {
		if c.Kind == lifecycle.DiskFull {
			stands = c.Reason
		}
	}
	k.pulses.with(id, func(p *pulse) { reason, p.filled = p.full, true })
	if reason == stands {
		return nil
	}
	err = k.Store.Write(k.ctx, func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(k.ctx, id)
		if err != nil || w.Phase != lifecycle.Ready {
			return err
		}
		if reason == "" {
			return tx.ClearCondition(k.ctx, w, lifecycle.DiskFull)
		}
		return tx.SetCondition(k.ctx, w, lifecycle.DiskFull, reason)
	})
	if err != nil {
		k.pulses.with(id, func(p *pulse) { p.filled = false })
	}
	k.Bus.Publish(id)
	return err
}

// printable keeps a stranger's text short and on one line.
func printable(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r < 0x20 || (r >= 0x7f && r < 0xa0) {
			return ' '
		}
		return r
	}, s)
	if r := []rune(s); len(r) > most {
		return string(r[:most])
	}
	return s
}

// CheckSecrets sets or ends the condition that something that runs in a
// workspace holds older values of secrets than there are now.
func (k *Keeper) CheckSecrets(ctx context.Context, id string) error {
	w, err := k.Store.Read().WorkspaceByID(ctx, id)
	if err == nil && w.Phase == lifecycle.Ready {
		if err = k.checkSecrets(ctx, w); err == nil {
			k.pulses.with(id, func(p *pulse) { p.checked = true })
			return nil
		}
	}
	k.pulses.with(id, func(p *pulse) { p.checked = false }) // at the steward's next word
	return err
}

func (k *Keeper) checkSecrets(ctx context.Context, w store.Workspace) error {
	id := w.ID
	given, err := k.Given(ctx, w)
	if err != nil {
		return err
	}
	now := map[string]store.Secret{}
	for _, g := range given {
		now[g.Name] = g
	}
	var holders []holder
	k.pulses.with(id, func(p *pulse) { holders = append(holders, p.holders...) })
	var old []string
	for _, h := range holders {
		var names []string
		for name, version := range h.secrets {
			// One that was removed and set anew counts its versions from 1 again.
			if g := now[name]; g.Version != version || h.since.Before(g.UpdatedAt) {
				names = append(names, printable(name, 64))
			}
		}
		if len(names) > 0 {
			sort.Strings(names)
			old = append(old, fmt.Sprintf("%s (since %s) holds an older %s", h.label, k.local(h.since), strings.Join(names, ", ")))
		}
	}
	conditions, err := k.Store.Read().Conditions(ctx, id)
	if err != nil {
		return err
	}
	stands := ""
	for _, c := range conditions {
		if c.Kind == lifecycle.SecretsChanged {
			stands = c.Reason
		}
	}
	reason := strings.Join(old, "; ")
	if reason == stands {
		return nil
	}
	return k.Store.Write(ctx, func(tx *store.Tx) error {
		if reason == "" {
			return tx.ClearCondition(ctx, w, lifecycle.SecretsChanged)
		}
		return tx.SetCondition(ctx, w, lifecycle.SecretsChanged, reason)
	})
}

// checkDisk warns of a workspace that has grown over its disk, and puts one to
// rest that has grown a tenth beyond it. The engine itself cannot bound it
// everywhere.
func (k *Keeper) checkDisk(id string) error {
	w, err := k.Store.Read().WorkspaceByID(k.ctx, id)
	used := k.DiskBytes(id)
	if err != nil || w.Phase != lifecycle.Ready || w.DiskBytes == 0 || used == 0 {
		return err
	}
	conditions, err := k.Store.Read().Conditions(k.ctx, id)
	if err != nil {
		return err
	}
	stands := false
	for _, c := range conditions {
		stands = stands || c.Kind == lifecycle.OverLimit
	}
	stop := false
	over, far := used > w.DiskBytes, used > w.DiskBytes+w.DiskBytes/10
	k.pulses.with(id, func(p *pulse) { p.weighed = !over })
	if !over && !stands {
		return nil
	}
	err = k.Store.Write(k.ctx, func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(k.ctx, id)
		if err != nil || w.Phase != lifecycle.Ready {
			return err
		}
		if !over {
			return tx.ClearCondition(k.ctx, w, lifecycle.OverLimit)
		}
		text := fmt.Sprintf("its files take %s of the %s its size allows", rules.Bytes(used>>20<<20), rules.Bytes(w.DiskBytes))
		if stands && far && w.NextBody == 0 {
			stop, w.Wanted = true, lifecycle.WantStopped
			return k.beginStop(tx, &w, "put to rest: "+text)
		}
		if stands {
			return nil
		}
		return tx.SetCondition(k.ctx, w, lifecycle.OverLimit, text+"; make room, or it is put to rest when it grows further")
	})
	if err == nil && stop {
		k.Interrupt(id)
	}
	return err
}

// Given lists the secrets that a workspace's processes get, sealed.
func (k *Keeper) Given(ctx context.Context, w store.Workspace) ([]store.Secret, error) {
	if w.Kind == store.ForPrebuild || w.Plan.Adopted != nil {
		return nil, nil // an image must not hold anybody's secret, nor a stranger's container
	}
	q := k.Store.Read()
	r, err := q.RepositoryByID(ctx, w.RepositoryID)
	if err != nil {
		return nil, err
	}
	mine, err := q.Secrets(ctx, secret.OfPerson, w.OwnerID)
	if err != nil {
		return nil, err
	}
	theirs, err := q.Secrets(ctx, secret.OfRepository, w.RepositoryID)
	if err != nil {
		return nil, err
	}
	all := append(mine, theirs...)
	plain := make([]secret.Secret, len(all))
	for i, s := range all {
		plain[i] = s.Secret
	}
	var out []store.Secret
	for _, c := range secret.Choose(r.Name, plain) {
		for _, s := range all {
			if c.Given && s.Level == c.Level && s.Name == c.Name {
				out = append(out, s)
			}
		}
	}
	return out, nil
}
