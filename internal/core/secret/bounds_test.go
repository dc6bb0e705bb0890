package secret

import (
	"encoding/hex"
	"slices"
	"strings"
	"testing"
)

// What is masked is told to the letter: the shortest, each line of a value, one
// without its line end, and at once where nothing longer can come.
func TestMaskingToTheLetter(t *testing.T) {
	least, line := strings.Repeat("s", MinMasked), "line-one-of-it"
	for _, c := range []struct{ value, text, want string }{
		{least, "x" + least, "x[secret A]"},
		{least[1:], "x" + least[1:], "x" + least[1:]},
		{"hunter2hunter2\r", "it is hunter2hunter2.", "it is [secret A]."},
		{"hunter2hunter2\n", "it is hunter2hunter2.", "it is [secret A]."},
		{line + "\nline-two-of-it", "then line-two-of-it; " + line, "then [secret A]; [secret A]"},
		{line + "\r\nline-two-of-it", line + ".", "[secret A]."},
		{line + "\n" + least[1:], least[1:], least[1:]},
	} {
		if got := mask(c.text, map[string]string{"A": c.value}); got != c.want {
			t.Errorf("with %q the text %q reads %q, not %q", c.value, c.text, got, c.want)
		}
	}
	var out strings.Builder
	m := NewMasker(&out, map[string]string{"A": "harbourlight"})
	if _, err := m.Write([]byte("a harbourlight")); err != nil || out.String() != "a [secret A]" {
		t.Errorf("before anything else comes it reads %q, %v", out.String(), err)
	}
	if _, err := m.Write([]byte(" harbour")); err != nil || out.String() != "a [secret A] " {
		t.Errorf("with one under way it reads %q, %v", out.String(), err)
	}
	if err := m.Close(); err != nil || out.String() != "a [secret A] harbour" {
		t.Errorf("at the end it reads %q, %v", out.String(), err)
	}
}

// Values that overlap are one stretch, those that touch are two, and one that
// holds others takes their place, whatever of it was found before.
func TestMaskingWhatOverlaps(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"harbourbourne.", "[secret A][secret B]."},
		{"harbourharbour.", "[secret A][secret A]."},
		{"zzzzabcdeX", "[secret LONG]"},
		{"zzzzabcdeY", "[secret Z]a[secret C]Y"},
		{"zzzzabcde", "[secret Z]a[secret C]"},
		{"zzzzzz", "[secret Z]"},
		{"zzzz zzzz", "[secret Z] [secret Z]"},
		{"bourneharbour", "[secret B][secret A]"},
	} {
		if got := mask(c.text, map[string]string{"A": "harbour", "B": "bourne", "Z": "zzzz", "C": "bcde", "LONG": "zzzzabcdeX"}); got != c.want {
			t.Errorf("%q reads %q, not %q", c.text, got, c.want)
		}
	}
}

// Forms are made to the letter, within their bounds.
func TestFormsToTheLetter(t *testing.T) {
	is := func(v string, form string, want bool) {
		t.Helper()
		if got := slices.Contains(Forms(v), form); got != want {
			t.Errorf("of %.20q %.40q is a form: %v", v, form, got)
		}
	}
	is("abcd", "abcd", true)
	is("abc", "abc", false)
	is("abcd", "61626364", true)
	is("abcd", "YWJj", false) // too short
	is("abcdef", "YWJjZGVm", true)
	long := strings.Repeat("k", 60) // 80 characters in base64: a line of 76, and 4
	is(long, strings.Repeat("a2tr", 19), true)
	is(long, strings.Repeat("a2tr", 16), true) // lines of 64
	is(long, "a2tr", false)
	is(strings.Repeat("k", 57), strings.Repeat("a2tr", 16), true)
	is(strings.Repeat("k", 48), strings.Repeat("a2tr", 16), true)
	is(strings.Repeat("k", 31), strings.Repeat("6b", 30), true)
	is(strings.Repeat("k", 40), strings.Repeat("6b", 10), true)
	is(strings.Repeat("k", 34), strings.Repeat("6b", 4), false) // the end of it: too short a line
	most := strings.Repeat("k", maxFormed)
	is(most, hex.EncodeToString([]byte(most)), true)
	is(most+"k", hex.EncodeToString([]byte(most+"k")), false)
	for _, v := range []string{"abcd", strings.Repeat("k", 30)} {
		if slices.Contains(Forms(v), "") || len(Forms(v)) > 60 {
			t.Errorf("of %q there are %d forms", v, len(Forms(v)))
		}
	}
}

func mask(s string, byName map[string]string) string { return NewValues(byName).Mask(s) }

// What comes while something is written is masked from then on, also where another
// value is under way just then, and an older one of the same name still is.
func TestValuesThatComeLater(t *testing.T) {
	for cut := range len("harbourlight") {
		v := NewValues(map[string]string{"A": "harbourlight"})
		var out strings.Builder
		m := v.Masker(&out)
		write := func(s string) {
			t.Helper()
			if _, err := m.Write([]byte(s)); err != nil {
				t.Fatal(err)
			}
		}
		write("tidemark " + "harbourlight"[:cut])
		v.Add("B", "tidemark")
		v.Add("B", "tidemark")
		v.Add("A", "lightship")
		write("harbourlight"[cut:] + " tidemark lightship harbourlight")
		if err := m.Close(); err != nil {
			t.Fatal(err)
		}
		if want := "tidemark [secret A] [secret B] [secret A] [secret A]"; out.String() != want {
			t.Errorf("cut at %d it reads %q", cut, out.String())
		}
		if got := v.Mask("tidemark"); got != "[secret B]" {
			t.Errorf("one text reads %q", got)
		}
	}
	var none *Values
	if got := none.Mask("tidemark"); got != "tidemark" {
		t.Errorf("without any it reads %q", got)
	}
}
