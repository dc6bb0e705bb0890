package bench

import (
	"bufio"
	"errors"
	"io"
	"strings"
	"testing"
)

func TestMessages(t *testing.T) {
	text := Head(2) + "{}" + "content-length:3\r\nContent-Type: application/json; charset=utf-8\r\n\r\n[1]" + Head(0)
	r := bufio.NewReader(strings.NewReader(text))
	for _, want := range []string{"{}", "[1]", ""} {
		if got, err := ReadMessage(r); err != nil || string(got) != want {
			t.Errorf("read %q, %v, want %q", got, err, want)
		}
	}
	if _, err := ReadMessage(r); err != io.EOF {
		t.Errorf("at the end: %v", err)
	}
	for name, c := range map[string]struct {
		text string
		want error
	}{
		"no length":        {"Content-Type: x\r\n\r\n{}", ErrNoMessage},
		"a negative one":   {"Content-Length: -1\r\n\r\n", ErrNoMessage},
		"a huge one":       {"Content-Length: 99999999999\r\n\r\n", ErrNoMessage},
		"more than is let": {"Content-Length: 16777217\r\n\r\n", ErrNoMessage},
		"chatter":          {"Starting the server...\n", ErrNoMessage},
		"a line of no end": {strings.Repeat("x", 1<<20), ErrNoMessage},
		"a head of no end": {strings.Repeat("A: b\r\n", 10_000), ErrNoMessage},
		"cut in its head":  {"Content-Len", io.ErrUnexpectedEOF},
		"cut after a line": {"Content-Length: 4\r\n", io.ErrUnexpectedEOF},
		"cut in its body":  {"Content-Length: 4\r\n\r\n{}", io.ErrUnexpectedEOF},
	} {
		if _, err := ReadMessage(bufio.NewReader(strings.NewReader(c.text))); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
	}
}

func FuzzMessages(f *testing.F) {
	f.Add(Head(2) + "{}")
	f.Add("Content-Length: 5\r\n\r\n[]")
	f.Fuzz(func(t *testing.T, text string) {
		r := bufio.NewReader(strings.NewReader(text))
		for all := 0; ; {
			m, err := ReadMessage(r)
			if err != nil {
				return
			}
			if all += len(m); all > len(text) {
				t.Fatal("more was read than is there")
			}
		}
	})
}
