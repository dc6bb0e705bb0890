package rules

import (
	"reflect"
	"runtime"
	"strings"
	"testing"
	"time"

	"yardbench/internal/bound"
)

func parsed(t *testing.T, text string) Rules {
	t.Helper()
	r, findings := Parse([]byte(text))
	if len(findings) > 0 {
		t.Fatalf("findings: %v", findings)
	}
	return r
}

func TestFirstRules(t *testing.T) {
	r := parsed(t, First)
	if r.Sizes["middle"] != (Size{2000, 4 << 30, 20 << 30}) || strings.Join(r.Order, " ") != "small middle large" || r.UsualSize != "small" {
		t.Errorf("sizes are %v in the order %v", r.Sizes, r.Order)
	}
	if !reflect.DeepEqual(r.Idle, Idle{5 * time.Minute, time.Hour, 12 * time.Hour, 5 * time.Minute, 100, 12 * time.Hour, nil}) || r.StoppedMost != 30*24*time.Hour {
		t.Errorf("rest is %+v, retention %s", r.Idle, r.StoppedMost)
	}
	if got := r.Limits.OfPerson("anybody"); len(got) != 2 || got[Existing] != 8 || got[Running] != 4 || len(r.Limits.OfTeam("any")) != 0 {
		t.Errorf("limits are %v and %v", got, r.Limits.OfTeam("any"))
	}
}

// Each mistake is told where it stands, with what is allowed, and a document
// with mistakes says them all.
func TestFindings(t *testing.T) {
	for _, c := range []struct{ name, old, new, at, says string }{
		{"unit slip in memory", "memory: 2 GiB", "memory: 2 GB", "8:30", "did you mean GiB"},
		{"no unit", "memory: 2 GiB", "memory: 2", "8:30", "no unit"},
		{"unit of another kind", "memory: 2 GiB", "memory: 2 min", "8:30", "no unit of memory"},
		{"time without a unit", "rest_after: 1 h ", "rest_after: 60 ", "20:15", "has no unit"},
		{"time in a wrong unit", "rest_after: 1 h ", "rest_after: 1 GiB", "20:15", "no unit of time"},
		{"too short", "stopped_most: 30 days", "stopped_most: 30 s", "27:17", "too short"},
		{"a rate is missing", "running_hour: {small: 0, middle: 0,", "running_hour: {small: 0,", "31:3", "“middle\" has no rate"},
		{"a rate for no size", "{small: 0, middle", "{tiny: 0, small: 0, middle", "31:18", "\"tiny\" is no size"},
		{"too many decimals", "prebuild_minute: 0", "prebuild_minute: 0.0000001", "33:20", "more than 6 decimals"},
		{"negative", "prebuild_minute: 0", "prebuild_minute: -1", "33:20", "less than nothing"},
		{"misspelt", "quiet_after", "quite_after", "19:3", "is not known in idle"},
		{"missing", "currency: EUR\n", "", "", "currency is missing"},
		{"no currency", "currency: EUR", "currency: euros", "4:11", "no currency"},
		{"no zone", "time_zone: UTC", "time_zone: Skerry", "5:12", "no time zone"},
		{"usual size that is none", "usual_size: small", "usual_size: huge", "11:13", "name one of: small, middle, large"},
		{"a limit that is no count", "existing: 8", "existing: many", "16:22", "no count"},
		{"crossed times", "rest_after_most: 12 h", "rest_after_most: 30 min", "21:20", "shorter than rest_after"},
		{"not YAML", "sizes:", "sizes: [", "", "not YAML"},
		{"twice the same", "usual_size: small", "usual_size: small\nusual_size: large", "12:1", "stands twice"},
		{"an alias", "usual_size: small", "usual_size: *x", "", ""},
		{"a list for a mapping", "retention:\n  stopped_most: 30 days   # then it is removed, unless work in it exists nowhere else\n  logs_most: 90 days      # so long the logs of launch sheets are kept", "retention: [1]", "26:12", "must be a list of names with values"},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := strings.Replace(First, c.old, c.new, 1)
			if text == First {
				t.Fatal("the case changes nothing")
			}
			_, findings := Parse([]byte(text))
			var all []string
			for _, f := range findings {
				all = append(all, f.String())
			}
			said := strings.Join(all, "\n")
			says := strings.ReplaceAll(c.says, "“", "\"")
			if len(findings) == 0 || !strings.Contains(said, says) || !strings.HasPrefix(said, strings.TrimSuffix(c.at+":", ":")) {
				t.Errorf("it is told: %s", said)
			}
		})
	}
	if _, findings := Parse([]byte(strings.NewReplacer("2 GiB", "2 GB", "1 h", "60", "UTC", "Skerry").Replace(First))); len(findings) != 3 {
		t.Errorf("three mistakes are told as %v", findings)
	}
	if _, findings := Parse([]byte(strings.Repeat("#", MaxBytes+1))); len(findings) != 1 {
		t.Errorf("a document that is too large is told as %v", findings)
	}
}

// Sixty kilobytes of brackets once took all memory there is.
func TestTextCostsWhatItIsLong(t *testing.T) {
	for _, part := range []string{"[", "{", "{a: ", "- ", "? ", "a: [\n", "!a ", "&a ", "*a ", "a:\n ", "[[],", "#\n", "'", "- a\n", "a: b\n"} {
		text := []byte(strings.Repeat(part, MaxBytes/len(part)))
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, findings := Parse(text)
		runtime.ReadMemStats(&after)
		if took := after.TotalAlloc - before.TotalAlloc; took > 1024*MaxBytes {
			t.Errorf("%d bytes of %q took %d MiB of memory", len(text), part, took>>20)
		}
		if len(findings) == 0 || len(findings) > maxFindings {
			t.Errorf("%q again and again has %d findings", part, len(findings))
		}
	}
}

func TestDiff(t *testing.T) {
	old := parsed(t, First)
	if d := Diff(old, old); len(d) != 0 {
		t.Errorf("the same rules differ: %v", d)
	}
	changed := parsed(t, strings.NewReplacer("rest_after: 1 h ", "rest_after: 45 min", "person: {existing: 8, running: 4}", "person: {running: 6}\n  teams: {Harbour: {memory: 64 GiB}}", "middle: 0,", "middle: 0.14,").Replace(First))
	want := "idle.rest_after: 1 h → 45 min\nlimits.person.existing: 8 → none\nlimits.person.running: 4 → 6\nlimits.teams.Harbour.memory: none → 64 GiB\nrates.running_hour.middle: 0.00 → 0.14"
	if got := strings.Join(Diff(old, changed), "\n"); got != want {
		t.Errorf("it differs by\n%s", got)
	}
}

// What is written is read again as the same.
func TestAmountsThereAndBack(t *testing.T) {
	for _, d := range []time.Duration{time.Second, 90 * time.Second, 45 * time.Minute, time.Hour, 90 * time.Minute, 30 * 24 * time.Hour, 36 * time.Hour} {
		if got, err := ParseDuration(Duration(d)); err != nil || got != d {
			t.Errorf("%s is written %q and read %s, %v", d, Duration(d), got, err)
		}
	}
	for _, n := range []int64{1 << 20, 512 << 20, 1 << 30, 40 << 30, 3 << 29} {
		if got, err := ParseBytes(Bytes(n)); err != nil || got != n {
			t.Errorf("%d is written %q and read %d, %v", n, Bytes(n), got, err)
		}
	}
	for text, want := range map[string]time.Duration{"2h": 2 * time.Hour, "1 h 30 min": 90 * time.Minute, "1.5 h": 90 * time.Minute, "45m": 45 * time.Minute} {
		if got, err := ParseDuration(text); err != nil || got != want {
			t.Errorf("%q is read %s, %v", text, got, err)
		}
	}
	for _, bad := range []string{"", "h", "2", "2 weeks", "two h", "-1 h", "9999 days", "1..2 h"} {
		if got, err := ParseDuration(bad); err == nil {
			t.Errorf("%q is read %s", bad, got)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(First))
	f.Add([]byte("a: &x [*x]\nsizes: {{}}\n? [1]: 2\n"))
	for _, nest := range []string{"[", "- ", "{a: ", "? ", "a: &b\n "} {
		f.Add([]byte(strings.Repeat(nest, 60_000)))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		var r Rules
		var findings []Finding
		bound.Hold(t, 256, func() { r, findings = Parse(text) })
		if len(findings) == 0 && (r.Zone == nil || len(r.Sizes) == 0 || r.Idle.RestAfter <= 0) {
			t.Errorf("rules that cannot be used have no finding: %+v", r)
		}
	})
}
