package reconcile

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"time"

	"yardbench/internal/core/changes"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/luggage"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/secret"
	"yardbench/internal/due"
	"yardbench/internal/house"
	"yardbench/internal/session"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/vault"
)

// Luggage takes what goes with people out of their workspaces, and lays it into others.
type Luggage struct {
	hub      Stewards
	house    *house.Book
	sessions *session.Sessions
	store    *store.Store
	vault    *vault.Vault
	due      *due.Queue
	now      func() time.Time
}

const (
	luggageEvery = 2 * time.Minute  // what is lost at most where a container ends at once
	luggageMost  = 20 * time.Second // how long a workspace has for it
	aboutFiles   = 2 << 20          // bytes of what is said about files, beside what they hold
	maxLeft      = 50               // of what was left out, as far as it is told
)

// LuggagePlace is what the content of a file that goes with somebody is bound to.
func LuggagePlace(person, path string) []string { return []string{"luggage", person, path} }

// travels tells whether anything of its owner's goes along to a workspace, and from it:
// to a person's own, and none that runs what a stranger proposes.
func travels(w store.Workspace) bool {
	return w.Kind == store.ForPerson && w.Plan.Adopted == nil && changes.Request(w.Branch) == 0
}

// of tells what goes with a workspace's owner, and how much it may be; nothing where it
// is not to.
func (l *Luggage) of(ctx context.Context, q store.Q, w store.Workspace) (paths []string, most int64, err error) {
	if !travels(w) {
		return nil, 0, nil
	}
	if paths, err = q.LuggagePaths(ctx, w.OwnerID); err != nil || len(paths) == 0 {
		return nil, 0, err
	}
	rules, _, err := l.house.Rules(ctx, q)
	if err != nil || rules.Workspaces.LuggageMost == 0 {
		return nil, 0, err
	}
	return paths, rules.Workspaces.LuggageMost, nil
}

// pass takes what has changed out of all workspaces that are in use, and comes again.
func (l *Luggage) pass(ctx context.Context) error {
	all, err := l.store.Read().WithLuggage(ctx)
	if err != nil {
		return err
	}
	for _, w := range all {
		if sheet, err := l.store.Read().CurrentSheet(ctx, w.ID); err != nil || sheet.EndedAt == nil {
			continue // what comes along with its owner is not there yet
		}
		l.take(ctx, w)
	}
	if ctx.Err() == nil {
		l.due.Set("luggage", l.now().Add(luggageEvery), l.pass)
	}
	return ctx.Err()
}

// take takes what has changed out of a workspace that is up. What fails is written to the
// service's log and holds nothing up: it is taken the next time.
func (l *Luggage) take(ctx context.Context, w store.Workspace) {
	w.NextPlan = nil
	if !l.hub.Connected(outside.Link(w.ID, w.Body)) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, luggageMost)
	defer cancel()
	if err := l.takeOut(ctx, w); err != nil {
		slog.Warn("what goes with its owner could not be taken out of a workspace", "workspace", w.ID, "error", err)
	}
}

func (l *Luggage) takeOut(ctx context.Context, w store.Workspace) error {
	paths, most, err := l.of(ctx, l.store.Read(), w)
	if err != nil || len(paths) == 0 {
		return err
	}
	kept, err := l.store.Read().Luggage(ctx, w.OwnerID, false)
	if err != nil {
		return err
	}
	ask := steward.LuggageAsk{Paths: paths, Known: []steward.LuggageFile{}, MostFile: luggage.MostFileBytes, Most: most, Files: luggage.MostFiles}
	for _, k := range kept {
		if k.Kept() && k.LeftOut == "" {
			ask.Known = append(ask.Known, steward.LuggageFile{Path: k.Path, Bytes: k.Bytes, ChangedUS: k.ChangedAt.UnixMicro()})
		}
	}
	in, err := json.Marshal(ask)
	if err != nil {
		return err
	}
	out, told, _, err := l.run(ctx, w, w.Body, steward.LuggageOut, nil, in, most)
	if err != nil {
		return err
	}
	values, err := l.othersValues(ctx, w)
	if err != nil {
		return err
	}
	found, left, err := l.read(w, out, told, secret.NewFinder(values))
	if err != nil || len(found) == 0 && len(left) == 0 && !slices.ContainsFunc(kept, func(k store.Luggage) bool { return k.LeftOut != "" && k.From == w.Name }) {
		return err
	}
	return l.store.Write(ctx, func(tx *store.Tx) error { return l.keep(ctx, tx, w, found, left) })
}

// othersValues are the values of secrets that a workspace is given and that are not its
// owner's own, by name: what of them is written to a file must not go along to where
// they are not given.
func (l *Luggage) othersValues(ctx context.Context, w store.Workspace) (map[string]string, error) {
	given, err := l.sessions.Given(ctx, w)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, g := range given {
		if g.Level == secret.OfPerson {
			continue
		}
		if out[g.Name], err = l.vault.Open(g.Sealed, session.SecretPlace(g.Level, g.SubjectID, g.Name, g.Version)...); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// run has a workspace's helper do an errand as its user; most bounds what comes of it.
func (l *Luggage) run(ctx context.Context, w store.Workspace, body int, errand string, args []string, in []byte, most int64) (out, told []byte, code int, err error) {
	p := l.sessions.Bare(w)
	p.Errand, p.Argv, p.Quiet, p.Probe = errand, args, true, ""
	c, err := l.hub.Ask(ctx, outside.Link(w.ID, body), steward.Request{Kind: steward.Run, Process: p})
	if err != nil {
		return nil, nil, 0, err
	}
	defer c.Stream.Close()
	defer context.AfterFunc(ctx, func() { c.Stream.Close() })()
	sent := make(chan struct{})
	go func() { // what it says already is read meanwhile; an end that cannot be sent to shows there
		defer close(sent)
		for part := range slices.Chunk(in, 128<<10) {
			if c.SendFrame(steward.Input, part) != nil {
				return
			}
		}
		_ = c.SendFrame(steward.NoMore, nil)
	}()
	defer func() { c.Stream.Close(); <-sent }()
	for {
		kind, p, err := c.ReceiveFrame()
		if err != nil {
			return nil, nil, 0, errors.Join(ctx.Err(), outside.ErrAway, err)
		}
		switch kind {
		case steward.Output:
			out = append(out, p...)
		case steward.Errors:
			told = append(told, p...)
		case steward.Ended:
			x, err := outside.ExitOf(p)
			if err == nil && x.Problem != "" {
				err = errors.New(plain.Line(x.Problem, 300))
			}
			return out, told, x.Code, err
		}
		if int64(len(out)+len(told)) > most+aboutFiles {
			return nil, nil, 0, errors.New("it sends more than it was asked for")
		}
	}
}

// carried is a file with what it holds.
type carried struct {
	luggage.File
	sealed []byte
}

// read reads what a workspace sent, which may be anything: a file is taken as its path
// and bytes, and nothing is taken that holds the value of a secret of others.
func (l *Luggage) read(w store.Workspace, out, told []byte, finder secret.Finder) (found []carried, left map[string]string, err error) {
	left = map[string]string{}
	for line := range bytes.Lines(told) {
		var s steward.LuggageLeft
		if json.Unmarshal(line, &s) != nil || len(left) >= maxLeft {
			continue
		}
		if p, err := luggage.Check(s.Path); err == nil {
			left[p] = plain.Line(s.Why, 200)
		}
	}
	look := finder.Look()
	for from := tar.NewReader(bytes.NewReader(out)); len(found) < luggage.MostFiles; {
		h, err := from.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, nil, fmt.Errorf("what came is no archive: %w", err)
		}
		if p, err := luggage.Check(h.Name); err != nil || p != h.Name || h.Typeflag != tar.TypeReg || h.Size > luggage.MostFileBytes {
			continue
		}
		content, err := io.ReadAll(io.LimitReader(from, luggage.MostFileBytes))
		if err != nil {
			return nil, nil, fmt.Errorf("what came is no archive: %w", err)
		}
		if !finder.Empty() {
			if name, err := look(bytes.NewReader(content)); err != nil || name != "" {
				left[h.Name] = "it holds the value of the secret " + name + ", which is not yours alone"
				continue
			}
		}
		f := carried{File: luggage.File{Path: h.Name, Mode: uint32(h.Mode) & 0o777, Bytes: int64(len(content)), ChangedAt: h.ModTime.UTC()}}
		if now := l.now().UTC(); f.ChangedAt.After(now) {
			f.ChangedAt = now // a clock that is ahead keeps nothing newer out
		}
		if f.sealed, err = l.vault.Seal(string(content), LuggagePlace(w.OwnerID, h.Name)...); err != nil {
			return nil, nil, err
		}
		found = append(found, f)
	}
	return found, left, nil
}

// keep writes down what came of a workspace, as far as it is newer than what came of
// others meanwhile, and has room.
func (l *Luggage) keep(ctx context.Context, tx *store.Tx, w store.Workspace, found []carried, left map[string]string) error {
	paths, most, err := l.of(ctx, tx.Q, w)
	if err != nil {
		return err
	}
	all, err := tx.Luggage(ctx, w.OwnerID, false)
	if err != nil {
		return err
	}
	var kept []luggage.File
	for _, k := range all {
		if k.Kept() {
			kept = append(kept, k.File)
		}
	}
	for _, f := range found {
		ok, why := luggage.Take(kept, paths, f.File, most)
		if why != "" {
			left[f.Path] = why
		}
		if !ok {
			continue
		}
		if err := tx.PutLuggage(ctx, w.OwnerID, store.Luggage{File: f.File, Sealed: f.sealed, From: w.Name}); err != nil {
			return err
		}
		kept = append(slices.DeleteFunc(kept, func(k luggage.File) bool { return k.Path == f.Path }), f.File)
	}
	for path, why := range left {
		if !luggage.Holds(paths, path) {
			continue
		}
		if err := tx.LeaveOut(ctx, w.OwnerID, path, why, w.Name); err != nil {
			return err
		}
	}
	for _, k := range all { // what this workspace had that could not go along, and has no more
		if _, still := left[k.Path]; k.LeftOut != "" && k.From == w.Name && !still && !k.Kept() {
			if err := tx.DropLuggage(ctx, w.OwnerID, k.Path); err != nil {
				return err
			}
		}
	}
	return nil
}

// luggageStep lays what goes with its owner into a body. It fails without harm.
type luggageStep struct{ setUpStep }

func (d luggageStep) do(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 2*luggageMost)
	defer cancel()
	paths, _, err := d.luggage.of(ctx, d.store.Read(), d.w)
	if err != nil || len(paths) == 0 { // it was taken back meanwhile
		return err
	}
	all, err := d.store.Read().Luggage(ctx, d.w.OwnerID, true)
	if err != nil {
		return err
	}
	var in bytes.Buffer
	to := tar.NewWriter(&in)
	for _, k := range all {
		if !k.Kept() || !luggage.Holds(paths, k.Path) {
			continue
		}
		content, err := d.luggage.vault.Open(k.Sealed, LuggagePlace(d.w.OwnerID, k.Path)...)
		if err != nil {
			return fmt.Errorf("%w: ~/%s does not open: %s", errSetUp, k.Path, plain.Line(err.Error(), 300))
		}
		err = to.WriteHeader(&tar.Header{Name: k.Path, Mode: int64(k.Mode), Size: int64(len(content)), ModTime: k.ChangedAt, Format: tar.FormatPAX})
		if err == nil {
			_, err = io.WriteString(to, content)
		}
		if err != nil {
			return err
		}
	}
	if err := to.Close(); err != nil {
		return err
	}
	ended, _, err := d.store.Read().EndedSetUp(ctx, d.w.ID, d.body)
	if err != nil {
		return err
	}
	var args []string
	if !ended[d.mv.Moment] { // what the image has there is nobody's
		args = []string{"fresh"}
	}
	out, told, code, err := d.luggage.run(ctx, d.w, d.body, steward.LuggageIn, args, in.Bytes(), 0)
	fmt.Fprintf(d.log, "%s%s", out, told)
	switch {
	case errors.Is(ctx.Err(), context.Canceled): // something else was asked for
		return ctx.Err()
	case errors.Is(err, outside.ErrAway) && ctx.Err() == nil && d.step.Attempt < maxAttempts:
		return d.lost(ctx, err)
	case err != nil:
		return fmt.Errorf("%w: what goes with you did not come: %s", errSetUp, plain.Line(err.Error(), 300))
	case code != 0:
		return fmt.Errorf("%w: not all that goes with you came; the log has what", errSetUp)
	}
	return nil
}

// goAlong takes what goes with its owner out of a workspace that was up until now.
func (d *doing) goAlong(ctx context.Context) {
	if d.step.Number == 1 && (d.w.Phase == lifecycle.Stopping || d.w.Phase == lifecycle.Removing) || d.mv.Action == lifecycle.SwapBodies {
		d.luggage.take(ctx, d.w)
	}
}
