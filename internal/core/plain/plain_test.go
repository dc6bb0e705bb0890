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

func TestNear(t *testing.T) {
	known := []string{"ready", "stopped", "idle", "remoteUser", "id"}
	for word, want := range map[string]string{"redy": "ready", "READY": "ready", "stoped": "stopped", "remoteuser": "remoteUser", "remotUsr": "remoteUser", "ide": "idle", "": "id", "nothing": "", "rdx": "id", "readyreadyready": "", "stxpxxd": ""} {
		if got := Near(word, known); got != want {
			t.Errorf("near %q is %q, not %q", word, got, want)
		}
	}
}

// How far words are apart, in letters, up to nine.
func TestEdits(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"", "", 0}, {"quay", "quay", 0}, {"quay", "quays", 1}, {"quays", "quay", 1}, {"kitten", "sitting", 3}, {"", "abc", 3}, {"abc", "", 3}, {"flaw", "lawn", 2}, {"a", "abcdefghi", 8}, {"abcdefghi", "a", 8},
		{"a", "abcdefghij", 9}, {"abcdefghij", "a", 9}, {"", "abcdefgh", 8}, {strings.Repeat("a", 12), strings.Repeat("b", 12), 9}, {strings.Repeat("a", 8), strings.Repeat("b", 8), 8}} {
		if got := edits(c.a, c.b); got != c.want {
			t.Errorf("from %q to %q it is %d, not %d", c.a, c.b, got, c.want)
		}
	}
}
