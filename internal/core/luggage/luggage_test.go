package luggage

import (
	"reflect"
	"strconv"
	"strings"
	"testing"
	"time"
)

func TestCheck(t *testing.T) {
	for in, want := range map[string]string{
		"~/.bash_history": ".bash_history", ".config/tide/": ".config/tide", " notes ": "notes", "~/a b/ø": "a b/ø",
	} {
		if got, err := Check(in); err != nil || got != want {
			t.Errorf("%q is %q, %v", in, got, err)
		}
	}
	for _, in := range []string{"", "~", "~/", ".", "/", "/etc/passwd", "..", "../x", "a/../../x", "a//b", "./a", "a/.", "a\nb", "a\x00b", "a\xffb", "*.txt", `a\b`, ".own-files", "~/.own-files/x", strings.Repeat("a", MostPath+1)} {
		if got, err := Check(in); err == nil {
			t.Errorf("%q is taken as %q", in, got)
		}
	}
}

func TestCheckAll(t *testing.T) {
	got, err := CheckAll([]string{"~/.config/tide", ".config", ".bash_history", "~/.bash_history", ".configured"})
	if want := []string{".config", ".bash_history", ".configured"}; err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%q, %v", got, err)
	}
	var many []string
	for n := range MostPaths + 1 {
		many = append(many, "p"+strconv.Itoa(n))
	}
	if _, err := CheckAll(many); err == nil {
		t.Error("too many paths are taken")
	}
	if got, err := CheckAll(many[1:]); err != nil || len(got) != MostPaths {
		t.Errorf("%d paths, %v", len(got), err)
	}
	if _, err := CheckAll([]string{"a", "/b"}); err == nil {
		t.Error("one that is wrong is taken")
	}
}

func TestTake(t *testing.T) {
	at := time.Date(2026, 3, 14, 9, 0, 0, 0, time.UTC)
	kept := []File{{Path: "a", Bytes: 600, ChangedAt: at}, {Path: "d/b", Bytes: 300, ChangedAt: at}}
	paths := []string{"a", "d"}
	for _, c := range []struct {
		found File
		ok    bool
		why   string
	}{
		{File{Path: "a", Bytes: 700, ChangedAt: at.Add(1)}, true, ""},
		{File{Path: "a", Bytes: 700, ChangedAt: at}, false, ""},
		{File{Path: "a", Bytes: 701, ChangedAt: at.Add(1)}, false, "house rules"},
		{File{Path: "d/c", Bytes: 100, ChangedAt: at.Add(-time.Hour)}, true, ""},
		{File{Path: "d/c", Bytes: 101, ChangedAt: at}, false, "house rules"},
		{File{Path: "dd", Bytes: 1, ChangedAt: at}, false, "not asked for"},
		{File{Path: "d/../x", Bytes: 1, ChangedAt: at}, false, "not asked for"},
		{File{Path: "/a", Bytes: 1, ChangedAt: at}, false, "not asked for"},
		{File{Path: "a", Bytes: MostFileBytes + 1, ChangedAt: at.Add(1)}, false, "larger than 512 KiB"},
	} {
		if ok, why := Take(kept, paths, c.found, 1000); ok != c.ok || (c.why == "") != (why == "") || !strings.Contains(why, c.why) {
			t.Errorf("%+v: %t, %q", c.found, ok, why)
		}
	}
	var many []File
	for n := range MostFiles {
		many = append(many, File{Path: "d/" + strconv.Itoa(n), ChangedAt: at})
	}
	if ok, _ := Take(many, paths, File{Path: "a", ChangedAt: at}, 1000); ok {
		t.Error("one more file than may be is taken")
	}
	if ok, _ := Take(many, paths, File{Path: "d/7", ChangedAt: at.Add(1)}, 1000); !ok {
		t.Error("a newer one of those that are kept is not taken")
	}
}
