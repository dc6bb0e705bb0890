// Package cast writes and reads recordings of terminals in the open format
// asciicast, version 2: a line of JSON of what is recorded, then a line for each
// thing that happened, [seconds from the beginning, kind, text].
//
// It is part of the core: plain functions over content it is handed.
package cast

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"time"
	"unicode/utf8"
)

// MediaType is what such a file is.
const MediaType = "application/x-asciicast"

// Header is what is recorded.
type Header struct {
	Version   int    `json:"version"`
	Width     int    `json:"width"`               // columns
	Height    int    `json:"height"`              // rows
	Timestamp int64  `json:"timestamp,omitempty"` // when it began, in seconds since 1970
	Title     string `json:"title,omitempty"`
}

// Kinds of events. A reader passes over those it does not know.
const (
	Output = "o"
	Resize = "r" // the text is COLUMNSxROWS
	Mark   = "m" // something is said of this place
)

// Event is something that happened.
type Event struct {
	At   time.Duration // from the beginning
	Kind string
	Text string
}

// Bounds of what is read.
const (
	maxLine = 4 << 20
	maxSide = 10_000 // columns, rows
)

// Begin is the first line.
func Begin(width, height int, began time.Time, title string) []byte {
	b, _ := json.Marshal(Header{Version: 2, Width: width, Height: height, Timestamp: began.Unix(), Title: title}) // it is numbers and a text
	return append(b, '\n')
}

// Line is an event's line.
func (e Event) Line() []byte {
	text, _ := json.Marshal(e.Text) // it is a text
	return fmt.Appendf(nil, "[%s, %q, %s]\n", strconv.FormatFloat(max(0, e.At.Seconds()), 'f', 6, 64), e.Kind, text)
}

// Size is the text of a Resize.
func Size(columns, rows int) string { return fmt.Sprintf("%dx%d", columns, rows) }

// Whole cuts what was printed where its last character is whole: a chunk may end
// within one. rest is what belongs before the next chunk. What is no UTF-8 stays.
func Whole(p []byte) (whole, rest []byte) {
	for n := 1; n < utf8.UTFMax && n <= len(p); n++ {
		if b := p[len(p)-n]; utf8.RuneStart(b) {
			if !utf8.FullRune(p[len(p)-n:]) {
				return p[:len(p)-n], p[len(p)-n:]
			}
			break
		}
	}
	return p, nil
}

// Read reads a recording, and calls each for what happened, in order. What breaks off
// in the middle of a line, as a file does that is being written, is read up to there.
func Read(r io.Reader, each func(Event) error) (Header, error) {
	var h Header
	in := bufio.NewReaderSize(r, 64<<10)
	first, err := line(in)
	if err != nil {
		return h, fmt.Errorf("this is no recording: %w", err)
	}
	if err := json.Unmarshal(first, &h); err != nil || h.Version != 2 || h.Width < 1 || h.Height < 1 || h.Width > maxSide || h.Height > maxSide {
		return h, errors.New("this is no recording in asciicast, version 2")
	}
	for n := 2; ; n++ {
		text, err := line(in)
		if errors.Is(err, io.EOF) {
			return h, nil
		}
		if err != nil {
			return h, fmt.Errorf("line %d: %w", n, err)
		}
		e, err := event(text)
		if err != nil {
			return h, fmt.Errorf("line %d: %w", n, err)
		}
		if err := each(e); err != nil {
			return h, err
		}
	}
}

func event(text []byte) (e Event, err error) {
	var parts []json.RawMessage
	var at float64
	if err := json.Unmarshal(text, &parts); err != nil || len(parts) < 3 {
		return e, errors.New("this is no event")
	}
	if json.Unmarshal(parts[0], &at) != nil || json.Unmarshal(parts[1], &e.Kind) != nil || json.Unmarshal(parts[2], &e.Text) != nil {
		return e, errors.New("an event is a time, a kind and a text")
	}
	if at < 0 || at > math.MaxInt32 {
		return e, errors.New("an event is at no time")
	}
	e.At = time.Duration(at * float64(time.Second))
	return e, nil
}

// line reads one that is whole, without its end.
func line(in *bufio.Reader) ([]byte, error) {
	var out []byte
	for {
		part, err := in.ReadSlice('\n')
		out = append(out, part...)
		switch {
		case len(out) > maxLine:
			return nil, fmt.Errorf("a line is longer than %d bytes", maxLine)
		case err == nil:
			return out[:len(out)-1], nil
		case errors.Is(err, bufio.ErrBufferFull):
		default:
			return nil, err
		}
	}
}
