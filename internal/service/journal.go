package service

import (
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"strconv"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/policy"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

// signedHead is the journal's entry with a number, signed as a head.
func (s *Service) signedHead(ctx context.Context, q store.Q, number int64) (journal.Head, error) {
	hash, ok, err := q.HashAt(ctx, number)
	if err != nil || !ok {
		return journal.Head{}, err // an empty journal has no head
	}
	h := journal.Head{Installation: s.Keeper.Installation, Number: number, Hash: hex.EncodeToString(hash), At: s.now().UTC()}
	return h.Sign(s.JournalKey), nil
}

// JournalHead gives the newest entry, signed, and the key to hold it against.
func (s *Service) JournalHead(ctx context.Context, a Actor) (wire.JournalHead, error) {
	if !a.may(policy.SeeWholeJournal) {
		return wire.JournalHead{}, denied(a, "see the whole journal")
	}
	n, err := s.Store.Read().JournalHead(ctx)
	if err != nil {
		return wire.JournalHead{}, err
	}
	h, err := s.signedHead(ctx, s.Store.Read(), n)
	if err != nil {
		return wire.JournalHead{}, err
	}
	der, err := x509.MarshalPKIXPublicKey(s.JournalKey.Public())
	if err != nil {
		return wire.JournalHead{}, err
	}
	return wire.JournalHead{Head: wire.SignedHead(h), Line: h.String(), Key: string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))}, nil
}

// VerifyJournal walks the whole journal, and holds it against heads that were
// given out before, each as one line or as JSON.
func (s *Service) VerifyJournal(ctx context.Context, a Actor, heads []string) (wire.JournalVerdict, error) {
	if !a.may(policy.SeeWholeJournal) {
		return wire.JournalVerdict{}, denied(a, "see the whole journal")
	}
	q := s.Store.Read()
	n, err := q.JournalHead(ctx)
	if err != nil {
		return wire.JournalVerdict{}, err
	}
	v := wire.JournalVerdict{Entries: n, Problems: []string{}}
	if err := q.VerifyJournal(ctx); err != nil {
		v.Problems = append(v.Problems, err.Error())
	}
	for _, text := range heads {
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
		case h.Installation != s.Keeper.Installation:
			v.Problems = append(v.Problems, fmt.Sprintf("the head of entry %d is of another service, %s", h.Number, h.Installation))
		case !h.Genuine(s.JournalKey.Public().(ed25519.PublicKey)):
			v.Problems = append(v.Problems, fmt.Sprintf("the head of entry %d was not signed by this service", h.Number))
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
func (s *Service) event(e store.Entry) (journal.Event, error) {
	return journal.NewEvent(s.Keeper.Installation, strconv.FormatInt(e.Number, 10), e.Kind, e.Subject, e.At, map[string]any{"actor": e.Actor, "owner": e.OwnerID, "details": e.Data})
}

// ExportJournal writes the entries after a number as CloudEvents, one a line,
// and last the signed head of what was written.
func (s *Service) ExportJournal(ctx context.Context, a Actor, after int64, kind string, w io.Writer, flush func()) error {
	if !a.may(policy.SeeWholeJournal) {
		return denied(a, "see the whole journal")
	}
	// What is written meanwhile is neither exported nor vouched for: who goes on
	// from the head's number has all.
	head, err := s.Store.Read().JournalHead(ctx)
	if err != nil || after > head {
		if err == nil {
			err = invalid(fmt.Sprintf("entry %d is not in this journal: its newest is %d", after, head), "this may be the cursor of another journal; begin with 0")
		}
		return err
	}
	out := json.NewEncoder(w)
	for {
		rows, err := s.Store.Read().Journal(ctx, store.JournalFilter{After: after, Kind: kind, Limit: 500})
		if err != nil {
			return err
		}
		over := len(rows) < 500
		for _, e := range rows {
			if over = over || e.Number > head; e.Number > head {
				break
			}
			event, err := s.event(e)
			if err == nil {
				err = out.Encode(event)
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
	h, err := s.signedHead(ctx, s.Store.Read(), head)
	if err != nil {
		return err
	}
	last, err := journal.NewEvent(s.Keeper.Installation, "head-"+strconv.FormatInt(head, 10), "journal.head", "", h.At, h)
	if err != nil {
		return err
	}
	return out.Encode(last)
}
