package service

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/policy"
	"yardbench/internal/live"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Feed hands the journal on to those who watch.
type Feed struct {
	bus     *live.Bus
	store   *store.Store
	journal *Journal
	views   *views
	feed
}

// feed reads the journal once for everybody who watches, and hands each entry
// to those whose matter it is. It is at work while there is somebody.
type feed struct {
	mu   sync.Mutex
	subs map[*Watch]bool
	// wide are those of them who may see more than their own, and own the others
	// by who they are: what is nobody's but one person's concerns few.
	wide map[*Watch]bool
	own  map[string]map[*Watch]bool
	head int64 // the newest entry that was handed out
	end  context.CancelFunc
}

// Watch is one person's view of what happens, from now on.
type Watch struct {
	// C gives news in their order. It is closed where the watcher is too slow:
	// they begin again from what they have.
	C     chan News
	Head  int64 // the newest entry that does not come any more
	actor Actor
	scope store.Scope
	feed  *feed
}

// News is one of these: an entry of the journal; how a workspace stands in a list
// after entries of it; that it stands in none any more; that something of it
// changed without an entry.
type News struct {
	Entry  *wire.JournalEntry
	Row    *wire.WorkspaceRow
	Gone   string // the workspace's id
	Change string // the workspace's id
}

const (
	// newsKept is how much news waits for a watcher before they are too slow.
	newsKept = 512
	// newsPause gathers what comes in a burst, a build's log say.
	newsPause = 50 * time.Millisecond
)

// Watch begins to watch for an actor. Close ends it.
func (s *Feed) Watch(ctx context.Context, a Actor) (*Watch, error) {
	scope, ok := a.scope(policy.SeeJournal)
	if !ok { // they are told of workspaces alone, whose journal they may not read
		scope = store.Scope{OwnerID: a.ID}
	}
	f := &s.feed
	w := &Watch{C: make(chan News, newsKept), actor: a, scope: scope, feed: f}
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.subs) == 0 {
		head, err := s.store.Read().JournalHead(ctx)
		if err != nil {
			return nil, err
		}
		run, end := context.WithCancel(context.WithoutCancel(ctx)) // ends with the last watcher
		f.head, f.end, f.subs, f.wide, f.own = head, end, map[*Watch]bool{}, map[*Watch]bool{}, map[string]map[*Watch]bool{}
		bus := s.bus.Watch()
		go func() {
			defer bus.Close()
			s.feeds(run, bus.C, bus.Take)
		}()
	}
	w.Head = f.head
	f.add(w)
	return w, nil
}

// Close ends the watching.
func (w *Watch) Close() {
	w.feed.mu.Lock()
	defer w.feed.mu.Unlock()
	w.feed.drop(w)
}

func (f *feed) add(w *Watch) {
	f.subs[w] = true
	id := w.actor.ID
	switch {
	case w.scope.OwnerID == "" || w.actor.Widest(policy.SeeWorkspace) > policy.Own:
		f.wide[w] = true
	case f.own[id] == nil:
		f.own[id] = map[*Watch]bool{w: true}
	default:
		f.own[id][w] = true
	}
}

// concerned calls do with those whom something of some people may concern, each
// once.
func (f *feed) concerned(do func(*Watch), people ...string) {
	for w := range f.wide {
		do(w)
	}
	slices.Sort(people)
	for _, id := range slices.Compact(people) {
		for w := range f.own[id] {
			do(w)
		}
	}
}

func (f *feed) drop(w *Watch) {
	if f.subs[w] {
		delete(f.subs, w)
		delete(f.wide, w)
		if own := f.own[w.actor.ID]; own != nil {
			if delete(own, w); len(own) == 0 {
				delete(f.own, w.actor.ID)
			}
		}
		close(w.C)
	}
	if len(f.subs) == 0 && f.end != nil {
		f.end()
		f.end = nil
	}
}

// feeds hands out what happens until ctx ends.
func (s *Feed) feeds(ctx context.Context, news <-chan struct{}, take func() map[string]bool) {
	people := map[string]store.Person{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-news:
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(newsPause):
		}
		topics := take()
		if err := s.feedEntries(ctx, people); err != nil {
			if ctx.Err() == nil {
				slog.Error("tell of what happened", "error", err)
				s.bus.Publish("") // once more
			}
			continue
		}
		for topic := range topics {
			if topic != "" {
				s.feedChange(ctx, topic, people)
			}
		}
	}
}

// feedEntries hands out the entries that are new.
func (s *Feed) feedEntries(ctx context.Context, people map[string]store.Person) error {
	f := &s.feed
	changed := map[string]string{} // workspaces and their owners
	defer func() { s.feedRows(ctx, people, changed) }()
	for {
		f.mu.Lock()
		after := f.head
		f.mu.Unlock()
		rows, err := s.store.Read().Journal(ctx, store.JournalFilter{After: after, Limit: 500})
		if err != nil {
			return err
		}
		views, err := s.journal.entryViews(ctx, rows)
		if err != nil {
			return err
		}
		for i, e := range rows {
			if e.Kind == "person.changed" {
				clear(people) // somebody may be of another team
			}
			if OfWorkspace(e.Kind) && e.OwnerID != "" {
				changed[e.Subject] = e.OwnerID
			}
			owner := s.ownerIn(ctx, people, e.OwnerID)
			f.mu.Lock()
			f.head = e.Number
			f.concerned(func(w *Watch) {
				if w.sees(e.OwnerID, owner.TeamID, e.Actor) {
					f.give(w, News{Entry: &views[i]})
				}
			}, e.OwnerID, e.Subject, e.Actor)
			f.mu.Unlock()
		}
		if len(rows) < 500 {
			return nil
		}
	}
}

// OfWorkspace tells of a kind of entry that it is about a workspace: how that
// stands in a list may be another after it.
func OfWorkspace(kind string) bool { return strings.HasPrefix(kind, "workspace.") }

// feedRows tells those who may see them how workspaces stand in a list now: after
// a burst of entries once.
func (s *Feed) feedRows(ctx context.Context, people map[string]store.Person, changed map[string]string) {
	f := &s.feed
	f.mu.Lock()
	for id, owner := range changed {
		if len(f.wide) == 0 && len(f.own[owner]) == 0 {
			delete(changed, id) // nobody watches whose matter it is
		}
	}
	f.mu.Unlock()
	if len(changed) == 0 {
		return
	}
	rows, err := s.views.rowsOf(ctx, changed)
	if err != nil {
		return // who looks at a list reads it again now and then
	}
	now := s.views.now().UTC()
	for id, owner := range changed {
		news := News{Gone: id}
		row, there := rows[id]
		if there {
			v := row.listed(now)
			news = News{Row: &v}
		}
		of := s.ownerIn(ctx, people, owner)
		f.mu.Lock()
		f.concerned(func(sub *Watch) {
			if sub.actor.mayOf(policy.SeeWorkspace, of) && (!there || sub.actor.holds(row.w.RepositoryID)) {
				f.give(sub, news)
			}
		}, owner)
		f.mu.Unlock()
	}
}

// Rows are how workspaces, which entries told of, stand in a list now for an actor:
// what they may see. Whose id is not among the rows stands in none.
func (s *Feed) Rows(ctx context.Context, a Actor, ids []string) (map[string]wire.WorkspaceRow, error) {
	wanted := map[string]string{}
	for _, id := range ids {
		wanted[id] = ""
	}
	rows, err := s.views.rowsOf(ctx, wanted)
	now, out := s.views.now().UTC(), map[string]wire.WorkspaceRow{}
	for id, r := range rows {
		owner, err := s.store.Read().PersonByID(ctx, r.w.OwnerID)
		if err == nil && a.holds(r.w.RepositoryID) && a.mayOf(policy.SeeWorkspace, owner) {
			out[id] = r.listed(now)
		}
	}
	return out, err
}

// feedChange tells those who may see a workspace that it changed.
func (s *Feed) feedChange(ctx context.Context, workspace string, people map[string]store.Person) {
	w, err := s.store.Read().WorkspaceByID(ctx, workspace)
	if err != nil {
		return
	}
	owner := s.ownerIn(ctx, people, w.OwnerID)
	f := &s.feed
	f.mu.Lock()
	defer f.mu.Unlock()
	if w.Kind == store.ForPrebuild {
		for sub := range f.subs {
			if sub.actor.holds(w.RepositoryID) && sub.actor.may(policy.SeePrebuilds) {
				f.give(sub, News{Change: workspace})
			}
		}
		return
	}
	f.concerned(func(sub *Watch) {
		if sub.actor.holds(w.RepositoryID) && sub.actor.mayOf(policy.SeeWorkspace, owner) {
			f.give(sub, News{Change: workspace})
		}
	}, w.OwnerID)
}

func (s *Feed) ownerIn(ctx context.Context, people map[string]store.Person, id string) store.Person {
	p, known := people[id]
	if !known && id != "" {
		if len(people) > 10_000 {
			clear(people)
		}
		p, _ = s.store.Read().PersonByID(ctx, id) // of one who is not there nothing is shown
		people[id] = p
	}
	return p
}

// give hands news to a watcher, or drops them where they are too slow.
func (f *feed) give(w *Watch, n News) {
	select {
	case w.C <- n:
	default:
		f.drop(w)
	}
}

// sees tells whether a matter is within what the watcher may read.
func (w *Watch) sees(owner, team, actor string) bool {
	return w.actor.Grant.Reaches(policy.SeeJournal) && (w.scope.Holds(owner, team) || actor == w.actor.ID)
}
