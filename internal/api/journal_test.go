package api_test

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	yb "yardbench/client"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/internal/store"
	"yardbench/wire"
)

// entry is an entry of any kind.
type entry struct {
	kind string
	N    int `json:"n"`
}

func (e entry) Kind() string { return e.kind }

// receiver is an address that is told, and may refuse.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	refuse int
	got    []journal.Event
	heads  []string
	marks  []string // time, mark and body of each
}

func newReceiver(t *testing.T) *receiver {
	r := &receiver{}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, _ := io.ReadAll(q.Body)
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.refuse > 0 {
			r.refuse--
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		var e journal.Event
		if err := json.Unmarshal(body, &e); err != nil {
			t.Errorf("it was sent %s", body)
		}
		r.got, r.heads = append(r.got, e), append(r.heads, q.Header.Get("Journal-Head"))
		r.marks = append(r.marks, q.Header.Get("Hook-Time")+"|"+q.Header.Get("Hook-Mark")+"|"+string(body))
	}))
	t.Cleanup(r.Close)
	return r
}

func (r *receiver) until(t *testing.T, n int) []journal.Event {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		r.mu.Lock()
		got := append([]journal.Event(nil), r.got...)
		r.mu.Unlock()
		if len(got) >= n {
			return got
		}
	}
	t.Fatalf("only %d events came", len(r.got))
	return nil
}

func clientOf(t *testing.T, address, name string) *yb.Client {
	t.Helper()
	c, err := yb.New(address, signIn(t, address, name))
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// note writes journal entries, as use cases do.
func note(t *testing.T, svc *inside, kind string, n int) {
	t.Helper()
	for i := range n {
		if err := svc.rooms.Store.Write(t.Context(), func(tx *store.Tx) error {
			return tx.Journal(t.Context(), "subject", "", "service", entry{kind, i})
		}); err != nil {
			t.Fatal(err)
		}
	}
}

// Entries reach a webhook in their order and each once, over refusals, marked
// and with the signed head of the journal.
func TestWebhooks(t *testing.T) {
	address, svc := door(t)
	astrid, ingrid, audun := clientOf(t, address, "astrid"), clientOf(t, address, "ingrid"), clientOf(t, address, "audun")
	r := newReceiver(t)
	ctx := t.Context()
	if _, err := astrid.Webhooks.Add(ctx, wire.NewWebhook{URL: r.URL}); err == nil || !strings.Contains(err.Error(), "inside this network") || !strings.Contains(err.Error(), "webhooks_inside") {
		t.Errorf("an address inside is answered %v", err)
	}
	if _, err := astrid.Rules.Put(ctx, wire.RulesText{Document: rules.First + "\nwebhooks_inside: [127.0.0.1]\n", Reason: "a stand-in"}, 1); err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{"", "ftp://x", "http://a:b@127.0.0.1/"} {
		if _, err := astrid.Webhooks.Add(ctx, wire.NewWebhook{URL: bad}); err == nil {
			t.Errorf("the address %q is taken", bad)
		}
	}
	if _, err := ingrid.Webhooks.Add(ctx, wire.NewWebhook{URL: r.URL}); err == nil {
		t.Error("a developer may add webhooks")
	}
	note(t, svc, "before", 3)
	w, err := astrid.Webhooks.Add(ctx, wire.NewWebhook{URL: r.URL, Kinds: []string{"tide", "rules."}})
	if err != nil || !strings.HasPrefix(w.Key, "yb_hook_") {
		t.Fatalf("it is %+v, %v", w, err)
	}
	r.mu.Lock()
	r.refuse = 1
	r.mu.Unlock()
	note(t, svc, "tide.ebb", 2)
	note(t, svc, "wind", 250) // more than are looked at in one go
	note(t, svc, "tide.flood", 2)
	got := r.until(t, 4)
	for i, want := range []string{"tide.ebb", "tide.ebb", "tide.flood", "tide.flood"} {
		if got[i].Type != "yardbench."+want || !strings.HasSuffix(string(got[i].Data), `"details":{"n":`+strconv.Itoa(i%2)+`}}`) && !strings.Contains(string(got[i].Data), `"n":`+strconv.Itoa(i%2)) {
			t.Errorf("event %d is %s %s", i, got[i].Type, got[i].Data)
		}
	}
	head, err := astrid.Journal.Head(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for i, m := range r.marks {
		f := strings.SplitN(m, "|", 3)
		if f[1] != journal.Mark(w.Key, f[0], []byte(f[2])) {
			t.Errorf("delivery %d is not marked with the key", i)
		}
		h, err := journal.ParseHead(r.heads[i])
		if err != nil || strconv.FormatInt(h.Number, 10) != got[i].ID {
			t.Errorf("delivery %d carries the head %q, %v", i, r.heads[i], err)
		}
	}
	if v, err := audun.Journal.Verify(ctx, append(r.heads, head.Line)); err != nil || !v.Sound || v.Heads != 5 {
		t.Errorf("the journal is found %+v, %v", v, err)
	}

	d, err := astrid.Webhooks.Test(ctx, w.ID)
	if err != nil || d.Status != 200 || d.Problem != "" {
		t.Errorf("a test goes %+v, %v", d, err)
	}
	if last := r.until(t, 5)[4]; last.Type != "yardbench.webhook.test" {
		t.Errorf("a test posts %s", last.Type)
	}
	log, err := audun.Webhooks.Deliveries(ctx, w.ID)
	if err != nil || len(log) != 6 || log[0].Entry != 0 || log[5].Status != 503 || log[4].Attempt != 2 || log[4].Entry != log[5].Entry {
		t.Errorf("the log is %+v, %v", log, err)
	}
	if all, err := audun.Webhooks.List(ctx); err != nil || len(all) != 1 || all[0].FailingSince != nil || all[0].MadeBy != "astrid" {
		t.Errorf("the webhooks are %+v, %v", all, err)
	}
	if err := astrid.Webhooks.Drop(ctx, w.ID); err != nil {
		t.Error(err)
	}
	note(t, svc, "tide.late", 1)
	time.Sleep(300 * time.Millisecond)
	if n := len(r.until(t, 5)); n != 5 {
		t.Errorf("removed, it was told %d times", n)
	}
	for _, err := range []error{astrid.Webhooks.Drop(ctx, w.ID), second(astrid.Webhooks.Test(ctx, "ghost")), second(astrid.Webhooks.Deliveries(ctx, "ghost"))} {
		if err == nil || !strings.Contains(err.Error(), "no webhook") {
			t.Errorf("one that is not there is answered %v", err)
		}
	}
}

// What comes while a webhook is paused comes after it; another address and another
// key hold at once, however long the old one was not taken; and what was told is told
// again where that is asked for.
func TestWebhookChanges(t *testing.T) {
	address, svc := door(t)
	astrid := clientOf(t, address, "astrid")
	r, other := newReceiver(t), newReceiver(t)
	ctx := t.Context()
	if _, err := astrid.Rules.Put(ctx, wire.RulesText{Document: rules.First + "\nwebhooks_inside: [127.0.0.1]\n", Reason: "a stand-in"}, 1); err != nil {
		t.Fatal(err)
	}
	w, err := astrid.Webhooks.Add(ctx, wire.NewWebhook{URL: r.URL, Kinds: []string{"tide"}})
	if err != nil {
		t.Fatal(err)
	}
	yes, no := true, false
	change := func(in wire.WebhookChange) wire.Webhook {
		t.Helper()
		now, err := astrid.Webhooks.Change(ctx, w.ID, in)
		if err != nil {
			t.Fatal(err)
		}
		return now
	}
	note(t, svc, "tide.one", 1)
	r.until(t, 1)
	if now := change(wire.WebhookChange{Paused: &yes}); now.PausedAt == nil {
		t.Errorf("paused, it is %+v", now)
	}
	note(t, svc, "tide.two", 2)
	time.Sleep(300 * time.Millisecond)
	if n := len(r.until(t, 1)); n != 1 {
		t.Errorf("paused, it was told %d times", n)
	}
	key, err := astrid.Webhooks.NewKey(ctx, w.ID)
	if err != nil || key.Key == w.Key {
		t.Fatalf("another key is %v, %v", key, err)
	}
	if now := change(wire.WebhookChange{Paused: &no}); now.PausedAt != nil {
		t.Errorf("resumed, it is %+v", now)
	}
	got := r.until(t, 3)
	for i, m := range r.marks {
		f, with := strings.SplitN(m, "|", 3), key.Key
		if i == 0 {
			with = w.Key
		}
		if f[1] != journal.Mark(with, f[0], []byte(f[2])) {
			t.Errorf("delivery %d is marked with another key", i)
		}
	}
	first, _ := strconv.ParseInt(got[0].ID, 10, 64)
	if now, err := astrid.Webhooks.Replay(ctx, w.ID, wire.Replay{From: first}); err != nil || now.Cursor != first-1 {
		t.Errorf("told again, it is %+v, %v", now, err)
	}
	got = r.until(t, 6)
	for i := range 3 {
		if got[i].ID != got[i+3].ID {
			t.Errorf("told again, event %d has the id %s, not %s", i, got[i+3].ID, got[i].ID)
		}
	}
	if _, err := astrid.Webhooks.Replay(ctx, w.ID, wire.Replay{From: 1 << 40}); err == nil || !strings.Contains(err.Error(), "not in the journal") {
		t.Errorf("from beyond the journal it is answered %v", err)
	}

	// It is not taken, and waits longer and longer: another address ends the wait.
	r.mu.Lock()
	r.refuse = 1000
	r.mu.Unlock()
	note(t, svc, "tide.three", 1)
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		log, err := astrid.Webhooks.Deliveries(ctx, w.ID)
		if err != nil || time.Now().After(end) {
			t.Fatalf("the log is %+v, %v", log, err)
		}
		if log[0].Attempt >= 3 {
			break // the next is 30 s away
		}
	}
	began := time.Now()
	if now := change(wire.WebhookChange{URL: &other.URL}); now.URL != other.URL || now.FailingSince != nil {
		t.Errorf("at another address it is %+v", now)
	}
	if last := other.until(t, 1)[0]; last.Type != "yardbench.tide.three" || time.Since(began) > 15*time.Second {
		t.Errorf("after %v it is told %s there", time.Since(began), last.Type)
	}
	wind := []string{"wind"}
	change(wire.WebhookChange{Kinds: &wind})
	note(t, svc, "tide.four", 1)
	note(t, svc, "wind.north", 1)
	if last := other.until(t, 2)[1]; last.Type != "yardbench.wind.north" {
		t.Errorf("of other kinds it is told %s", last.Type)
	}
	bad := "ftp://x"
	if _, err := astrid.Webhooks.Change(ctx, w.ID, wire.WebhookChange{URL: &bad}); err == nil {
		t.Error("an address that is none is taken")
	}
	for _, err := range []error{second(astrid.Webhooks.Change(ctx, "ghost", wire.WebhookChange{})), second(astrid.Webhooks.NewKey(ctx, "ghost")), second(astrid.Webhooks.Replay(ctx, "ghost", wire.Replay{From: 1}))} {
		if err == nil || !strings.Contains(err.Error(), "no webhook") {
			t.Errorf("one that is not there is answered %v", err)
		}
	}
}

func second[T any](_ T, err error) error { return err }

// A journal that was rewritten or cut shows by the heads that were given out;
// its export is CloudEvents, and ends with a head.
func TestJournalGoesOut(t *testing.T) {
	address, svc := door(t)
	astrid := clientOf(t, address, "astrid")
	ctx := t.Context()
	note(t, svc, "tide.ebb", 700)
	head, err := astrid.Journal.Head(ctx)
	if err != nil || !strings.Contains(head.Key, "PUBLIC KEY") {
		t.Fatalf("the head is %+v, %v", head, err)
	}
	var out strings.Builder
	if err := astrid.Journal.Export(ctx, yb.JournalQuery{}, &out); err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	if int64(len(lines)) < head.Head.Number+1 {
		t.Errorf("%d lines for %d entries", len(lines), head.Head.Number)
	}
	for i, l := range lines {
		var e journal.Event
		if err := json.Unmarshal([]byte(l), &e); err != nil || e.SpecVersion != "1.0" || e.ID == "" || e.Source == "" || e.Type == "" {
			t.Fatalf("line %d is %s", i, l)
		}
		if i == len(lines)-1 {
			if h, err := journal.ParseHead(string(e.Data)); err != nil || e.Type != "yardbench.journal.head" || h.Number < head.Head.Number {
				t.Errorf("it ends with %s, %v", l, err)
			}
		}
	}
	out.Reset()
	if err := astrid.Journal.Export(ctx, yb.JournalQuery{After: head.Head.Number - 1, Kind: "tide."}, &out); err != nil || strings.Count(out.String(), "tide.ebb") != 1 {
		t.Errorf("the last entry is exported as %s, %v", out.String(), err)
	}
	if err := astrid.Journal.Export(ctx, yb.JournalQuery{After: head.Head.Number + 100}, &out); err == nil || !strings.Contains(err.Error(), "is not in this journal") {
		t.Errorf("the cursor of another journal is answered %v", err)
	}
	for _, who := range []string{"ingrid", "runa"} {
		c := clientOf(t, address, who)
		if err := c.Journal.Export(ctx, yb.JournalQuery{}, &out); err == nil || !strings.Contains(err.Error(), "journal.whole") {
			t.Errorf("%s exports it: %v", who, err)
		}
	}
	// Somebody with the database rewrites it, whole and consistent in itself.
	other := head.Head
	other.Hash = strings.Repeat("0", 64)
	for text, says := range map[string]string{
		journal.Head(other).Sign(svc.rooms.JournalKey).String():                                  "rewritten",
		cutHead(head.Head.Installation, head.Head.Number+50).Sign(svc.rooms.JournalKey).String(): "was cut",
		strings.Replace(head.Line, " "+head.Head.Hash+" ", " "+strings.Repeat("1", 64)+" ", 1):   "was not signed with key ",
		strings.Replace(head.Line, head.Head.Installation, "another", 1):                         "of another service",
	} {
		if v, err := astrid.Journal.Verify(context.Background(), []string{text}); err != nil || v.Sound || !strings.Contains(strings.Join(v.Problems, ";"), says) {
			t.Errorf("a head that says %q is answered %+v, %v", says, v, err)
		}
	}
	// One that was signed with an earlier key holds with that in hand, and says of which it is.
	earlier, signing, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	kept, err := journal.PublicPEM(earlier)
	if err != nil {
		t.Fatal(err)
	}
	old := journal.Head(head.Head).Sign(signing).String()
	if v, err := astrid.Journal.Verify(ctx, []string{old}); err != nil || v.Sound || !strings.Contains(strings.Join(v.Problems, ";"), "signed with key "+journal.KeyID(earlier)+", and is held against "+head.Head.Key) {
		t.Errorf("the head of an earlier key is answered %+v, %v", v, err)
	}
	if v, err := astrid.Journal.Verify(ctx, []string{old, head.Line}, kept); err != nil || !v.Sound || v.Heads != 2 {
		t.Errorf("with that key it is answered %+v, %v", v, err)
	}
	if _, err := astrid.Journal.Verify(ctx, nil, "rubbish"); err == nil || !strings.Contains(err.Error(), "no key of a journal") {
		t.Errorf("a key of rubbish is answered %v", err)
	}
	if _, err := astrid.Journal.Verify(ctx, []string{"rubbish"}); err == nil || !strings.Contains(err.Error(), "no head of a journal") {
		t.Errorf("rubbish is answered %v", err)
	}
}

// A step has its usual time beside it, of the newest of its repository, and
// what takes long is told with what would help.
func TestUsualTimesOfSteps(t *testing.T) {
	address, svc := door(t)
	renew(t, svc, "ingrid")
	ctx := t.Context()
	c := clientOf(t, address, "ingrid")
	err := svc.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		p, err := tx.PersonByName(ctx, "ingrid")
		if err != nil {
			return err
		}
		w, err := tx.WorkspaceByName(ctx, p.ID, "w")
		if err != nil {
			return err
		}
		at := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
		for n := range 60 { // the first ten are too old to count
			tx.At(at)
			sheet, err := tx.OpenSheet(ctx, w.ID, lifecycle.LaunchSheet)
			if err != nil {
				return err
			}
			for key, took := range map[string]time.Duration{"image": map[bool]time.Duration{true: time.Hour, false: time.Duration(n) * time.Second}[n < 10], "network": 100 * time.Millisecond} {
				step, err := tx.BeginStep(ctx, store.Step{SheetID: sheet.ID, Key: key, Title: strings.ToUpper(key[:1]) + key[1:], Body: 1})
				if err != nil {
					return err
				}
				end := step.StartedAt.Add(took)
				step.EndedAt = &end
				if err := tx.EndStep(ctx, step, lifecycle.Done, false, ""); err != nil {
					return err
				}
			}
			if err := tx.CloseSheet(ctx, sheet.ID, lifecycle.Done, ""); err != nil {
				return err
			}
			at = at.Add(2 * time.Hour)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	sheet, err := c.Workspaces.Sheet(ctx, "w", 0)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range sheet.Steps {
		want := map[string][2]int64{"Image": {35_000, 57_000}, "Network": {100, 100}}[s.Title]
		if s.UsualMS != want[0] || s.SlowMS != want[1] {
			t.Errorf("%s usually takes %d ms, 19 of 20 within %d, not %v", s.Title, s.UsualMS, s.SlowMS, want)
		}
	}
	if !strings.Contains(sheet.Hint, "Image took 59s of 59.1s: a prebuild plan would have it done ahead") {
		t.Errorf("the hint is %q", sheet.Hint)
	}
}

func cutHead(installation string, number int64) journal.Head {
	return journal.Head{Installation: installation, Number: number, Hash: strings.Repeat("2", 64), At: time.Now()}
}
