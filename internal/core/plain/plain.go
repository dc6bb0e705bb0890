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

// Near is which of the known words may be meant by one that is none of them: the
// one that the fewest letters lead to, at most two, whatever their case. It is
// empty where none is.
func Near(word string, known []string) (near string) {
	distance := 3
	for _, k := range known {
		if n := edits(strings.ToLower(k), strings.ToLower(word)); n < distance {
			near, distance = k, n
		}
	}
	return near
}

// edits is the number of letters to change, put in or take out that lead from
// one word to the other (Levenshtein's distance), at most 9.
func edits(a, b string) int {
	if len(a)-len(b) > 8 || len(b)-len(a) > 8 {
		return 9
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		before := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := before
			if a[i-1] != b[j-1] {
				cost = min(before, row[j], row[j-1]) + 1
			}
			before, row[j] = row[j], cost
		}
	}
	return min(row[len(b)], 9)
}
