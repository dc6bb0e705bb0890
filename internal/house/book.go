// Package house holds the house rules in force, read once for each version, and
// what follows from them alone: the rates by time, and how the house writes a
// time. It reads the records and nothing else.
package house

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/rules"
	"yardbench/internal/store"
)

// Book remembers the house rules as they were read. The zero Book is ready.
type Book struct {
	Now func() time.Time // nil is the real clock

	mu       sync.Mutex
	document string
	whole    rules.Rules // as the document says them
	rules    rules.Rules // without what has ended
	next     time.Time   // when something ends; zero is never

	priced struct {
		mu    sync.Mutex
		of    store.RulesVersion
		rates []cost.Since
	}
}

// At is the time by which the rules are read.
func (b *Book) At() time.Time { return b.now() }

// Rules gives the house rules in force, as q sees them, and their version.
func (b *Book) Rules(ctx context.Context, q store.Q) (rules.Rules, int, error) {
	v, err := q.Rules(ctx)
	if err != nil {
		return rules.Rules{}, 0, fmt.Errorf("read the house rules: %w", err)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	now := b.now()
	if v.Document == b.document { // by its text: what q sees may never be committed
		if !b.next.IsZero() && !now.Before(b.next) {
			b.rules, b.next = b.whole.At(now)
		}
		return b.rules, v.Version, nil
	}
	r, findings := rules.Parse([]byte(v.Document))
	if len(findings) > 0 {
		return r, 0, fmt.Errorf("the house rules in force, version %d, cannot be read: %s", v.Version, findings[0])
	}
	if r.Sooner, err = sooner(ctx, q, now, r, v); err != nil {
		return r, 0, err
	}
	b.document, b.whole = v.Document, r
	b.rules, b.next = r.At(now)
	return b.rules, v.Version, nil
}

// Whole is the document in force, with what in it has ended by now.
func (b *Book) Whole(ctx context.Context, q store.Q) (rules.Rules, error) {
	if _, _, err := b.Rules(ctx, q); err != nil {
		return rules.Rules{}, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.whole, nil
}

func (b *Book) now() time.Time {
	if b.Now != nil {
		return b.Now()
	}
	return time.Now()
}

// sooner looks through the versions whose change can matter still.
func sooner(ctx context.Context, q store.Q, now time.Time, r rules.Rules, v store.RulesVersion) (rules.Sooner, error) {
	rows, err := q.RulesVersions(ctx)
	if err != nil {
		return rules.Sooner{}, err
	}
	past := now.Add(-max(rules.RemovalNotice, r.Idle.WarnBefore))
	puts := []rules.Put{{Rules: r, At: v.At}}
	for i := len(rows) - 2; i >= 0 && rows[i+1].At.After(past); i-- { // the last is v
		before, findings := rules.Parse([]byte(rows[i].Document))
		if len(findings) > 0 {
			break // a version of before this release that cannot be read any more
		}
		puts = append(puts, rules.Put{Rules: before, At: rows[i].At})
	}
	slices.Reverse(puts)
	return rules.SinceWhen(puts), nil
}

// LimitLine is the line of the house rules in force in which a limit of a person,
// or of "team NAME", stands; 0 where it is not to be had.
func (b *Book) LimitLine(ctx context.Context, q store.Q, whose string, k rules.Kind) int {
	v, err := q.Rules(ctx)
	if err != nil {
		return 0
	}
	name, team := strings.CutPrefix(whose, "team ")
	return rules.LimitLine([]byte(v.Document), team, name, k)
}

// Rates gives the rates of every version of the rules, by time.
func (b *Book) Rates(ctx context.Context, q store.Q) ([]cost.Since, error) {
	newest, err := q.Rules(ctx)
	if err != nil {
		return nil, err
	}
	now, version, err := b.Rules(ctx, q)
	if err != nil {
		return nil, err
	}
	b.priced.mu.Lock()
	defer b.priced.mu.Unlock()
	if b.priced.of == newest { // not by its number alone: what q sees may never be committed
		return b.priced.rates, nil
	}
	rows, err := q.RulesVersions(ctx)
	if err != nil {
		return nil, err
	}
	var out []cost.Since
	for _, r := range rows {
		parsed := now
		if r.Version != version {
			var findings []rules.Finding
			if parsed, findings = rules.Parse([]byte(r.Document)); len(findings) > 0 {
				continue // a version of before this release that cannot be read any more
			}
		}
		out = append(out, cost.Since{Version: r.Version, From: r.At, Rates: parsed.Rates})
	}
	b.priced.of, b.priced.rates = newest, out
	return out, nil
}

// Local is a time in a text that everybody reads: in the house's zone, which it
// names, as its readers may be in others. Where the rules cannot be read it is
// UTC.
func (b *Book) Local(ctx context.Context, q store.Q, now, t time.Time) string {
	zone := time.UTC
	if r, _, err := b.Rules(ctx, q); err == nil {
		zone = r.Zone
	}
	l := t.In(zone)
	if now.In(zone).Format(time.DateOnly) == l.Format(time.DateOnly) {
		return l.Format("15:04 MST")
	}
	return l.Format("2 January 15:04 MST")
}
