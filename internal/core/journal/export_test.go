package journal

import (
	"crypto/ed25519"
	"strings"
	"testing"
	"time"
)

func exported(t *testing.T, key ed25519.PrivateKey, n int) string {
	t.Helper()
	var out strings.Builder
	e := NewExport(&out)
	at := time.Date(2026, 11, 28, 3, 0, 0, 0, time.UTC)
	for i := range n {
		event, err := NewEvent("quay", string(rune('1'+i)), "tide.ebb", "s", at, map[string]int{"n": i})
		if err != nil {
			t.Fatal(err)
		}
		event.EntryHash = "hash" + event.ID
		if err := e.Line(event); err != nil {
			t.Fatal(err)
		}
	}
	seal, err := e.Sealed("quay", at, key)
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := NewEvent("quay", "export-9", "journal.export", "", at, seal)
	if err != nil {
		t.Fatal(err)
	}
	last, err := NewEvent("quay", "head-9", "journal.head", "", at, Head{Installation: "quay", Number: 3, Hash: "hash3", At: at}.Sign(key))
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range []Event{sealed, last} {
		if err := e.Line(l); err != nil {
			t.Fatal(err)
		}
	}
	return out.String()
}

// Whatever is changed in an export shows, with no service at hand.
func TestVerifyExport(t *testing.T) {
	pub, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	otherPub, other, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	text := exported(t, key, 3)
	lines := strings.SplitAfter(text, "\n")
	head := func(n int64, hash string, by ed25519.PrivateKey) []Head {
		return []Head{Head{Installation: "quay", Number: n, Hash: hash, At: time.Now()}.Sign(by)}
	}
	for name, c := range map[string]struct {
		text  string
		key   ed25519.PublicKey
		heads []Head
		says  string
	}{
		"as it is":               {text, pub, nil, ""},
		"with its own key":       {text, nil, nil, ""},
		"of another":             {text, otherPub, nil, "was not made with this key"},
		"sealed anew by another": {exported(t, other, 3), pub, nil, "was not made with this key"},
		"changed":                {strings.Replace(text, `"n":1`, `"n":7`, 1), pub, nil, "is not as it was sealed"},
		"cut":                    {lines[0] + strings.Join(lines[2:], ""), pub, nil, "it has 2 entries, and 3 were sealed"},
		"turned about":           {lines[1] + lines[0] + strings.Join(lines[2:], ""), pub, nil, "stands behind entry 2"},
		"added to":               {text + lines[0], pub, nil, "stands behind the seal"},
		"broken off":             {lines[0], pub, nil, "it has no seal"},
		"rubbish":                {"no event\n", pub, nil, "line 1 is no event"},
		"nothing":                {"", pub, nil, "it has no seal"},
		"held against a head":    {text, pub, head(2, "hash2", key), ""},
		"against a head beyond":  {text, pub, head(12, "x", key), ""},
		"against another entry":  {text, pub, head(2, "other", key), "entry 2 is another one"},
		"against another's head": {text, pub, head(2, "hash2", other), "and is held against " + KeyID(pub)},
	} {
		r, err := VerifyExport(strings.NewReader(c.text), c.key, c.heads)
		said := strings.Join(r.Problems, "; ")
		if err != nil {
			said = err.Error()
		}
		if c.says == "" && said != "" || !strings.Contains(said, c.says) {
			t.Errorf("%s: it says %q", name, said)
		}
		if c.says == "" && (r.Entries != 3 || r.First != 1 || r.Last != 3 || r.Installation != "quay" || r.Own != (c.key == nil) || r.Heads < 1) {
			t.Errorf("%s: it finds %+v", name, r)
		}
	}
	if _, err := ParsePublicPEM([]byte("no key")); err == nil {
		t.Error("rubbish is a key")
	}
}
