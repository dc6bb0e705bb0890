package service

import (
	"errors"
	"testing"
	"time"

	"yardbench/internal/fault"
)

// A person changes so much at once and so much over time, and has so much going
// on; others are not held by it, nor who only looks.
func TestPace(t *testing.T) {
	now := time.Unix(1e9, 0)
	p := &Pace{perHour: 3600, now: func() time.Time { return now }}
	changes := func(person string, n int) (good int) {
		for range n {
			if end, err := p.Begin(person, true); err == nil {
				end()
				good++
			}
		}
		return good
	}
	if n := changes("ingrid", 1000); n != 360 {
		t.Errorf("at once %d changes are taken", n)
	}
	_, err := p.Begin("ingrid", true)
	if f := (&fault.Fault{}); !errors.As(err, &f) || f.Class != fault.TooMany || f.After != time.Second {
		t.Errorf("one more is told %v", err)
	}
	if n := changes("mats", 10); n != 10 {
		t.Errorf("another is held to %d", n)
	}
	if end, err := p.Begin("ingrid", false); err != nil {
		t.Errorf("a look is told %v", err)
	} else {
		end()
	}
	now = now.Add(10 * time.Second)
	if n := changes("ingrid", 100); n != 10 {
		t.Errorf("after 10 s %d changes are taken", n)
	}
	var ends []func()
	for range maxAtOnce {
		end, err := p.Begin("runa", false)
		if err != nil {
			t.Fatal(err)
		}
		ends = append(ends, end)
	}
	if _, err := p.Begin("runa", false); err == nil {
		t.Error("more goes on at once than is allowed")
	}
	ends[0]()
	if _, err := p.Begin("runa", false); err != nil {
		t.Errorf("when one has ended: %v", err)
	}
	p.perHour = 0
	if n := changes("sigrid", 100_000); n != 100_000 {
		t.Errorf("without a bound %d changes are taken", n)
	}
}
