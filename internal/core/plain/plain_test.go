package plain

import (
	"os/exec"
	"strings"
	"testing"
	"unicode/utf8"
)

func TestLine(t *testing.T) {
	for in, want := range map[string]string{
		"":                                "",
		"Ærøskøbing":                      "Ærøskøbing",
		"two\nlines\x1b[31m":              "two�lines�[31m",
		"ab\u202ecd":                      "ab�cd",
		strings.Repeat("ø", 40):           strings.Repeat("ø", 40),
		strings.Repeat("ø", 41):           strings.Repeat("ø", 39) + "…",
		strings.Repeat("\U0001f6a2", 500): strings.Repeat("\U0001f6a2", 39) + "…",
		"\xff\xfe":                        "��",
	} {
		if got := Line(in, 40); got != want || !utf8.ValidString(got) {
			t.Errorf("%q is %q", in, got)
		}
	}
}

func TestWord(t *testing.T) {
	for _, s := range []string{"", "plain", "two words", "$HOME `id` \\", "it's", "''", "a\nb", "-n"} {
		if out, err := exec.Command("sh", "-c", "printf %s "+Word(s)).Output(); err != nil || string(out) != s {
			t.Errorf("%q comes out as %q, %v", s, out, err)
		}
	}
}
