package rules

import (
	"strings"
	"testing"
	"time"
)

// Amounts are read and written exactly, to their bounds and not beyond.
func TestAmountsToTheirBounds(t *testing.T) {
	day := 24 * time.Hour
	for s, want := range map[string]time.Duration{"9 s": 9 * time.Second, "0 s": 0, "1.5 h": 90 * time.Minute, "5m": 5 * time.Minute, "1 h 30 min": 90 * time.Minute, "2 d": 2 * day, "1 day": day, "400 days": 400 * day, "399 days 24 h": 400 * day, " 8h ": 8 * time.Hour} {
		if got, err := ParseDuration(s); err != nil || got != want {
			t.Errorf("%q is %s, %v", s, got, err)
		}
	}
	for s, says := range map[string]string{"": "missing", "5": "no unit", "h": "no length of time", "/ h": "no length", ": h": "no length", "5 `": "no unit of time", "5 {": "no unit of time", "5 weeks": "\"weeks\" is no unit", "5 zs": "no unit of time", "5 as": "no unit of time",
		"401 days": "longer than 400", "400 days 1 s": "longer than 400", "300 days 300 days": "longer than 400", "1.2.3 h": "no length", "-1 h": "no length"} {
		if got, err := ParseDuration(s); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q is %s, %v; wanted is %q", s, got, err, says)
		}
	}
	for s, want := range map[string]int64{"1 MiB": 1 << 20, "0.5 GiB": 512 << 20, "1024 TiB": 1 << 50, "10GiB": 10 << 30, "2 TiB": 2 << 40, "9 GiB": 9 << 30} {
		if got, err := ParseBytes(s); err != nil || got != want {
			t.Errorf("%q is %d, %v", s, got, err)
		}
	}
	for s, says := range map[string]string{"5": "no unit", "5 GB": "did you mean GiB", "5 /": "no unit of memory", "5 :": "no unit of memory", "GiB": "no amount", "0.9 MiB": "out of bounds", "1025 TiB": "out of bounds", "5 PiB": "use MiB, GiB or TiB"} {
		if got, err := ParseBytes(s); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q is %d, %v; wanted is %q", s, got, err, says)
		}
	}
	for s, want := range map[string]int64{"0": 0, "0.05": 50, "2": 2000, "1000000000000": 1e15} {
		if got, err := parseThousandths(s); err != nil || got != want {
			t.Errorf("%q is %d, %v", s, got, err)
		}
	}
	for s, says := range map[string]string{"x": "no number", "1/2": "no number", "1e3": "no number", "0.0005": "more than 3 decimals", "-1": "less than nothing", "1000000000000.001": "too large", "99999999999999999999": "too large"} {
		if got, err := parseThousandths(s); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q is %d, %v; wanted is %q", s, got, err, says)
		}
	}
	for d, want := range map[time.Duration]string{48 * time.Hour: "2 days", 72 * time.Hour: "3 days", 24 * time.Hour: "24 h", 49 * time.Hour: "49 h", time.Hour: "1 h", 90 * time.Minute: "1 h 30 min", 61 * time.Minute: "1 h 1 min", time.Minute: "1 min", 59 * time.Minute: "59 min", 90 * time.Second: "90 s", time.Hour + time.Second: "3601 s", 1500 * time.Millisecond: "1.5 s", 0: "0 s"} {
		if got := Duration(d); got != want {
			t.Errorf("%d is written %q, not %q", d, got, want)
		}
	}
	for n, want := range map[int64]string{1 << 30: "1 GiB", 10 << 30: "10 GiB", 512 << 20: "512 MiB", 1536 << 20: "1536 MiB", 10<<30 + 512<<20: "10.5 GiB", 10<<30 - 512<<20: "9728 MiB", 0: "0 GiB"} {
		if got := Bytes(n); got != want {
			t.Errorf("%d bytes are written %q, not %q", n, got, want)
		}
	}
	for m, want := range map[Money]string{0: "0.00", 1: "0.000001", 60_000: "0.06", 1_500_000: "1.50", 1_000_000: "1.00", 120_000_000: "120.00", 1_234_500: "1.2345", -1_500_000: "-1.50", -1: "-0.000001"} {
		if got := m.Decimal(); got != want {
			t.Errorf("%d is written %q, not %q", m, got, want)
		}
	}
	for k, want := range map[Kind]string{Cores: "2.5", Memory: "2500 MiB", Existing: "2500"} {
		n := int64(2500)
		if k == Memory {
			n <<= 20
		}
		if got := Amount(k, n); got != want {
			t.Errorf("%s is written %q, not %q", k, got, want)
		}
	}
	if got := Thousandths(1234); got != "1.234" {
		t.Errorf("cores are written %q", got)
	}
}

// Each bound of the document: what is at it is taken, and one less or more is not.
func TestTheDocumentsBounds(t *testing.T) {
	for name, c := range map[string]struct{ old, new, says string }{
		"as it is":                 {"organisation:", "organisation:", ""},
		"a name of 60":             {"organisation: ", "organisation: " + strings.Repeat("x", 60) + " #", ""},
		"a name of 61":             {"organisation: ", "organisation: " + strings.Repeat("x", 61) + " #", "too long"},
		"no zone":                  {"time_zone: ", "time_zone: \"\" #", "no time zone"},
		"the machine's zone":       {"time_zone: ", "time_zone: Local #", "no time zone"},
		"a zone there is not":      {"time_zone: ", "time_zone: Skerry/Line #", "no time zone"},
		"kept an hour":             {"stopped_most: ", "stopped_most: 1 h #", ""},
		"kept less":                {"stopped_most: ", "stopped_most: 59 min #", "too short; use at least 1 h"},
		"as much rest as the most": {"rest_after_most: 10 h", "rest_after_most: 1 h", ""},
		"less rest than that":      {"rest_after_most: 10 h", "rest_after_most: 59 min", "shorter than rest_after"},
		"a name twice":             {"usual_size: ", "usual_size: small\nusual_size: ", "twice"},
	} {
		text := strings.Replace(bounded, c.old, c.new, 1)
		_, found := Parse([]byte(text))
		said := ""
		for _, f := range found {
			said += f.String() + "\n"
		}
		if (c.says == "") != (said == "") || !strings.Contains(said, c.says) {
			t.Errorf("%s: %q, wanted is %q", name, said, c.says)
		}
	}
	for size, good := range map[int]bool{MaxBytes: true, MaxBytes + 1: false} {
		if _, found := Parse([]byte(bounded + "#" + strings.Repeat("x", size-len(bounded)-1))); (len(found) == 0) != good {
			t.Errorf("a document of %d bytes: %v", size, found)
		}
	}
	for cores, good := range map[string]bool{"0.05": true, "0.049": false} {
		if _, found := Parse([]byte(strings.Replace(bounded, "cores: 1,", "cores: "+cores+",", 1))); (len(found) == 0) != good {
			t.Errorf("%s cores: %v", cores, found)
		}
	}
	for limits, good := range map[string]bool{"{person: {existing: 0}}": true, "{person: {existing: -1}}": false, "{person: {existing: 1.5}}": false} {
		if _, found := Parse([]byte(bounded + "limits: " + limits + "\n")); (len(found) == 0) != good {
			t.Errorf("limits of %s: %v", limits, found)
		}
	}
	// Findings stand in the order of their lines.
	_, found := Parse([]byte(strings.NewReplacer("currency: EUR", "currency: euro", "warn_before: 1 min", "warn_before: soon").Replace(bounded)))
	if len(found) != 2 || found[0].Line >= found[1].Line {
		t.Errorf("found are %v", found)
	}
	// A mistake of YAML is told where it is.
	if _, found := Parse([]byte("currency: EUR\nsizes: [\n")); len(found) != 1 || found[0].Line < 2 || found[0].Column < 1 || !strings.HasPrefix(found[0].What, "not YAML") {
		t.Errorf("found is %v", found)
	}
}

const bounded = `organisation: Skerry Line
currency: EUR
time_zone: Europe/Oslo
sizes: {small: {cores: 1, memory: 1 GiB, disk: 10 GiB}}
usual_size: small
idle: {quiet_after: 2 min, rest_after: 1 h, warn_before: 1 min, cpu_floor: 0.1, hold_most: 12 h,
  rest_after_most: 10 h}
retention: {
  stopped_most: 14 days
  }
rates: {running_hour: {small: 0.06}, storage_gib_month: 0.09, prebuild_minute: 0.004}
`

// Registries, mirrors and what begins a name.
func TestNamesOfImages(t *testing.T) {
	for image, whole := range map[string]string{"base": "docker.io/library/base", "skerry/base:1": "docker.io/skerry/base:1", "registry.example/base": "registry.example/base", "host:5000/base": "host:5000/base", "localhost/base": "localhost/base"} {
		if got := Whole(image); got != whole {
			t.Errorf("%s is %s", image, got)
		}
	}
	i := Images{Mirrors: map[string]string{"docker.io": "mirror.example/hub/", "docker.io/skerry/": "mirror.example/own", "docker.io/sk": "wrong.example"}}
	for image, from := range map[string]string{"base:1": "mirror.example/hub/library/base:1", "skerry/base": "mirror.example/own/base", "registry.example/base": "registry.example/base"} {
		if got := i.Mirrored(image); got != from {
			t.Errorf("%s is fetched as %s", image, got)
		}
	}
	i = Images{From: []string{"docker.io/skerry", "registry.example/a/"}}
	for image, may := range map[string]bool{"skerry/base": true, "skerryline/base": false, "registry.example/a": true, "registry.example/a:1": true, "registry.example/a@sha256:0": true, "registry.example/ab": false, "base": false} {
		if i.May(image) != may {
			t.Errorf("that %s may be used is %v", image, !may)
		}
	}
}
