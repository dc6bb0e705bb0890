package attention

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

func TestPlain(t *testing.T) {
	for _, c := range []struct {
		cause string
		names []string
		want  string
	}{
		{"the image mirror.skerryline.example/hub/go:1 cannot be fetched", nil, "the image mirror.skerryline.example/hub/go:1 cannot be fetched"},
		{"quay of ingrid cannot start: quay-x is not quay", []string{"quay", "ingrid"}, "… of … cannot start: quay-x is not …"},
		{"in tide-board-2 and tide-board", []string{"tide-board", "tide-board-2"}, "in … and …"},
		{"dial tcp 10.213.4.7:5000: refused", nil, "dial tcp …: refused"},
		{"layer sha256:0123456789abcdef of 67v2mpbmy2g75voe took 12.5 s", nil, "layer … of … took …"},
		{"ended with 1", nil, "ended with 1"},
		{"exit 137 after 4 min, at 12:04:33", nil, "exit … after …, at …"},
		{"quayquay quay", []string{"quay"}, "quayquay …"},
		{"  a \n b\t", nil, "a b"},
		{"æquay quayæ", []string{"quay"}, "æquay quayæ"},
		{"", []string{""}, ""},
	} {
		names := slices.Clone(c.names)
		if got := Plain(c.cause, c.names); got != c.want {
			t.Errorf("%q is %q, not %q", c.cause, got, c.want)
		}
		if !slices.Equal(names, c.names) {
			t.Errorf("the names are another order: %q", c.names)
		}
		if again := Plain(Plain(c.cause, c.names), c.names); again != c.want {
			t.Errorf("of %q it takes out more each time: %q", c.cause, again)
		}
	}
	if n := len(Plain(strings.Repeat("æ", 10_000), nil)); n > maxCause {
		t.Errorf("a long one has %d bytes", n)
	}
}

// Forty workspaces are three causes; what holds up most people for longest is first.
func TestGroups(t *testing.T) {
	now := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	var cases []Case
	for i := range 23 {
		cases = append(cases, Case{Of: "workspace", ID: fmt.Sprint(i), Name: fmt.Sprintf("w%d.p%d", i, i%19), Owner: fmt.Sprint("p", i%19), Kind: Failed, In: "Image", Cause: fmt.Sprintf("w%d: the image cannot be fetched from mirror.skerryline.example: dial 10.0.0.%d:443", i, i), Since: now.Add(-time.Duration(i+1) * time.Minute), Names: []string{fmt.Sprint("w", i)}})
	}
	for i := range 9 {
		cases = append(cases, Case{Of: "workspace", Name: fmt.Sprintf("f%d.q%d", i, i), Owner: fmt.Sprint("q", i), Kind: "set-up failed", In: "npm ci", Cause: "ended with 1", Since: now.Add(-time.Hour)})
	}
	cases = append(cases,
		Case{Of: "workspace", Name: "x.q1", Owner: "q1", Kind: Failed, In: "Start", Cause: "ended with 1", Since: now.Add(-time.Minute)},
		Case{Of: "webhook", Name: "https://hooks.skerryline.example", Kind: "not taken", Cause: "it answers 500", Since: now.Add(-time.Hour)})
	groups := Groups(cases, now)
	var told []string
	for _, g := range groups {
		told = append(told, fmt.Sprintf("%s %s %d of %d, %s", g.Kind, g.In, len(g.Cases), g.People, now.Sub(g.Since)))
	}
	want := []string{"set-up failed npm ci 9 of 9, 1h0m0s", "failed Image 23 of 19, 23m0s", "not taken  1 of 0, 1h0m0s", "failed Start 1 of 1, 1m0s"}
	if !slices.Equal(told, want) {
		t.Errorf("they are told as\n%s\nnot\n%s", strings.Join(told, "\n"), strings.Join(want, "\n"))
	}
	if g := groups[1]; g.Cause != "…: the image cannot be fetched from mirror.skerryline.example: dial …" || g.Cases[0].ID != "22" || !g.Newest.Equal(now.Add(-time.Minute)) {
		t.Errorf("the group is %q, its first %s", g.Cause, g.Cases[0].Name)
	}
	// The key stays while the cause does, whoever has it.
	other := Groups(cases[3:4], now)
	if other[0].Key != groups[1].Key || groups[0].Key == groups[1].Key {
		t.Errorf("the keys are %s and %s", other[0].Key, groups[1].Key)
	}
	if len(Groups(nil, now)) != 0 {
		t.Error("of nothing there is something")
	}
}

func TestCommon(t *testing.T) {
	a := []string{"Step 1", "fetching 12.5 MiB", "npm ERR! quay: no lock file", "at 10:00:01", "ended with 1"}
	b := []string{"Step 1", "something else", "npm ERR! pier: no lock file", "ended with 1", "at 10:00:09"}
	if got := Common([][]string{a, b}, []string{"quay", "pier"}); !slices.Equal(got, []string{"Step 1", "npm ERR! quay: no lock file", "at 10:00:01", "ended with 1"}) {
		t.Errorf("in common are %q", got)
	}
	if got := Common([][]string{a, {"nothing of that"}}, nil); len(got) != 0 {
		t.Errorf("in common are %q", got)
	}
	if Common(nil, nil) != nil {
		t.Error("nothing has lines")
	}
	var long []string
	for i := range 100 {
		long = append(long, fmt.Sprintf("line %s", string(rune('a'+i%26))+strings.Repeat("x", i/26)))
	}
	if got := Common([][]string{long, long}, nil); len(got) != maxCommon || got[maxCommon-1] != long[99] {
		t.Errorf("of a long one it tells %q", got)
	}
}
