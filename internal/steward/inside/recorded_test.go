package inside

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"yardbench/internal/steward"
)

// Who records a terminal is nobody who is at it: they see what is printed from then on
// and its sizes, and what is to be recorded from its beginning waits for them.
func TestRecordsATerminal(t *testing.T) {
	p := newPair(t, nil)
	began := time.Now()
	open := p.ask(t, steward.Request{Kind: steward.Terminal, ID: "main", Recorded: true, Passing: true, Columns: 80, Rows: 24, Process: steward.Process{Argv: []string{"/bin/sh", "-c", "echo first-$((1+1)); exec sh"}, Folder: p.folder}})
	mine := &seat{t: t, c: open}
	rec := &seat{t: t, c: p.ask(t, steward.Request{Kind: steward.Terminal, ID: "main", Typist: "recorder", Records: true})}
	rec.until("all from its beginning", func() bool { return strings.Contains(rec.out.String(), "first-2") })
	mine.until("the same", func() bool { return strings.Contains(mine.out.String(), "first-2") })
	if took := time.Since(began); took > awaited {
		t.Errorf("it waited %s", took)
	}
	rec.types("echo typed-$((3+3))\n")
	mine.types("echo on-$((4+4))\n")
	mine.until("what goes on", func() bool { return strings.Contains(mine.out.String(), "on-8") })
	if strings.Contains(mine.out.String(), "typed-6") {
		t.Error("who records has typed")
	}
	// One who begins later has nothing of what was printed before, and the sizes.
	late := p.ask(t, steward.Request{Kind: steward.Terminal, ID: "main", Typist: "late", Records: true})
	if err := mine.c.SendJSON(steward.Resize, steward.Size{Columns: 99, Rows: 33}); err != nil {
		t.Fatal(err)
	}
	var sizes []steward.Size
	for len(sizes) < 2 {
		k, part, err := late.ReceiveFrame()
		if err != nil {
			t.Fatal(err)
		}
		switch k {
		case steward.Resize:
			var s steward.Size
			if err := json.Unmarshal(part, &s); err != nil {
				t.Fatal(err)
			}
			sizes = append(sizes, s)
		case steward.Output:
			if strings.Contains(string(part), "first-2") {
				t.Error("it has what was printed before")
			}
		}
	}
	if sizes[0] != (steward.Size{Columns: 80, Rows: 24}) || sizes[1] != (steward.Size{Columns: 99, Rows: 33}) {
		t.Errorf("the sizes are %v", sizes)
	}
	// The terminal ends with the last who is at it, however many record it.
	mine.c.Stream.Close()
	late.Stream.Close()
	for {
		k, _, err := rec.c.ReceiveFrame()
		if err != nil {
			t.Fatal(err)
		}
		if k == steward.Ended {
			break
		}
	}
	// Where nobody comes to record, it goes on after a moment.
	began = time.Now()
	alone := &seat{t: t, c: p.ask(t, steward.Request{Kind: steward.Terminal, ID: "other", Recorded: true, Columns: 80, Rows: 24, Process: steward.Process{Argv: []string{"/bin/sh", "-c", "echo late-$((5+5))"}, Folder: p.folder}})}
	alone.until("it", func() bool { return strings.Contains(alone.out.String(), "late-10") })
	if took := time.Since(began); took < awaited {
		t.Errorf("it waited %s", took)
	}
}
