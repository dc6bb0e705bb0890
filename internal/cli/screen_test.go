package cli

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"
)

// Of what a workspace printed a terminal gets text and colours, in whatever
// pieces it comes.
func TestScreen(t *testing.T) {
	for in, want := range map[string]string{
		"plain\n\ttext \r Ærøskøbing \U0001f6a2\n":            "plain\n\ttext \r Ærøskøbing \U0001f6a2\n",
		"\x1b[31;1mred\x1b[0m \x1b[38:2:1:2:3mown\x1b[m":      "\x1b[31;1mred\x1b[0m \x1b[38:2:1:2:3mown\x1b[m",
		"a\x1b]52;c;cHduZWQ=\x07b":                            "ab",
		"a\x1b]0;PWNED\x1b\\b":                                "ab",
		"a\x1b]8;;javascript:x\x1b\\link\x1b]8;;\x07b":        "alinkb",
		"a\x1bPq...\x1b\\b\x1b_x\x07c\x1b^x\x9c":              "abc",
		"a\x1b[2Jb\x1b[6nc\x1b[?1049hd\x1b[>4;2me":            "abcde",
		"a\u009b31mb\u009b2Jc\u009d0;x\x07d":                  "a\x1b[31mbcd",
		"a\x07\x08\x00\x0b\x0c\x0e\x7fb":                      "ab",
		"a\u202eb\u2066c\u200bd\ufeffe":                       "abcde",
		"a\x1bcb\x1b(0c\x1b#8d":                               "abcd",
		"a\x1b[" + strings.Repeat("1;", 50) + "mb":            "ab",
		"a\xff\xfeb\xc3":                                      "ab",
		"unfinished \x1b]52;c;" + strings.Repeat("A", 10_000): "unfinished ",
		"a\x1b[12\nb":            "a\nb",
		"\x1b]0;\x1b\x1b\\after": "after",
	} {
		var whole bytes.Buffer
		if n, err := (&screen{to: &whole}).Write([]byte(in)); n != len(in) || err != nil || whole.String() != want {
			t.Errorf("%q is shown as %q, not %q", in, whole.String(), want)
		}
		for range 20 {
			var out bytes.Buffer
			s := &screen{to: &out}
			for rest := []byte(in); len(rest) > 0; {
				n := 1 + rand.IntN(min(5, len(rest)))
				if _, err := s.Write(rest[:n]); err != nil {
					t.Fatal(err)
				}
				rest = rest[n:]
			}
			if out.String() != want {
				t.Errorf("in pieces %q is shown as %q, not %q", in, out.String(), want)
			}
		}
	}
}

func FuzzScreen(f *testing.F) {
	f.Add([]byte("a\x1b]52;c;x\x07b\x1b[31mc\x9b2J\u202e"))
	f.Fuzz(func(t *testing.T, p []byte) {
		var out bytes.Buffer
		if _, err := (&screen{to: &out}).Write(p); err != nil {
			t.Fatal(err)
		}
		for rest := out.String(); ; {
			_, after, more := strings.Cut(rest, "\x1b")
			if !more {
				break
			}
			params, end, ok := strings.Cut(strings.TrimPrefix(after, "["), "m")
			if !ok || !strings.HasPrefix(after, "[") || strings.Trim(params, "0123456789;:") != "" {
				t.Fatalf("%q passes as %q", p, out.String())
			}
			rest = end
		}
		if strings.ContainsAny(out.String(), "\x00\x07\x08\u009b\u009d\u0090\u202e") {
			t.Fatalf("%q passes as %q", p, out.String())
		}
	})
}

// A terminal is left by Ctrl-^ twice in a row, however the keys come.
func TestLeavingATerminal(t *testing.T) {
	for _, c := range []struct {
		typed  string
		before bool
		at     int
		last   bool
	}{{"ls\r", false, -1, false}, {"\x1e\x1e", false, 1, false}, {"a\x1eb\x1e", false, -1, true}, {"\x1e", true, 0, false}, {"x\x1e", true, -1, true}, {"", true, -1, true}, {"ab\x1e\x1ec", false, 3, false}} {
		if at, last := leaves([]byte(c.typed), c.before); at != c.at || last != c.last {
			t.Errorf("%q after %v leaves at %d, %v", c.typed, c.before, at, last)
		}
	}
}
