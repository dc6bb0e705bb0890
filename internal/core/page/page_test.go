package page

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
)

type boat struct {
	name  string
	berth int64
}

var boats = Kind[boat]{Name: "boats", ID: func(b boat) string { return b.name }, Orders: []Order[boat]{
	{"name", func(b boat) string { return b.name }},
	{"berth", func(b boat) string { return Number(b.berth) }},
}}

func fleet(n int) (all []boat) {
	for i := range n {
		all = append(all, boat{fmt.Sprintf("boat-%03d", (i*37)%n), int64(i%5) - 2})
	}
	return all
}

// readAll reads a whole list in parts.
func readAll(t *testing.T, list func(after string) []boat, ask Ask) (names []string) {
	t.Helper()
	for range 200 {
		part, next, err := boats.Cut(list(ask.After), ask)
		if err != nil {
			t.Fatal(err)
		}
		if len(part) > ask.Limit {
			t.Fatalf("a part has %d things, at most %d are wanted", len(part), ask.Limit)
		}
		for _, b := range part {
			names = append(names, b.name)
		}
		if ask.After = next; next == "" {
			return names
		}
	}
	t.Fatal("it does not end")
	return nil
}

func TestPartsAreTheWhole(t *testing.T) {
	for _, sort := range []string{"", "name", "-name", "berth", "-berth"} {
		whole, next, err := boats.Cut(fleet(101), Ask{Sort: sort})
		if err != nil || next != "" || len(whole) != 101 {
			t.Fatalf("%q: %d things, %q, %v", sort, len(whole), next, err)
		}
		for _, limit := range []int{1, 7, 100, 101, 102} {
			got := readAll(t, func(string) []boat { return fleet(101) }, Ask{Limit: limit, Sort: sort})
			if !slices.EqualFunc(got, whole, func(n string, b boat) bool { return n == b.name }) {
				t.Errorf("%q in parts of %d is %v", sort, limit, got)
			}
		}
	}
}

func TestOrders(t *testing.T) {
	all := []boat{{"b", 2}, {"c", -1}, {"a", 2}}
	other := boats
	other.Usual = "-berth"
	if part, _, err := other.Cut(slices.Clone(all), Ask{}); err != nil || part[0].name != "a" || part[2].name != "c" {
		t.Errorf("by another usual order it is %v, %v", part, err)
	}
	for sort, want := range map[string]string{"": "abc", "name": "abc", "-name": "cba", "berth": "cab", "-berth": "abc"} {
		part, _, err := boats.Cut(slices.Clone(all), Ask{Sort: sort})
		got := ""
		for _, b := range part {
			got += b.name
		}
		if err != nil || got != want {
			t.Errorf("%q is %q, %v", sort, got, err)
		}
	}
}

// What comes and goes while a list is read does not make one that stays come
// twice or not at all.
func TestReadWhileItChanges(t *testing.T) {
	got := readAll(t, func(after string) []boat {
		all := fleet(20)
		if after != "" { // the last one read is gone, and one before it has come
			all = slices.DeleteFunc(all, func(b boat) bool { return b.name == "boat-004" })
			all = append(all, boat{"boat-000a", 0})
		}
		return all
	}, Ask{Limit: 5})
	if len(got) != 20 || slices.Contains(got, "boat-000a") || !slices.IsSorted(got) {
		t.Errorf("it is read as %v", got)
	}
}

func TestRubbish(t *testing.T) {
	_, next, err := boats.Cut(fleet(10), Ask{Limit: 5})
	if err != nil || next == "" {
		t.Fatal(next, err)
	}
	other := boats
	other.Name = "ferries"
	for _, c := range []struct {
		kind Kind[boat]
		ask  Ask
		says string
	}{
		{boats, Ask{After: "!"}, "cannot be read"},
		{boats, Ask{After: "bm90IGpzb24"}, "cannot be read"},
		{boats, Ask{After: strings.Repeat("a", MaxMark+1)}, "too long"},
		{boats, Ask{After: strings.Repeat("a", MaxMark)}, "cannot be read"},
		{boats, Ask{After: next, Sort: "berth"}, "another list or order"},
		{boats, Ask{After: next, Sort: "-name"}, "another list or order"},
		{other, Ask{After: next}, "another list or order"},
	} {
		_, _, err := c.kind.Cut(fleet(10), c.ask)
		var no NoMark
		if !errors.As(err, &no) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %v", c.ask, err)
		}
	}
	for _, sort := range []string{"colour", "-colour", "--name", "-"} {
		_, _, err := boats.Cut(fleet(3), Ask{Sort: sort})
		var no NoOrder
		if !errors.As(err, &no) || !slices.Equal(no.Has, []string{"name", "berth"}) {
			t.Errorf("%q: %v", sort, err)
		}
	}
}

func TestNumber(t *testing.T) {
	numbers := []int64{math.MinInt64, -1 << 40, -2, -1, 0, 1, 9, 10, 1 << 40, math.MaxInt64}
	for i, n := range numbers[1:] {
		if Number(numbers[i]) >= Number(n) {
			t.Errorf("%d does not come before %d", numbers[i], n)
		}
	}
}

// FuzzMark goes on after anything.
func FuzzMark(f *testing.F) {
	_, next, _ := boats.Cut(fleet(10), Ask{Limit: 5})
	f.Add(next, "name")
	f.Add("e30", "")
	f.Fuzz(func(t *testing.T, after, sort string) {
		part, _, err := boats.Cut(fleet(10), Ask{After: after, Sort: sort, Limit: 3})
		if err == nil && len(part) > 3 {
			t.Errorf("%d things", len(part))
		}
	})
}
