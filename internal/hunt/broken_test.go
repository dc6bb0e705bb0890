package hunt

import (
	"context"
	"database/sql"
	"strings"
	"testing"

	"yardbench/internal/yard"
)

// fault breaks something on purpose, to show that the hunt finds it.
type fault struct {
	name string
	// skipped begins the name of what is answered as done and never done.
	skipped string
	// every is how many of those are done before one is not; 0: none is done.
	every int
	count *int
	// after is called when something was done.
	after      func(l *life, what, workspace string)
	twoKeepers bool
}

func (f fault) instead(what string) bool {
	if f.skipped == "" || !strings.HasPrefix(what, f.skipped) {
		return false
	}
	if f.every == 0 {
		return true
	}
	*f.count++
	return *f.count%f.every == 0
}

func (f fault) afterwards(l *life, what, workspace string) {
	if f.after != nil {
		f.after(l, what, workspace)
	}
}

// inRecords changes the records behind the service's back after each commit.
func inRecords(query string) func(l *life, what, _ string) {
	return func(l *life, what, _ string) {
		if what != "commit" {
			return
		}
		db, err := sql.Open("sqlite", "file:"+l.file+"?_pragma=busy_timeout(1000)&_pragma=synchronous(OFF)")
		if err == nil {
			_, err = db.Exec(query)
			db.Close()
		}
		if err != nil {
			l.note("the fault is not done: %v", err)
		}
	}
}

var known = []fault{
	{name: "a commit that is answered and not written", skipped: "commit", every: 23, count: new(int)},
	{name: "a removal that is answered and not done", skipped: "remove-volume"},
	{name: "a doubled step", after: func(l *life, what, workspace string) {
		if strings.HasPrefix(what, "make-volume") {
			_ = l.yard.Make(context.Background(), yard.Volume{Workspace: workspace, Number: 77, SizeBytes: 0}) // what could fail is the fault's own
		}
	}},
	{name: "a phase that changes without a word in the journal", after: inRecords("UPDATE workspaces SET phase = 'stopped', wanted = 'stopped' WHERE phase = 'ready'")},
	{name: "a lost reservation", after: inRecords("UPDATE workspaces SET owner_id = (SELECT id FROM people WHERE name = 'astrid'), name = id WHERE phase <> 'removed' AND kind = 'person'")},
	{name: "two keepers", twoKeepers: true},
}

// What is broken on purpose is found, within a few stories.
func TestKnownFaults(t *testing.T) {
	for _, f := range known {
		found := ""
		for seed := uint64(1); seed <= 25 && found == ""; seed++ {
			if _, wrong, _ := story(t, seed, f); len(wrong) > 0 {
				found = wrong[0]
			}
		}
		if found == "" {
			t.Errorf("%s: nothing is found wrong", f.name)
		}
		t.Logf("%s: %s", f.name, found)
	}
}
