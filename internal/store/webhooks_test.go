package store

import (
	"errors"
	"testing"
	"time"
)

// A webhook's cursor moves with what was taken and never back; its log is
// bounded, and goes with it.
func TestWebhooks(t *testing.T) {
	s := populated(t)
	ctx := t.Context()
	do := func(what string, f func(tx *Tx) error) {
		t.Helper()
		if err := s.Write(ctx, f); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
	do("add", func(tx *Tx) error {
		return tx.AddWebhook(ctx, Webhook{ID: "h1", URL: "https://hooks.skerryline.example", Kinds: []string{"workspace."}, Key: []byte{1}, MadeBy: "p1", Cursor: 5})
	})
	see := func() Webhook {
		t.Helper()
		w, err := s.Read().WebhookByID(ctx, "h1")
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	if w := see(); w.Cursor != 5 || len(w.Kinds) != 1 || w.FailingSince != nil || w.CreatedAt.IsZero() {
		t.Errorf("it is %+v", w)
	}
	for _, c := range []struct {
		what    string
		d       Delivery
		cursor  int64
		failing bool
	}{
		{"refused", Delivery{Entry: 7, Attempt: 1, Status: 503, Problem: "it answers 503"}, 5, true},
		{"refused again", Delivery{Entry: 7, Attempt: 2, Problem: "nobody there"}, 5, true},
		{"a test in between", Delivery{Attempt: 1, Status: 204}, 5, true},
		{"taken", Delivery{Entry: 7, After: 5, Attempt: 3, Status: 204, Took: 3 * time.Millisecond}, 7, false},
		{"an older one, again", Delivery{Entry: 6, After: 5, Attempt: 1, Status: 204}, 7, false},
	} {
		do(c.what, func(tx *Tx) error { return tx.Delivered(ctx, "h1", c.d) })
		if w := see(); w.Cursor != c.cursor || (w.FailingSince != nil) != c.failing || (w.Problem != "") != c.failing {
			t.Errorf("%s, it is %+v", c.what, w)
		}
	}
	do("pass over", func(tx *Tx) error {
		return errors.Join(tx.PassWebhook(ctx, "h1", 7, 20), tx.PassWebhook(ctx, "h1", 7, 10))
	})
	if w := see(); w.Cursor != 20 {
		t.Errorf("passed over, its cursor is %d", w.Cursor)
	}
	log, err := s.Read().Deliveries(ctx, "h1")
	if err != nil || len(log) != 5 || log[0].Entry != 6 || log[1].Took != 3*time.Millisecond || log[4].Status != 503 {
		t.Errorf("the log is %+v, %v", log, err)
	}
	do("much", func(tx *Tx) error {
		for n := range KeptDeliveries + 50 {
			if err := tx.Delivered(ctx, "h1", Delivery{Entry: int64(100 + n), Attempt: 1, Status: 200}); err != nil {
				return err
			}
		}
		return nil
	})
	if log, err = s.Read().Deliveries(ctx, "h1"); err != nil || len(log) != KeptDeliveries || log[0].Entry != 100+KeptDeliveries+49 {
		t.Errorf("of many %d are kept, %v", len(log), err)
	}
	do("drop", func(tx *Tx) error { return tx.DropWebhook(ctx, "h1") })
	if all, err := s.Read().Webhooks(ctx); err != nil || len(all) != 0 {
		t.Errorf("dropped, there are %v, %v", all, err)
	}
	if log, err = s.Read().Deliveries(ctx, "h1"); err != nil || len(log) != 0 {
		t.Errorf("its log is left: %v, %v", log, err)
	}
	if _, err := s.Read().WebhookByID(ctx, "h1"); !errors.Is(err, ErrNotFound) {
		t.Errorf("one that is gone is answered %v", err)
	}
}

// The hash of an entry is given by its number; there is none beyond the end.
func TestHashAt(t *testing.T) {
	s := populated(t)
	ctx := t.Context()
	if err := s.Write(ctx, func(tx *Tx) error { return tx.Journal(ctx, "x", "", "service", anEntry{kind: "tide.ebb"}) }); err != nil {
		t.Fatal(err)
	}
	n, err := s.Read().JournalHead(ctx)
	if err != nil {
		t.Fatal(err)
	}
	hash, ok, err := s.Read().HashAt(ctx, n)
	if err != nil || !ok || len(hash) != 32 {
		t.Errorf("the head's hash is %x, %v, %v", hash, ok, err)
	}
	if _, ok, err := s.Read().HashAt(ctx, n+1); ok || err != nil {
		t.Errorf("beyond the end there is one: %v, %v", ok, err)
	}
}
