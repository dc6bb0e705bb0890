package cast

import (
	"bytes"
	"strings"
	"testing"
	"time"
)

// What is written is read again, and is of the form that others read.
func TestThereAndBack(t *testing.T) {
	began := time.Date(2026, 3, 2, 8, 0, 0, 0, time.UTC)
	events := []Event{{0, Output, "quay$ "}, {1500 * time.Millisecond, Resize, Size(120, 40)}, {2 * time.Second, Output, "\x1b[1m\"high\" æ\x1b[0m\r\n\x00"}, {3 * time.Second, Mark, "x"}}
	file := Begin(80, 24, began, "tide-board: main")
	for _, e := range events {
		file = append(file, e.Line()...)
	}
	want := `{"version":2,"width":80,"height":24,"timestamp":1772438400,"title":"tide-board: main"}
[0.000000, "o", "quay$ "]
[1.500000, "r", "120x40"]
[2.000000, "o", "\u001b[1m\"high\" æ\u001b[0m\r\n\u0000"]
[3.000000, "m", "x"]
`
	if string(file) != want {
		t.Errorf("it is written as\n%s", file)
	}
	var got []Event
	// A line that is still being written is not there yet.
	h, err := Read(bytes.NewReader(append(file, `[4.0, "o", "ha`...)), func(e Event) error { got = append(got, e); return nil })
	if err != nil || h.Width != 80 || h.Timestamp != began.Unix() || len(got) != len(events) {
		t.Fatalf("it is read as %+v with %d events, %v", h, len(got), err)
	}
	for i := range got {
		if got[i] != events[i] {
			t.Errorf("%+v is read as %+v", events[i], got[i])
		}
	}
}

// Chunks of what is printed are cut between characters.
func TestWhole(t *testing.T) {
	for text, rest := range map[string]int{"": 0, "a": 0, "æ": 0, "a\xc3": 1, "a\xe2\x82": 2, "\xf0\x9f\x9a": 3, "\xff": 0, "\x80\x80\x80\x80": 0, "a\xf0\x9f\x9a\xa2": 0, "\xe2x": 0} {
		whole, left := Whole([]byte(text))
		if len(left) != rest || string(whole)+string(left) != text {
			t.Errorf("%q is cut into %q and %q", text, whole, left)
		}
	}
}

// What is no recording is told so, and where.
func TestNoRecordings(t *testing.T) {
	head := `{"version":2,"width":80,"height":24}` + "\n"
	for text, want := range map[string]string{
		"":        "this is no recording",
		"hello\n": "this is no recording",
		`{"version":1,"width":80,"height":24}` + "\n": "version 2",
		`{"version":2,"width":0,"height":24}` + "\n":  "version 2",
		head + "x\n":                                                 "line 2",
		head + `[1, "o"]` + "\n":                                     "line 2",
		head + `["1", "o", "x"]` + "\n":                              "line 2",
		head + `[-1, "o", "x"]` + "\n":                               "line 2",
		head + `[1e99, "o", "x"]` + "\n":                             "line 2",
		head + "[0, \"o\", \"\"]\n" + strings.Repeat("x", maxLine+1): "line 3",
	} {
		if _, err := Read(strings.NewReader(text), func(Event) error { return nil }); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60q is read with %v", text, err)
		}
	}
}

// Whatever a file holds, it is read or refused, and what was read can be written.
func FuzzRecording(f *testing.F) {
	f.Add([]byte(`{"version":2,"width":80,"height":24}` + "\n" + `[0.5, "o", "x"]` + "\n"))
	f.Add([]byte(`{"version":2}`))
	f.Fuzz(func(t *testing.T, p []byte) {
		_, _ = Read(bytes.NewReader(p), func(e Event) error {
			if line := e.Line(); bytes.IndexByte(line, '\n') != len(line)-1 {
				t.Errorf("%+v is written on several lines", e)
			}
			return nil
		})
	})
}
