package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
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
}

// maxWebhooks bounds the addresses that are told.
const maxWebhooks = 20

// AddWebhook has an address told of journal entries from now on. Its key is
// shown this once.
func (s *Webhooks) AddWebhook(ctx context.Context, a Actor, in wire.NewWebhook) (wire.MadeWebhook, error) {
	if !a.may(policy.ChangeWebhooks) {
		return wire.MadeWebhook{}, denied(a, "add webhooks")
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
	if err != nil {
		return wire.MadeWebhook{}, err
	}
	if err := webhook.Check(in.URL, house.WebhooksInside); err != nil {
		next := ""
		if errors.Is(err, webhook.ErrInside) {
			next = "put its host into the house rules, if it is meant: webhooks_inside: [HOST]"
		}
		return wire.MadeWebhook{}, invalid(err.Error(), next)
	}
	for _, k := range in.Kinds {
		if hasControl(k) || k == "" {
			return wire.MadeWebhook{}, invalid(quote(k)+" is no beginning of a kind", "give what kinds begin with, like workspace.phase")
		}
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

func (s *Webhooks) webhookView(ctx context.Context, w store.Webhook) wire.Webhook {
	return wire.Webhook{ID: w.ID, URL: w.URL, Kinds: append([]string{}, w.Kinds...), MadeBy: nameOf(ctx, s.store.Read(), w.MadeBy), CreatedAt: w.CreatedAt, Cursor: w.Cursor, FailingSince: w.FailingSince, Problem: w.Problem}
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
	if errors.Is(err, store.ErrNotFound) {
		return w, notFound("webhook", id, "see them", fault.Do("list-webhooks", ""))
	}
	return w, err
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
	d := store.Delivery{Entry: entry, Attempt: attempt, At: s.now().UTC()}
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
			}
			timer.Stop()
		}
	})
}

// tellNext delivers the next entry that a webhook wants. It gives how long to
// wait until it is to be called again, and with which attempt.
func (s *Webhooks) tellNext(ctx context.Context, w store.Webhook, attempt int) (time.Duration, int, error) {
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
		return 0, attempt, s.store.Write(ctx, func(tx *store.Tx) error { return tx.PassWebhook(ctx, w.ID, passed) })
	}
	return time.Minute, 1, nil
}
