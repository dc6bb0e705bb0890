package trouble

import (
	"slices"
	"strings"
	"testing"
	"time"
)

const gib = 1 << 30

func TestJudge(t *testing.T) {
	now := time.Date(2026, 11, 28, 10, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name  string
		seen  Seen
		kinds string // one after the other; grave ones with a mark
		word  string // of the first text
	}{
		{"nothing is known", Seen{}, "", ""},
		{"all is well", Seen{Now: now, Data: Disk{40 * gib, 100 * gib}, Images: Disk{40 * gib, 100 * gib}, Up: 9, Away: 1, Plans: 4, NewestEntry: now}, "", ""},
		{"the yard is away, and what it holds is not judged", Seen{YardAway: true, Images: Disk{1, 100 * gib}, Up: 3, Away: 3}, "yard away!", "waits"},
		{"a tenth of a small disk", Seen{Data: Disk{2*gib - 1, 20 * gib}}, "disk filling", "2047 MiB left"},
		{"not under a tenth", Seen{Data: Disk{2 * gib, 20 * gib}}, "", ""},
		{"a large disk is not held to a tenth", Seen{Data: Disk{11 * gib, 4000 * gib}}, "", ""},
		{"but to 10 GiB", Seen{Data: Disk{9 * gib, 4000 * gib}}, "disk filling", "9 GiB"},
		{"a fiftieth", Seen{Data: Disk{300 << 20, 20 * gib}}, "disk nearly full!", "300 MiB left: nothing new"},
		{"a large one at 1 GiB", Seen{Data: Disk{gib - 1, 4000 * gib}}, "disk nearly full!", "1023 MiB"},
		{"full is said once", Seen{Full: true, Data: Disk{0, 20 * gib}}, "disk full!", "nothing can be written"},
		{"the yard's own disk", Seen{Images: Disk{gib, 20 * gib}}, "yard filling", "drop images"},
		{"a steward or two", Seen{Up: 4, Away: 2}, "", ""},
		{"one alone is its owner's matter", Seen{Up: 1, Away: 1}, "", ""},
		{"most of them", Seen{Up: 3, Away: 2}, "stewards away", "of 3 workspaces that run 2"},
		{"webhooks", Seen{Webhooks: 1}, "webhooks failing", "one webhook is not taken for more than 15 min"},
		{"prebuilds", Seen{Plans: 1, FailedLast: 1}, "prebuilds fail", "of one prebuild plan"},
		{"a key", Seen{KeyGone: "keys/sealing.json"}, "keys gone", "keys/sealing.json"},
		{"a clock a little behind", Seen{Now: now, NewestEntry: now.Add(30 * time.Second)}, "", ""},
		{"a trail behind", Seen{Now: now, TrailBehind: now.Add(-150 * time.Second)}, "trail behind", "for 2 min"},
		{"a clock set back", Seen{Now: now, NewestEntry: now.Add(2 * time.Hour)}, "clock back", "2h0m0s behind"},
		{"several, the gravest first", Seen{Webhooks: 2, Plans: 5, FailedLast: 2, Data: Disk{1, 20 * gib}, YardAway: true}, "yard away!, disk nearly full!, webhooks failing, prebuilds fail", ""},
	} {
		var kinds []string
		for _, x := range Judge(c.seen) {
			kinds = append(kinds, x.Kind+map[bool]string{true: "!"}[x.Grave])
			if !slices.Contains(Kinds, x.Kind) {
				t.Errorf("%s: %q is no kind", c.name, x.Kind)
			}
		}
		if got := strings.Join(kinds, ", "); got != c.kinds {
			t.Errorf("%s: %q, want %q", c.name, got, c.kinds)
		} else if c.word != "" && !strings.Contains(Judge(c.seen)[0].Text, c.word) {
			t.Errorf("%s: %q does not say %q", c.name, Judge(c.seen)[0].Text, c.word)
		}
	}
	last := -1
	for _, x := range Judge(Seen{Now: now, YardAway: true, Data: Disk{1, gib}, KeyGone: "k", NewestEntry: now.Add(time.Hour), Webhooks: 1, Plans: 1, FailedLast: 1}) {
		at := slices.Index(Kinds, x.Kind)
		if at <= last {
			t.Errorf("%q comes after what is less grave", x.Kind)
		}
		last = at
	}
}
