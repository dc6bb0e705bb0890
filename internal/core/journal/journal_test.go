package journal

import (
	"crypto/ed25519"
	"encoding/json"
	"strings"
	"testing"
	"time"
)

func TestHead(t *testing.T) {
	pub, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	h := Head{Installation: "abc", Number: 7, Hash: strings.Repeat("0f", 32), At: time.Date(2026, 11, 25, 8, 0, 0, 123000, time.FixedZone("", 3600))}.Sign(key)
	text, _ := json.Marshal(h)
	for _, form := range []string{h.String(), string(text), "  " + h.String() + "\n"} {
		got, err := ParseHead(form)
		if err != nil || !got.Genuine(pub) || got.Number != 7 || !got.At.Equal(h.At) {
			t.Errorf("%q is read as %+v, %v", form, got, err)
		}
	}
	for what, change := range map[string]func(*Head){"number": func(h *Head) { h.Number++ }, "hash": func(h *Head) { h.Hash = strings.Repeat("1f", 32) }, "time": func(h *Head) { h.At = h.At.Add(time.Second) }, "house": func(h *Head) { h.Installation = "abd" }, "mark": func(h *Head) { h.Signature = "?" }} {
		other := h
		if change(&other); other.Genuine(pub) {
			t.Errorf("a head with another %s is genuine", what)
		}
	}
	// Of an earlier key, and of a release that did not say which.
	before, _, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	old := h
	old.Key = ""
	if got, err := ParseHead(old.String()); err != nil || got.Key != "" || !got.Genuine(before, pub) || got.Genuine(before) || h.Key != KeyID(pub) {
		t.Errorf("an old head is %+v, %v; the key is %s", got, err, h.Key)
	}
	for who, says := range map[*Head]string{&h: "says that it was signed with key " + KeyID(pub) + ", and is held against " + KeyID(before), &old: "was not signed with key " + KeyID(before)} {
		if got := who.Stranger(before); !strings.Contains(got, says) {
			t.Errorf("it says %q", got)
		}
	}
	if h.Genuine(nil) {
		t.Error("without a key it is genuine")
	}
	for _, bad := range []string{"", "a b c", "abc x hash 2026-11-25T08:00:00Z sig", "abc 1 hash yesterday sig", "{", "null null null null"} {
		if _, err := ParseHead(bad); err == nil {
			t.Errorf("%q is read", bad)
		}
	}
}

func TestEventAndMark(t *testing.T) {
	e, err := NewEvent("abc", "7", "workspace.phase", "w1", time.Date(2026, 11, 25, 9, 0, 0, 0, time.FixedZone("", 3600)), map[string]any{"to": "ready"})
	text, _ := json.Marshal(e)
	want := `{"specversion":"1.0","id":"7","source":"urn:yardbench:abc","type":"yardbench.workspace.phase","subject":"w1","time":"2026-11-25T08:00:00Z","datacontenttype":"application/json","data":{"to":"ready"}}`
	if err != nil || string(text) != want {
		t.Errorf("the event is\n%s\nnot\n%s", text, want)
	}
	// By another hand: printf '2026-11-25T08:00:00Z\n{}' | openssl dgst -sha256 -hmac ebb
	if got := Mark("ebb", "2026-11-25T08:00:00Z", []byte("{}")); len(got) != 64 || got == Mark("ebb", "2026-11-25T08:00:01Z", []byte("{}")) || got == Mark("flood", "2026-11-25T08:00:00Z", []byte("{}")) {
		t.Errorf("the mark is %s", got)
	}
	for n, last := 1, time.Duration(0); n < 12; n++ {
		w := Wait(n)
		if w < last || w > time.Hour {
			t.Errorf("after attempt %d it waits %s, after the one before %s", n, w, last)
		}
		last = w
	}
	for _, c := range []struct {
		kinds, kind string
		want        bool
	}{{"", "anything", true}, {"workspace", "workspace.phase", true}, {"workspace.", "workspace.phase", true}, {"workspace.phase", "workspace.phase", true}, {"workspace.ph", "workspace.phase", false}, {"work", "workspace.phase", false}, {"rules prebuild", "prebuild.ended", true}} {
		if got := Wanted(strings.Fields(c.kinds), c.kind); got != c.want {
			t.Errorf("%q wants %s: %v", c.kinds, c.kind, got)
		}
	}
}
