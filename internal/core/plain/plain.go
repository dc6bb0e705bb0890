// Package plain makes text that a stranger wrote fit to be shown, in a
// terminal, on a page, in the journal, and fit for a shell. It is part of the core.
package plain

import (
	"strings"
	"unicode"
)

// Text puts a replacement character in the place of everything that is not to
// be seen: control characters, line ends, what turns the direction of writing.
func Text(s string) string {
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return unicode.ReplacementChar
		}
		return r
	}, s)
}

// Line is Text of at most so many characters; what is longer ends in an ellipsis.
func Line(s string, most int) string {
	if cut := 4 * (most + 1); len(s) > cut { // a character has at most four bytes: the rest need not be looked at
		s = s[:cut]
	}
	s = Text(s)
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// Word makes one word of a text for a POSIX shell.
func Word(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
