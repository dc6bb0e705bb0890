// Package journal gives the journal's entries the forms in which they leave
// the service: CloudEvents 1.0, and signed heads by which a journal that was
// rewritten or cut shows.
//
// It is part of the core: plain functions over plain values. Keys are handed
// to it.
package journal

import (
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/plain"
)

// Event is a CloudEvent (CloudEvents 1.0, JSON event format).
type Event struct {
	SpecVersion     string          `json:"specversion"`
	ID              string          `json:"id"`
	Source          string          `json:"source"`
	Type            string          `json:"type"`
	Subject         string          `json:"subject,omitempty"`
	Time            time.Time       `json:"time"`
	DataContentType string          `json:"datacontenttype"`
	Data            json.RawMessage `json:"data"`
	// EntryHash is the entry's own hash in the journal's chain, hexadecimal: an extension
	// attribute, of exports alone.
	EntryHash string `json:"entryhash,omitempty"`
}

// ContentType is the media type of one event in its JSON format.
const ContentType = "application/cloudevents+json"

// Source names a service: its installation.
func Source(installation string) string { return "urn:yardbench:" + installation }

// NewEvent makes an event of something that is no entry, as a test.
func NewEvent(installation, id, kind, subject string, at time.Time, data any) (Event, error) {
	body, err := json.Marshal(data)
	return Event{SpecVersion: "1.0", ID: id, Source: Source(installation), Type: "yardbench." + kind, Subject: subject, Time: at.UTC(), DataContentType: "application/json", Data: body}, err
}

// Head is the newest entry of a journal at a time, signed with a key that is
// kept outside the database. Whoever keeps one can tell later whether the
// journal up to it is still the same.
type Head struct {
	Installation string    `json:"installation"`
	Number       int64     `json:"number"`
	Hash         string    `json:"hash"` // SHA-256, hexadecimal
	At           time.Time `json:"at"`
	Signature    string    `json:"signature"`     // Ed25519 over Bytes, base64
	Key          string    `json:"key,omitempty"` // which key, as KeyID tells it; older releases did not say
}

// Bytes are what is signed: five lines.
func (h Head) Bytes() []byte {
	return []byte(strings.Join([]string{"yardbench journal head 1", h.Installation, strconv.FormatInt(h.Number, 10), h.Hash, h.At.UTC().Format(time.RFC3339Nano)}, "\n"))
}

// Sign signs the head.
func (h Head) Sign(key ed25519.PrivateKey) Head {
	h.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(key, h.Bytes()))
	h.Key = KeyID(key.Public().(ed25519.PublicKey))
	return h
}

// KeyID names a key: 16 hexadecimal digits of the SHA-256 of its 32 bytes. It is a help in
// finding the key; that a head is of it, the signature says.
func KeyID(key ed25519.PublicKey) string {
	sum := sha256.Sum256(key)
	return hex.EncodeToString(sum[:8])
}

// Genuine tells whether the head was signed with one of the keys.
func (h Head) Genuine(keys ...ed25519.PublicKey) bool {
	sig, err := base64.StdEncoding.DecodeString(h.Signature)
	return err == nil && slices.ContainsFunc(keys, func(key ed25519.PublicKey) bool {
		return len(key) == ed25519.PublicKeySize && ed25519.Verify(key, h.Bytes(), sig)
	})
}

// Stranger says of a head that is not genuine what it was signed with, and what it was
// held against.
func (h Head) Stranger(keys ...ed25519.PublicKey) string {
	known := make([]string, len(keys))
	for i, k := range keys {
		known[i] = KeyID(k)
	}
	switch {
	case h.Key == "" || slices.Contains(known, h.Key):
		return fmt.Sprintf("the head of entry %d was not signed with key %s", h.Number, strings.Join(known, " or "))
	default:
		return fmt.Sprintf("the head of entry %d says that it was signed with key %s, and is held against %s", h.Number, plain.Line(h.Key, 40), strings.Join(known, ", "))
	}
}

// String is the head on one line, as the header Journal-Head carries it.
func (h Head) String() string {
	return strings.TrimSpace(fmt.Sprintf("%s %d %s %s %s %s", h.Installation, h.Number, h.Hash, h.At.UTC().Format(time.RFC3339Nano), h.Signature, h.Key))
}

// ParseHead reads a head as String writes it, or as JSON.
func ParseHead(s string) (h Head, err error) {
	s = strings.TrimSpace(s)
	if strings.HasPrefix(s, "{") {
		return h, json.Unmarshal([]byte(s), &h)
	}
	f := strings.Fields(s)
	if len(f) != 5 && len(f) != 6 {
		return h, fmt.Errorf("a head has six parts, or five of an older release, not %d", len(f))
	}
	if len(f) == 6 {
		h.Key = f[5]
	}
	h.Installation, h.Hash, h.Signature = f[0], f[2], f[4]
	if h.Number, err = strconv.ParseInt(f[1], 10, 64); err == nil {
		h.At, err = time.Parse(time.RFC3339Nano, f[3])
	}
	return h, err
}

// Mark is what a webhook's receiver holds a delivery against: HMAC-SHA256
// (RFC 2104) of its time, a line feed and its body, in hexadecimal.
func Mark(key, at string, body []byte) string {
	m := hmac.New(sha256.New, []byte(key))
	fmt.Fprintf(m, "%s\n%s", at, body)
	return hex.EncodeToString(m.Sum(nil))
}

// Wait is how long after the failed attempt with a number, from 1, the next
// one comes.
func Wait(attempt int) time.Duration {
	waits := []time.Duration{time.Second, 5 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, 30 * time.Minute}
	return waits[min(max(attempt, 1), len(waits))-1]
}

// Wanted tells whether a hook that asks for kinds wants one: each stands for
// what begins with it, and none is all.
func Wanted(kinds []string, kind string) bool {
	for _, k := range kinds {
		if kind == k || strings.HasPrefix(kind, strings.TrimSuffix(k, ".")+".") {
			return true
		}
	}
	return len(kinds) == 0
}
