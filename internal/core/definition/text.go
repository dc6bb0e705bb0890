package definition

import (
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/tailscale/hujson"
)

func position(text []byte, offset int) (line, column int) {
	if offset > len(text) {
		offset = len(text)
	}
	before := string(text[:offset])
	return strings.Count(before, "\n") + 1, offset - strings.LastIndexByte(before, '\n')
}

var parsePlace = regexp.MustCompile(`line (\d+), column (\d+): `)

// syntaxOffset takes the place out of the parser's message.
func syntaxOffset(text []byte, err error) int {
	m := parsePlace.FindStringSubmatch(err.Error())
	if m == nil {
		return -1
	}
	line, _ := strconv.Atoi(m[1])
	col, _ := strconv.Atoi(m[2])
	off := 0
	for range line - 1 {
		i := strings.IndexByte(string(text[off:]), '\n')
		if i < 0 {
			return -1
		}
		off += i + 1
	}
	return off + col - 1
}

func parseCause(err error) string {
	s := err.Error()
	if i := parsePlace.FindStringIndex(s); i != nil {
		return s[i[1]:]
	}
	return strings.TrimPrefix(s, "hujson: ")
}

// tooDeep finds nesting beyond MaxDepth without recursion.
func tooDeep(text []byte) (int, bool) {
	depth, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '/' && i+1 < len(text) && text[i+1] == '/':
			for i < len(text) && text[i] != '\n' {
				i++
			}
		case c == '/' && i+1 < len(text) && text[i+1] == '*':
			end := strings.Index(string(text[i+2:]), "*/")
			if end < 0 {
				return 0, false
			}
			i += 2 + end + 1
		case c == '{' || c == '[':
			if depth++; depth > MaxDepth {
				return i, true
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	return 0, false
}

func kindWord(kind string) string {
	switch kind {
	case "map", "struct", "ptr":
		return "object"
	case "slice":
		return "array"
	}
	return kind
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// standard is JSON without comments and trailing commas.
func standard(text []byte) ([]byte, error) { return hujson.Standardize(slices.Clone(text)) }

// stringsOf takes a string, or a list of them.
func stringsOf(value any) (out []string) {
	switch v := value.(type) {
	case string:
		return []string{v}
	case []any:
		for _, e := range v {
			if s, ok := e.(string); ok {
				out = append(out, s)
			}
		}
	}
	return out
}
