package serve

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"yardbench/internal/store"
	"yardbench/internal/store/blank"
	"yardbench/internal/yard"
)

// paper is a yard that only keeps claims.
type paper struct {
	claims map[int]yard.Claim
	away   bool
}

func (p *paper) Claimed(context.Context) (c yard.Claim, ok bool, err error) {
	if p.away {
		return c, false, yard.ErrAway
	}
	for n, one := range p.claims {
		if n > c.Number {
			c, ok = one, true
		}
	}
	return c, ok, nil
}

func (p *paper) Claim(_ context.Context, c yard.Claim) error {
	if _, there := p.claims[c.Number]; !there {
		p.claims[c.Number] = c
	}
	for n := range p.claims {
		if n < c.Number {
			delete(p.claims, n)
		}
	}
	return nil
}

// Who may keep a yard, start after start.
func TestClaims(t *testing.T) {
	p := &paper{claims: map[int]yard.Claim{}}
	records := func() *store.Store {
		return blank.Open(t, filepath.Join(t.TempDir(), "a.db"), time.Now)
	}
	number := func(st *store.Store, n string) {
		t.Helper()
		if err := st.Write(t.Context(), func(tx *store.Tx) error { return tx.SetMeta(t.Context(), metaClaim, n) }); err != nil {
			t.Fatal(err)
		}
	}
	ours, theirs := records(), records()
	start := func(st *store.Store, holder string, takeOver bool) error {
		return (&claim{yard: p, store: st, holder: holder, where: holder, takeOver: takeOver}).hold(t.Context())
	}
	for n, c := range []struct {
		what     string
		st       *store.Store
		holder   string
		takeOver bool
		before   func()
		refused  error
		number   int
		old      bool // the records are found to be older than the yard
	}{
		{"the first start", ours, "a", false, nil, nil, 1, false},
		{"another start", ours, "a", false, nil, nil, 2, false},
		{"a yard that is away", ours, "a", false, func() { p.away = true }, yard.ErrAway, 2, false},
		{"back again", ours, "a", false, func() { p.away = false }, nil, 3, false},
		{"a copy beside it", theirs, "b", false, func() { number(theirs, "3") }, yard.ErrClaimed, 3, false},
		{"a copy that is told to take over", theirs, "b", true, nil, nil, 4, true},
		{"the first one again", ours, "a", false, nil, yard.ErrClaimed, 4, false},
		{"the first one with older records", ours, "a", true, nil, nil, 5, true},
		{"one more start, as nobody has looked", ours, "a", false, nil, nil, 6, true},
		{"somebody has looked", ours, "a", true, nil, nil, 7, false},
		{"records that were set back where they are", ours, "a", false, func() { number(ours, "2") }, nil, 8, true},
		{"records of before there were claims", theirs, "a", false, func() { number(theirs, "") }, nil, 9, true},
	} {
		if c.before != nil {
			c.before()
		}
		err := start(c.st, c.holder, c.takeOver)
		p2 := *p
		p2.away = false
		there, _, _ := p2.Claimed(t.Context())
		old, serr := setBack(t.Context(), c.st)
		if !errors.Is(err, c.refused) || there.Number != c.number || serr != nil || c.refused == nil && (old != c.old || there.Holder != c.holder) {
			t.Fatalf("%d, %s: %v; the claim is %+v, set back %v", n, c.what, err, there, old)
		}
	}
	if len(p.claims) != 1 {
		t.Errorf("older claims stand: %v", p.claims)
	}
}

// A data directory is the same after it was moved; its copy is another.
func TestHolder(t *testing.T) {
	dir := t.TempDir()
	one, err := holderOf(dir)
	if err != nil {
		t.Fatal(err)
	}
	if other, err := holderOf(t.TempDir()); err != nil || other == one {
		t.Errorf("two folders are %s and %s, %v", one, other, err)
	}
}

// Who is refused is told whether the other service runs, where that is seen from here.
func TestRefusalTellsWhetherTheOtherRuns(t *testing.T) {
	host, err := os.Hostname()
	if err != nil {
		t.Fatal(err)
	}
	runs, ended := t.TempDir(), t.TempDir()
	for _, dir := range []string{runs, ended} {
		lock, err := os.Create(filepath.Join(dir, "lock"))
		if err != nil {
			t.Fatal(err)
		}
		defer lock.Close()
		if dir == runs {
			if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
				t.Fatal(err)
			}
		}
	}
	for where, says := range map[string]string{host + ":" + runs: "records, runs now.", host + ":" + ended: "records, does not run now.", host + ":/nothing/here": "records, does not run now.", "lighthouse:" + runs: "with the same records. Two"} {
		if got := (&claim{}).refusal(yard.Claim{Where: where}).Error(); !strings.Contains(got, says) {
			t.Errorf("of %s it is said: %s", where, got)
		}
	}
}
