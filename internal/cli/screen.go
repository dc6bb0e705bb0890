package cli

import (
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// screen is a terminal to which others' text is written: what was printed in a
// workspace. Of control sequences (ECMA-48) colours alone pass; those that write
// the clipboard, name the window, make links, ask the terminal or move about do
// not, nor what turns the direction of writing. A sequence may come in pieces.
type screen struct {
	to     io.Writer
	in     screenState
	params []byte // of the sequence that is coming
	held   []byte // the beginning of a character
}

type screenState int

const (
	inText screenState = iota
	inEscape
	inControl // CSI: up to its final byte
	inString  // OSC, DCS and the like: up to BEL or ST
	inStringEscape
)

// longestControl bounds a colour's sequence; longer ones are none.
const longestControl = 64

// forPeople is where others' text goes: to a terminal with colours only, else as
// it is.
func (a *app) forPeople() io.Writer {
	if isTerminal(a.out) {
		return &screen{to: a.out}
	}
	return a.out
}

func (s *screen) Write(p []byte) (int, error) {
	var out strings.Builder
	text := append(s.held, p...)
	s.held = nil
	for len(text) > 0 {
		r, n := utf8.DecodeRune(text)
		if r == utf8.RuneError && n <= 1 {
			if !utf8.FullRune(text) {
				s.held = append([]byte(nil), text...)
				break
			}
			text = text[1:] // no text of ours: nothing can be said of it
			continue
		}
		switch s.in {
		case inText:
			switch {
			case r == 0x1b:
				s.in = inEscape
			case r == 0x9b:
				s.in = inControl
			case r == 0x9d || r == 0x90 || r == 0x98 || r == 0x9e || r == 0x9f:
				s.in = inString
			case r == '\n' || r == '\t' || r == '\r' || r == '\u200d' || unicode.IsPrint(r) || unicode.Is(unicode.Zs, r):
				out.WriteRune(r)
			}
		case inEscape:
			switch {
			case r == '[':
				s.in = inControl
			case r == ']' || r == 'P' || r == 'X' || r == '^' || r == '_':
				s.in = inString
			case r >= 0x20 && r <= 0x2f: // an intermediate byte: one more comes
			case r == 0x1b:
			default:
				s.in = inText
			}
		case inControl:
			switch {
			case r >= 0x20 && r <= 0x3f:
				s.params = append(s.params, byte(r))
				s.params = s.params[:min(len(s.params), longestControl+1)]
			default:
				if r == 'm' && len(s.params) <= longestControl && strings.Trim(string(s.params), "0123456789;:") == "" {
					out.WriteString("\x1b[" + string(s.params) + "m")
				}
				s.in, s.params = inText, nil
				if r < 0x20 { // it ends what is no sequence
					continue
				}
			}
		case inString:
			switch r {
			case 0x07, 0x9c:
				s.in = inText
			case 0x1b:
				s.in = inStringEscape
			}
		case inStringEscape:
			s.in = inString
			if r == '\\' {
				s.in = inText
			} else if r == 0x1b {
				s.in = inStringEscape
			}
		}
		text = text[n:]
	}
	if _, err := io.WriteString(s.to, out.String()); err != nil {
		return 0, err
	}
	return len(p), nil
}
