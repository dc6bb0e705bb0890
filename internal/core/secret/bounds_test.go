package secret

import (
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
		if got := Mask(c.text, map[string]string{"A": c.value}); got != c.want {
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
