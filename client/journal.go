package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/url"
	"strconv"

	"yardbench/wire"
)

// Export writes the wanted journal entries as CloudEvents, one a line, with the seal
// that vouches for them: of q what it is after counts, not what bounds a list. It fails where
// the signed head at the end is missing: what was written is cut then.
func (c Journal) Export(ctx context.Context, q JournalQuery, w io.Writer) error {
	last := &lastLine{to: w}
	if err := c.copyText(ctx, "/journal/export?"+q.of().Encode(), last); err != nil {
		return err
	}
	var head struct {
		Type string `json:"type"`
	}
	if json.Unmarshal(last.line, &head) != nil || head.Type != "yardbench.journal.head" {
		return errors.New("the export was broken off: its signed head is missing; go on after its last entry with --after")
	}
	return nil
}

// Head gives the journal's newest entry, signed.
func (c Journal) Head(ctx context.Context) (wire.JournalHead, error) {
	return call[wire.JournalHead](ctx, c.link, "GET", "/journal/head", nil)
}

// Verify has the journal looked through, and held against heads, which are signed with the
// service's key or one of the earlier ones that are given, in PEM.
func (c Journal) Verify(ctx context.Context, heads []string, keys ...string) (wire.JournalVerdict, error) {
	return call[wire.JournalVerdict](ctx, c.link, "POST", "/journal/verify", wire.JournalHeads{Heads: heads, Keys: keys})
}

// List lists the webhooks.
func (c Webhooks) List(ctx context.Context) ([]wire.Webhook, error) {
	return all[wire.Webhook](ctx, c.link, "/webhooks")
}

// Add has an address told of journal entries.
func (c Webhooks) Add(ctx context.Context, in wire.NewWebhook) (wire.MadeWebhook, error) {
	return call[wire.MadeWebhook](ctx, c.link, "POST", "/webhooks", in)
}

// Change changes where one is told, of what, and whether at all.
func (c Webhooks) Change(ctx context.Context, id string, in wire.WebhookChange) (wire.Webhook, error) {
	return call[wire.Webhook](ctx, c.link, "PATCH", webhook(id, ""), in)
}

// NewKey gives one another key.
func (c Webhooks) NewKey(ctx context.Context, id string) (wire.WebhookKey, error) {
	return call[wire.WebhookKey](ctx, c.link, "POST", webhook(id, "/keys"), nil)
}

// Replay has one told again, from an entry on.
func (c Webhooks) Replay(ctx context.Context, id string, in wire.Replay) (wire.Webhook, error) {
	return call[wire.Webhook](ctx, c.link, "POST", webhook(id, "/replay"), in)
}

// Drop ends the telling of one.
func (c Webhooks) Drop(ctx context.Context, id string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", webhook(id, ""), nil)
	return err
}

// Test posts a test.
func (c Webhooks) Test(ctx context.Context, id string) (wire.Delivery, error) {
	return call[wire.Delivery](ctx, c.link, "POST", webhook(id, "/test"), nil)
}

// Deliveries is the log of a webhook.
func (c Webhooks) Deliveries(ctx context.Context, id string) ([]wire.Delivery, error) {
	return all[wire.Delivery](ctx, c.link, webhook(id, "/deliveries"))
}

// JournalQuery says which journal entries are wanted; empty fields do not count.
type JournalQuery struct {
	After, Before           int64 // numbers of entries
	Newest                  bool
	Workspace, Person, Kind string
	Repository              string // what was changed of it itself
	From, To                string // times, or days
	Limit                   int
}

// of says of which entries it is.
func (q JournalQuery) of() url.Values {
	return url.Values{"after": {strconv.FormatInt(q.After, 10)}, "workspace": {q.Workspace}, "repository": {q.Repository}, "person": {q.Person}, "kind": {q.Kind}, "from": {q.From}, "to": {q.To}}
}

// List lists journal entries.
func (c Journal) List(ctx context.Context, q JournalQuery) ([]wire.JournalEntry, error) {
	v := q.of()
	v.Set("before", strconv.FormatInt(q.Before, 10))
	v.Set("newest", strconv.FormatBool(q.Newest))
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	part, err := call[wire.List[wire.JournalEntry]](ctx, c.link, "GET", "/journal?"+v.Encode(), nil)
	return part.Items, err
}

// lastLine passes on what is written, and keeps the last line of it.
type lastLine struct {
	to   io.Writer
	line []byte
}

func (l *lastLine) Write(p []byte) (int, error) {
	text := bytes.TrimRight(p, "\n")
	if i := bytes.LastIndexByte(text, '\n'); i >= 0 {
		l.line = append([]byte(nil), p[i+1:]...)
	} else if bytes.HasSuffix(l.line, []byte("\n")) {
		l.line = append([]byte(nil), p...)
	} else {
		l.line = append(l.line, p...)
	}
	return l.to.Write(p)
}
