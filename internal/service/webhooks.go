package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/house"
	"yardbench/internal/live"
	"yardbench/internal/reconcile"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/internal/webhook"
	"yardbench/wire"
)

// Webhooks tells others of what the journal says.
type Webhooks struct {
	installation string
	bus          *live.Bus
	house        *house.Book
	keeper       *reconcile.Keeper
	store        *store.Store
	vault        *vault.Vault
	now          func() time.Time
	journal      *Journal
	nudges       sync.Map // a channel for each that is told: it was changed
}

// maxWebhooks bounds the addresses that are told.
const maxWebhooks = 20

// AddWebhook has an address told of journal entries from now on. Its key is
// shown this once.
func (s *Webhooks) AddWebhook(ctx context.Context, a Actor, in wire.NewWebhook) (wire.MadeWebhook, error) {
	if !a.may(policy.ChangeWebhooks) {
		return wire.MadeWebhook{}, denied(a, "add webhooks")
	}
	if err := s.check(ctx, in.URL, in.Kinds); err != nil {
		return wire.MadeWebhook{}, err
	}
	all, err := s.store.Read().Webhooks(ctx)
	if err != nil {
		return wire.MadeWebhook{}, err
	}
	if len(all) >= maxWebhooks {
		return wire.MadeWebhook{}, conflict("too-many", fmt.Sprintf("there are %d webhooks already", len(all)), "remove one first")
	}
	key, _ := newToken("yb_hook_")
	w := store.Webhook{ID: store.NewID(), URL: in.URL, Kinds: in.Kinds, MadeBy: a.ID}
	if w.Key, err = s.vault.Seal(key, "webhook", w.ID); err != nil {
		return wire.MadeWebhook{}, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.Journal(ctx, w.ID, "", a.ID, journal.WebhookAdded{URL: w.URL, Kinds: w.Kinds}); err != nil {
			return err
		}
		var err error
		if w.Cursor, err = tx.JournalHead(ctx); err != nil {
			return err
		}
		return tx.AddWebhook(ctx, w)
	})
	if err != nil {
		return wire.MadeWebhook{}, err
	}
	s.tell(w.ID)
	w.CreatedAt = s.now().UTC()
	return wire.MadeWebhook{Webhook: s.webhookView(ctx, w), Key: key}, nil
}

// check tells what is wrong with an address, or with the kinds that it is to be told of.
func (s *Webhooks) check(ctx context.Context, url string, kinds []string) error {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return err
	}
	if err := webhook.Check(url, house.WebhooksInside); err != nil {
		next := ""
		if errors.Is(err, webhook.ErrInside) {
			next = "put its host into the house rules, if it is meant: webhooks_inside: [HOST]"
		}
		return invalid(err.Error(), next)
	}
	for _, k := range kinds {
		if hasControl(k) || k == "" {
			return invalid(quote(k)+" is no beginning of a kind", "give what kinds begin with, like workspace.phase")
		}
	}
	return nil
}

// ChangeWebhook changes where one is told, of what, and whether at all. It is
// tried at once, however long it was not taken before.
func (s *Webhooks) ChangeWebhook(ctx context.Context, a Actor, id string, in wire.WebhookChange) (wire.Webhook, error) {
	w, err := s.findWebhook(ctx, a, policy.ChangeWebhooks, id)
	if err != nil {
		return wire.Webhook{}, err
	}
	// What stands may have been allowed by other rules than those now: what is
	// given is held against them, and with a change of kinds the address is told
	// of other things than before.
	if in.URL != nil || in.Kinds != nil {
		url, kinds := w.URL, w.Kinds
		if in.URL != nil {
			url = *in.URL
		}
		if in.Kinds != nil {
			kinds = *in.Kinds
		}
		if err := s.check(ctx, url, kinds); err != nil {
			return wire.Webhook{}, err
		}
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if w, err = tx.WebhookByID(ctx, id); err != nil {
			return err
		}
		if err := matches(ctx, "this webhook", s.webhookView(ctx, w)); err != nil {
			return err
		}
		if in.URL != nil {
			w.URL = *in.URL
		}
		if in.Kinds != nil {
			w.Kinds = *in.Kinds
		}
		if in.Paused != nil && *in.Paused != (w.PausedAt != nil) {
			w.PausedAt = nil
			if now := tx.Now(); *in.Paused {
				w.PausedAt = &now
			}
		}
		w.FailingSince, w.Problem = nil, ""
		if err := tx.ChangeWebhook(ctx, w); err != nil {
			return err
		}
		return tx.Journal(ctx, w.ID, "", a.ID, journal.WebhookChanged{URL: w.URL, Kinds: append([]string{}, w.Kinds...), Paused: w.PausedAt != nil})
	})
	if err != nil {
		return wire.Webhook{}, s.gone(err, id)
	}
	s.nudge(id)
	return s.webhookView(ctx, w), nil
}

// NewWebhookKey gives one another key, which is shown this once. Deliveries are
// marked with it from then on; who wants none refused pauses before.
func (s *Webhooks) NewWebhookKey(ctx context.Context, a Actor, id string) (wire.WebhookKey, error) {
	w, err := s.findWebhook(ctx, a, policy.ChangeWebhooks, id)
	if err != nil {
		return wire.WebhookKey{}, err
	}
	key, _ := newToken("yb_hook_")
	sealed, err := s.vault.Seal(key, "webhook", w.ID)
	if err != nil {
		return wire.WebhookKey{}, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.SetWebhookKey(ctx, w.ID, sealed); err != nil {
			return err
		}
		return tx.Journal(ctx, w.ID, "", a.ID, journal.WebhookKeyMade{URL: w.URL})
	})
	if err != nil {
		return wire.WebhookKey{}, s.gone(err, id)
	}
	s.nudge(id)
	return wire.WebhookKey{Webhook: w.ID, Key: key}, nil
}

// Replay has one told again of what it was told before, from an entry on; or
// passes over what it was not told yet.
func (s *Webhooks) Replay(ctx context.Context, a Actor, id string, in wire.Replay) (wire.Webhook, error) {
	w, err := s.findWebhook(ctx, a, policy.ChangeWebhooks, id)
	if err != nil {
		return wire.Webhook{}, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		head, err := tx.JournalHead(ctx)
		if err != nil {
			return err
		}
		if in.From > head {
			return at(invalid(fmt.Sprintf("entry %d is not in the journal: its newest is %d", in.From, head), "give one that is there"), "/from", "it is not there")
		}
		if w, err = tx.WebhookByID(ctx, id); err != nil {
			return err
		}
		was := w.Cursor
		w.Cursor = in.From - 1
		if err := tx.SetWebhookCursor(ctx, id, w.Cursor); err != nil {
			return err
		}
		return tx.Journal(ctx, id, "", a.ID, journal.WebhookReplayed{URL: w.URL, From: in.From, Was: was})
	})
	if err != nil {
		return wire.Webhook{}, s.gone(err, id)
	}
	s.nudge(id)
	return s.webhookView(ctx, w), nil
}

// gone tells of one that was removed meanwhile.
func (s *Webhooks) gone(err error, id string) error {
	if errors.Is(err, store.ErrNotFound) {
		return notFound("webhook", id, "see them", fault.Do("list-webhooks", ""))
	}
	return err
}

// nudge has the one who tells a webhook look at it anew.
func (s *Webhooks) nudge(id string) {
	if c, ok := s.nudges.Load(id); ok {
		select {
		case c.(chan struct{}) <- struct{}{}:
		default: // it looks anew already
		}
	}
}

func (s *Webhooks) webhookView(ctx context.Context, w store.Webhook) wire.Webhook {
	return wire.Webhook{ID: w.ID, URL: w.URL, Kinds: append([]string{}, w.Kinds...), MadeBy: nameOf(ctx, s.store.Read(), w.MadeBy), CreatedAt: w.CreatedAt, Cursor: w.Cursor, FailingSince: w.FailingSince, Problem: w.Problem, PausedAt: w.PausedAt}
}

// Webhooks lists them.
func (s *Webhooks) Webhooks(ctx context.Context, a Actor) ([]wire.Webhook, error) {
	if !a.may(policy.SeeWebhooks) {
		return nil, denied(a, "see webhooks")
	}
	rows, err := s.store.Read().Webhooks(ctx)
	out := []wire.Webhook{}
	for _, w := range rows {
		out = append(out, s.webhookView(ctx, w))
	}
	return out, err
}

func (s *Webhooks) findWebhook(ctx context.Context, a Actor, action policy.Action, id string) (store.Webhook, error) {
	if !a.may(action) {
		return store.Webhook{}, denied(a, "do this with webhooks")
	}
	w, err := s.store.Read().WebhookByID(ctx, id)
	return w, s.gone(err, id)
}

// DropWebhook ends the telling of one.
func (s *Webhooks) DropWebhook(ctx context.Context, a Actor, id string) error {
	w, err := s.findWebhook(ctx, a, policy.ChangeWebhooks, id)
	if err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropWebhook(ctx, id); err != nil {
			return err
		}
		return tx.Journal(ctx, id, "", a.ID, journal.WebhookRemoved{URL: w.URL})
	})
}

// Deliveries is the log of a webhook, the newest first.
func (s *Webhooks) Deliveries(ctx context.Context, a Actor, id string) ([]wire.Delivery, error) {
	if _, err := s.findWebhook(ctx, a, policy.SeeWebhooks, id); err != nil {
		return nil, err
	}
	rows, err := s.store.Read().Deliveries(ctx, id)
	out := []wire.Delivery{}
	for _, d := range rows {
		out = append(out, deliveryView(d))
	}
	return out, err
}

func deliveryView(d store.Delivery) wire.Delivery {
	return wire.Delivery{Entry: d.Entry, Attempt: d.Attempt, At: d.At, TookMS: d.Took.Milliseconds(), Status: d.Status, Problem: d.Problem}
}

// TestWebhook posts an event that is no entry, and tells how that went.
func (s *Webhooks) TestWebhook(ctx context.Context, a Actor, id string) (wire.Delivery, error) {
	w, err := s.findWebhook(ctx, a, policy.ChangeWebhooks, id)
	if err != nil {
		return wire.Delivery{}, err
	}
	event, err := journal.NewEvent(s.installation, "test-"+store.NewID(), "webhook.test", w.ID, s.now(), map[string]any{"by": a.Name})
	if err != nil {
		return wire.Delivery{}, err
	}
	d, err := s.post(ctx, w, 0, 1, event)
	return deliveryView(d), err
}

// post posts one event and writes how it went.
func (s *Webhooks) post(ctx context.Context, w store.Webhook, entry int64, attempt int, event journal.Event) (store.Delivery, error) {
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return store.Delivery{}, err
	}
	key, err := s.vault.Open(w.Key, "webhook", w.ID)
	if err != nil {
		return store.Delivery{}, err
	}
	body, err := json.Marshal(event)
	if err != nil {
		return store.Delivery{}, err
	}
	head := ""
	if entry > 0 {
		h, err := s.journal.signedHead(ctx, s.store.Read(), entry)
		if err != nil {
			return store.Delivery{}, err
		}
		head = h.String()
	}
	began := time.Now()
	d := store.Delivery{Entry: entry, After: w.Cursor, Attempt: attempt, At: s.now().UTC()}
	d.Status, err = webhook.Post(ctx, w.URL, house.WebhooksInside, key, head, s.now(), body)
	if d.Took = time.Since(began); err != nil {
		d.Problem = err.Error()
	}
	return d, s.store.Write(ctx, func(tx *store.Tx) error { return tx.Delivered(ctx, w.ID, d) })
}

// StartWebhooks begins to tell the webhooks, each by itself and from where it
// was left.
func (s *Webhooks) StartWebhooks(ctx context.Context) error {
	all, err := s.store.Read().Webhooks(ctx)
	for _, w := range all {
		s.tell(w.ID)
	}
	return err
}

// tell delivers to one webhook, entry after entry in their order, as long as
// it is there. One that cannot be delivered is tried again with growing waits,
// and none is passed over: so nothing is lost or reordered.
func (s *Webhooks) tell(id string) {
	s.keeper.Go(func(ctx context.Context) {
		watch := s.bus.Watch()
		defer watch.Close()
		nudged := make(chan struct{}, 1)
		s.nudges.Store(id, nudged)
		defer s.nudges.Delete(id)
		for attempt := 1; ctx.Err() == nil; {
			w, err := s.store.Read().WebhookByID(ctx, id)
			if errors.Is(err, store.ErrNotFound) {
				return
			}
			wait := time.Duration(0)
			if err == nil {
				wait, attempt, err = s.tellNext(ctx, w, attempt)
			}
			if err != nil && ctx.Err() == nil {
				slog.Error("tell a webhook", "webhook", id, "error", err)
				wait = 10 * time.Second
			}
			if wait == 0 {
				continue
			}
			var changed <-chan struct{}
			if attempt == 1 { // a delivery that failed waits its time, whatever happens
				changed = watch.News()
			}
			timer := time.NewTimer(wait)
			select {
			case <-ctx.Done():
			case <-timer.C:
			case <-changed:
			case <-nudged:
				attempt = 1
			}
			timer.Stop()
		}
	})
}

// tellNext delivers the next entry that a webhook wants. It gives how long to
// wait until it is to be called again, and with which attempt.
func (s *Webhooks) tellNext(ctx context.Context, w store.Webhook, attempt int) (time.Duration, int, error) {
	if w.PausedAt != nil {
		return time.Minute, 1, nil
	}
	rows, err := s.store.Read().Journal(ctx, store.JournalFilter{After: w.Cursor, Limit: 200})
	if err != nil {
		return 0, attempt, err
	}
	passed := int64(0)
	for _, e := range rows {
		if !journal.Wanted(w.Kinds, e.Kind) {
			passed = e.Number
			continue
		}
		event, err := s.journal.event(e)
		if err != nil {
			return 0, attempt, err
		}
		d, err := s.post(ctx, w, e.Number, attempt, event)
		switch {
		case err != nil:
			return 0, attempt, err
		case d.Problem != "":
			return journal.Wait(attempt), attempt + 1, nil
		}
		return 0, 1, nil
	}
	if passed > 0 {
		return 0, attempt, s.store.Write(ctx, func(tx *store.Tx) error { return tx.PassWebhook(ctx, w.ID, w.Cursor, passed) })
	}
	return time.Minute, 1, nil
}
