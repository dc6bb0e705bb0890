package inside

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"yardbench/internal/steward"
)

// What a set-up command leaves running is known until it ends, and is ended with its
// children when that is asked for; that of other moments goes on.
func TestWhatSetUpLeavesRunning(t *testing.T) {
	p := newPair(t, nil)
	printed := filepath.Join(t.TempDir(), "printed")
	for id, script := range map[string]string{
		"s1.postStartCommand.0":  "sleep 1000 > /dev/null 2>&1 & trap '' HUP; (trap '' TERM; exec sleep 1000) > /dev/null 2>&1 &",
		"s1.postStartCommand.1":  "true",
		"s1.onCreateCommand.0":   "echo begun; (sleep 3; echo later; echo later; touch '" + printed + "'; sleep 1000) &", // as servers do
		"s1.postCreateCommand.0": "sleep 1000 > /dev/null 2>&1 &",
	} {
		q := shell(script)
		q.Secrets = map[string]int{"KEY": 1}
		if out, x := follow(t, p.ask(t, steward.Request{Kind: steward.SetUp, ID: id, Process: q})); x.Code != 0 {
			t.Fatalf("%s: %+v %s", script, x, out)
		}
	}
	left := func() (out []string) {
		for _, h := range p.server.holders() {
			out = append(out, h.Label)
		}
		slices.Sort(out)
		return slices.Compact(out)
	}
	if got := left(); !slices.Equal(got, []string{"onCreateCommand", "postCreateCommand", "postStartCommand"}) {
		t.Errorf("what was left running is %q", got)
	}
	end := func() []string {
		var l steward.Left
		if err := p.ask(t, steward.Request{Kind: steward.EndLeft, ID: "postStartCommand"}).Receive(&l); err != nil {
			t.Fatal(err)
		}
		return l.Ended
	}
	if got := end(); !slices.Equal(got, []string{"s1.postStartCommand.0"}) {
		t.Errorf("ended was %q", got)
	}
	for range 50 { // what prints when nobody listens any more goes on
		if _, err := os.Stat(printed); err == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if _, err := os.Stat(printed); err != nil {
		t.Error("what prints later is gone: ", err)
	}
	p.server.endAll()
	if got := end(); len(got) != 0 {
		t.Errorf("again ended was %q", got)
	}
}
