package password

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

func TestThereAndBack(t *testing.T) {
	ctx := t.Context()
	one, err1 := Hash(ctx, "same-one")
	two, err2 := Hash(ctx, "same-one")
	if err1 != nil || err2 != nil || one == two {
		t.Errorf("twice the same password is kept as %s and %s, %v, %v", one, two, err1, err2)
	}
	for _, c := range []struct {
		hash, password string
		right          bool
	}{{one, "same-one", true}, {two, "same-one", true}, {one, "same-two", false}, {"", "", false}, {"", "same-one", false}, {"$argon2id$v=19$m=0$$", "x", false}, {"rubbish", "x", false}} {
		if right, err := Check(ctx, c.hash, c.password); err != nil || right != c.right {
			t.Errorf("%q against %q: %v, %v", c.password, c.hash, right, err)
		}
	}
	for _, bad := range []string{"", "seven77", string(make([]byte, Most+1))} {
		if _, err := Hash(ctx, bad); !errors.Is(err, ErrShort) {
			t.Errorf("a password of %d bytes: %v", len(bad), err)
		}
	}
}

// However many come at once, a few are worked out at once, and most are told
// to come again.
func TestManyAtOnce(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute) // each takes seconds under the race detector on a busy machine
	defer cancel()
	var busy, done atomic.Int64
	var wg sync.WaitGroup
	for range 400 {
		wg.Go(func() {
			switch _, err := Check(ctx, "", "whatever-it-is"); {
			case errors.Is(err, ErrBusy):
				busy.Add(1)
			case err == nil:
				done.Add(1)
			}
		})
	}
	wg.Wait()
	if busy.Load() < 300 || done.Load()+busy.Load() != 400 || done.Load() < mostWaiting/2 {
		t.Errorf("%d were worked out, %d told to come again", done.Load(), busy.Load())
	}
	if waiting.Load() != 0 || len(turns) != 0 {
		t.Errorf("%d wait, %d are at it", waiting.Load(), len(turns))
	}
}

// Guesses at the same time are counted as such, by name and by address; a
// flood of names does not have what is counted forgotten.
func TestAttempts(t *testing.T) {
	now := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	var a Attempts
	tries := func(n int, name func(int) string, from func(int) string, at time.Time) (passed int) {
		for i := range n {
			if _, _, ok := a.Begin(name(i), from(i), at); ok {
				passed++
			}
		}
		return passed
	}
	ingrid := func(int) string { return "ingrid" }
	many := func(i int) string { return fmt.Sprint("n", i) }
	apart := func(i int) string { return fmt.Sprintf("10.0.%d.%d", i/250, i%250) }
	home := func(int) string { return "192.0.2.7" }
	if n := tries(50, ingrid, apart, now); n != perName {
		t.Errorf("%d guesses at one name pass", n)
	}
	if n := tries(500, many, home, now); n != perSource {
		t.Errorf("%d guesses from one address pass", n)
	}
	if n := tries(500, many, func(i int) string { return fmt.Sprintf("2001:db8::%x", i+1) }, now); n != perSource {
		t.Errorf("%d guesses from one subscriber pass", n)
	}
	if n := tries(maxKept+5000, func(i int) string { return fmt.Sprint("m", i) }, func(i int) string { return fmt.Sprintf("10.%d.%d.%d", 1+i/62500, i/250%250, i%250) }, now); n < maxKept/3 {
		t.Errorf("of many, %d pass", n)
	}
	if len(a.of) > maxKept+2 {
		t.Errorf("%d are kept", len(a.of))
	}
	if n := tries(1, ingrid, apart, now.Add(time.Minute)); n != 0 {
		t.Error("a flood of names has the guesses at one forgotten")
	}
	if n := tries(1, ingrid, home, now.Add(window)); n != 1 {
		t.Error("after the window there is no other try")
	}
	var b Attempts
	for range 3 * perName {
		right, _, ok := b.Begin("mats", "192.0.2.7", now)
		if !ok {
			t.Fatal("whoever knows the password is shut out")
		}
		right()
	}
	for range 3 * perSource {
		_, untried, ok := b.Begin("mats", "192.0.2.7", now)
		if !ok {
			t.Fatal("whoever was told to come again is shut out")
		}
		untried()
	}
}

// What would be guessed first is refused; what people make up is not.
func TestWeak(t *testing.T) {
	for p, weak := range map[string]bool{"12345678": true, "87654321": true, "aaaaaaaa": true, "abababab": true, "password": true, "Password123!": true, "P@ssw0rd1": true, "qwertyuiop": true, "asdfghjkl": true, "ingrid12": true, "Ingrid2026": true, "ingridsolheim": true,
		"31415926": true, "long enough": false, "another one": false, "skerry-line": false, "correct horse battery": false, "Xk3#vQ9z": false, "ingrid walks to the north quay": false, "password of the north quay": false, "271828182845": false} {
		if err := Weak(p, "ingrid", "solheim"); (err != nil) != weak {
			t.Errorf("%q: %v", p, err)
		}
	}
}

// What is made at no cost is checked like any other.
func TestCheap(t *testing.T) {
	hash := Cheap("tide over the skerry")
	for text, want := range map[string]bool{"tide over the skerry": true, "tide over the skerrz": false, "": false} {
		if ok, err := Check(t.Context(), hash, text); err != nil || ok != want {
			t.Errorf("%q is %v, %v", text, ok, err)
		}
	}
}
