package definition

import (
	"bytes"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/tailscale/hujson"
)

// places are where the members of nested objects stand: offsets in bytes.
type places struct {
	at int
	of map[string]*places
}

// maxPlaces bounds how deep places are remembered; no property lies deeper.
const maxPlaces = 5

// placesOf remembers where the members of an object stand, of two of one name
// the last, as it is the one that counts; those of an array by their number,
// from 0.
func placesOf(v hujson.Value, at, depth int) *places {
	p := &places{at: at}
	if depth >= maxPlaces {
		return p
	}
	switch v := v.Value.(type) {
	case *hujson.Object:
		p.of = make(map[string]*places, len(v.Members))
		for _, m := range v.Members {
			p.of[m.Name.Value.(hujson.Literal).String()] = placesOf(m.Value, m.Name.StartOffset, depth+1)
		}
	case *hujson.Array:
		p.of = make(map[string]*places, len(v.Elements))
		for i, e := range v.Elements {
			p.of[strconv.Itoa(i)] = placesOf(e, e.StartOffset, depth+1)
		}
	}
	return p
}

// find gives the offset of a member by its path; where the last of it is not to
// be found, that of what holds it. -1 is none.
func (p *places) find(name ...string) int {
	at := -1
	for _, n := range name {
		if p == nil || p.of[n] == nil {
			return at
		}
		p = p.of[n]
		at = p.at
	}
	return at
}

// has tells whether a member is there.
func (p *places) has(name ...string) bool {
	for _, n := range name {
		if p == nil || p.of[n] == nil {
			return false
		}
		p = p.of[n]
	}
	return p != nil
}

// utf8Of takes the mark off that some editors put before a text (RFC 8259, 8.1,
// lets a reader do so); false where the mark says that it is UTF-16.
func utf8Of(text []byte) ([]byte, bool) {
	if bytes.HasPrefix(text, []byte("\xff\xfe")) || bytes.HasPrefix(text, []byte("\xfe\xff")) {
		return text, false
	}
	return bytes.TrimPrefix(text, []byte("\xef\xbb\xbf")), true
}

// lines are the offsets at which the lines of a text begin.
func lines(text []byte) []int {
	out := []int{0}
	for i, c := range text {
		if c == '\n' {
			out = append(out, i+1)
		}
	}
	return out
}

// position is the line and the column of an offset, both from 1.
func (d *doc) position(offset int) (line, column int) {
	if d.starts == nil {
		d.starts = lines(d.text)
	}
	offset = min(offset, len(d.text))
	line, found := slices.BinarySearch(d.starts, offset)
	if found {
		line++
	}
	return line, offset - d.starts[line-1] + 1
}

// line is the offset at which a line begins, counted from 1; -1 where there is none.
func (d *doc) line(n int) int {
	if d.starts == nil {
		d.starts = lines(d.text)
	}
	if n < 1 || n > len(d.starts) {
		return -1
	}
	return d.starts[n-1]
}

var parsePlace = regexp.MustCompile(`line (\d+), column (\d+): `)

// syntaxOffset takes the place out of the parser's message.
func (d *doc) syntaxOffset(err error) int {
	m := parsePlace.FindStringSubmatch(err.Error())
	if m == nil {
		return -1
	}
	line, _ := strconv.Atoi(m[1])
	column, _ := strconv.Atoi(m[2])
	if at := d.line(line); at >= 0 {
		return at + column - 1
	}
	return -1
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
			end := bytes.Index(text[i+2:], []byte("*/"))
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
