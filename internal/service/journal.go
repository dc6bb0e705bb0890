package service

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Journal reads, signs, verifies and exports the journal.
type Journal struct {
	journalKey   ed25519.PrivateKey
	installation string
	store        *store.Store
	now          func() time.Time
	views        *views
	repositories *Repositories
}

// signedHead is the journal's entry with a number, signed as a head.
func (s *Journal) signedHead(ctx context.Context, q store.Q, number int64) (journal.Head, error) {
	hash, ok, err := q.HashAt(ctx, number)
	if err != nil || !ok {
		return journal.Head{}, err // an empty journal has no head
	}
	h := journal.Head{Installation: s.installation, Number: number, Hash: hex.EncodeToString(hash), At: s.now().UTC()}
	return h.Sign(s.journalKey), nil
}

// JournalHead gives the newest entry, signed, and the key to hold it against.
func (s *Journal) JournalHead(ctx context.Context, a Actor) (wire.JournalHead, error) {
	if !a.may(policy.SeeWholeJournal) {
		return wire.JournalHead{}, denied(a, "see the whole journal")
	}
	n, err := s.store.Read().JournalHead(ctx)
	if err != nil {
		return wire.JournalHead{}, err
	}
	h, err := s.signedHead(ctx, s.store.Read(), n)
	if err != nil {
		return wire.JournalHead{}, err
	}
	key, err := journal.PublicPEM(s.journalKey.Public().(ed25519.PublicKey))
	return wire.JournalHead{Head: wire.SignedHead(h), Line: h.String(), Key: key}, err
}

// VerifyJournal walks the whole journal, and holds it against heads that were
// given out before, each as one line or as JSON.
func (s *Journal) VerifyJournal(ctx context.Context, a Actor, in wire.JournalHeads) (wire.JournalVerdict, error) {
	if !a.may(policy.SeeWholeJournal) {
		return wire.JournalVerdict{}, denied(a, "see the whole journal")
	}
	q := s.store.Read()
	n, err := q.JournalHead(ctx)
	if err != nil {
		return wire.JournalVerdict{}, err
	}
	v := wire.JournalVerdict{Entries: n, Problems: []string{}}
	if err := q.VerifyJournal(ctx); err != nil {
		v.Problems = append(v.Problems, err.Error())
	}
	keys := []ed25519.PublicKey{s.journalKey.Public().(ed25519.PublicKey)}
	for n, text := range in.Keys {
		key, err := journal.ParsePublicPEM([]byte(text))
		if err != nil {
			return v, at(invalid("this is no key of a journal", "give it in PEM, as it stood beside its heads"), fmt.Sprintf("/keys/%d", n), err.Error())
		}
		keys = append(keys, key)
	}
	for _, text := range in.Heads {
		h, err := journal.ParseHead(text)
		if err != nil {
			return v, invalid("this is no head of a journal: "+err.Error(), "give them as they were given out, one a line")
		}
		v.Heads++
		hash, ok, err := q.HashAt(ctx, h.Number)
		if err != nil {
			return v, err
		}
		switch {
		case h.Installation != s.installation:
			v.Problems = append(v.Problems, fmt.Sprintf("the head of entry %d is of another service, %s", h.Number, h.Installation))
		case !h.Genuine(keys...):
			v.Problems = append(v.Problems, h.Stranger(keys...))
		case !ok:
			v.Problems = append(v.Problems, fmt.Sprintf("entry %d, whose head was given out at %s, is not in the journal: it was cut", h.Number, h.At.Format("2006-01-02 15:04:05 MST")))
		case hex.EncodeToString(hash) != h.Hash:
			v.Problems = append(v.Problems, fmt.Sprintf("entry %d is another one than when its head was given out at %s: the journal was rewritten", h.Number, h.At.Format("2006-01-02 15:04:05 MST")))
		}
	}
	v.Sound = len(v.Problems) == 0
	return v, nil
}

// event is a journal entry as it leaves the service.
func (s *Journal) event(e store.Entry) (journal.Event, error) {
	return journal.NewEvent(s.installation, strconv.FormatInt(e.Number, 10), e.Kind, e.Subject, e.At, map[string]any{"actor": e.Actor, "owner": e.OwnerID, "details": e.Data})
}

// ExportJournal writes the wanted entries as CloudEvents, one a line, the oldest first, then
// a seal that vouches for these lines, and last the signed head of the journal.
func (s *Journal) ExportJournal(ctx context.Context, a Actor, in JournalQuery, w io.Writer, flush func()) error {
	if !a.may(policy.SeeWholeJournal) {
		return denied(a, "see the whole journal")
	}
	f, err := s.filter(ctx, a, in)
	if err != nil {
		return err
	}
	after := in.After
	// What is written meanwhile is neither exported nor vouched for: who goes on
	// from the head's number has all.
	head, err := s.store.Read().JournalHead(ctx)
	if err != nil || after > head {
		if err == nil {
			err = invalid(fmt.Sprintf("entry %d is not in this journal: its newest is %d", after, head), "this may be the cursor of another journal; begin with 0")
		}
		return err
	}
	out := journal.NewExport(w)
	for {
		f.After, f.Limit = after, 500
		rows, err := s.store.Read().Journal(ctx, f)
		if err != nil {
			return err
		}
		over := len(rows) < 500
		for _, e := range rows {
			if over = over || e.Number > head; e.Number > head {
				break
			}
			event, err := s.event(e)
			if err != nil {
				return err
			}
			hash, _, err := s.store.Read().HashAt(ctx, e.Number)
			if event.EntryHash = hex.EncodeToString(hash); err == nil {
				err = out.Line(event)
			}
			if err != nil {
				return err
			}
			after = e.Number
		}
		flush()
		if over {
			break
		}
	}
	seal, err := out.Sealed(s.installation, s.now(), s.journalKey)
	if err != nil {
		return err
	}
	vouched, err := journal.NewEvent(s.installation, "export-"+strconv.FormatInt(head, 10), "journal.export", "", seal.At, seal)
	if err != nil {
		return err
	}
	if err := out.Line(vouched); err != nil {
		return err
	}
	h, err := s.signedHead(ctx, s.store.Read(), head)
	if err != nil {
		return err
	}
	last, err := journal.NewEvent(s.installation, "head-"+strconv.FormatInt(head, 10), "journal.head", "", h.At, h)
	if err != nil {
		return err
	}
	return out.Line(last)
}

// Newest is the number of the newest entry; 0 where there is none.
func (s *Journal) Newest(ctx context.Context) (int64, error) { return s.store.Read().JournalHead(ctx) }

// Journal lists journal entries that the actor may see.
func (s *Journal) Journal(ctx context.Context, a Actor, in JournalQuery) ([]wire.JournalEntry, error) {
	f, err := s.filter(ctx, a, in)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Read().Journal(ctx, f)
	if err != nil {
		return nil, err
	}
	return s.entryViews(ctx, rows)
}

// filter is what is wanted, as the records are asked for it.
func (s *Journal) filter(ctx context.Context, a Actor, in JournalQuery) (store.JournalFilter, error) {
	scope, ok := a.scope(policy.SeeJournal)
	if !ok {
		return store.JournalFilter{}, denied(a, "read the journal")
	}
	f := store.JournalFilter{After: in.After, Before: in.Before, Newest: in.Newest, Of: scope, By: a.ID, Kind: in.Kind, From: in.From, To: in.To, Limit: in.Limit}
	if !in.To.IsZero() && !in.From.Before(in.To) {
		return f, invalid("the journal is asked for from a time to one that is not later", "end it after it begins")
	}
	if in.Workspace != "" {
		w, err := s.views.findEver(ctx, a, in.Workspace)
		if err != nil {
			return f, err
		}
		f.Subject = w.ID
	}
	if in.Repository != "" {
		if in.Workspace != "" {
			return f, invalid("the journal of a workspace and of a repository are two", "ask for the one or the other")
		}
		r, err := s.repositories.repository(ctx, a, in.Repository)
		if err != nil {
			return f, err
		}
		f.Subject = r.ID
	}
	if in.Person != "" {
		p, err := s.store.Read().PersonByName(ctx, in.Person)
		if err != nil || !a.mayOf(policy.SeeJournal, p) {
			return f, notFound("person", in.Person, "see who is here", fault.Do("list-people", ""))
		}
		f.Person = p.ID
	}
	return f, nil
}

// entryViews are journal entries with the names of whom and what they speak.
func (s *Journal) entryViews(ctx context.Context, rows []store.Entry) ([]wire.JournalEntry, error) {
	names := map[string]string{}
	name := func(id string, of func(context.Context, string) string) string {
		if _, known := names[id]; !known {
			names[id] = of(ctx, id)
		}
		return names[id]
	}
	person := func(ctx context.Context, id string) string { return nameOf(ctx, s.store.Read(), id) }
	out := []wire.JournalEntry{}
	for _, e := range rows {
		v, err := entryView(e)
		if err != nil {
			return nil, err
		}
		if v.ActorName = "service"; e.Actor != "service" && e.Actor != "" {
			v.ActorName = name(e.Actor, person)
		}
		if e.OwnerID != "" {
			v.OwnerName = name(e.OwnerID, person)
		}
		switch {
		case OfWorkspace(e.Kind):
			v.SubjectName = name(e.Subject, func(ctx context.Context, id string) string {
				n, err := s.store.Read().NameOf(ctx, id)
				if err != nil {
					return ""
				}
				return n
			})
		case ofRepository(e.Kind):
			v.SubjectName = name(e.Subject, func(ctx context.Context, id string) string {
				r, err := s.store.Read().RepositoryByID(ctx, id)
				if err != nil {
					return ""
				}
				return r.Name
			})
		}
		out = append(out, v)
	}
	return out, nil
}

// ofRepository tells whether a kind of entry is of a repository: of itself, or how
// images of it are prepared.
func ofRepository(kind string) bool {
	return strings.HasPrefix(kind, "repository.") || strings.HasPrefix(kind, "prebuild.plan-")
}

func entryView(e store.Entry) (wire.JournalEntry, error) {
	v := wire.JournalEntry{Number: e.Number, At: e.At, Kind: e.Kind, Subject: e.Subject, Actor: e.Actor}
	return v, json.Unmarshal(e.Data, &v.Data)
}

// JournalQuery says which journal entries are wanted; empty fields do not count.
type JournalQuery struct {
	After      int64  // entries after this number
	Before     int64  // and before this one; 0 is no bound
	Newest     bool   // the newest instead of the oldest, newest first
	Workspace  string // NAME or NAME.OWNER; the last of that name, where none is there
	Repository string // what was changed of it itself
	Person     string // whose matter, or who did it
	Kind       string // the beginning of the kind
	From, To   time.Time
	Limit      int
}
