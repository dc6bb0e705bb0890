package service

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"yardbench/internal/core/attention"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/trouble"
	"yardbench/internal/fault"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Attention is what needs somebody, grouped by cause; see [attention.Groups].
type Attention struct {
	store     *store.Store
	views     *views
	health    *Health
	journal   *Journal
	prebuilds *Prebuilds
	webhooks  *Webhooks
	now       func() time.Time
}

const (
	// quietMost is the longest that a cause may be quiet.
	quietMost = 30 * 24 * time.Hour
	// awayAtLeast is how long a steward is away before that needs somebody.
	awayAtLeast = time.Minute
	// justBefore is how long before the first of a cause what was changed may have to
	// do with it.
	justBefore = time.Hour
	// Of so many workspaces, and so much of each log, the lines in common are told.
	commonOf    = 8
	commonLines = 200
	commonBytes = 64 << 10
	maxBefore   = 8
)

// needy are the conditions that need somebody, and what an operator may have done about
// each; waits tells that its owner waits for it.
var needy = map[lifecycle.ConditionKind]struct {
	waits bool
	verbs []string
}{
	lifecycle.SetUpFailed:  {true, []string{"rebuild", "tell"}},
	lifecycle.OutOfMemory:  {true, []string{"tell"}},
	lifecycle.DiskFull:     {true, []string{"tell"}},
	lifecycle.StewardAway:  {true, []string{"stop", "tell"}},
	lifecycle.OverLimit:    {false, []string{"tell"}},
	lifecycle.UnpushedWork: {false, []string{"tell"}},
}

// toldBelow are the troubles whose single cases are told.
var toldBelow = []string{trouble.StewardsAway, trouble.WebhooksFailing, trouble.PrebuildsFail}

// failedStep is where a launch sheet ended badly.
type failedStep struct {
	sheet, number int
	title         string
}

// failedAt is the step at which a workspace failed.
func (s *views) failedAt(ctx context.Context, r *row) failedStep {
	r.failing.Do(func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second) // it is read once, for all
		defer cancel()
		sheet, err := s.store.Read().CurrentSheet(ctx, r.w.ID)
		if err != nil {
			return // there is none
		}
		steps, err := s.store.Read().Steps(ctx, sheet.ID)
		if err != nil {
			return
		}
		for _, st := range slices.Backward(steps) {
			if st.Outcome == lifecycle.FailedStep && st.Parent == 0 {
				r.step = failedStep{sheet.Number, st.Number, st.Title}
				return
			}
		}
	})
	return r.step
}

// cases are what a workspace needs somebody for.
func (s *views) cases(ctx context.Context, r *row, now time.Time) (out []attention.Case) {
	c := attention.Case{Of: "workspace", ID: r.w.ID, Name: r.base.Name + "." + r.base.Owner, Names: []string{r.base.Name + "." + r.base.Owner, r.base.Name, r.base.Owner, r.w.ID}}
	if r.w.Phase == lifecycle.Failed {
		f := c
		f.Owner, f.Kind, f.In, f.Cause, f.Since = r.base.Owner, attention.Failed, s.failedAt(ctx, r).title, r.w.Cause, r.w.PhaseAt
		out = append(out, f)
	}
	for _, x := range r.conditions {
		n, ok := needy[x.Kind]
		if !ok || x.Kind == lifecycle.StewardAway && now.Sub(x.Since) < awayAtLeast {
			continue
		}
		f := c
		if n.waits {
			f.Owner = r.base.Owner
		}
		f.Kind, f.Cause, f.Since = string(x.Kind), strings.TrimPrefix(x.Reason, string(x.Kind)+": "), x.Since
		out = append(out, f)
	}
	return out
}

// needs tells whether a workspace needs somebody for a cause.
func (s *views) needs(ctx context.Context, r *row, cause string) bool {
	return slices.ContainsFunc(s.cases(ctx, r, s.now().UTC()), func(c attention.Case) bool { return c.Key() == cause })
}

// groups are the causes of everything that the actor may see, with their workspaces.
func (s *Attention) groups(ctx context.Context, a Actor) ([]attention.Group, map[string]*row, error) {
	scope, ok := a.scope(policy.SeeWorkspace)
	if !ok {
		return nil, nil, denied(a, "see workspaces")
	}
	rows, err := s.views.rows(ctx)
	if err != nil {
		return nil, nil, err
	}
	now := s.now().UTC()
	var cases []attention.Case
	byID := map[string]*row{}
	for _, r := range rows {
		if scope.Holds(r.w.OwnerID, r.teamID) && a.holds(r.w.RepositoryID) {
			cases = append(cases, s.views.cases(ctx, r, now)...)
			byID[r.w.ID] = r
		}
	}
	if scope.Whole() && a.Grant.Whole() { // the house is theirs to look after
		of, err := s.house(ctx, a)
		if err != nil {
			return nil, nil, err
		}
		cases = append(cases, of...)
	}
	return attention.Groups(cases, now), byID, nil
}

// house is what needs somebody and is no workspace.
func (s *Attention) house(ctx context.Context, a Actor) (out []attention.Case, err error) {
	for _, t := range s.health.Health().Troubles {
		if slices.Contains(toldBelow, t.Kind) {
			continue
		}
		out = append(out, attention.Case{Of: "service", Name: t.Kind, Kind: t.Kind, Cause: t.Text, Since: t.Since})
	}
	if a.may(policy.SeeWebhooks) {
		all, err := s.webhooks.Webhooks(ctx, a)
		if err != nil {
			return nil, err
		}
		for _, w := range all {
			if w.FailingSince != nil {
				out = append(out, attention.Case{Of: "webhook", Name: w.URL, Kind: "not taken", In: w.URL, Cause: w.Problem, Since: *w.FailingSince})
			}
		}
	}
	if a.may(policy.SeePrebuilds) {
		plans, err := s.prebuilds.Plans(ctx, a, "")
		if err != nil {
			return nil, err
		}
		for _, p := range plans {
			if len(p.Runs) == 0 || p.Runs[0].Outcome != string(lifecycle.FailedStep) || p.Runs[0].EndedAt == nil {
				continue
			}
			since := *p.Runs[0].EndedAt // of those that failed one after the other, the first
			for _, r := range p.Runs {
				if r.Outcome != string(lifecycle.FailedStep) {
					break
				}
				if r.EndedAt != nil {
					since = *r.EndedAt
				}
			}
			out = append(out, attention.Case{Of: "prebuild", Name: p.Repository + "@" + p.Branch, Kind: attention.Failed, In: p.Repository, Cause: p.Runs[0].Cause, Since: since, Names: []string{p.Branch}})
		}
	}
	return out, nil
}

// Attention lists what needs somebody, of what the actor may see: what holds up most
// people for longest first, what is quiet last.
func (s *Attention) Attention(ctx context.Context, a Actor) ([]wire.Attention, error) {
	groups, _, err := s.groups(ctx, a)
	if err != nil {
		return nil, err
	}
	quiet, err := s.quiets(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.Attention{}
	for _, g := range groups {
		out = append(out, groupView(g, quiet))
	}
	slices.SortStableFunc(out, func(a, b wire.Attention) int {
		switch {
		case a.Quiet == nil && b.Quiet != nil:
			return -1
		case a.Quiet != nil && b.Quiet == nil:
			return 1
		}
		return 0
	})
	for i := range out {
		out[i].Rank = i + 1
	}
	return out, nil
}

func (s *Attention) quiets(ctx context.Context) (map[string]*wire.Quiet, error) {
	all, err := s.store.Read().Quiets(ctx, s.now())
	out := map[string]*wire.Quiet{}
	for _, q := range all {
		out[q.Cause] = &wire.Quiet{Reason: q.Reason, By: nameOf(ctx, s.store.Read(), q.PersonID), Until: q.Until}
	}
	return out, err
}

func groupView(g attention.Group, quiet map[string]*wire.Quiet) wire.Attention {
	v := wire.Attention{ID: g.Key, Of: g.Of, Kind: g.Kind, Step: g.In, Cause: g.Cause, Since: g.Since, Newest: g.Newest, Count: len(g.Cases), People: g.People, Verbs: []string{}, Quiet: quiet[g.Key]}
	switch {
	case g.Of != "workspace":
		v.Step = ""
	case g.Kind == attention.Failed:
		v.Verbs = []string{"start", "rebuild", "tell"}
	default:
		v.Verbs = append(v.Verbs, needy[lifecycle.ConditionKind(g.Kind)].verbs...)
	}
	return v
}

// Cause is one of them, with everything that has it, the lines that the logs have in
// common, and what was changed just before.
func (s *Attention) Cause(ctx context.Context, a Actor, id string) (wire.AttentionCause, error) {
	g, rows, err := s.find(ctx, a, id)
	if err != nil {
		return wire.AttentionCause{}, err
	}
	quiet, err := s.quiets(ctx)
	if err != nil {
		return wire.AttentionCause{}, err
	}
	v := wire.AttentionCause{Attention: groupView(g, quiet), Cases: []wire.AttentionCase{}, Lines: []string{}, Before: []wire.JournalEntry{}}
	for _, c := range g.Cases {
		v.Cases = append(v.Cases, wire.AttentionCase{Name: c.Name, Cause: c.Cause, Since: c.Since})
	}
	if lines := s.common(ctx, g, rows); lines != nil {
		v.Lines = lines
	}
	if a.Widest(policy.SeeJournal) == policy.Other {
		v.Before, err = s.before(ctx, g.Since)
	}
	return v, err
}

func (s *Attention) find(ctx context.Context, a Actor, id string) (attention.Group, map[string]*row, error) {
	groups, rows, err := s.groups(ctx, a)
	if err != nil {
		return attention.Group{}, nil, err
	}
	i := slices.IndexFunc(groups, func(g attention.Group) bool { return g.Key == id })
	if i < 0 {
		return attention.Group{}, nil, notFound("cause", id, "it may be mended; see what there is", fault.Do("list-attention", ""))
	}
	return groups[i], rows, nil
}

// common are the lines that the logs of the failing steps have in common.
func (s *Attention) common(ctx context.Context, g attention.Group, rows map[string]*row) []string {
	if g.Of != "workspace" || g.Kind != attention.Failed {
		return nil
	}
	var logs [][]string
	var names []string
	for _, c := range g.Cases[:min(len(g.Cases), commonOf)] {
		r := rows[c.ID]
		if r == nil {
			continue
		}
		at := s.views.failedAt(ctx, r)
		text, err := tail(s.views.keeper.Logs.LogPath(r.w.ID, at.sheet, at.number), commonBytes)
		if err != nil {
			continue // it is kept no longer
		}
		var lines []string
		for _, line := range strings.Split(string(text), "\n") {
			lines = append(lines, plain.Line(line, 300))
		}
		logs, names = append(logs, lines[max(0, len(lines)-commonLines):]), append(names, c.Names...)
	}
	return attention.Common(logs, names)
}

// tail is the end of a file, from a line's beginning on.
func tail(path string, most int64) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	from := max(0, info.Size()-most)
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(f, most))
	if from > 0 {
		_, text, _ = bytes.Cut(text, []byte("\n"))
	}
	return text, err
}

// before is what was changed just before a time: what may be the cause of a cause.
func (s *Attention) before(ctx context.Context, at time.Time) ([]wire.JournalEntry, error) {
	var rows []store.Entry
	for _, kind := range []string{"rules.", "repository.", "yard.", "prebuild.ended", "secret."} {
		some, err := s.store.Read().Journal(ctx, store.JournalFilter{Kind: kind, From: at.Add(-justBefore), To: at, Newest: true, Limit: maxBefore})
		if err != nil {
			return nil, err
		}
		rows = append(rows, slices.DeleteFunc(some, func(e store.Entry) bool { return e.OwnerID != "" })...) // the house's, not somebody's own
	}
	slices.SortFunc(rows, func(a, b store.Entry) int { return b.At.Compare(a.At) })
	return s.journal.entryViews(ctx, rows[:min(len(rows), maxBefore)])
}

// Quiet has a cause need nobody for a time, with a reason.
func (s *Attention) Quiet(ctx context.Context, a Actor, id string, in wire.NewQuiet) (wire.AttentionCause, error) {
	if !a.may(policy.QuietAttention) {
		return wire.AttentionCause{}, denied(a, "say what needs nobody")
	}
	g, _, err := s.find(ctx, a, id)
	if err != nil {
		return wire.AttentionCause{}, err
	}
	reason := strings.TrimSpace(in.Reason)
	lasts := time.Duration(in.Seconds) * time.Second
	switch {
	case reason == "" || hasControl(reason):
		return wire.AttentionCause{}, at(invalid("the reason is missing, or holds what nobody can read", ""), "/reason", "say why in one line")
	case lasts < time.Minute || lasts > quietMost:
		return wire.AttentionCause{}, at(invalid("it is not said how long it needs nobody", ""), "/seconds", "from a minute to 30 days")
	}
	q := store.Quiet{Cause: g.Key, Reason: reason, PersonID: a.ID, Until: s.now().UTC().Add(lasts)}
	what := plain.Line(strings.TrimSpace(g.Kind+": "+g.Cause), 200)
	if err := s.store.Write(ctx, func(tx *store.Tx) error { return tx.PutQuiet(ctx, q, what) }); err != nil {
		return wire.AttentionCause{}, err
	}
	return s.Cause(ctx, a, id)
}

// Again has a quiet cause need somebody again.
func (s *Attention) Again(ctx context.Context, a Actor, id string) error {
	if !a.may(policy.QuietAttention) {
		return denied(a, "say what needs somebody")
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error { return tx.EndQuiet(ctx, id, a.ID) })
	if errors.Is(err, store.ErrNotFound) {
		return notFound("quiet cause", id, "see what there is", fault.Do("list-attention", ""))
	}
	return err
}
