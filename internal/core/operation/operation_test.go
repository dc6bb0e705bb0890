package operation

import (
	"testing"

	"yardbench/internal/core/lifecycle"
)

// How it stands with a workspace follows from what is seen of it alone, whenever
// one looks.
func TestJudge(t *testing.T) {
	for _, c := range []struct {
		verb Verb
		seen Seen
		want State
		why  string
	}{
		{Start, Seen{Phase: lifecycle.Waiting}, UnderWay, ""},
		{Start, Seen{Phase: lifecycle.Starting}, UnderWay, ""},
		{Start, Seen{Phase: lifecycle.Ready}, Done, ""},
		{Start, Seen{Phase: lifecycle.Failed, Cause: "no image"}, Failed, "no image"},
		{Start, Seen{Phase: lifecycle.Stopping}, Failed, "it was stopped meanwhile"},
		{Start, Seen{Phase: lifecycle.Stopped, Cause: "out of memory"}, Failed, "out of memory"},
		{Start, Seen{Phase: lifecycle.Removing}, Failed, "it was removed meanwhile"},
		{Stop, Seen{Phase: lifecycle.Stopping}, UnderWay, ""},
		{Stop, Seen{Phase: lifecycle.Stopped}, Done, ""},
		{Stop, Seen{Phase: lifecycle.Starting}, Done, ""},
		{Stop, Seen{Phase: lifecycle.Failed, Cause: "x"}, Failed, "x"},
		{Stop, Seen{Phase: lifecycle.Removed}, Failed, "it was removed meanwhile"},
		{Rebuild, Seen{Phase: lifecycle.Ready, Rebuilding: true, Body: 1, Goal: 2}, UnderWay, ""},
		{Rebuild, Seen{Phase: lifecycle.Waiting, Rebuilding: true, Body: 1, Goal: 2}, UnderWay, ""},
		{Rebuild, Seen{Phase: lifecycle.Ready, Body: 2, Goal: 2}, Done, ""},
		{Rebuild, Seen{Phase: lifecycle.Ready, Body: 3, Goal: 2}, Done, ""},
		{Rebuild, Seen{Phase: lifecycle.Ready, Body: 1, Goal: 2, SheetCause: "no such feature"}, Failed, "no such feature"},
		{Rebuild, Seen{Phase: lifecycle.Ready, Body: 1, Goal: 2}, Failed, "the new container could not be made; the old one is in use"},
		{Rebuild, Seen{Phase: lifecycle.Stopped, Body: 1, Goal: 2}, Failed, "it was stopped meanwhile"},
		{Remove, Seen{Phase: lifecycle.Removing}, UnderWay, ""},
		{Remove, Seen{Phase: lifecycle.Removed}, Done, ""},
		{Remove, Seen{Phase: lifecycle.Failed, Cause: "the yard"}, Failed, "the yard"},
		{Remove, Seen{Phase: lifecycle.Ready}, Failed, "something else was asked of it meanwhile: it is ready"},
		{Hold, Seen{Phase: lifecycle.Ready}, Done, ""},
		{LetRest, Seen{Phase: lifecycle.Stopped}, Done, ""},
		{Tell, Seen{Phase: lifecycle.Failed}, Done, ""},
	} {
		if got, why := Judge(c.verb, c.seen); got != c.want || why != c.why {
			t.Errorf("%s of %+v is %s, %q; wanted %s, %q", c.verb, c.seen, got, why, c.want, c.why)
		}
	}
}

// Whatever phase a workspace is in, a verb is over with it or it may still move.
func TestEveryPhaseIsJudged(t *testing.T) {
	for _, v := range Verbs {
		for _, p := range lifecycle.Phases {
			state, why := Judge(v, Seen{Phase: p, Cause: "x"})
			if state == UnderWay && p.Settled() {
				t.Errorf("%s is under way for ever with one that is %s", v, p)
			}
			if (state == Failed) != (why != "") {
				t.Errorf("%s with one that is %s is %s, because %q", v, p, state, why)
			}
		}
		if !v.Known() || v.NeedsReason() != (v == Hold || v == Tell) {
			t.Errorf("%s is not known, or wants another reason", v)
		}
	}
	if Verb("burn").Known() {
		t.Error("a verb that is none is known")
	}
}

func TestCount(t *testing.T) {
	c := Count{Waiting: 2, UnderWay: 1, Done: 4}
	if c.Left() != 3 || c.Bad() {
		t.Errorf("%v: %d left, bad %v", c, c.Left(), c.Bad())
	}
	for _, s := range States {
		if s.Over() != (s != Waiting && s != UnderWay) {
			t.Errorf("%s is over: %v", s, s.Over())
		}
	}
	for _, s := range []State{Failed, Refused, Cancelled} {
		if !(Count{s: 1}).Bad() {
			t.Errorf("%s is not bad", s)
		}
	}
}
